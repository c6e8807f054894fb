package main_test

import (
	"bytes"
	"errors"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// readDump goes through a dump of an engine's own dump program: every statement
// is found, every table and every row is understood, and the rows are counted.
func readDump(t *testing.T, text []byte, d sqltext.Dialect) (tables, rows map[string]int, others []string) {
	t.Helper()
	tables, rows = map[string]int{}, map[string]int{}
	split := sqltext.NewSplitter(bytes.NewReader(text), d, 0)
	for {
		st, err := split.Next()
		if errors.Is(err, io.EOF) {
			return tables, rows, others
		}
		require.NoError(t, err)
		head := strings.ToUpper(string(st.Text[:min(len(st.Text), 40)]))
		switch {
		case strings.HasPrefix(head, "CREATE TABLE"):
			c, err := sqltree.ParseTable(st.Text, d)
			require.NoError(t, err, "%.200s", st.Text)
			tables[c.Name] = len(c.Columns())
		case strings.HasPrefix(head, "INSERT INTO"):
			ins, err := sqltext.ParseInsert(st.Text, d)
			require.NoError(t, err, "%.200s", st.Text)
			_, n, err := ins.AppendInsert(nil, st.Text, d, "x", nil)
			require.NoError(t, err, "%.200s", st.Text)
			rows[ins.Table] += int(n)
		default:
			others = append(others, head)
		}
	}
}

func TestDumpsOfMariaDB(t *testing.T) {
	t.Parallel()
	l := testenv.MariaDB(t)
	fillHard(t, l)
	dump := testenv.Tool(t, "mariadb-dump")
	for name, options := range map[string][]string{
		"as it comes":    nil,
		"single inserts": {"--skip-extended-insert"},
		"hexadecimal":    {"--hex-blob"},
		"with columns":   {"--complete-insert", "--skip-comments"},
	} {
		t.Run(name, func(t *testing.T) {
			args := append([]string{"--no-defaults", "-S", l.Socket, "-utester", "-p" + l.Password, "--single-transaction", "--routines", "--triggers"}, append(options, l.Name)...)
			cmd := exec.Command(dump, args...)
			var errOut bytes.Buffer
			cmd.Stderr = &errOut
			out, err := cmd.Output()
			require.NoError(t, err, errOut.String())
			tables, rows, others := readDump(t, out, sqltext.MySQL)
			assert.Equal(t, map[string]int{"hard": 29, "no_key": 2, "empty_one": 1, "my_isam": 2, "odd `na\"me; ü": 2, "z_parent": 1, "a_child": 2, "log_": 1}, tables)
			assert.Equal(t, map[string]int{"hard": 6, "no_key": 3, "my_isam": 1, "odd `na\"me; ü": 1, "z_parent": 2, "a_child": 3}, rows)
			assert.Contains(t, strings.Join(others, "\n"), "DROP TABLE IF EXISTS")
		})
	}
}

func TestDumpOfSQLite(t *testing.T) {
	l := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "a.sqlite")}
	testenv.Client(t, l, []byte(strings.ReplaceAll(hardSQLite, "CAST(x'610062' AS TEXT)", "'nul'")))
	out := testenv.Client(t, l, []byte(".dump"))
	tables, rows, others := readDump(t, []byte(out), sqltext.SQLite)
	assert.Equal(t, map[string]int{"hard": 8, "no_rowid": 2, "child": 2, "log_": 1}, tables)
	assert.Equal(t, map[string]int{"hard": 9, "no_rowid": 2, "child": 1, "sqlite_sequence": 1}, rows)
	text := strings.Join(others, "\n")
	for _, want := range []string{"PRAGMA FOREIGN_KEYS=OFF", "BEGIN TRANSACTION", "CREATE INDEX", "CREATE VIEW", "CREATE TRIGGER", "COMMIT"} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, 1, strings.Count(text, "CREATE TRIGGER"), "a trigger with semicolons is one statement")
}
