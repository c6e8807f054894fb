package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// typesOfExtension asks for the types of values that an extension brings, and typesIndexes
// for the ways in which values of a type can be indexed without more.
const (
	typesOfExtension = `SELECT t.oid::regtype FROM pg_type t JOIN pg_depend d ON d.classid='pg_type'::regclass AND d.objid=t.oid AND d.deptype='e' JOIN pg_extension e ON e.oid=d.refobjid
		WHERE e.extname='%s' AND t.typtype IN ('b','d','e','c','r') AND t.typelem=0 AND t.typinput::text NOT LIKE '%%key_in' ORDER BY 1`
	typesIndexes = `SELECT DISTINCT a.amname FROM pg_opclass o JOIN pg_am a ON a.oid=o.opcmethod WHERE o.opcintype='%s'::regtype AND o.opcdefault ORDER BY 1`
)

// valuesOfTypes are texts of values of types that are not made of nothing.
var valuesOfTypes = map[string]string{"hstore": "a=>http://old.example", "ltree": "a.b", "lquery": "a.*", "ltxtquery": "a & b", "citext": "X http://old.example/", "cube": "(1,2)", "seg": "1..2", "isbn": "978-0-393-04002-9", "ean13": "978-0-393-04002-9",
	"geometry": "SRID=4326;POINT(1 2)", "geography": "POINT(1 2)", "box2d": "BOX(0 0,1 1)", "query_int": "1&2", "earth": "(0,0,6378168)"}

// TestCorpusOfPostgres makes a database of each of the server's extensions: a table with a
// column of each of its types, an index of each kind that these have, a view of them. What is
// not the same afterwards was named when it was packed.
func TestCorpusOfPostgres(t *testing.T) {
	t.Parallel()
	if os.Getenv("HOVIX_CORPUS") == "" && os.Getenv("HOVIX_TEST_POSTGRES_SOCKET") == "" {
		testenv.Postgres(t) // which says what is left out
	}
	names := []string{"hstore", "ltree", "citext"}
	first := testenv.Postgres(t)
	if os.Getenv("HOVIX_CORPUS") != "" {
		names = strings.Fields(testenv.Client(t, first, []byte("SELECT name FROM pg_available_extensions WHERE name<>'plpgsql' ORDER BY 1")))
	}
	databases, named := 0, 0
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			from, to := testenv.Postgres(t), testenv.Postgres(t)
			admin := func(l database.Location) database.Location { l.User = "tester"; return l }
			create := []byte(`CREATE EXTENSION IF NOT EXISTS "` + name + `" CASCADE;`)
			if out, err := exec.Command("psql", append(testenv.PostgresArgs(admin(from)), "-v", "ON_ERROR_STOP=1", "-Atqc", string(create))...).CombinedOutput(); err != nil {
				t.Logf("the server does not make it: %s", out)
				return
			}
			if strings.TrimSpace(testenv.Client(t, from, fmt.Appendf(nil, "SELECT trusted FROM pg_available_extension_versions WHERE name='%s' LIMIT 1", name))) == "f" {
				testenv.Client(t, admin(to), create) // as an administrator does before
			}
			filled := 0
			for i, typ := range strings.Split(strings.TrimSpace(testenv.Client(t, from, fmt.Appendf(nil, typesOfExtension, name))), "\n") {
				if typ == "" {
					continue
				}
				made := fmt.Sprintf("CREATE TABLE t%d (id int PRIMARY KEY, v %s, many %s[]); INSERT INTO t%d VALUES (1,NULL,NULL)", i, typ, typ, i)
				if v := valuesOfTypes[typ]; v != "" {
					made += fmt.Sprintf(",(2,'%s',ARRAY['%s']::%s[])", v, v, typ)
				}
				if out, err := exec.Command("psql", append(testenv.PostgresArgs(from), "-v", "ON_ERROR_STOP=1", "-Atqc", made)...).CombinedOutput(); err != nil {
					t.Logf("%s: %s", typ, out) // types that are for the server itself
					continue
				}
				filled++
				for _, am := range strings.Fields(testenv.Client(t, from, fmt.Appendf(nil, typesIndexes, typ))) {
					testenv.Client(t, from, fmt.Appendf(nil, "CREATE INDEX ON t%d USING %s (v);", i, am))
				}
				testenv.Client(t, from, fmt.Appendf(nil, "CREATE VIEW w%d AS SELECT v::text AS v FROM t%d WHERE v IS NOT NULL; ALTER TABLE t%d ADD CHECK (id>0 OR v IS NULL);", i, i, i))
			}
			dir, other := filepath.Join(t.TempDir(), "site"), filepath.Join(t.TempDir(), "other")
			postgresSite(t, dir, from)
			postgresSite(t, other, to)
			said, wrong := corpusTrip(t, dir, other, func(d string) (string, error) {
				l := admin(map[string]database.Location{dir: from, other: to}[d])
				out, err := exec.Command("pg_dump", append(testenv.PostgresArgs(l), "--no-owner", "--no-acl", "--no-comments")...).Output()
				lines := strings.Split(string(out), "\n")
				lines = slices.DeleteFunc(lines, func(l string) bool { return strings.HasPrefix(l, "--") || strings.HasPrefix(l, "\\") })
				slices.Sort(lines)
				return strings.Join(lines, "\n"), err
			})
			databases++
			switch {
			case wrong != "" && said:
				named++
				t.Logf("named, and so it was: %s", wrong)
			case wrong != "":
				assert.Fail(t, "not named at packing", wrong)
			}
			t.Logf("%d types", filled)
		})
	}
	t.Logf("%d databases of extensions; of %d something was named at packing", databases, named)
}

// spaceAndQuotes are what a definition that is written anew may have otherwise.
var spaceAndQuotes = regexp.MustCompile(`main\.|["' \[\]();` + "`" + `]+`)

// derived are rows that are made of others, and numbers of rows that nobody sees.
var derived = regexp.MustCompile(`(?m)^INSERT INTO (?:sqlite_stat\w*|\w+_(?:data|idx|docsize)\b).*\n|(^INSERT INTO sqlite_sequence)\(rowid,name,seq\) VALUES\(\d+,`)

// evals are where a test of SQLite's own suite runs statements.
var evals = regexp.MustCompile(`(?:do_execsql_test\s+\S+|do_test\s+\S+\s*\{\s*execsql|execsql|db\s+eval)\s*\{`)

// suiteStatements gives the texts with statements of a file of SQLite's own suite, but those
// that its program fills in.
func suiteStatements(text string) (out []string) {
	for {
		at := evals.FindStringIndex(text)
		if at == nil {
			return out
		}
		text = text[at[1]:]
		depth, end := 1, 0
		for ; end < len(text) && depth > 0; end++ {
			switch text[end] {
			case '{':
				depth++
			case '}':
				depth--
			}
		}
		if one := text[:max(0, end-1)]; !strings.ContainsAny(one, "$[") {
			out = append(out, one)
		}
		text = text[end:]
	}
}

// TestCorpusOfSQLite takes SQLite's own test suite, each file into a database, and databases
// that come with programs. What is not the same afterwards was named when it was packed.
func TestCorpusOfSQLite(t *testing.T) {
	t.Parallel()
	module := strings.TrimSpace(string(testenv.Program(t, "go", nil, "list", "-m", "-f", "{{.Dir}}", "modernc.org/sqlite")))
	files := glob(filepath.Join(module, "testdata/tcl"), "*.test")
	require.Greater(t, len(files), 1000)
	databases, named, step := 0, 0, max(1, corpusStep()/5)
	check := func(t *testing.T, dir string) {
		other := filepath.Join(t.TempDir(), "other")
		said, wrong := corpusTrip(t, dir, other, func(d string) (string, error) { return sqliteState(filepath.Join(d, "x.db")) })
		databases++
		if wrong != "" && said {
			named++
		} else if wrong != "" {
			assert.Fail(t, "not named at packing", wrong)
		}
	}
	site := func(t *testing.T) string {
		dir := filepath.Join(t.TempDir(), "site")
		siteFile(t, dir, `name = "Corpus"`, `database = "sqlite:x.db"`)
		return dir
	}
	for i := step / 2; i < len(files); i += step {
		text, err := os.ReadFile(files[i])
		require.NoError(t, err)
		statements := suiteStatements(string(text))
		if !slices.ContainsFunc(statements, isTable.MatchString) {
			continue
		}
		t.Run(filepath.Base(files[i]), func(t *testing.T) {
			dir := site(t)
			client := exec.Command("timeout", "20", "sqlite3", filepath.Join(dir, "x.db"))
			client.Dir = t.TempDir() // for what is attached
			client.Stdin = strings.NewReader(strings.Join(statements, "\n;\n") + "\n;\nROLLBACK;\n")
			_ = client.Run() // many statements fail, as they do there
			check(t, dir)
		})
	}
	require.NoError(t, filepath.WalkDir(os.Getenv("HOVIX_TEST_SQLITE_FILES"), func(path string, d os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".db") {
			return nil
		}
		t.Run(filepath.Base(path), func(t *testing.T) {
			dir := site(t)
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			write(t, filepath.Join(dir, "x.db"), content)
			check(t, dir)
		})
		return nil
	}))
	t.Logf("%d databases; of %d something was named at packing", databases, named)
}

// sqliteState describes a database by the engine's own client: what it holds by name and
// kind, definitions but for space and quotes, columns, keys, and all rows.
func sqliteState(path string) (string, error) {
	ask := func(q string) (string, error) {
		out, err := exec.Command("sqlite3", "-bail", path, q).Output()
		return string(out), err
	}
	state, err := ask("SELECT type||' '||name||' '||tbl_name||char(1) FROM sqlite_schema WHERE name NOT LIKE '%sqlite_s%' ORDER BY 1; SELECT lower(m.name||' '||c.name||' '||c.type||' '||c.pk||' '||c.hidden||' '||c.[notnull]||' '||coalesce(c.dflt_value,''))||char(1) FROM sqlite_schema m, pragma_table_xinfo(m.name) c WHERE m.type='table' AND m.name NOT LIKE 'sqlite_s%' ORDER BY m.name, c.cid;" +
		"SELECT m.name||' '||i.seqno||' '||coalesce(i.name,'-')||i.[desc]||i.coll||char(1) FROM sqlite_schema m, pragma_index_xinfo(m.name) i WHERE m.type='index' AND m.name NOT LIKE '%sqlite_stat%' ORDER BY 1; SELECT lower(sql)||char(1) FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_stat%' AND name<>'sqlite_sequence' ORDER BY type, name;")
	if err != nil {
		return "", err
	}
	state = regexp.MustCompile(`(?sm)--.*?$|/\*.*?\*/`).ReplaceAllString(state, "")
	state = spaceAndQuotes.ReplaceAllString(strings.Join(strings.Fields(state), ""), "")
	rows, err := exec.Command("sqlite3", "-bail", path, ".dump --data-only --preserve-rowids").Output()
	lines := strings.Split(derived.ReplaceAllString(string(rows), "$1"), "\n")
	slices.Sort(lines)
	return strings.ReplaceAll(state, "\x01", "\n") + strings.Join(lines, "\n"), err
}
