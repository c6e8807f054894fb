package main_test

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

const theMove = "http://old.example=https://new.example"

// vectorValues gives the values before and after of all test vectors that have
// only the usual mapping.
func vectorValues(t *testing.T) (before, after [][]byte) {
	t.Helper()
	files, err := filepath.Glob("../../internal/rewrite/testdata/vectors/*.txt")
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		head, rest, _ := bytes.Cut(text, []byte("-- before\n"))
		if strings.Count(string(head), "\nmap: ") != 1 || !bytes.Contains(head, []byte("\nmap: http://old.example https://new.example\n")) || bytes.Contains(head, []byte("\noption: ")) || bytes.Contains(head, []byte("\ntext: ")) || bytes.Contains(head, []byte("\nroot: ")) {
			continue
		}
		b, a, changed := bytes.Cut(rest, []byte("\n-- after\n"))
		a = bytes.TrimSuffix(a, []byte("\n"))
		if !changed {
			b = bytes.TrimSuffix(b, []byte("\n"))
			a = b
		}
		before, after = append(before, b), append(after, a)
	}
	require.Greater(t, len(before), 100)
	return before, after
}

// isText reports whether a column of text can hold v in every engine.
func isText(v []byte) bool { return utf8.Valid(v) && bytes.IndexByte(v, 0) < 0 }

// addressTable is SQL that makes a table with values as text and as binary data,
// for formats of both with the value's hexadecimal digits.
func addressTable(values [][]byte, textType, blobType, text, binary string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "CREATE TABLE addresses (id INT PRIMARY KEY, v %s, b %s);\n", textType, blobType)
	for i, v := range values {
		t := "NULL"
		if isText(v) {
			t = fmt.Sprintf(text, v)
		}
		fmt.Fprintf(&b, "INSERT INTO addresses VALUES (%d, %s, %s);\n", i, t, fmt.Sprintf(binary, v))
	}
	return b.String()
}

// rewriteDump runs hovix over a dump and gives the new one.
func rewriteDump(t *testing.T, dump []byte, options ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	in, out := filepath.Join(dir, "in.sql"), filepath.Join(dir, "out.sql")
	require.NoError(t, os.WriteFile(in, dump, 0o600))
	run := testenv.Hovix(t, append([]string{"rewrite", in, "--map", theMove, "-o", out}, options...)...)
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	again := filepath.Join(dir, "again.sql")
	run = testenv.Hovix(t, append([]string{"rewrite", out, "--map", theMove, "-o", again, "--json"}, options...)...)
	var doc struct{ Total struct{ Changed int } }
	require.NoError(t, json.Unmarshal([]byte(run.Out), &doc), run.Err)
	assert.Zero(t, doc.Total.Changed, "a second run changes nothing")
	same, err := os.ReadFile(again)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, same), "a second run gives the same bytes")
	return text
}

// TestRewriteDumpsOfMariaDB: all that mariadb-dump writes of hard values, with
// addresses among them, loads again; what holds no address is identical.
func TestRewriteDumpsOfMariaDB(t *testing.T) {
	before, after := vectorValues(t)
	l := testenv.MariaDB(t)
	fillHard(t, l)
	testenv.Client(t, l, []byte(addressTable(before, "LONGTEXT", "LONGBLOB", "CONVERT(x'%x' USING utf8mb4)", "x'%x'")))
	for name, options := range map[string][]string{
		"as it comes":        nil,
		"single inserts":     {"--skip-extended-insert"},
		"hexadecimal":        {"--hex-blob"},
		"with columns":       {"--complete-insert", "--skip-comments"},
		"for other servers":  {"--compatible=no_table_options,no_key_options", "--skip-opt"},
		"names as in ANSI":   {"--compatible=ansi"},
		"replace statements": {"--replace", "--skip-quote-names"},
	} {
		t.Run(name, func(t *testing.T) {
			args := append([]string{"--no-defaults", "-S", l.Socket, "-utester", "-p" + l.Password, "--single-transaction", "--default-character-set=utf8mb4"}, append(options, l.Name)...)
			if name == "replace statements" || name == "for other servers" {
				args = append(args, "addresses", "hard", "no_key") // the other names need quotes, or options of tables
			}
			if name == "hexadecimal" { // UUIDs that mariadb-dump writes as digits do not load again
				args = append(args, "--ignore-table="+l.Name+".hard", "--ignore-table="+l.Name+".a_view", "--ignore-table="+l.Name+".z_view")
			}
			dump := append([]byte("SET NAMES utf8mb4;\n"), testenv.Program(t, "mariadb-dump", nil, args...)...)
			to, asItWas := testenv.MariaDB(t), testenv.MariaDB(t)
			testenv.Client(t, asItWas, dump)
			testenv.Client(t, to, rewriteDump(t, dump))
			want, got := content(t, asItWas), content(t, to)
			checkAddresses(t, got["rows addresses"], after)
			delete(want, "rows addresses")
			delete(got, "rows addresses")
			sameContent(t, want, got)
		})
	}
}

// checkAddresses compares rows written as =id|=text|=binary.
func checkAddresses(t *testing.T, rows []string, after [][]byte) {
	t.Helper()
	require.Len(t, rows, len(after))
	have := map[string]bool{}
	for _, r := range rows {
		have[r] = true
	}
	for i, v := range after {
		text := "NULL"
		if isText(v) {
			text = "=" + string(v)
		}
		assert.True(t, have[fmt.Sprintf("=%d|%s|=%s", i, text, v)], "%q", v)
	}
}

func TestRewriteDumpOfSQLite(t *testing.T) {
	before, after := vectorValues(t)
	dir := t.TempDir()
	from := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "from.sqlite")}
	to := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "to.sqlite")}
	testenv.Client(t, from, []byte(strings.ReplaceAll(hardSQLite, "CAST(x'610062' AS TEXT)", "'nul'")))
	testenv.Client(t, from, []byte(addressTable(before, "TEXT", "BLOB", "CAST(x'%x' AS TEXT)", "x'%x'")))
	dump := []byte(testenv.Client(t, from, []byte(".dump")))
	testenv.Client(t, to, rewriteDump(t, dump))
	asItWas := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "asitwas.sqlite")}
	testenv.Client(t, asItWas, dump)
	tables := "SELECT * FROM hard; SELECT * FROM no_rowid; SELECT * FROM child;"
	assert.Equal(t, testenv.Client(t, asItWas, []byte(tables)), testenv.Client(t, to, []byte(tables)))
	hexRows(t, testenv.Client(t, to, []byte("SELECT id, CASE WHEN v IS NULL THEN '-' ELSE hex(v) END, hex(b) FROM addresses ORDER BY id;")), after)
}

// hexRows compares lines of id|hex of text|hex of binary.
func hexRows(t *testing.T, got string, after [][]byte) {
	t.Helper()
	lines := strings.Split(strings.TrimSpace(strings.ToLower(got)), "\n")
	require.Len(t, lines, len(after))
	for i, v := range after {
		text := "-"
		if isText(v) {
			text = hex.EncodeToString(v)
		}
		assert.Equal(t, fmt.Sprintf("%d|%s|%x", i, text, v), lines[i], "%q", v)
	}
}

func TestRewriteDumpsOfPostgres(t *testing.T) {
	before, after := vectorValues(t)
	from := testenv.Postgres(t)
	testenv.Client(t, from, []byte(addressTable(before, "TEXT", "BYTEA", `convert_from('\x%x', 'UTF8')`, `'\x%x'`)+`
CREATE TABLE "Odd name" (n numeric, "a b" text[], j jsonb, t timestamptz, e text DEFAULT E'it''s \\ here');
INSERT INTO "Odd name" VALUES (1.50, ARRAY['a','b"c',NULL,'\'], '{"a":"\u00fc"}', '2024-02-29 12:00+02', E'tab\tline\nback\\slash'), (NULL,NULL,NULL,NULL,'');
CREATE FUNCTION f() RETURNS text LANGUAGE sql AS $body$ SELECT 'it''s; ' || $x$a;b$x$ $body$;
`))
	odd := `SELECT "Odd name"::text FROM "Odd name" ORDER BY 1; SELECT f(); SELECT column_default FROM information_schema.columns WHERE column_name='e'`
	query := func(db database.Location, q string) string { return testenv.Client(t, db, []byte(q)) }
	for name, options := range map[string][]string{"COPY": nil, "inserts": {"--inserts"}, "with columns": {"--column-inserts", "--rows-per-insert=20"}, "all names quoted": {"--quote-all-identifiers", "--inserts"}} {
		t.Run(name, func(t *testing.T) {
			text := rewriteDump(t, testenv.Program(t, "pg_dump", nil, append(append(testenv.PostgresArgs(from), "--no-owner"), options...)...))
			to := testenv.Postgres(t)
			testenv.Client(t, to, append([]byte("SET client_min_messages=error;\n"), text...))
			assert.Equal(t, query(from, odd), query(to, odd))
			hexRows(t, query(to, "SELECT id, coalesce(encode(convert_to(v, 'UTF8'), 'hex'), '-'), encode(b, 'hex') FROM addresses ORDER BY id"), after)
		})
	}
}

// TestRewriteOfPanels: what web panels write, with a byte order mark, carriage
// returns, odd quoting and comments.
func TestRewriteOfPanels(t *testing.T) {
	in := "\xef\xbb\xbf-- a panel's dump; it's \"odd\"\r\n/* http://old.example; ' */\r\nSET NAMES utf8mb4;\r\n" +
		"CREATE TABLE `posts` (\r\n  `id` int NOT NULL,\r\n  `guid` varchar(255) DEFAULT 'http://old.example/d' COMMENT 'it''s',\r\n  `body` text,\r\n  PRIMARY KEY (`id`)\r\n) ENGINE=InnoDB;\r\n" +
		"INSERT INTO `posts` VALUES\r\n(1, 'http://old.example/?p=1', 'a:1:{i:0;s:23:\\\"\"http://old.example/a''b\\n\";}'),\r\n" +
		"(2, \"http://old.example/?p=2\", 'it\\'s s:20:\"http://old.example/a\"');\r\n" +
		"insert ignore into posts (body, id) values ('s:20:\\\"http://old.example/a\\\";', 3);\r\n" +
		"INSERT INTO log (body) VALUES ('http://old.example/log'); # http://old.example in a comment\r\n"
	text := string(rewriteDump(t, []byte(in), "--except", "log"))
	want := strings.NewReplacer(
		"DEFAULT 'http://old", "DEFAULT 'https://new", // a definition belongs to the table, not to the column
		"it\\'s s:20:\"http://old", "it\\'s s:20:\"https://new",
		"'s:20:\\\"http://old.example/a", "'s:21:\\\"https://new.example/a").Replace(in)
	assert.Equal(t, want, text)
	all := string(rewriteDump(t, []byte(in), "--except", "log", "--identifiers"))
	assert.Equal(t, strings.ReplaceAll(want, "old.example/?p=", "new.example/?p="), strings.ReplaceAll(all, "https://new.example/?p=", "http://new.example/?p="))
}

// TestRewriteCompressed: what is read and written compressed.
func TestRewriteCompressed(t *testing.T) {
	dir := t.TempDir()
	in, want := []byte("INSERT INTO t VALUES (1,'http://old.example/a');\n"), "INSERT INTO t VALUES (1,'https://new.example/a');\n"
	plain := filepath.Join(dir, "d.sql")
	require.NoError(t, os.WriteFile(plain, in, 0o600))
	for _, tool := range []string{"gzip", "bzip2", "zstd"} {
		packed := filepath.Join(dir, tool)
		require.NoError(t, os.WriteFile(packed, testenv.Program(t, tool, in, "-c"), 0o600))
		for end, unpack := range map[string][]string{".sql": {"cat"}, ".gz": {"gzip", "-dc"}, ".zst": {"zstd", "-dc"}} {
			out := filepath.Join(dir, tool+"-new"+end)
			run := testenv.Hovix(t, "rewrite", packed, "--map", theMove, "-o", out)
			require.Zero(t, run.Status, run.Err)
			b, err := os.ReadFile(out)
			require.NoError(t, err)
			assert.Equal(t, want, string(testenv.Program(t, unpack[0], b, unpack[1:]...)))
		}
	}
	run := testenv.Hovix(t, "rewrite", plain, "--map", theMove, "-o", "-")
	assert.Equal(t, want, run.Out, "standard output holds the dump alone")
	changes := filepath.Join(dir, "changes.csv")
	run = testenv.Hovix(t, "rewrite", plain, "--map", theMove, "--plan", "--changes", changes)
	assert.Zero(t, run.Status, run.Err)
	assert.Contains(t, run.Out, "Would rewrite d.sql")
	b, err := os.ReadFile(changes)
	require.NoError(t, err)
	assert.Equal(t, "table,column,row,before,after\nt,,,http://old.example/a,https://new.example/a\n", string(b))
	assert.Len(t, names(t, dir), 4+9+1, "a plan writes nothing else")
}

// TestRewriteRefuses: one clear error for each wrong input, and nothing written.
func TestRewriteRefuses(t *testing.T) {
	dir := t.TempDir()
	file := func(name, content string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(content), 0o600))
		return p
	}
	good := file("good.sql", "INSERT INTO t VALUES ('http://old.example');\n")
	out := filepath.Join(dir, "out.sql")
	for want, c := range map[string]struct {
		status int
		args   []string
	}{
		"there is no file":      {1, []string{filepath.Join(dir, "goood.sql"), "--map", theMove, "-o", out}},
		"did you mean":          {1, []string{filepath.Join(dir, "god.sql"), "--map", theMove, "-o", out}},
		"it is a web page":      {1, []string{file("page.sql", "<!DOCTYPE html><p>"), "--map", theMove, "-o", out}},
		"it is empty":           {1, []string{file("empty.sql", ""), "--map", theMove, "-o", out}},
		"custom format":         {1, []string{file("custom.sql", "PGDMP\x01\x0e"), "--map", theMove, "-o", out}},
		"is a folder":           {2, []string{dir, "--map", theMove, "-o", out}},
		"the dump itself":       {1, []string{good, "--map", theMove, "-o", good, "-y"}},
		"exists already":        {1, []string{good, "--map", theMove, "-o", file("there.sql", "x")}},
		"uncompress":            {1, []string{file("torn.gz", "\x1f\x8b\x08\x00"), "--map", theMove, "-o", out}},
		"say what to rewrite":   {2, []string{good, "-o", out}},
		"say where":             {2, []string{good, "--map", theMove}},
		"OLD=NEW":               {2, []string{good, "--map", "http://old.example", "-o", out}},
		"no scheme":             {2, []string{good, "--map", "old.example=new.example", "-o", out}},
		"mapped to both":        {2, []string{good, "--map", theMove, "--map", "http://old.example=http://x.example", "-o", out}},
		"absolute path":         {2, []string{good, "--root", "srv/x=/srv/y", "-o", out}},
		"did you mean postgres": {2, []string{good, "--map", theMove, "-o", out, "--engine", "postgre"}},
		"pattern":               {2, []string{good, "--map", theMove, "-o", out, "--table", "[x"}},
	} {
		run := testenv.Hovix(t, append([]string{"rewrite"}, c.args...)...)
		assert.Equal(t, c.status, run.Status, "%s: %s", want, run.Err)
		assert.Contains(t, run.Err, want)
		assert.NoFileExists(t, out, want)
		assert.NoFileExists(t, out+".partial", want)
	}
}

// TestRewriteDumpOfWordPress: a real site's database as mariadb-dump writes it,
// rewritten, has in PHP's eyes the same values as before, addresses apart.
func TestRewriteDumpOfWordPress(t *testing.T) {
	const oldAddress, newAddress = "http://harbour.example:8123", "https://pier.example/sub"
	folder, source := testenv.WordPress(t, oldAddress, "harb_")
	dump := testenv.Program(t, "mariadb-dump", nil, "--no-defaults", "-S", source.Socket, "-utester", "-p"+source.Password, source.Name)
	dir := t.TempDir()
	in, out := filepath.Join(dir, "in.sql"), filepath.Join(dir, "out.sql")
	require.NoError(t, os.WriteFile(in, dump, 0o600))
	run := testenv.Hovix(t, "rewrite", in, "--map", oldAddress+"="+newAddress, "--root", folder+"=/srv/new/site", "-o", out)
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	assert.Contains(t, run.Out, "harb_options.option_value")
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	target := testenv.MariaDB(t)
	testenv.Client(t, target, text)
	before := testenv.PHP(t, optionsProgram, nil, source.Name, source.Socket, oldAddress, folder)
	after := testenv.PHP(t, optionsProgram, nil, target.Name, target.Socket, newAddress, "/srv/new/site")
	require.Greater(t, bytes.Count(before, []byte("{site}")), 50)
	assert.Equal(t, string(before), string(after))
	assert.Equal(t, bytes.Count(dump, []byte(oldAddress+"/?p=")), bytes.Count(text, []byte(oldAddress+"/?p=")), "identifiers stay")
}
