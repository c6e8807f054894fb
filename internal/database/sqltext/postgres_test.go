package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNamesOfRelations(t *testing.T) {
	for joined, parts := range map[string][2]string{
		"t": {"public", "t"}, "shop.t": {"shop", "t"}, `"a.b"`: {"public", "a.b"}, `"a.b"."c""d"`: {"a.b", `c"d`}, "Odd Schema.T x": {"Odd Schema", "T x"}, "public.": {"public", ""},
	} {
		schema, name := SplitName(joined)
		assert.Equal(t, parts, [2]string{schema, name}, joined)
		if name != "" {
			assert.Equal(t, joined, JoinName(schema, name))
		}
	}
	assert.Equal(t, `"shop"."a""b"`, QuoteRelation(JoinName("shop", `a"b`)))
}

func FuzzJoinName(f *testing.F) {
	f.Add("public", "t")
	f.Add(`a"b.`, `."`)
	f.Fuzz(func(t *testing.T, schema, name string) {
		if schema == "" || name == "" {
			return
		}
		s, n := SplitName(JoinName(schema, name))
		assert.Equal(t, [2]string{schema, name}, [2]string{s, n})
	})
}

func TestRequalify(t *testing.T) {
	known := map[string]bool{"t": true, "T x": true, "seq": true, "mood": true}
	to := func(schema, name string) (string, bool) { return "st", schema == "public" && known[name] }
	for in, want := range map[string]string{
		`CREATE VIEW v AS SELECT a.public FROM public.t a`:              `CREATE VIEW v AS SELECT a.public FROM "st".t a`,
		`SELECT public.t.a, "public"."T x".b FROM public.other`:         `SELECT "st".t.a, "st"."T x".b FROM public.other`,
		`DEFAULT nextval('public.seq'::regclass)`:                       `DEFAULT nextval('"st".seq'::regclass)`,
		`DEFAULT nextval('public."T x"'::regclass), 'public.seq'::text`: `DEFAULT nextval('"st"."T x"'::regclass), 'public.seq'::text`,
		`x.public.t`:                             `x.public.t`,
		`'a'::public.mood[] /* public.t */`:      `'a'::"st".mood[] /* public.t */`,
		"AS $f$ SELECT * FROM public.t $f$":      "AS $f$ SELECT * FROM public.t $f$",
		`OPERATOR(public.<->) E'it\'s public.t'`: `OPERATOR(public.<->) E'it\'s public.t'`,
		`EXECUTE FUNCTION PUBLIC.t()`:            `EXECUTE FUNCTION PUBLIC.t()`,
	} {
		got, err := Requalify(in, to)
		require.NoError(t, err, in)
		assert.Equal(t, want, got)
	}
	_, err := Requalify("'open", to)
	assert.Error(t, err)
}

func TestPostgresShapes(t *testing.T) {
	for in, want := range map[string]Shape{
		"SET x=1": ShapeNone, "CREATE TABLE a (b int)": ShapeTable, "CREATE UNLOGGED TABLE a (b int)": ShapeTable, "COPY a (b) FROM stdin;\n1\n\\.": ShapeInsert,
		"CREATE UNIQUE INDEX i ON a (b)": ShapeIndex, "ALTER TABLE ONLY public.a ADD CONSTRAINT c PRIMARY KEY (b)": ShapeIndex, "ALTER TABLE a INHERIT b": ShapeOther,
		"CREATE MATERIALIZED VIEW v AS SELECT 1": ShapeView, "CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE sql AS $$SELECT 1; SELECT 2$$": ShapeRoutine,
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT 1; SELECT CASE WHEN true THEN 1 END; END": ShapeRoutine,
		"CREATE RULE r AS ON DELETE TO a DO INSTEAD (SELECT 1; SELECT 2)":                                           ShapeTrigger, "CREATE DOMAIN d AS int": ShapeType,
		"CREATE SEQUENCE s": ShapeSequence, "SELECT pg_catalog.setval('s', 1, true)": ShapePosition, "COMMENT ON TABLE a IS 'b; c'": ShapeOther, "ALTER SEQUENCE s OWNED BY a.b": ShapeOther,
	} {
		got, err := ShapeOf([]byte(in), Postgres)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, in := range []string{"DROP TABLE a", "SELECT 1", "SELECT pg_catalog.set_config('a','b',false)", "CREATE ROLE x", "CREATE FUNCTION f() RETURNS int LANGUAGE plpython3u AS 'x'",
		"CREATE FUNCTION f() RETURNS int LANGUAGE c AS 'lib', 'f'", "CREATE VIEW v AS SELECT pg_read_file('/etc/passwd')", `CREATE VIEW v AS SELECT "pg_read_file"('x')`, "CREATE VIEW v AS SELECT 1; DROP TABLE a",
		"CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $$BEGIN COPY a TO PROGRAM 'x'; END$$", "ALTER TABLE a OWNER TO x", "ALTER TABLE a DISABLE ROW LEVEL SECURITY", "ALTER SYSTEM SET x=1", "DO $$ x $$", "GRANT ALL ON a TO b",
		"CREATE FUNCTION f() RETURNS text LANGUAGE sql AS 'SELECT pg_read_file(''/etc/passwd'')'", "CREATE FUNCTION f() RETURNS text LANGUAGE sql AS E'SELECT pg_\\x72ead_file(1)'",
		`CREATE MATERIALIZED VIEW v AS SELECT U&"\0070g_read_file"('x')`, "CREATE MATERIALIZED VIEW v AS SELECT query_to_xml('SELECT 1', true, true, '')", "CREATE MATERIALIZED VIEW v AS SELECT set_config('a','b',false)",
		"CREATE EVENT TRIGGER x ON y", "CREATE SERVER x", "CREATE CAST (a AS b)", "\\connect x", "CREATE RULE r AS ON DELETE TO a DO INSTEAD (SELECT lo_export(1,'x'))", "ALTER TABLE a ADD CONSTRAINT c CHECK (pg_sleep(1) IS NULL); SELECT 1"} {
		_, err := ShapeOf([]byte(in), Postgres)
		assert.ErrorIs(t, err, ErrRefused, in)
	}
}

func TestSplitPostgres(t *testing.T) {
	parts := []string{
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $a$ ; $b$ ; $a$", "CREATE FUNCTION g() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT 1; SELECT CASE WHEN 1=1 THEN 2 END; END",
		"COPY public.t (a, \"b;\") FROM stdin;\n1\tx;\\n\n\\N\t'\n\\.", "COPY e FROM stdin;\n\\.", "CREATE RULE r AS ON DELETE TO t DO ALSO (SELECT 1; SELECT 2)",
		"COMMENT ON TABLE t IS E'it\\'s; here'", "CREATE VIEW \"a;b\" AS SELECT '\\' /* ; /* ; */ ; */ AS x", "BEGIN", "SELECT $1, a$b$c",
	}
	assert.Equal(t, parts, statements(t, Postgres, "-- ;\n"+strings.ReplaceAll(strings.Join(parts, ";\n")+";\n", "\\.;\n", "\\.\n")))
}

func TestCopyRows(t *testing.T) {
	stmt := []byte("COPY \"public\".\"t\" (\"a\",\"b\") FROM stdin;\nx\\ty\t\\\\x6f6c64\n\\N\told\\\\\nold\t\n\\.")
	ins, err := ParseInsert(stmt, Postgres)
	require.NoError(t, err)
	assert.Equal(t, "t", ins.Table)
	assert.Equal(t, []string{"a", "b"}, ins.Columns)
	var seen []string
	change := func(column int, raw []byte, value func() ([]byte, error)) ([]byte, bool, error) {
		v, err := value()
		seen = append(seen, string(v))
		return []byte(strings.ReplaceAll(string(v), "old", "n\te\\w")), strings.Contains(string(v), "old"), err
	}
	out, rows, err := ins.AppendInsert(nil, stmt, Postgres, `"s"."t"`, change)
	require.NoError(t, err)
	assert.EqualValues(t, 3, rows)
	assert.Equal(t, "COPY \"s\".\"t\" (\"a\",\"b\") FROM stdin;\nx\\ty\t\\\\x6e09655c77\n\\N\tn\\te\\\\w\\\\\nn\\te\\\\w\t\n", string(out))
	assert.Equal(t, []string{"x\ty", "old", "N", `old\`, "old", ""}, seen)
	head, data := CutCopy(out)
	assert.Equal(t, `COPY "s"."t" ("a","b") FROM stdin`, head)
	assert.Equal(t, "x\\ty", string(data[:4]))
	same, _, err := ins.AppendInsert(nil, stmt, Postgres, "t", nil)
	require.NoError(t, err)
	assert.Equal(t, "COPY t (\"a\",\"b\") FROM stdin;\n"+string(stmt[len(`COPY "public"."t" ("a","b") FROM stdin;`)+1:len(stmt)-2]), string(same))
	for _, bad := range []string{"COPY t FROM PROGRAM 'x';\n\\.", "COPY t FROM '/etc/passwd';\n\\.", "COPY t TO stdout;\n\\.", "COPY t (a) FROM stdin WITH (FORMAT csv);\n\\.", "COPY t FROM stdin;\na\n\\.\nb\n\\.",
		"COPY t FROM stdin;\na", "COPY t FROM stdin; DROP TABLE x;\n\\.", "COPY (SELECT 1) FROM stdin;\n\\.", "INSERT INTO t VALUES (1)", "COPY t FROM stdin;\nab\\."} {
		_, err := ParseInsert([]byte(bad), Postgres)
		assert.ErrorIs(t, err, ErrRefused, bad)
	}
}

// FuzzCopyFields: what is written is read back as it was, and any field is read.
func FuzzCopyFields(f *testing.F) {
	for _, s := range []string{"", "a\tb\nc\\d\b\f\r\v", `\x41\101\8`, `\`, "\xff\x00"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, v []byte) {
		line := AppendCopy(nil, v)
		assert.NotContains(t, string(line), "\n")
		assert.NotContains(t, string(line), "\t")
		assert.Equal(t, v, UnescapeCopy([]byte{}, line))
		UnescapeCopy(nil, v)
	})
}

func TestPositions(t *testing.T) {
	p, err := ParsePosition([]byte(`SELECT pg_catalog.setval('"Odd Schema"."it''s"', -9223372036854775808, false)`))
	require.NoError(t, err)
	assert.Equal(t, Position{Sequence: "Odd Schema.it's", Value: -1 << 63}, p)
	for _, bad := range []string{"SELECT pg_catalog.setval('a', 1)", "SELECT pg_catalog.setval('a', (SELECT 1), true)", "SELECT pg_catalog.setval('a', 1, true), pg_read_file('x')", "SELECT pg_catalog.setval('a b', 1, true)", "SELECT pg_catalog.setval(x, 1, true)"} {
		_, err := ParsePosition([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func TestPostgresTables(t *testing.T) {
	c, err := ParseCreateTable([]byte(`CREATE UNLOGGED TABLE "shop"."o.d" (
  "id" bigint GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME "shop"."o.d_seq" START WITH 1) NOT NULL,
  "engine" text DEFAULT 'a,b);'::text COLLATE "C", "n" numeric(3,2) GENERATED ALWAYS AS ((id * 2)) STORED,
  CONSTRAINT "c d" CHECK ((n > (1)::numeric))
) PARTITION BY RANGE (id) WITH (fillfactor=70)`), Postgres)
	require.NoError(t, err)
	assert.Equal(t, `shop."o.d"`, c.Name)
	assert.Equal(t, []string{"id", "engine", "n"}, c.Columns())
	assert.Equal(t, []string{`shop."o.d_seq"`}, c.Sequences())
	assert.Equal(t, "PARTITION BY RANGE (id) WITH (fillfactor=70)", c.Tail)
	assert.True(t, strings.HasPrefix(c.Render(`"x"`, func(Item) bool { return true }), `CREATE UNLOGGED TABLE "x" (`))
	for _, bad := range []string{"CREATE TABLE a (b int DEFAULT pg_read_file('x'))", "CREATE TABLE a AS SELECT 1", "CREATE TABLE a (b int); DROP TABLE c", "CREATE TABLE a (b int) WITH (x=1); SELECT 1", "CREATE FOREIGN TABLE a (b int) SERVER s", "CREATE TEMP TABLE a (b int)", "CREATE TABLE a (b int, PRIMARY KEY (b))"} {
		_, err := ParseCreateTable([]byte(bad), Postgres)
		assert.ErrorIs(t, err, ErrRefused, bad)
	}
	for stmt, want := range map[string]string{`ALTER TABLE "s"."t" ADD CONSTRAINT "k" PRIMARY KEY (a)`: "s.k", "CREATE UNIQUE INDEX i ON ONLY shop.t USING btree (a)": "shop.i", "CREATE INDEX i ON t (a)": "i", "COMMENT ON INDEX i IS 'x'": "", "ALTER TABLE t ATTACH PARTITION x DEFAULT": ""} {
		assert.Equal(t, want, KeyName([]byte(stmt)), stmt)
	}
}
