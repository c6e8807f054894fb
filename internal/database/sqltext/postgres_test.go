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
	change := func(column int, raw []byte, _ bool, value func() ([]byte, error)) ([]byte, bool, error) {
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
