package main_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// gateCase is a database with something that is hard to carry: what packing says, and what
// the restored one answers.
type gateCase struct {
	name, sql string
	says      []string // lines of the result that begin with an exclamation mark
	ask, want string
}

var sqliteGate = []gateCase{
	{"names in single quotes", `CREATE TABLE 'it''s' ('a b' TEXT, 'c' INTEGER, PRIMARY KEY('c')); INSERT INTO "it's" VALUES ('http://old.example/',1); CREATE INDEX 'i x' ON 'it''s'('a b');`, nil,
		`SELECT * FROM "it's"; SELECT name FROM pragma_index_info('i x');`, "https://new.example/|1\na b\n"},
	{"full-text indexes", `CREATE TABLE p (id INTEGER PRIMARY KEY, t TEXT); INSERT INTO p VALUES (1,'hello http://old.example/a'),(2,'bye'); CREATE VIRTUAL TABLE s USING fts5(t, content='p', content_rowid='id'); INSERT INTO s(s) VALUES ('rebuild');
		CREATE VIRTUAL TABLE own USING fts5(a UNINDEXED, b, tokenize='porter unicode61'); INSERT INTO own(rowid,a,b) VALUES (7,'x y','http://old.example/z running'); CREATE TABLE s_more (x); INSERT INTO s_more VALUES (1);
		CREATE TRIGGER tr AFTER INSERT ON p BEGIN INSERT INTO s(rowid,t) VALUES (new.id,new.t); END;`, nil,
		"SELECT rowid, * FROM own WHERE own MATCH 'run'; SELECT rowid, t FROM s WHERE s MATCH 'new'; INSERT INTO p VALUES (3,'zebra'); SELECT rowid FROM s WHERE s MATCH 'zebra'; INSERT INTO s(s) VALUES ('integrity-check');",
		"7|x y|https://new.example/z running\n1|hello https://new.example/a\n3\n"},
	{"indexes that cannot be made again", `CREATE TABLE p (a); CREATE VIRTUAL TABLE less USING fts5(a, content=''); CREATE VIRTUAL TABLE old USING fts4(a); CREATE TRIGGER tl AFTER INSERT ON p BEGIN INSERT INTO less(rowid,a) VALUES (new.rowid,new.a); END; CREATE TRIGGER fine AFTER INSERT ON p BEGIN SELECT 1; END;`,
		[]string{"full-text index less stays behind: it keeps no texts of its own", "virtual table old stays behind", "trigger tl stays behind: it needs less"},
		"INSERT INTO p VALUES (1); SELECT name FROM sqlite_master WHERE type='trigger';", "fine\n"},
	{"a tree of ranges", `CREATE VIRTUAL TABLE r USING rtree(id,a,b,+name TEXT); INSERT INTO r VALUES (4,2,3,'http://old.example');`, nil, "SELECT * FROM r WHERE a<=2;", "4|2.0|3.0|https://new.example\n"},
	{"settings and numbers", `PRAGMA user_version=7; PRAGMA application_id=99; PRAGMA journal_mode=WAL; CREATE TABLE a (b); INSERT INTO a (rowid,b) VALUES (5,'x'),(9,'y'); CREATE TABLE k (a TEXT PRIMARY KEY, rowid INT); INSERT INTO k (_rowid_,a,rowid) VALUES (3,'a',1); CREATE TABLE n (a TEXT PRIMARY KEY) WITHOUT ROWID; INSERT INTO n VALUES ('z');`, nil,
		"PRAGMA user_version; PRAGMA application_id; PRAGMA journal_mode; SELECT rowid, b FROM a; SELECT _rowid_, * FROM k; SELECT * FROM n;", "7\n99\nwal\n5|x\n9|y\n3|a|1\nz\n"},
	{"statistics", `CREATE TABLE a (b, c); CREATE INDEX i ON a (b); INSERT INTO a VALUES (1,1),(1,2),(2,3); ANALYZE;`, nil, "SELECT tbl, idx, stat FROM sqlite_stat1;", "a|i|3 2\n"},
	{"another encoding", `PRAGMA encoding='UTF-16le'; CREATE TABLE a (b); INSERT INTO a VALUES ('http://old.example/ü');`, nil, "PRAGMA encoding; SELECT * FROM a;", "UTF-16le\nhttps://new.example/ü\n"},
}

var postgresGate = []gateCase{
	{"partitions of partitions", `CREATE TABLE t (a int, b int, v text, PRIMARY KEY (a,b)) PARTITION BY LIST (a); CREATE TABLE t1 PARTITION OF t FOR VALUES IN (1) PARTITION BY RANGE (b); CREATE TABLE t11 PARTITION OF t1 FOR VALUES FROM (0) TO (10); CREATE TABLE t12 PARTITION OF t1 DEFAULT;
		INSERT INTO t VALUES (1,5,'x'),(1,50,'y'); CREATE INDEX iv ON t (v); CREATE TABLE ref (a int, b int, FOREIGN KEY (a,b) REFERENCES t); INSERT INTO ref VALUES (1,5);`, nil,
		"SELECT tableoid::regclass, * FROM t ORDER BY b; SELECT count(*) FROM pg_index WHERE indrelid IN ('t'::regclass,'t1'::regclass,'t11'::regclass,'t12'::regclass);", "t11|1|5|x\nt12|1|50|y\n8\n"},
	{"rows that move to another partition", `CREATE TABLE l (u text, k int, g text GENERATED ALWAYS AS (u || '!') STORED, id int GENERATED ALWAYS AS IDENTITY, PRIMARY KEY (u,k)) PARTITION BY LIST (u); CREATE TABLE la PARTITION OF l FOR VALUES IN ('http://old.example/a') PARTITION BY HASH (u); CREATE TABLE la0 PARTITION OF la FOR VALUES WITH (MODULUS 2, REMAINDER 0);
		CREATE TABLE la1 PARTITION OF la FOR VALUES WITH (MODULUS 2, REMAINDER 1); CREATE TABLE ld PARTITION OF l DEFAULT PARTITION BY RANGE (u); CREATE TABLE ld0 PARTITION OF ld FOR VALUES FROM (MINVALUE) TO ('http://p'); CREATE TABLE ld1 PARTITION OF ld FOR VALUES FROM ('http://p') TO (MAXVALUE);
		INSERT INTO l (u,k) VALUES ('http://old.example/a',1),('http://old.example/b',2),('zzz',3); CREATE TABLE fk (u text, k int, FOREIGN KEY (u,k) REFERENCES l); INSERT INTO fk VALUES ('http://old.example/b',2);`, nil,
		"SELECT u, k, g, id FROM l ORDER BY id; SELECT count(*) FROM ld1; SELECT u FROM fk;", "https://new.example/a|1|https://new.example/a!|1\nhttps://new.example/b|2|https://new.example/b!|2\nzzz|3|zzz!|3\n2\nhttps://new.example/b\n"},
	{"collations", `CREATE COLLATION num (provider=icu, locale='en-u-kn-true'); CREATE COLLATION ci (provider=icu, locale='und-u-ks-level2', deterministic=false); CREATE TABLE c (a text COLLATE num, b text COLLATE ci UNIQUE); INSERT INTO c VALUES ('a10','X'),('a9','y'); CREATE INDEX ON c (a COLLATE ci);`, nil,
		"SELECT a FROM c ORDER BY a; SELECT a FROM c WHERE b='x';", "a9\na10\na10\n"},
	{"text search", `CREATE TEXT SEARCH DICTIONARY d (TEMPLATE=pg_catalog.simple, STOPWORDS=english); CREATE TEXT SEARCH CONFIGURATION conf (COPY=pg_catalog.english); ALTER TEXT SEARCH CONFIGURATION conf ALTER MAPPING FOR asciiword WITH d;
		CREATE TABLE ts (a text, v tsvector GENERATED ALWAYS AS (to_tsvector('public.conf'::regconfig, a)) STORED); INSERT INTO ts VALUES ('the cats'); CREATE INDEX ON ts USING gin (to_tsvector('public.conf'::regconfig, a));`, nil,
		"SELECT v FROM ts; SELECT to_tsvector('conf', 'the dogs');", "'cats':2\n'dogs':2\n"},
	{"an aggregate in use", `CREATE AGGREGATE cat(text) (SFUNC=textcat, STYPE=text, INITCOND=''); CREATE TABLE x (a text); INSERT INTO x VALUES ('a'),('b'); CREATE VIEW vx AS SELECT cat(a) FROM x;`, nil, "SELECT * FROM vx;", "ab\n"},
	{"rights", `CREATE TABLE r (a int); ALTER TABLE r ENABLE ROW LEVEL SECURITY; CREATE TABLE r2 (a int); ALTER TABLE r2 ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON r2 USING (a>1); CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'select 1'; REVOKE EXECUTE ON FUNCTION f() FROM public;
		GRANT SELECT ON r TO public; ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO public; CREATE PUBLICATION pub FOR TABLE r; CREATE TYPE own AS (a int); CREATE FUNCTION tocast(own) RETURNS int LANGUAGE sql AS 'select 1'; CREATE CAST (own AS int) WITH FUNCTION tocast(own);`,
		[]string{"row security policy p of table public.r2", "row level security of table public.r2", "publication pub", "cast from public.own to integer", "default privileges stay behind", "grants on tables (1)", "grants on functions (1)"},
		"SELECT relname, relrowsecurity, relforcerowsecurity FROM pg_class WHERE relname IN ('r','r2') ORDER BY 1;", "r|t|f\nr2|f|f\n"},
}

// TestGate: what can be carried is, and what cannot is named when the site is packed, so that
// no archive turns out on the new host not to be one that can be restored.
var mariaGate = []gateCase{
	{name: "backslashes that are none",
		sql: `SET sql_mode='NO_BACKSLASH_ESCAPES'; CREATE TABLE t (v VARCHAR(9)); INSERT INTO t VALUES ('C:\');
			CREATE FUNCTION f() RETURNS VARCHAR(9) DETERMINISTIC RETURN 'C:\'; CREATE FUNCTION g() RETURNS VARCHAR(9) DETERMINISTIC RETURN 'C:/'; CREATE VIEW w AS SELECT 'D:\' AS d;`,
		says: []string{"routine f stays behind: a restore would refuse it: it was made under the SQL mode NO_BACKSLASH_ESCAPES, in which its backslashes mean something else"},
		ask:  "SELECT v, g(), d FROM t, w;", want: "v\tg()\td\nC:\\\\\tC:/\tD:\\\\\n"},
}

func TestGate(t *testing.T) {
	t.Parallel()
	run := func(t *testing.T, c gateCase, fresh func(dir string) database.Location) {
		dir := filepath.Join(t.TempDir(), "site")
		if from := fresh(dir); from.Engine == database.MariaDB { // only who made it may read stored code
			testenv.ExecAs(t, from, c.sql)
		} else {
			testenv.Client(t, from, []byte(c.sql))
		}
		file := filepath.Join(t.TempDir(), "site.tar.zst")
		packed := testenv.Hovix(t, "pack", dir, "-o", file)
		require.Contains(t, []int{0, 3}, packed.Status, packed.Err)
		assert.Equal(t, len(c.says), strings.Count(packed.Out, "\n  ! "), packed.Out)
		for _, s := range c.says {
			assert.Contains(t, packed.Out, s)
		}
		other := filepath.Join(t.TempDir(), "other")
		to := fresh(other)
		restored := testenv.Hovix(t, "restore", file, other, "--url", "https://new.example", "--stored-code", "--yes")
		require.Contains(t, []int{0, 3}, restored.Status, restored.Err)
		assert.Equal(t, c.want, testenv.Client(t, to, []byte(c.ask)))
		if to.Engine != database.SQLite { // what was made is put aside, and comes back
			ok(t, testenv.Hovix(t, "undo", other, "--yes"))
			ok(t, testenv.Hovix(t, "undo", other, "--yes", "--redo"))
			assert.Equal(t, c.want, testenv.Client(t, to, []byte(c.ask)))
			ok(t, testenv.Hovix(t, "undo", other, "--yes", "--discard"))
		}
	}
	for _, c := range sqliteGate {
		t.Run("SQLite/"+c.name, func(t *testing.T) {
			run(t, c, func(dir string) database.Location {
				siteFile(t, dir, `name = "Gate"`, `address = "http://old.example"`, `database = "sqlite:a.db"`)
				return database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "a.db")}
			})
		})
	}
	for _, c := range mariaGate {
		t.Run("MariaDB/"+c.name, func(t *testing.T) {
			run(t, c, func(dir string) database.Location {
				l := testenv.MariaDB(t)
				mariaSite(t, dir, l, `address = "http://old.example"`)
				return l
			})
		})
	}
	for _, c := range postgresGate {
		t.Run("Postgres/"+c.name, func(t *testing.T) {
			run(t, c, func(dir string) database.Location {
				l := testenv.Postgres(t)
				postgresSite(t, dir, l, `address = "http://old.example"`)
				return l
			})
		})
	}
}
