package main_test

import (
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// catalog gives all that a PostgreSQL database holds as its own catalogs tell
// it: every definition, every position, a checksum of every table.
func catalog(t *testing.T, l database.Location) []string {
	t.Helper()
	query, err := os.ReadFile("testdata/postgres-catalog.sql")
	require.NoError(t, err)
	lines := strings.Split(testenv.Client(t, l, query), "\n")
	sort.Strings(lines)
	return lines
}

func postgresSite(t *testing.T, dir string, l database.Location, more ...string) {
	t.Helper()
	siteFile(t, dir, append([]string{`name = "Hard"`, `database = "` + l.String() + `"`, `database-password = "` + l.Password + `"`}, more...)...)
}

// withoutLines gives the lines of a catalog that do not mention any of the words.
func withoutLines(lines []string, words ...string) (out []string) {
	for _, l := range lines {
		keep := true
		for _, w := range words {
			keep = keep && !strings.Contains(l, w)
		}
		if keep {
			out = append(out, l)
		}
	}
	return out
}

// TestHardValuesPostgres: a database with every kind of object that is carried,
// packed and restored by a user who owns the database and nothing else.
func TestHardValuesPostgres(t *testing.T) {
	source := testenv.Postgres(t)
	hard, err := os.ReadFile("testdata/hard-postgres.sql")
	require.NoError(t, err)
	testenv.Client(t, source, hard)
	want := catalog(t, source)
	require.Greater(t, len(want), 1000)
	dir := filepath.Join(t.TempDir(), "site")
	postgresSite(t, dir, source)
	file := filepath.Join(t.TempDir(), "hard.tar.zst")
	run := ok(t, testenv.Hovix(t, "pack", dir, "-o", file))
	assert.Contains(t, run.Out, "16 tables, 31 rows")
	assert.Equal(t, want, catalog(t, source), "packing changes nothing")
	restore := func(t *testing.T, target database.Location, more ...string) testenv.Run {
		env := []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}
		return testenv.HovixIn(t, "", env, append([]string{"restore", "--stored-code", "--links-out", file, filepath.Join(t.TempDir(), "new"), "--database", target.String()}, more...)...)
	}

	t.Run("tar and the engine's own client", func(t *testing.T) {
		target := testenv.Postgres(t)
		_, sql := unpackWithTar(t, file)
		testenv.Client(t, target, sql)
		assert.Equal(t, want, catalog(t, target))
	})
	t.Run("restore", func(t *testing.T) {
		target := testenv.Postgres(t)
		ok(t, restore(t, target))
		assert.Equal(t, want, catalog(t, target))
	})
	t.Run("restore over other tables, and back by hand", func(t *testing.T) {
		target := testenv.Postgres(t)
		testenv.Client(t, target, []byte(`SET client_min_messages=error; CREATE TABLE z_parent (id serial PRIMARY KEY, old int); INSERT INTO z_parent (old) VALUES (5); CREATE TABLE a_child (id int PRIMARY KEY, parent int CONSTRAINT to_parent REFERENCES z_parent);
			CREATE TABLE bystander (a int); CREATE VIEW a_view AS SELECT old FROM z_parent; CREATE VIEW by_view AS SELECT old FROM z_parent; CREATE TYPE mood AS ENUM ('old'); CREATE TABLE hard (m mood);
			CREATE FUNCTION slug(t text) RETURNS text LANGUAGE sql AS 'SELECT 1::text'; CREATE FUNCTION slug(a int) RETURNS int LANGUAGE sql AS 'SELECT 2'; GRANT SELECT ON z_parent TO PUBLIC`))
		before := catalog(t, target)
		refused := restore(t, target)
		require.Equal(t, 1, refused.Status)
		assert.Contains(t, refused.Err, "3 tables")
		assert.Equal(t, before, catalog(t, target), "a refusal changes nothing")
		run := restore(t, target, "--yes", "--json")
		require.Equal(t, 3, run.Status, run.Err)
		assert.Contains(t, run.Out, "the view public.by_view is not in the archive, and does not fit its tables: it still goes by those that were replaced")
		after := withoutLines(catalog(t, target), "_hovix_before", "bystander", "by_view", "slug(integer)")
		assert.Subset(t, after, withoutLines(want, "slug(integer)"))
		assert.Equal(t, "t\n", testenv.Client(t, target, []byte("SELECT has_table_privilege('pg_monitor', 'public.z_parent', 'SELECT')")), "rights are those that the old table had")
		testenv.Client(t, target, []byte(putBackStatements(t, run.Out)))
		now := catalog(t, target)
		assert.Subset(t, now, withoutLines(before, "schema|"), "put back by hand")
		testenv.Client(t, target, []byte("SET client_min_messages=error; INSERT INTO z_parent (old) VALUES (6); DROP SCHEMA "+afterSchema(now)+" CASCADE; SELECT * FROM a_view"))
	})
	t.Run("a user who may make no schema", func(t *testing.T) {
		target := testenv.Postgres(t)
		admin := target
		admin.User = "tester"
		testenv.Client(t, admin, []byte("ALTER DATABASE "+target.Name+" OWNER TO tester; GRANT CREATE, USAGE ON SCHEMA public TO "+target.User))
		run := restore(t, target)
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, `GRANT CREATE ON DATABASE "`+target.Name+`"`)
	})
}

// afterSchema finds the schema into which the new state was put by hand.
func afterSchema(lines []string) string {
	for _, l := range lines {
		if name, ok := strings.CutPrefix(l, "schema|_hovix_after"); ok {
			return "_hovix_after" + name
		}
	}
	return ""
}

// TestRewriteLivePostgres: every value of the test vectors, as text and as binary
// data, is changed where it stands, and hard values beside it are not touched.
func TestRewriteLivePostgres(t *testing.T) {
	before, after := vectorValues(t)
	l := testenv.Postgres(t)
	hard, err := os.ReadFile("testdata/hard-postgres.sql")
	require.NoError(t, err)
	testenv.Client(t, l, hard)
	testenv.Client(t, l, []byte(addressTable(before, "TEXT", "BYTEA", `convert_from('\x%x', 'UTF8')`, `'\x%x'`)))
	dir := filepath.Join(t.TempDir(), "site")
	postgresSite(t, dir, l)
	want := catalog(t, l)
	plan := rewriteSite(t, 3, dir, "--plan")
	assert.Equal(t, want, catalog(t, l), "a plan changes nothing")
	done := rewriteSite(t, 3, dir)
	plan.Planned = false
	assert.Equal(t, plan, done, "what was planned was done")
	hexRows(t, testenv.Client(t, l, []byte("SELECT id, coalesce(encode(convert_to(v, 'UTF8'), 'hex'), '-'), encode(b, 'hex') FROM addresses ORDER BY id")), after)
	assert.Equal(t, withoutLines(want, "rows|public.addresses"), withoutLines(catalog(t, l), "rows|public.addresses"))
	assert.Zero(t, rewriteSite(t, 3, dir).Total.Changed, "a second run changes nothing")
}

func TestRewriteLiveTrapsOfPostgres(t *testing.T) {
	const u = "http://old.example/"
	traps := map[string]trap{
		"too_long":  {"CREATE TABLE too_long (id int PRIMARY KEY, v varchar(20), c char(22)); INSERT INTO too_long VALUES (1,'" + u + "a','" + u + "'),(2,'" + u + "','" + u + "abc')", "SELECT v, c::text || '.' FROM too_long ORDER BY id", u + "a|https://new.example/.\nhttps://new.example/|" + u + "abc."},
		"domains":   {"CREATE DOMAIN short AS varchar(20); CREATE DOMAIN web AS text CHECK (VALUE LIKE 'http:%'); CREATE TABLE domains (id int PRIMARY KEY, s short, w web); INSERT INTO domains VALUES (1,'" + u + "a','x'::text::varchar || NULL),(2,NULL,'" + u + "'),(3,'" + u + "',NULL)", "SELECT s, w FROM domains ORDER BY id", u + "a|\n|" + u + "\nhttps://new.example/|"},
		"keyless":   {"CREATE TABLE keyless (v text, n real); INSERT INTO keyless VALUES ('" + u + "',1),('" + u + "',1),('" + u + "b',NULL),(NULL,NULL)", "SELECT v FROM keyless ORDER BY v", "https://new.example/\nhttps://new.example/\nhttps://new.example/b"},
		"keyed":     {"CREATE TABLE keyed (v text, b bytea, d date, PRIMARY KEY (v,b,d)); INSERT INTO keyed VALUES ('" + u + "it''s\\','" + u + "'::bytea,'infinity')", "SELECT v, encode(b,'escape') FROM keyed", `https://new.example/it's\|https://new.example/`},
		"repeating": {"CREATE TABLE repeating (id int PRIMARY KEY, v text UNIQUE, n int, UNIQUE (n,v)); INSERT INTO repeating VALUES (1,'" + u + "',0),(2,'https://new.example/',0),(3,'" + u + "b',0),(4,'https://old.example/b',0)", "SELECT v FROM repeating ORDER BY id", u + "\nhttps://new.example/\nhttps://new.example/b\nhttps://old.example/b"},
		"types":     {`CREATE TYPE pair AS (a text, b int); CREATE TABLE types (id int PRIMARY KEY, j json, jb jsonb, a text[], p pair, x xml); INSERT INTO types VALUES (1,'{"u" : "http:\/\/old.example\/"}','{"u":"` + u + `","a":1}','{"` + u + `,x",NULL}','("` + u + ` b",2)','<a href="` + u + `"/>')`, "SELECT j,jb,a,p,x FROM types", `{"u" : "https:\/\/new.example\/"}|{"a": 1, "u": "https://new.example/"}|{"https://new.example/,x",NULL}|("https://new.example/ b",2)|<a href="https://new.example/"/>`},
		"parts":     {"CREATE TABLE parts (k int, v text) PARTITION BY LIST (k); CREATE TABLE part1 PARTITION OF parts FOR VALUES IN (1); INSERT INTO parts VALUES (1,'" + u + "')", "SELECT v FROM parts", "https://new.example/"},
		"computed":  {"CREATE TABLE computed (id int PRIMARY KEY, v text, g text GENERATED ALWAYS AS (v || '!') STORED); INSERT INTO computed VALUES (1,'" + u + "')", "SELECT g FROM computed", "https://new.example/!"},
		"referred":  {"CREATE TABLE referred (v text PRIMARY KEY); CREATE TABLE refers (v text REFERENCES referred DEFERRABLE); INSERT INTO referred VALUES ('" + u + "'); INSERT INTO refers VALUES ('" + u + "')", "SELECT a.v, b.v FROM referred a, refers b", "https://new.example/|https://new.example/"},
		"watched":   {"CREATE TABLE log_ (v text); CREATE TABLE watched (v text); INSERT INTO watched VALUES ('" + u + "'); CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN INSERT INTO log_ VALUES (1); RETURN NEW; END'; CREATE TRIGGER watch AFTER UPDATE ON watched FOR EACH ROW EXECUTE FUNCTION note()", "SELECT w.v, l.v FROM watched w, log_ l", "https://new.example/|1"},
		"kept":      {"CREATE TABLE kept (id int PRIMARY KEY, guid text); INSERT INTO kept VALUES (1,'" + u + "'); CREATE VIEW seen AS SELECT '" + u + "' AS x", "SELECT guid, x FROM kept, seen", u + "|" + u},
	}
	l := testenv.Postgres(t)
	for _, tr := range traps {
		testenv.Client(t, l, []byte(tr.sql+";"))
	}
	dir := filepath.Join(t.TempDir(), "site")
	postgresSite(t, dir, l, `keep = ["kept.guid"]`)
	plan := rewriteSite(t, 3, dir, "--plan")
	done := rewriteSite(t, 3, dir)
	for name, tr := range traps {
		tr.check(t, name, l)
	}
	assert.Equal(t, []string{"id=2: 23 characters in place of at most 22", "id=1: 21 characters in place of at most 20"}, plan.details("too_long"))
	assert.Equal(t, map[string]int{"value that does not fit": 3, "key that would repeat": 2, "kept identifier": 1}, plan.Total.Leftovers)
	assert.Equal(t, map[string]int{"value that does not fit": 4, "key that would repeat": 2, "kept identifier": 1}, done.Total.Leftovers, "a CHECK is not foreseen")
	assert.Contains(t, done.details("domains")[1], `id=2: value for domain`)
	assert.Equal(t, []string{"the definition of view seen holds an old address, and stays as it is"}, done.Notes)
	assert.Equal(t, []string{"table watched has a trigger that runs for each of its 1 changed rows: watch"}, done.Asides)
	again := rewriteSite(t, 3, dir)
	assert.Zero(t, again.Total.Changed)
	assert.Equal(t, done.Total.Leftovers, again.Total.Leftovers)
}
