package sqlite

import (
	"database/sql"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

func db(t *testing.T, sql string) database.Location {
	t.Helper()
	l := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "a.sqlite")}
	testenv.Client(t, l, []byte(sql))
	return l
}

func TestReader(t *testing.T) {
	l := db(t, `CREATE TABLE b (x); CREATE TABLE a (id INTEGER PRIMARY KEY AUTOINCREMENT, t TEXT, g AS (id+1)); CREATE INDEX i ON a (t);
		INSERT INTO a (t) VALUES ('x'),('y'); CREATE VIEW v AS SELECT * FROM a; CREATE VIRTUAL TABLE ft USING fts5(body); INSERT INTO ft VALUES ('words');`)
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	assert.Equal(t, "SQLite", r.Info().Product)
	tables, err := r.Tables(t.Context())
	require.NoError(t, err)
	require.Len(t, tables, 3, "not SQLite's own: %v", tables)
	assert.Equal(t, database.Table{Name: "ft", Rows: 1}, tables[2], "a full-text index that has texts of its own")
	assert.Equal(t, "a", tables[0].Name)
	assert.EqualValues(t, 2, tables[0].Rows)
	notCarried, err := r.NotCarried(t.Context())
	require.NoError(t, err)
	assert.Empty(t, notCarried)
	create, keys, err := r.Definition(t.Context(), "a")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(create, "CREATE TABLE a (id INTEGER"))
	assert.Equal(t, []string{"CREATE INDEX i ON a (t)"}, keys)
	_, _, err = r.Definition(t.Context(), "none")
	assert.ErrorContains(t, err, "no such table")
	var text string
	require.NoError(t, r.Rows(t.Context(), "a", "", 1000, func(c database.Chunk) error { text += string(c.SQL); return nil }))
	assert.Equal(t, "INSERT INTO \"a\" (\"id\",\"t\") VALUES\n(1,'x'),\n(2,'y');\n", text, "generated columns are left out")
	objects, err := r.Objects(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []database.Object{{Kind: database.View, Name: "v", SQL: "CREATE VIEW v AS SELECT * FROM a"}}, objects)
	end, err := r.Epilogue(t.Context())
	require.NoError(t, err)
	assert.Contains(t, end, "INSERT INTO sqlite_sequence (name,seq) VALUES ('a',2);")
	rows, err := r.Strings(t.Context(), "SELECT t FROM a WHERE t=?", "y")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"y"}}, rows)
}

// TestSnapshot: what is written while the reader is open does not show.
func TestSnapshot(t *testing.T) {
	l := db(t, "PRAGMA journal_mode=WAL; CREATE TABLE a (x); INSERT INTO a VALUES (1);")
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	testenv.Client(t, l, []byte("INSERT INTO a VALUES (2);"))
	rows, err := r.Strings(t.Context(), "SELECT x FROM a")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1"}}, rows)
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	garbage := filepath.Join(dir, "garbage")
	require.NoError(t, os.WriteFile(garbage, []byte(strings.Repeat("this is no database ", 100)), 0o600))
	for path, want := range map[string]string{filepath.Join(dir, "none"): "there is no such file", dir: "it is a folder", garbage: "not a database"} {
		_, err := Open(t.Context(), database.Location{Engine: database.SQLite, Path: path})
		var ce *database.ConnectError
		require.ErrorAs(t, err, &ce)
		assert.ErrorContains(t, err, want)
		assert.NotEmpty(t, ce.Advice)
	}
}

// TestFloatsComeBack: SQLite itself reads every literal as the same number.
func TestFloatsComeBack(t *testing.T) {
	var q strings.Builder
	values := []float64{0, 1, -1.5, 0.1, 1.0 / 3, math.MaxFloat64, 5e-324, 2.2250738585072014e-308, 123456789012345678, 1e15, 1e16, 2.5000000000000004, -9007199254740993}
	for _, v := range values {
		q.WriteString("SELECT printf('%!.20g'," + string(appendFloat(nil, v)) + "), typeof(" + string(appendFloat(nil, v)) + ");\n")
	}
	out := strings.Fields(testenv.Client(t, database.Location{Engine: database.SQLite, Path: ":memory:"}, []byte(q.String())))
	require.Len(t, out, len(values))
	for i, v := range values {
		text, kind, _ := strings.Cut(out[i], "|")
		got, err := strconv.ParseFloat(text, 64)
		require.NoError(t, err)
		assert.Equal(t, v, got)
		assert.Equal(t, "real", kind, "%v stays a floating-point number", v)
	}
	assert.Equal(t, "9e999", string(appendFloat(nil, math.Inf(1))))
	assert.Equal(t, "-9e999", string(appendFloat(nil, math.Inf(-1))))
}

func TestStageAndSwitch(t *testing.T) {
	l := db(t, "CREATE TABLE old (a); INSERT INTO old VALUES (1);")
	before, err := os.ReadFile(l.Path)
	require.NoError(t, err)
	fill := func() database.Stage {
		s, err := NewStage(t.Context(), StagePath(l.Path, "abcd"), false, database.StageOptions{})
		require.NoError(t, err)
		def, err := sqltree.ParseTable([]byte("CREATE TABLE a (b TEXT)"), sqltext.SQLite)
		require.NoError(t, err)
		require.NoError(t, s.Define(t.Context(), def))
		testenv.Stored(t, 2)(s.Fill("a", 1, 2, [][]byte{[]byte(`INSERT INTO "a" VALUES ('x'),('y')`)})(t.Context()))
		require.NoError(t, s.Finish(t.Context(), "a", []string{"CREATE INDEX i ON a (b)"}))
		require.NoError(t, s.AddObject(t.Context(), database.Object{Kind: database.View, Name: "v", SQL: "CREATE VIEW v AS SELECT b FROM a"}))
		return s
	}
	s := fill()
	now, err := os.ReadFile(l.Path)
	require.NoError(t, err)
	assert.Equal(t, before, now, "staging leaves the live file alone")
	require.NoError(t, s.Discard(t.Context()))
	require.NoError(t, s.Discard(t.Context()), "twice does no harm")
	assert.NoFileExists(t, StagePath(l.Path, "abcd"))

	state, _, err := fill().Seal(t.Context())
	require.NoError(t, err)
	ex, err := NewExchanger(t.Context(), l)
	require.NoError(t, err)
	aside, _ := testenv.Exchange(t, ex, state, "one")
	assert.Equal(t, "x\ny\n", testenv.Client(t, l, []byte("SELECT b FROM v;")))
	kept, err := os.ReadFile(aside.File)
	require.NoError(t, err)
	assert.Equal(t, before, kept)
	for range 2 {
		aside, _ = testenv.Exchange(t, ex, aside, "two")
	}
	assert.Equal(t, "x\ny\n", testenv.Client(t, l, []byte("SELECT b FROM v;")))
	require.NoError(t, ex.Drop(t.Context(), aside))
	assert.ErrorContains(t, ex.Check(t.Context(), aside), "is gone")
	_, err = NewStage(t.Context(), l.Path, true, database.StageOptions{})
	assert.ErrorContains(t, err, "exists already")
}

// TestExchangeTakesTheLogAlong: what is still in the log of a live database is in
// the old file, and no log of the old one stays for the new.
func TestExchangeTakesTheLogAlong(t *testing.T) {
	l := db(t, "CREATE TABLE old (a);")
	live, err := sql.Open("sqlite", l.Path)
	require.NoError(t, err)
	defer live.Close()
	for _, q := range []string{"PRAGMA journal_mode=WAL", "PRAGMA wal_autocheckpoint=0", "INSERT INTO old VALUES ('in the log')"} {
		_, err = live.Exec(q)
		require.NoError(t, err)
	}
	s, err := NewStage(t.Context(), StagePath(l.Path, "abcd"), false, database.StageOptions{})
	require.NoError(t, err)
	state, _, err := s.Seal(t.Context())
	require.NoError(t, err)
	ex, err := NewExchanger(t.Context(), l)
	require.NoError(t, err)
	aside, _ := testenv.Exchange(t, ex, state, "one")
	for _, suffix := range []string{"-wal", "-shm"} {
		assert.NoFileExists(t, l.Path+suffix)
	}
	assert.Equal(t, "in the log\n", testenv.Client(t, database.Location{Engine: database.SQLite, Path: aside.File}, []byte("SELECT a FROM old;")))
	assert.Equal(t, "ok\n", testenv.Client(t, l, []byte("PRAGMA integrity_check;")))
}

func BenchmarkRows(b *testing.B) {
	l := database.Location{Engine: database.SQLite, Path: filepath.Join(b.TempDir(), "a.sqlite")}
	testenv.Client(b, l, []byte("CREATE TABLE a (id INTEGER PRIMARY KEY, t TEXT, n REAL); WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM c WHERE i<50000) INSERT INTO a SELECT i, printf('the ferry leaves at %d, and comes back', i), i/7.0 FROM c;"))
	r, err := Open(b.Context(), l)
	require.NoError(b, err)
	defer r.Close()
	b.ReportAllocs()
	var n int64
	for b.Loop() {
		n = 0
		require.NoError(b, r.Rows(b.Context(), "a", "", 512<<10, func(c database.Chunk) error { n += int64(len(c.SQL)); return nil }))
	}
	b.SetBytes(n)
}
