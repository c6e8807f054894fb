package main_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// rewritten is the JSON document of rewrite.
type rewritten struct {
	Planned       bool
	Rows, Read    int
	Tables, Files int
	Notes, Asides []string
	Columns       []struct {
		Table, Column, File string
		Leftovers           []struct{ Excerpt, Detail string }
		Counts              struct{ Changed int }
	}
	Total struct {
		Changed   int
		Leftovers map[string]int
	}
}

func rewriteSite(t *testing.T, status int, args ...string) (doc rewritten) {
	t.Helper()
	run := testenv.Hovix(t, append([]string{"rewrite", "--json", "--yes", "--map", theMove}, args...)...)
	require.Equal(t, status, run.Status, run.Err)
	require.NoError(t, json.Unmarshal([]byte(run.Out), &doc), run.Out)
	return doc
}

// details gives what is said of the leftovers of a column.
func (d *rewritten) details(table string) (out []string) {
	for _, c := range d.Columns {
		for _, l := range c.Leftovers {
			if c.Table == table {
				out = append(out, l.Detail)
			}
		}
	}
	return out
}

// TestRewriteLiveValues: every value of the test vectors, as text and as binary
// data, is changed where it stands, and hard values beside it are not touched.
func TestRewriteLiveValues(t *testing.T) {
	before, after := vectorValues(t)
	t.Run("MariaDB", func(t *testing.T) {
		l := testenv.MariaDB(t)
		fillHard(t, l)
		testenv.Client(t, l, []byte(addressTable(before, "LONGTEXT", "LONGBLOB", "CONVERT(x'%x' USING utf8mb4)", "x'%x'")))
		dir := filepath.Join(t.TempDir(), "site")
		mariaSite(t, dir, l)
		want := content(t, l)
		plan := rewriteSite(t, 3, dir, "--plan")
		assert.True(t, plan.Planned)
		assert.Equal(t, want, content(t, l), "a plan changes nothing")
		done := rewriteSite(t, 3, dir)
		plan.Planned = false
		assert.Equal(t, plan, done, "what was planned was done")
		got := content(t, l)
		checkAddresses(t, got["rows addresses"], after)
		delete(want, "rows addresses")
		delete(got, "rows addresses")
		sameContent(t, want, got)
		assert.Zero(t, rewriteSite(t, 3, dir).Total.Changed, "a second run changes nothing")
	})
	t.Run("SQLite", func(t *testing.T) {
		dir := filepath.Join(t.TempDir(), "site")
		siteFile(t, dir, `database = "sqlite:db.sqlite"`)
		l := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "db.sqlite")}
		testenv.Client(t, l, []byte(hardSQLite))
		testenv.Client(t, l, []byte(addressTable(before, "TEXT", "BLOB", "CAST(x'%x' AS TEXT)", "x'%x'")))
		want := sqliteContent(t, l.Path)
		plan := rewriteSite(t, 3, dir, "--plan")
		types := "SELECT id, typeof(v), typeof(b) FROM addresses;"
		asItWas := testenv.Client(t, l, []byte(types))
		done := rewriteSite(t, 3, dir)
		plan.Planned = false
		assert.Equal(t, plan, done, "what was planned was done")
		assert.Equal(t, want, sqliteContent(t, l.Path))
		assert.Equal(t, asItWas, testenv.Client(t, l, []byte(types)))
		hexRows(t, testenv.Client(t, l, []byte("SELECT id, CASE WHEN v IS NULL THEN '-' ELSE hex(v) END, hex(b) FROM addresses ORDER BY id;")), after)
		assert.Zero(t, rewriteSite(t, 3, dir).Total.Changed, "a second run changes nothing")
		assert.Equal(t, []string{"db.sqlite", "hovix.toml"}, names(t, dir), "nothing is left behind")
	})
}

// trap is a table that is hard to change in place, and what it holds afterwards.
type trap struct{ sql, query, want string }

// check runs the traps of an engine in one database.
func (tr trap) check(t *testing.T, name string, l database.Location) {
	t.Helper()
	assert.Equal(t, tr.want, strings.TrimSpace(strings.TrimPrefix(testenv.Client(t, l, []byte(tr.query+";")), "x\n")), name)
}

func TestRewriteLiveTrapsOfMariaDB(t *testing.T) {
	const u = "http://old.example/"
	traps := map[string]trap{
		"too_long": {"CREATE TABLE too_long (id INT PRIMARY KEY, v VARCHAR(20), t TINYTEXT); INSERT INTO too_long VALUES (1,'http://old.example/a','ok'),(2,'http://old.example/',CONCAT('http://old.example/',REPEAT('x',236))),(3,'x','" + u + "')",
			"SELECT CONCAT(id,v,LEFT(t,22)) AS x FROM too_long", "1http://old.example/aok\n2https://new.example/http://old.example/xxx\n3xhttps://new.example/"},
		"characters": {"CREATE TABLE characters (id INT PRIMARY KEY, v VARCHAR(26)) CHARSET utf8mb4; INSERT INTO characters VALUES (1,'http://old.example/üüüüüü'),(2,'http://old.example/üüüüüüü')",
			"SELECT v AS x FROM characters", "https://new.example/üüüüüü\nhttp://old.example/üüüüüüü"},
		"charsets": {"CREATE TABLE charsets (id INT PRIMARY KEY, l VARCHAR(40) CHARSET latin1, w TEXT CHARSET ucs2, g VARCHAR(23) CHARSET gbk); INSERT INTO charsets VALUES (1,'http://old.example/ü','http://old.example/ü','http://old.example/中文字')",
			"SELECT CONCAT(HEX(l),'|',CONVERT(w USING utf8mb4),'|',HEX(g)) AS x FROM charsets", "68747470733A2F2F6E65772E6578616D706C652FFC|https://new.example/ü|68747470733A2F2F6E65772E6578616D706C652FD6D0CEC4D7D6"},
		"fixed": {"CREATE TABLE fixed (id INT PRIMARY KEY, b BINARY(24), c CHAR(24)); INSERT INTO fixed VALUES (1,'http://old.example/','http://old.example/')",
			"SELECT CONCAT(HEX(b),c) AS x FROM fixed", "68747470733A2F2F6E65772E6578616D706C652F00000000https://new.example/"},
		"stamped": {"CREATE TABLE stamped (id INT PRIMARY KEY, v TEXT, ts TIMESTAMP NOT NULL DEFAULT '2001-02-03 04:05:06' ON UPDATE CURRENT_TIMESTAMP, d DATETIME NULL ON UPDATE CURRENT_TIMESTAMP); INSERT INTO stamped (id, v) VALUES (1,'" + u + "')",
			"SELECT CONCAT(v,ts,IFNULL(d,'-')) AS x FROM stamped", "https://new.example/2001-02-03 04:05:06-"},
		"keyless": {"CREATE TABLE keyless (v TEXT, w TEXT, ts TIMESTAMP NOT NULL DEFAULT '2001-02-03 04:05:06' ON UPDATE CURRENT_TIMESTAMP); INSERT INTO keyless (v,w) VALUES ('" + u + "','a'),('" + u + "','a'),('" + u + "ü','" + u + "'),(NULL,'b')",
			"SELECT CONCAT_WS('|',v,w,ts) AS x FROM keyless ORDER BY v, w", "b|2001-02-03 04:05:06\nhttps://new.example/|a|2001-02-03 04:05:06\nhttps://new.example/|a|2001-02-03 04:05:06\nhttps://new.example/ü|https://new.example/|2001-02-03 04:05:06"},
		"keyed_by_text": {"CREATE TABLE keyed_by_text (v VARCHAR(100) PRIMARY KEY, n INT) CHARSET utf8mb4; INSERT INTO keyed_by_text VALUES ('http://old.example/ü',1),('" + u + "a',2),('x',3)",
			"SELECT CONCAT(n,v) AS x FROM keyed_by_text ORDER BY n", "1https://new.example/ü\n2https://new.example/a\n3x"},
		"repeating": {"CREATE TABLE repeating (id INT PRIMARY KEY, v VARCHAR(100), n INT, UNIQUE(v), UNIQUE(n,v)); INSERT INTO repeating VALUES (1,'" + u + "',0),(2,'https://new.example/',0),(3,'" + u + "b',0),(4,'https://old.example/b',0),(5,'" + u + "c',0)",
			"SELECT v AS x FROM repeating ORDER BY id", u + "\nhttps://new.example/\nhttps://new.example/b\nhttps://old.example/b\nhttps://new.example/c"},
		"parent": {"CREATE TABLE parent (v VARCHAR(100) PRIMARY KEY); CREATE TABLE child (id INT PRIMARY KEY, v VARCHAR(100), CONSTRAINT c FOREIGN KEY (v) REFERENCES parent(v) ON UPDATE CASCADE); INSERT INTO parent VALUES ('" + u + "'); INSERT INTO child VALUES (1,'" + u + "')",
			"SELECT CONCAT(parent.v,child.v) AS x FROM parent JOIN child USING (v)", "https://new.example/https://new.example/"},
		"checked": {"CREATE TABLE checked (id INT PRIMARY KEY, v VARCHAR(100) CHECK (v LIKE 'http:%'), j JSON, gen VARCHAR(100) AS (CONCAT(v,'!')) STORED); INSERT INTO checked (id,v,j) VALUES (1,'" + u + "','{}'),(2,'http:',JSON_OBJECT('u','" + u + "'))",
			"SELECT CONCAT(gen,j) AS x FROM checked", `http://old.example/!{}` + "\n" + `http:!{"u": "https://new.example/"}`},
		"floating": {"CREATE TABLE floating (f FLOAT PRIMARY KEY, v TEXT); INSERT INTO floating VALUES (1.1,'" + u + "'),(2.2,'" + u + "b')",
			"SELECT v AS x FROM floating ORDER BY f", "https://new.example/\nhttps://new.example/b"},
		"timed": {"CREATE TABLE timed (ts TIMESTAMP, bits BIT(9), e ENUM('a','ü'), bin BINARY(3), v TEXT, PRIMARY KEY(ts,bits,e,bin)); INSERT INTO timed VALUES ('2024-06-01 12:00:00',b'100000001','ü',x'27005c','" + u + "')",
			"SELECT v AS x FROM timed", "https://new.example/"},
		"without_transactions": {"CREATE TABLE without_transactions (id INT PRIMARY KEY, v VARCHAR(22)) ENGINE=MyISAM; INSERT INTO without_transactions VALUES (1,'" + u + "'),(2,'" + u + "xyz')",
			"SELECT v AS x FROM without_transactions", "https://new.example/\nhttp://old.example/xyz"},
		"watched": {"CREATE TABLE log_ (v TEXT); CREATE TABLE watched (id INT PRIMARY KEY, v TEXT); INSERT INTO watched VALUES (1,'" + u + "'); CREATE TRIGGER watch AFTER UPDATE ON watched FOR EACH ROW INSERT INTO log_ VALUES (NEW.id)",
			"SELECT CONCAT(w.v,l.v) AS x FROM watched w, log_ l", "https://new.example/1"},
		"kept": {"CREATE TABLE kept (id INT PRIMARY KEY, guid TEXT); INSERT INTO kept VALUES (1,'" + u + "'); CREATE VIEW seen AS SELECT '" + u + "' AS x",
			"SELECT CONCAT(guid,x) AS x FROM kept, seen", u + u},
	}
	l := testenv.MariaDB(t)
	for _, tr := range traps {
		testenv.Client(t, l, []byte("SET sql_mode='';"+tr.sql+";"))
	}
	dir := filepath.Join(t.TempDir(), "site")
	mariaSite(t, dir, l, `keep = ["kept.guid"]`)
	plan := rewriteSite(t, 3, dir, "--plan")
	changes := filepath.Join(t.TempDir(), "changes.csv")
	done := rewriteSite(t, 3, dir, "--changes", changes)
	for name, tr := range traps {
		tr.check(t, name, l)
	}
	assert.Equal(t, []string{"id=2: 256 characters in place of at most 255", "id=1: 21 characters in place of at most 20"}, plan.details("too_long"))
	assert.Equal(t, []string{"id=2: 27 characters in place of at most 26"}, plan.details("characters"))
	assert.Equal(t, []string{"id=1: another row has it", "id=4: another row has it"}, plan.details("repeating"))
	assert.Equal(t, map[string]int{"value that does not fit": 4, "key that would repeat": 2, "kept identifier": 1}, plan.Total.Leftovers)
	assert.Equal(t, map[string]int{"value that does not fit": 5, "key that would repeat": 2, "kept identifier": 1}, done.Total.Leftovers, "a CHECK is not foreseen")
	assert.Contains(t, done.details("checked")[0], "id=1: CONSTRAINT")
	assert.Equal(t, []string{"the definition of view seen holds an old address, and stays as it is"}, done.Notes)
	assert.Equal(t, plan.Asides, done.Asides)
	assert.Contains(t, strings.Join(done.Asides, "\n"), "table watched has a trigger that runs for each of its 1 changed rows: watch")
	assert.Contains(t, strings.Join(done.Asides, "\n"), "table without_transactions has no transactions")

	f, err := os.Open(changes)
	require.NoError(t, err)
	defer f.Close()
	lines, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	assert.Len(t, lines, 1+done.Total.Changed, "a line for every changed value")
	assert.Contains(t, lines, []string{"keyed_by_text", "v", "v=http://old.example/ü", "http://old.example/ü", "https://new.example/ü"})
	again := rewriteSite(t, 3, dir)
	assert.Zero(t, again.Total.Changed)
	assert.Equal(t, done.Total.Leftovers, again.Total.Leftovers)
	assert.Equal(t, 1, rewriteSite(t, 3, dir, "--identifiers").Total.Changed)
}

func TestRewriteLiveTrapsOfSQLite(t *testing.T) {
	const u = "http://old.example/"
	traps := map[string]trap{
		"numbered":  {"CREATE TABLE numbered (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO numbered VALUES (-5,'" + u + "'),(9223372036854775807,'" + u + "')", "SELECT group_concat(v,' ') FROM numbered", "https://new.example/ https://new.example/"},
		"hidden":    {`CREATE TABLE hidden (rowid TEXT, "_rowid_" TEXT); INSERT INTO hidden VALUES ('` + u + "','x')", "SELECT rowid, _rowid_ FROM hidden", "https://new.example/|x"},
		"no_number": {"CREATE TABLE no_number (k TEXT, n REAL, v, PRIMARY KEY(k,n)) WITHOUT ROWID; INSERT INTO no_number VALUES ('" + u + "it''s',0.1,'" + u + "'),('b',1,x'00')", "SELECT k,n,hex(v) FROM no_number ORDER BY n", "https://new.example/it's|0.1|68747470733A2F2F6E65772E6578616D706C652F\nb|1.0|00"},
		"repeating": {"CREATE TABLE repeating (id INTEGER PRIMARY KEY, v TEXT UNIQUE ON CONFLICT REPLACE, n INT, UNIQUE(n,v)); INSERT INTO repeating VALUES (1,'" + u + "',0),(2,'https://new.example/',0),(3,'" + u + "b',0),(4,'https://old.example/b',0)", "SELECT v FROM repeating ORDER BY id", u + "\nhttps://new.example/\nhttps://new.example/b\nhttps://old.example/b"},
		"checked":   {"CREATE TABLE checked (v TEXT CHECK (length(v) < 20), g AS (v || '!')); INSERT INTO checked VALUES ('" + u + "'),('http://old.example')", "SELECT g FROM checked", u + "!\nhttps://new.example!"},
		"types":     {"CREATE TABLE types (a, b INTEGER, c BLOB); INSERT INTO types VALUES ('" + u + "',CAST('" + u + "' AS BLOB),'" + u + "'),(1,2.5,NULL)", "SELECT a,typeof(a),b,typeof(b),typeof(c) FROM types", "https://new.example/|text|https://new.example/|blob|text\n1|integer|2.5|real|null"},
		"watched":   {"CREATE TABLE log_ (v); CREATE TABLE watched (v TEXT); INSERT INTO watched VALUES ('" + u + "'); CREATE TRIGGER watch AFTER UPDATE ON watched BEGIN INSERT INTO log_ VALUES (1); END; CREATE TRIGGER other AFTER INSERT ON watched BEGIN UPDATE log_ SET v=2; END", "SELECT watched.v, log_.v FROM watched, log_", "https://new.example/|1"},
		"nul":       {"CREATE TABLE nul (v); INSERT INTO nul VALUES (CAST(x'00' || '" + u + "' || x'00ff' AS TEXT))", "SELECT hex(v) FROM nul", "00687474703A2F2F6F6C642E6578616D706C652F00FF"},
	}
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `database = "sqlite:db.sqlite"`)
	l := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "db.sqlite")}
	for _, tr := range traps {
		testenv.Client(t, l, []byte(tr.sql+";"))
	}
	plan := rewriteSite(t, 3, dir, "--plan")
	done := rewriteSite(t, 3, dir)
	for name, tr := range traps {
		tr.check(t, name, l)
	}
	assert.Equal(t, map[string]int{"key that would repeat": 2, "binary data": 1}, plan.Total.Leftovers)
	assert.Equal(t, map[string]int{"key that would repeat": 2, "value that does not fit": 1, "binary data": 1}, done.Total.Leftovers)
	assert.Equal(t, []string{"id=1: UNIQUE constraint failed: repeating.n, repeating.v", "id=4: UNIQUE constraint failed: repeating.n, repeating.v"}, done.details("repeating"))
	assert.Equal(t, []string{"table watched has a trigger that runs for each of its 1 changed rows: watch"}, done.Asides)
	assert.Zero(t, rewriteSite(t, 3, dir).Total.Changed)
}

// TestRewriteLiveRefuses: one clear error for each wrong input, and nothing is
// changed.
func TestRewriteLiveRefuses(t *testing.T) {
	dir := museum(t, database.Location{})
	before := snapshot(t, dir)
	move := "http://ferry.brackwater.example=https://brackwatermuseum.example"
	for want, c := range map[string]struct {
		status int
		args   []string
	}{
		"89 values in " + dir + " would be changed; nothing was changed": {1, []string{dir, "--map", move}},
		"a site is changed where it is":                                  {2, []string{dir, "--map", move, "-o", "x.sql"}},
		"--engine is for SQL dumps":                                      {2, []string{dir, "--map", move, "--engine", "sqlite"}},
		"did you mean page?":                                             {2, []string{dir, "--map", move, "--table", "pgae", "--yes"}},
		"pattern of files cannot be read":                                {2, []string{dir, "--map", move, "--files", "[x", "--yes"}},
		"there is no such file":                                          {1, []string{dir, "--map", move, "--database", "sqlite:/no/such/file", "--yes"}},
		"no site is here":                                                {1, []string{t.TempDir(), "--map", move}},
		"are for the folder of a site":                                   {2, []string{filepath.Join(dir, "hovix.toml"), "--map", move, "--files", "*.css", "-o", "x"}},
		"would lie inside the site":                                      {1, []string{dir, "--map", move, "--changes", filepath.Join(dir, "changes.csv"), "--yes"}},
	} {
		run := testenv.Hovix(t, append([]string{"rewrite"}, c.args...)...)
		assert.Equal(t, c.status, run.Status, "%s: %s", want, run.Err)
		assert.Contains(t, run.Err, want)
		assert.Equal(t, before, snapshot(t, dir), want)
	}
}

// TestRewriteFilesOfASite: text files by pattern, with their modes, and no
// binary ones.
func TestRewriteFilesOfASite(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `address = "http://old.example"`, `caches = ["cache"]`)
	files := map[string]string{
		"style.css": "a { background: url(http://old.example/a.png) }\n", "app/main.js": `var u = "http:\/\/old.example\/a", p = "secret";` + "\nvar x;\n",
		"app/deep/page.html": "<a href='//old.example/'>", "app/page.htm": "http://old.example", "picture.css": "\x00\x01http://old.example",
		"cache/page.css": "http://old.example", "notes.txt": "http://old.example",
	}
	for rel, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, rel)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, rel), []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "style.css"), 0o751))
	require.NoError(t, os.Symlink("style.css", filepath.Join(dir, "link.css")))
	globs := "*.css,app/**/*.html,app/*.js"
	before := snapshot(t, dir)
	plan := rewriteSite(t, 3, dir, "--files", globs, "--plan")
	assert.Equal(t, before, snapshot(t, dir))
	changes := filepath.Join(t.TempDir(), "changes.csv")
	done := rewriteSite(t, 3, dir, "--files", globs, "--changes", changes)
	assert.Equal(t, plan.Total, done.Total)
	assert.Equal(t, 7, done.Files)
	assert.Equal(t, map[string]int{"binary data": 1, "address in a text file": 2}, done.Total.Leftovers)
	for rel, want := range map[string]string{
		"style.css": "a { background: url(https://new.example/a.png) }\n", "app/main.js": `var u = "https:\/\/new.example\/a", p = "secret";` + "\nvar x;\n",
		"app/deep/page.html": "<a href='//new.example/'>", "hovix.toml": "address = \"https://new.example\"\ncaches = [\"cache\"]\n",
	} {
		got, err := os.ReadFile(filepath.Join(dir, rel))
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	after := snapshot(t, dir)
	assert.Len(t, after, len(before), "nothing is left behind")
	for _, same := range []string{"app/page.htm", "picture.css", "cache/page.css", "notes.txt", "link.css"} {
		assert.Equal(t, before[same], after[same], same)
	}
	assert.True(t, strings.HasPrefix(after["style.css"], "-rwxr-x--x"), after["style.css"])
	text, err := os.ReadFile(changes)
	require.NoError(t, err)
	assert.Contains(t, string(text), `,app/main.js,line 1,"var u = ""http:\/\/old.example\/a"`)
	assert.Equal(t, []string{"pages kept in cache may still show the old address: empty that folder"}, done.Notes)
	again := rewriteSite(t, 3, dir, "--files", globs)
	assert.Zero(t, again.Total.Changed)
	only := rewriteSite(t, 0, dir, "--table", "*")
	assert.Zero(t, only.Files, "settings are left alone where tables are chosen")
}

// TestRewriteLiveWordPress moves a real site to another address where it stands.
// PHP then reads the same values, and the site is served without the old one.
func TestRewriteLiveWordPress(t *testing.T) {
	port := testenv.FreePort(t)
	oldAddress, newAddress := "http://harbour.example:8123", fmt.Sprintf("http://pier.example:%d", port)
	folder, l := testenv.WordPress(t, oldAddress, "harb_")
	theme := filepath.Join(folder, "wp-content/themes/harbour/hard.css")
	require.NoError(t, os.WriteFile(theme, []byte("body { background: url("+oldAddress+"/a.png) }"), 0o644))
	before := testenv.PHP(t, optionsProgram, nil, l.Name, l.Socket, oldAddress, folder)
	run := testenv.Hovix(t, "rewrite", folder, "--map", oldAddress+"="+newAddress, "--files", "wp-content/themes/**/*.css", "--yes")
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	for _, want := range []string{"Rewrote Harbour Office “Nord”", "harb_options.option_value", "harb_postmeta.meta_value", "wp-content/themes/harbour/hard.css", "kept identifiers"} {
		assert.Contains(t, run.Out, want)
	}
	after := testenv.PHP(t, optionsProgram, nil, l.Name, l.Socket, newAddress, folder)
	assert.Equal(t, string(before), string(after))
	css, err := os.ReadFile(theme)
	require.NoError(t, err)
	assert.Contains(t, string(css), newAddress)
	serves(t, folder, port, newAddress)
	second := testenv.Hovix(t, "rewrite", folder, "--map", oldAddress+"="+newAddress, "--json", "--yes")
	var doc rewritten
	require.NoError(t, json.Unmarshal([]byte(second.Out), &doc), second.Err)
	assert.Zero(t, doc.Total.Changed)
}
