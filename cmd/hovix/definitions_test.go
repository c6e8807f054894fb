package main_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestAddressesInDefinitions: defaults, checks, generated values, labels, comments, partial
// indexes and lists of partitions get the new address with the rows that they are of; where a
// site is rewritten in place they are named.
func TestAddressesInDefinitions(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		fresh func(t *testing.T, dir string) database.Location
		sql   string
		read  string // all definitions, and what rows make of them
		want  string
	}{
		{"MariaDB", func(t *testing.T, dir string) database.Location {
			l := testenv.MariaDB(t)
			mariaSite(t, dir, l, `address = "http://old.example"`)
			return l
		}, "CREATE TABLE d (id INT PRIMARY KEY, v VARCHAR(100) DEFAULT 'http://old.example/it''s' COMMENT 'see http://old.example/doc', path VARCHAR(50), full VARCHAR(200) AS (CONCAT('http://old.example/', path)) STORED, tail VARCHAR(100) AS (REPLACE(v, 'http://old.example', '')) VIRTUAL," +
			" e ENUM('http://old.example/a','b'), s SET('http://old.example/x','y'), o VARCHAR(90) DEFAULT 'a:1:{i:0;s:18:\"http://old.example\";}', CHECK (v LIKE 'http://old.example/%')) COMMENT 'http://old.example' CHARSET utf8mb4;" +
			"INSERT INTO d (id, path, e, s) VALUES (1, 'p', 'http://old.example/a', 'http://old.example/x,y');" +
			"CREATE TABLE part (k VARCHAR(50) NOT NULL) PARTITION BY LIST COLUMNS(k) (PARTITION a VALUES IN ('http://old.example/1'), PARTITION b VALUES IN ('x')); INSERT INTO part VALUES ('http://old.example/1');" +
			"CREATE VIEW seen AS SELECT 'http://old.example/v' AS u;",
			"SHOW CREATE TABLE d; SHOW CREATE TABLE part; SHOW CREATE VIEW seen; INSERT INTO d (id, path) VALUES (2, 'q'); SELECT CONCAT_WS(' ', v, full, tail, e, s, o) FROM d WHERE id=1; SELECT o FROM d WHERE id=2; SELECT u FROM seen; SELECT COUNT(*) AS n FROM part PARTITION (a);",
			"https://new.example/it's https://new.example/p /it's https://new.example/a https://new.example/x,y a:1:{i:0;s:19:\"https://new.example\";}\no\na:1:{i:0;s:19:\"https://new.example\";}\nu\nhttps://new.example/v\nn\n1\n"},
		{"Postgres", func(t *testing.T, dir string) database.Location {
			l := testenv.Postgres(t)
			postgresSite(t, dir, l, `address = "http://old.example"`)
			return l
		}, `CREATE DOMAIN link AS text CHECK (VALUE LIKE 'http://old.example/%'); CREATE TABLE d (id int PRIMARY KEY, v text DEFAULT 'http://old.example/it''s', l link, path text, "full" text GENERATED ALWAYS AS ('http://old.example/' || path) STORED, CHECK (v LIKE 'http://old.example/%'));
			COMMENT ON TABLE d IS 'see http://old.example/doc'; COMMENT ON COLUMN d.v IS 'http://old.example'; CREATE INDEX part ON d (path) WHERE v = 'http://old.example/it''s'; INSERT INTO d (id, l, path) VALUES (1, 'http://old.example/l', 'p');
			CREATE TABLE parted (k text) PARTITION BY LIST (k); CREATE TABLE parted1 PARTITION OF parted FOR VALUES IN ('http://old.example/1'); INSERT INTO parted VALUES ('http://old.example/1'); CREATE VIEW seen AS SELECT 'http://old.example/v'::text AS u;`,
			`SELECT pg_get_expr(adbin, adrelid) FROM pg_attrdef WHERE adrelid='d'::regclass; SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE connamespace='public'::regnamespace; SELECT pg_get_indexdef('part'::regclass); SELECT obj_description('d'::regclass), col_description('d'::regclass, 2), pg_get_viewdef('seen');
			SELECT concat_ws(' ', v, l, "full") FROM d; SELECT u FROM seen; SELECT * FROM parted1;`,
			"https://new.example/it's https://new.example/l https://new.example/p\nhttps://new.example/v\nhttps://new.example/1\n"},
		{"SQLite", func(_ *testing.T, dir string) database.Location {
			siteFile(t, dir, `name = "D"`, `address = "http://old.example"`, `database = "sqlite:db.sqlite"`)
			return database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "db.sqlite")}
		}, `CREATE TABLE d (id INTEGER PRIMARY KEY, v TEXT DEFAULT 'http://old.example/it''s' CHECK (v LIKE 'http://old.example/%'), path TEXT, whole TEXT GENERATED ALWAYS AS ('http://old.example/' || path) STORED);
			CREATE INDEX part ON d (path) WHERE v = 'http://old.example/it''s'; INSERT INTO d (id, path) VALUES (1, 'p'); CREATE VIEW seen AS SELECT 'http://old.example/v' AS u;`,
			"SELECT sql FROM sqlite_master; SELECT v || ' ' || whole FROM d; SELECT u FROM seen;", "https://new.example/it's https://new.example/p\nhttps://new.example/v\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "site")
			l := c.fresh(t, dir)
			testenv.Client(t, l, []byte(c.sql))
			file := packed(t, dir)
			other := filepath.Join(t.TempDir(), "other")
			to := c.fresh(t, other)
			run := testenv.Hovix(t, "restore", file, other, "--url", "https://new.example", "--yes")
			require.Equal(t, 0, run.Status, run.Out+run.Err)
			got := testenv.Client(t, to, []byte(c.read))
			assert.NotContains(t, got, "http://old.example")
			assert.Contains(t, got, c.want)

			onWay := filepath.Join(t.TempDir(), "way.tar.zst")
			ok(t, testenv.Hovix(t, "pack", dir, "--map", theMove, "-o", onWay))
			_, sql := unpackWithTar(t, onWay)
			assert.NotContains(t, string(sql), "http://old.example", "on the way into an archive")

			run = testenv.Hovix(t, "rewrite", dir, "--map", theMove, "--yes")
			assert.Contains(t, run.Out+run.Err, "the definition of table d holds an old address")
		})
	}
}
