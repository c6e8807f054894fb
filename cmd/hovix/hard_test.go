package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// hardMariaDB is a database with the values that dumps and moves trip over.
const hardMariaDB = `
SET sql_mode='NO_AUTO_VALUE_ON_ZERO';
CREATE TABLE hard (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  t TEXT, vc VARCHAR(100) CHARACTER SET latin1, u2 VARCHAR(50) CHARACTER SET ucs2, l LONGTEXT, b LONGBLOB, bin BINARY(4), vb VARBINARY(300),
  bits BIT(12), flag BIT(1), e ENUM('a','it''s','ü','') , s SET('x','y','z'), d DATE, dt DATETIME(6), ts TIMESTAMP NULL, y YEAR, tm TIME(3),
  big BIGINT UNSIGNED, small TINYINT, f FLOAT, dbl DOUBLE, dec_ DECIMAL(30,10), j JSON, p POINT,
  gen INT GENERATED ALWAYS AS (small + 1) VIRTUAL, stored INT GENERATED ALWAYS AS (small * 2) STORED,
  hidden INT INVISIBLE DEFAULT 3, uid UUID, ip INET6,
  PRIMARY KEY (id), UNIQUE KEY u (vc), KEY part (t(10), small), FULLTEXT KEY ft (t)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='hard; "values"';
INSERT INTO hard (id, t, vc, u2, l, b, bin, vb, bits, flag, e, s, d, dt, ts, y, tm, big, small, f, dbl, dec_, j, p, hidden, uid, ip) VALUES
 (0, '', '', '', '', '', '', '', 0, 0, '', '', '0000-00-00', '0000-00-00 00:00:00', NULL, 0, '00:00:00', 0, 0, 0, 0, 0, '{}', ST_GeomFromText('POINT(0 0)'), NULL, NULL, NULL),
 (1, 'it''s "quoted" \\ back\nline\r\ttab\Z\0nul % _ ; -- # /* */', 'plain', _ucs2 x'004100e4263a', 'Grüße 🚢', x'00ff27225c0a0d1a00', x'00010000', x'27', b'101010101010', 1, 'it''s', 'x,z', '2024-02-29', '9999-12-31 23:59:59.999999', '2038-01-19 03:14:07', 2155, '-838:59:59.000', 18446744073709551615, -128, 1.17549e-38, 1.7976931348623157e308, -12345678901234567890.0123456789, '{"a":[1,"ü"]}', ST_GeomFromText('POINT(1.5 -2.25)'), 7, '123e4567-e89b-12d3-a456-426614174000', '::1'),
 (4294967296, NULL, CONVERT(x'e4f6fcff80' USING latin1), NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (9223372036854775808, 'ends with backslash\\', 'latin1 with utf8 bytes: Ã¤', '', 'x', x'f0288cbc', x'ffffffff', x'', b'1', 0, 'ü', '', '2024-00-00', '1000-01-01 00:00:00', '1970-01-01 00:00:01', 1901, '12:00:00.123', 1, 127, 8.7654321, 0.1, 0.0000000001, '"s"', NULL, 0, NULL, 'fe80::1'),
 (9223372036854775809, 'many', 'm', '', '', '', '', '', 0, 0, 'a', 'x', '2000-01-01', '2000-01-01 00:00:00', '2000-06-01 00:00:00', 2000, '00:00:01', 9007199254740993, 1, 16777217, 3.141592653589793, 1, 'null', NULL, 1, NULL, NULL);
INSERT INTO hard (id, vc, l, b) VALUES (77, 'five megabytes', REPEAT('Grüße 🚢 "x" \\ ', 300000), REPEAT(x'00ff5c27', 1300000));
CREATE TABLE no_key (a INT, b VARCHAR(20)) ENGINE=InnoDB;
INSERT INTO no_key VALUES (1,'x'),(1,'x'),(NULL,NULL);
CREATE TABLE empty_one (id INT NOT NULL PRIMARY KEY) AUTO_INCREMENT=1;
CREATE TABLE my_isam (id INT NOT NULL AUTO_INCREMENT PRIMARY KEY, t TEXT) ENGINE=MyISAM AUTO_INCREMENT=500;
INSERT INTO my_isam VALUES (3,'x');
CREATE TABLE ` + "`odd ``na\"me; ü`" + ` (` + "`sel``ect`" + ` INT, ` + "`or\"der`" + ` TEXT);
INSERT INTO ` + "`odd ``na\"me; ü`" + ` VALUES (1,'odd');
CREATE TABLE z_parent (id INT NOT NULL PRIMARY KEY);
CREATE TABLE a_child (id INT NOT NULL PRIMARY KEY, parent INT, CONSTRAINT to_parent FOREIGN KEY (parent) REFERENCES z_parent (id) ON DELETE CASCADE);
INSERT INTO z_parent VALUES (1),(2);
INSERT INTO a_child VALUES (10,1),(11,2),(12,NULL);
CREATE TABLE log_ (n INT);
`

// hardObjects are a view over a view whose name sorts behind it, and a trigger
// with semicolons in it.
var hardObjects = []string{
	"CREATE VIEW z_view AS SELECT id, 'it''s ; fine' AS note FROM hard",
	"CREATE VIEW a_view AS SELECT * FROM z_view WHERE id > 0",
	"CREATE TRIGGER count_them AFTER INSERT ON no_key FOR EACH ROW BEGIN INSERT INTO log_ VALUES (NEW.a); SET @x = ';'; END",
}

// hardRest are the objects that the server's own dump program does not bring
// back whole.
var hardRest = []string{
	"CREATE FUNCTION plus_one(a INT) RETURNS INT DETERMINISTIC BEGIN DECLARE x INT; SET x = a + 1; RETURN x; END",
	"SET sql_mode='ANSI_QUOTES,PIPES_AS_CONCAT'; CREATE PROCEDURE joined(IN a TEXT) SQL SECURITY DEFINER COMMENT 'with \\\\ ; it''s' BEGIN SELECT \"a\" || ';' || a; END",
	"CREATE VIEW b_view AS SELECT plus_one(id) AS n FROM z_parent",
	"CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' DISABLE COMMENT 'ev' DO BEGIN DELETE FROM log_; END",
	"CREATE SEQUENCE numbers START WITH 5 INCREMENT BY 3 MAXVALUE 100000 CYCLE NOCACHE; DO NEXTVAL(numbers)",
	"CREATE TABLE counted (id INT DEFAULT (NEXTVAL(numbers)), place POINT NOT NULL, SPATIAL KEY (place)) ENGINE=InnoDB; INSERT INTO counted (place) VALUES (POINT(1,2)),(POINT(3,4))",
	"CREATE TABLE versioned (a INT PRIMARY KEY) WITH SYSTEM VERSIONING; INSERT INTO versioned VALUES (1); UPDATE versioned SET a=2",
}

func fillHard(t *testing.T, l database.Location) {
	t.Helper()
	testenv.Client(t, l, []byte(hardMariaDB))
	for _, o := range hardObjects {
		testenv.Exec(t, l, o)
	}
}

// content gives all definitions and rows of a MariaDB database, row for row and
// byte for byte, as the server tells them.
func content(t *testing.T, l database.Location) map[string][]string {
	t.Helper()
	db := testenv.Connect(t, l)
	db.SetMaxOpenConns(1)
	_, err := db.Exec("SET NAMES utf8mb4; SET character_set_results=NULL; SET time_zone='+00:00'")
	require.NoError(t, err)
	strs := func(q string) (out [][]string) {
		rows, err := db.Query(q)
		require.NoError(t, err, q)
		defer rows.Close()
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			cells := make([]*[]byte, len(columns))
			into := make([]any, len(columns))
			for i := range cells {
				into[i] = &cells[i]
			}
			require.NoError(t, rows.Scan(into...))
			row := make([]string, len(columns))
			for i, c := range cells {
				row[i] = "NULL"
				if c != nil {
					row[i] = "=" + string(*c)
				}
			}
			out = append(out, row)
		}
		require.NoError(t, rows.Err())
		return out
	}
	all := map[string][]string{}
	for _, table := range strs("SELECT TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT LIKE '\\_hovix%'") {
		name := strings.TrimPrefix(table[0], "=")
		quoted := "`" + strings.ReplaceAll(name, "`", "``") + "`"
		if table[1] == "=VIEW" {
			def := strs("SHOW CREATE VIEW " + quoted)[0][1]
			all["view "+name] = []string{def[strings.Index(def, " AS select"):]}
			continue
		}
		all["definition "+name] = []string{strings.ReplaceAll(strs("SHOW CREATE TABLE " + quoted)[0][1], "`"+l.Name+"`.", "")}
		if table[1] == "=SEQUENCE" {
			all["position "+name] = strs("SELECT NEXTVAL(" + quoted + ")")[0]
			continue
		}
		columns := strs("SELECT COLUMN_NAME, DATA_TYPE FROM information_schema.COLUMNS WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME='" + strings.ReplaceAll(name, "'", "''") + "' ORDER BY ORDINAL_POSITION")
		var list []string
		for _, c := range columns {
			q := "`" + strings.ReplaceAll(strings.TrimPrefix(c[0], "="), "`", "``") + "`"
			if c[1] == "=float" {
				q = "CAST(" + q + " AS DOUBLE)"
			}
			list = append(list, q)
		}
		var rows []string
		for _, r := range strs("SELECT " + strings.Join(list, ",") + " FROM " + quoted) {
			rows = append(rows, strings.Join(r, "|"))
		}
		sort.Strings(rows)
		all["rows "+name] = rows
	}
	for _, tr := range strs("SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE()") {
		all["trigger "+tr[0]] = tr[1:]
	}
	for _, o := range strs("SELECT ROUTINE_TYPE, ROUTINE_NAME, DTD_IDENTIFIER, ROUTINE_DEFINITION, IS_DETERMINISTIC, SQL_DATA_ACCESS, SECURITY_TYPE, SQL_MODE, ROUTINE_COMMENT FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE()") {
		all["routine "+o[1]] = o
	}
	for _, o := range strs("SELECT EVENT_NAME, EVENT_DEFINITION, INTERVAL_VALUE, INTERVAL_FIELD, SQL_MODE, STARTS, STATUS, ON_COMPLETION, EVENT_COMMENT FROM information_schema.EVENTS WHERE EVENT_SCHEMA=DATABASE()") {
		all["event "+o[0]] = o
	}
	return all
}

func sameContent(t *testing.T, want, got map[string][]string) {
	t.Helper()
	var names []string
	for k := range want {
		names = append(names, k)
		if !assert.Equal(t, len(want[k]), len(got[k]), k) {
			continue
		}
		for i := range want[k] {
			if want[k][i] != got[k][i] {
				t.Errorf("%s differs:\n%.900q\n%.900q", k, want[k][i], got[k][i])
			}
		}
	}
	assert.Len(t, got, len(want), "nothing more than %v", names)
}

// siteFile writes a site file for a site in dir.
func siteFile(t *testing.T, dir string, lines ...string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hovix.toml"), []byte(strings.Join(lines, "\n")+"\n"), 0o600))
}

func mariaSite(t *testing.T, dir string, l database.Location, more ...string) {
	t.Helper()
	siteFile(t, dir, append([]string{`name = "Hard"`, fmt.Sprintf("database = %q", l.String()), fmt.Sprintf("database-password = %q", l.Password)}, more...)...)
}

// unpackWithTar extracts an archive with tar and zstd and gives the SQL in it.
func unpackWithTar(t *testing.T, file string) (dir string, sql []byte) {
	t.Helper()
	dir = t.TempDir()
	out, err := exec.Command("tar", "--zstd", "-xf", file, "-C", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Empty(t, string(out))
	cat := exec.Command("sh", "-c", "cat database/*.sql")
	cat.Dir = dir
	out, err = cat.Output()
	require.NoError(t, err)
	return dir, out
}

func ok(t *testing.T, r testenv.Run) testenv.Run {
	t.Helper()
	require.Zero(t, r.Status, "%s%s", r.Out, r.Err)
	return r
}

func TestHardValuesMariaDB(t *testing.T) {
	t.Parallel()
	source := testenv.MariaDB(t)
	fillHard(t, source)
	for _, o := range hardRest {
		testenv.ExecAs(t, source, o) // who may read the routines that are its own
	}
	want := content(t, source)
	require.Len(t, want["rows hard"], 6)
	dir := filepath.Join(t.TempDir(), "site")
	mariaSite(t, dir, source)
	file := filepath.Join(t.TempDir(), "hard.tar.zst")
	run := testenv.Hovix(t, "pack", dir, "-o", file)
	require.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "history of table versioned stays behind")
	delete(want, "position numbers")
	same := content(t, source)
	assert.Equal(t, "=17", same["position numbers"][0], "each look takes a number")
	delete(same, "position numbers")
	assert.Equal(t, want, same, "packing changes nothing")
	want["position numbers"] = []string{"=17"}

	t.Run("tar and the engine's own client", func(t *testing.T) {
		target := testenv.MariaDB(t)
		_, sql := unpackWithTar(t, file)
		testenv.Client(t, target, sql)
		sameContent(t, want, content(t, target))
	})
	t.Run("restore", func(t *testing.T) {
		target := testenv.MariaDB(t)
		env := []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}
		ok(t, testenv.HovixIn(t, "", env, "restore", "--stored-code", "--links-out", file, filepath.Join(t.TempDir(), "new"), "--database", target.String()))
		sameContent(t, want, content(t, target))
	})
	t.Run("restore over the same tables, and back by hand", func(t *testing.T) {
		target := testenv.MariaDB(t)
		testenv.Client(t, target, []byte("CREATE TABLE z_parent (id INT NOT NULL PRIMARY KEY, old INT); INSERT INTO z_parent VALUES (5,5); CREATE TABLE a_child (id INT PRIMARY KEY, parent INT, CONSTRAINT to_parent FOREIGN KEY (parent) REFERENCES z_parent (id)); INSERT INTO a_child VALUES (1,5); CREATE TABLE bystander (a INT); CREATE VIEW a_view AS SELECT 1 AS old_view;"))
		before := content(t, target)
		env := []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}
		folder := filepath.Join(t.TempDir(), "new")
		refused := testenv.HovixIn(t, "", env, "restore", "--stored-code", "--links-out", file, folder, "--database", target.String())
		require.Equal(t, 1, refused.Status)
		assert.Contains(t, refused.Err, "2 tables (2 rows)")
		assert.Contains(t, refused.Err, "--yes")
		assert.Equal(t, before, content(t, target), "a refusal changes nothing")
		assert.NoDirExists(t, folder)
		run := ok(t, testenv.HovixIn(t, "", env, "restore", "--stored-code", "--links-out", file, folder, "--database", target.String(), "--yes", "--json"))
		after := content(t, target)
		delete(after, "definition bystander")
		delete(after, "rows bystander")
		sameContent(t, want, after)
		back := putBackStatements(t, run.Out)
		testenv.Client(t, target, []byte(back))
		now := content(t, target)
		for _, k := range []string{"definition z_parent", "rows z_parent", "definition a_child", "rows a_child", "view a_view"} {
			assert.Equal(t, before[k], now[k], "put back by hand: %s", k)
		}
	})
}

const hardSQLite = `
CREATE TABLE hard (id INTEGER PRIMARY KEY AUTOINCREMENT, t TEXT, any_, b BLOB, r REAL, d DATETIME, "odd ""name" TEXT, gen INT AS (id*2) STORED);
INSERT INTO hard (id,t,any_,b,r,d,"odd ""name") VALUES
 (1,'it''s "quoted" \ back' || char(10) || 'line' || char(13) || char(9) || '; -- /* */', 'text', x'00ff27225c', 0.1, '2024-02-29 10:00:00', 'x'),
 (2,'', '', x'', 0, '0000-00-00', ''), (3, NULL, NULL, NULL, NULL, NULL, NULL),
 (4,'Grüße 🚢', 9223372036854775807, x'f0288cbc', 1.7976931348623157e308, 12345, 'ü'),
 (5,CAST(x'610062' AS TEXT), -9223372036854775808, CAST('blob of text' AS BLOB), 5e-324, 1.5, 'nul'),
 (6,CAST(x'ff41fe' AS TEXT), 1e999, zeroblob(3), -1e999, x'01', 'bad utf-8'),
 (7,'real', 3.0, 'text in a blob column', 2.5000000000000004, 1, 'r'), (8,'int in real', 12, 5, 123456789012345678, 0, 'i');
INSERT INTO hard (id,t,b) VALUES (900, printf('%.*c', 5000000, 'x'), zeroblob(5000000));
CREATE INDEX part ON hard (t) WHERE id > 3;
CREATE UNIQUE INDEX expr ON hard (lower(t), id);
CREATE TABLE no_rowid (k TEXT PRIMARY KEY, v) WITHOUT ROWID;
INSERT INTO no_rowid VALUES ('b',2),('a',1);
CREATE TABLE child (id INTEGER PRIMARY KEY, parent REFERENCES hard(id) ON DELETE CASCADE);
INSERT INTO child VALUES (1,900);
CREATE TABLE log_ (n);
CREATE VIEW z_view AS SELECT id, 'it''s ;' AS note FROM hard;
CREATE VIEW a_view AS SELECT * FROM z_view;
CREATE TRIGGER tr AFTER INSERT ON no_rowid BEGIN INSERT INTO log_ VALUES (new.v); INSERT INTO log_ VALUES (';'); END;
DELETE FROM hard WHERE id=900 AND 0;
`

// sqliteContent gives definitions, without quotes and white space, which are written
// anew, and rows with the type of every value.
func sqliteContent(t *testing.T, path string) string {
	t.Helper()
	l := database.Location{Engine: database.SQLite, Path: path}
	var q strings.Builder
	q.WriteString("PRAGMA integrity_check; SELECT type, name, lower(replace(replace(replace(sql,char(10),''),' ',''),'\"','')) FROM sqlite_master ORDER BY type, name; SELECT * FROM sqlite_sequence ORDER BY name;\n")
	for table, columns := range map[string]string{"hard": "id,t,any_,b,r,d,\"odd \"\"name\",gen", "no_rowid": "k,v", "child": "id,parent", "log_": "n"} {
		q.WriteString("SELECT '" + table + "'")
		for _, c := range strings.Split(columns, ",") {
			fmt.Fprintf(&q, ", typeof(%s), CASE WHEN typeof(%s)='real' THEN printf('%%!.20g',%s) WHEN length(CAST(%s AS BLOB))>1000 THEN length(%s) ELSE hex(CAST(%s AS BLOB)) END", c, c, c, c, c, c)
		}
		fmt.Fprintf(&q, " FROM %s ORDER BY 3;\n", table)
	}
	lines := strings.Split(testenv.Client(t, l, []byte(q.String())), "\n")
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

func TestHardValuesSQLite(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `name = "Hard"`, `database = "sqlite:db/hard.sqlite"`)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o755))
	source := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "db/hard.sqlite")}
	testenv.Client(t, source, []byte(hardSQLite))
	want := sqliteContent(t, source.Path)
	file := filepath.Join(t.TempDir(), "hard.tar.zst")
	ok(t, testenv.Hovix(t, "pack", dir, "-o", file))

	t.Run("tar and the engine's own client", func(t *testing.T) {
		unpacked, sql := unpackWithTar(t, file)
		target := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "new.sqlite")}
		testenv.Client(t, target, sql)
		assert.Equal(t, want, sqliteContent(t, target.Path))
		assert.NoFileExists(t, filepath.Join(unpacked, "files/db/hard.sqlite"), "the database travels once")
	})
	t.Run("restore", func(t *testing.T) {
		folder := filepath.Join(t.TempDir(), "new")
		ok(t, testenv.Hovix(t, "restore", "--stored-code", "--links-out", file, folder))
		assert.Equal(t, want, sqliteContent(t, filepath.Join(folder, "db/hard.sqlite")))
	})
	t.Run("restore to a file elsewhere, and back by hand", func(t *testing.T) {
		elsewhere := filepath.Join(t.TempDir(), "other.sqlite")
		testenv.Client(t, database.Location{Engine: database.SQLite, Path: elsewhere}, []byte("CREATE TABLE old (a); INSERT INTO old VALUES (1);"))
		before, err := os.ReadFile(elsewhere)
		require.NoError(t, err)
		run := ok(t, testenv.Hovix(t, "restore", "--stored-code", "--links-out", file, filepath.Join(t.TempDir(), "new"), "--database", "sqlite:"+elsewhere, "--yes", "--json"))
		assert.Equal(t, want, sqliteContent(t, elsewhere))
		out, err := exec.Command("sh", "-c", putBackStatements(t, run.Out)).CombinedOutput()
		require.NoError(t, err, "%s", out)
		after, err := os.ReadFile(elsewhere)
		require.NoError(t, err)
		assert.Equal(t, before, after)
	})
}
