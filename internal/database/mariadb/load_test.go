package mariadb

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// stageTable begins to stage one table.
func stageTable(t *testing.T, l database.Location, id, def string) (*stage, *staged) {
	t.Helper()
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: id, Connections: 2})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Discard(context.Background())) })
	parsed, err := sqltree.ParseTable([]byte(def), sqltext.MySQL)
	require.NoError(t, err)
	require.NoError(t, s.Define(t.Context(), parsed))
	return s.(*stage), s.(*stage).tables[parsed.Name]
}

// Rows that are loaded are byte for byte those that the same statements store, in columns
// of all types that are loaded.
func TestLoadedRowsAreThoseOfStatements(t *testing.T) {
	l := testenv.MariaDB(t)
	def := "CREATE TABLE `t` (`id` int NOT NULL AUTO_INCREMENT PRIMARY KEY"
	columns := "`id`"
	values := map[bool][]string{true: {"NULL", "0", "-1", "127", "7", "-0"}}
	texts := map[string][]string{"date": {"'0000-00-00'", "'2024-02-31'", "'1999-12-31'"}, "time": {"'-838:59:59'", "'01:02:03'"}, "datetime": {"'0000-00-00 00:00:00'", "'2024-01-01 10:00:00'"},
		"timestamp": {"'0000-00-00 00:00:00'", "'2024-06-01 10:00:00'"}, "enum": {"'a'", "'7'", "''"}, "set": {"'a,7'", "''", "'7'"}, "decimal": {"1.5", "-99999.99", ".5"}, "float": {"1.17549e-38", "-2.5", "3.14159"}, "double": {"1.7976931348623157e308", "0.1", "-5e-324"},
		"bigint": {"18446744073709551615", "9007199254740993"}}
	other := []string{"NULL", "''", "'a'", "'  '", `'\\'`, `'\\N'`, `'\N'`, "'NULL'", `'\n\r\t\0\Z\b'`, "'\t\n'", `'it''s \"'`, `'\%\_'`, "_binary'\xc3\xbc'", "x'c3bc09'", "0x5c4e"}
	var kinds []string
	for kind := range loadable {
		spec := map[string]string{"char": "(9)", "varchar": "(9)", "binary": "(9)", "varbinary": "(9)", "enum": "('','a','7')", "set": "('a','7')", "decimal": "(7,2)", "bigint": " unsigned"}[kind]
		kinds = append(kinds, kind)
		def += fmt.Sprintf(", `c_%s` %s%s NULL DEFAULT NULL", kind, kind, spec)
		columns += ",`c_" + kind + "`"
	}
	def += ") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4"
	var rows []string
	for i := range 40 {
		row := fmt.Sprint(i)
		for k, kind := range kinds {
			choice := append([]string{"NULL"}, texts[kind]...)
			switch {
			case loadable[kind] && texts[kind] == nil:
				choice = values[true]
			case texts[kind] == nil:
				choice = other
			}
			row += "," + choice[(i+k)%len(choice)]
		}
		rows = append(rows, "("+row+")")
	}
	var stored []string
	for _, statements := range []bool{false, true} {
		s, table := stageTable(t, l, fmt.Sprintf("ab%v", statements)[:3], def)
		table.loader.off.Store(statements)
		stmt := []byte("INSERT INTO " + s.Target("t") + " (" + columns + ") VALUES " + strings.Join(rows, ",\n"))
		assert.Equal(t, statements, table.loader.prepare(s.Target("t"), [][]byte{stmt}, 40) == nil)
		testenv.Stored(t, 40)(s.Fill("t", 1, 40, [][]byte{stmt})(t.Context()))
		assert.Equal(t, statements, table.loader.off.Load(), "the server takes them")
		show := ""
		for _, kind := range kinds {
			show += ",HEX(c_" + kind + ")"
		}
		stored = append(stored, testenv.Client(t, l, []byte("SELECT id"+show+" FROM "+s.Target("t")+" ORDER BY id")))
	}
	assert.Equal(t, stored[1], stored[0])
	assert.Equal(t, 41, strings.Count(stored[0], "\n"))
}

// What a server lets pass when it loads is refused as it is in a statement, and
// nothing of it is stored.
func TestLoadedRowsThatDoNotFit(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Exec(t, l, "CREATE TABLE other (id INT)")
	s, table := stageTable(t, l, "abcd", "CREATE TABLE `t` (`id` int NOT NULL, `v` varchar(3) NOT NULL, `n` tinyint, PRIMARY KEY (`id`), CHECK (`n`<>5)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4")
	for i, c := range []struct{ row, says string }{
		{"(2,'long',1)", "a value became longer than its column holds"}, {"(1,'b',1)", "Duplicate entry"}, {"(2,NULL,1)", "cannot be null"},
		{"(2,'b',300)", "Out of range"}, {"(2,_binary'\xff',1)", "Incorrect string value"}, {"(2,'b',5)", "CONSTRAINT"},
	} {
		table.loader.off.Store(false)
		stmt := [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (`id`,`v`,`n`) VALUES (1,'a',1)," + c.row)}
		require.NotNil(t, table.loader.prepare(s.Target("t"), stmt, 2))
		assert.ErrorContains(t, second(s.Fill("t", i+1, 2, stmt)(t.Context())), c.says)
		assert.True(t, table.loader.off.Load())
		assert.Equal(t, "n\n0\n", testenv.Client(t, l, []byte("SELECT COUNT(*) n FROM "+s.Target("t"))), c.says)
	}
	good := [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (`id`,`v`,`n`) VALUES (1,'a',1)")}
	testenv.Stored(t, 1)(s.Fill("t", 9, 1, good)(t.Context()))
}

// Tables whose columns take a text for something else than a literal, and such as cannot
// take rows back, get statements; so does a server that takes no files of its clients.
func TestRowsThatAreNotLoaded(t *testing.T) {
	l := testenv.MariaDB(t)
	for i, def := range []string{"`id` int, `y` year) ENGINE=InnoDB", "`id` int, `y` bit(8)) ENGINE=InnoDB", "`id` int, `y` point) ENGINE=InnoDB", "`id` int, `y` int) ENGINE=MyISAM", "`id` int, `y` int)"} {
		s, table := stageTable(t, l, fmt.Sprint("ab", i), "CREATE TABLE `t` ("+def)
		assert.Nil(t, table.loader.prepare(s.Target("t"), [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (`id`,`y`) VALUES (1,NULL)")}, 1), def)
	}
	const def = "CREATE TABLE `t` (`id` int, `v` text) ENGINE=InnoDB"
	s, table := stageTable(t, l, "abcd", def)
	rows := func(s *stage, v string) [][]byte {
		return [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (`id`,`v`) VALUES (1," + v + ")")}
	}
	assert.Nil(t, table.loader.prepare(s.Target("t"), rows(s, "'"+strings.Repeat("long", 90)+"'"), 1))
	testenv.Exec(t, l, "SET GLOBAL local_infile=OFF")
	t.Cleanup(func() { testenv.Exec(t, l, "SET GLOBAL local_infile=ON") })
	require.NotNil(t, table.loader.prepare(s.Target("t"), rows(s, "'a'"), 1))
	testenv.Stored(t, 1)(s.Fill("t", 1, 1, rows(s, "'a'"))(t.Context()))
	assert.True(t, table.loader.off.Load(), "it refuses, and is not asked again")
	s, table = stageTable(t, l, "abce", def)
	assert.Nil(t, table.loader.prepare(s.Target("t"), rows(s, "'a'"), 1), "it is known at once")
}
