package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

func session(t testing.TB) *Session {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.sqlite")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	s, err := NewSession(t.Context(), path, "foreign_keys=OFF")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

// TestSessionRunsOneStatement: a text of two statements runs neither, whatever keeps them apart.
func TestSessionRunsOneStatement(t *testing.T) {
	s := session(t)
	require.NoError(t, s.Run(t.Context(), "CREATE TABLE a (b);"))
	for _, text := range []string{
		"INSERT INTO a VALUES (1); INSERT INTO a VALUES (2)", "INSERT INTO a VALUES (1); DROP TABLE a;", "INSERT INTO a VALUES (1)\x00; DROP TABLE a",
		"INSERT INTO a VALUES (1); -- x", "", ";", "-- x",
	} {
		assert.ErrorIs(t, s.Run(t.Context(), text), sqltext.ErrRefused, "%q", text)
	}
	rows, err := s.Strings(t.Context(), "SELECT count(*) FROM a")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"0"}}, rows)

	// A transaction keeps all of its statements or none.
	n, err := s.Together(t.Context(), []string{"INSERT INTO a VALUES (1), (2)", "UPDATE a SET b=3"}, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 4, n)
	_, err = s.Together(t.Context(), []string{"INSERT INTO a VALUES (4)", "INSERT INTO a VALUES (5); DROP TABLE a"}, nil)
	require.ErrorIs(t, err, sqltext.ErrRefused)
	rows, err = s.Strings(t.Context(), "SELECT b FROM a")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"3"}, {"3"}}, rows)
}

// TestSessionEnds: a query without end ends with its context, and the session lives on.
func TestSessionEnds(t *testing.T) {
	s := session(t)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err := s.Run(ctx, "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) SELECT count(*) FROM n")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, s.Run(t.Context(), "CREATE TABLE a (b)"))
}

// FuzzServer asks SQLite where a text's first statement ends, by having it prepare the text,
// which runs nothing: there where Hovix finds the end, in all that Hovix lets through; and
// what Hovix writes anew is one statement that can be read.
func FuzzServer(f *testing.F) {
	testenv.SeedStatements(f, "sqlite", "SELECT ';', \"a;\", `a;`, [a;]", "SELECT 1 /* /* ; */", "SELECT 1 /* ;", "SELECT 1 --\x01;", "SELECT 1--1;\n", "SELECT x'3b', 0x3b, 1e5, 1_000",
		"SELECT 'a' ';b'", "SELECT $a(;)", "SELECT :a, @b, ?1, #c", "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; SELECT CASE 1 WHEN 1 THEN 2 END; END", "CREATE TEMP TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; END; DROP TABLE a",
		"EXPLAIN CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; END; DROP TABLE a", "CREATE TABLE a (b DEFAULT 'x''y;z')", "CREATE VIEW v AS SELECT 1;")
	s := session(f)
	for _, q := range []string{"CREATE TABLE a (b, c)", "CREATE TABLE t (a, b)"} {
		require.NoError(f, s.Run(f.Context(), q))
	}
	f.Fuzz(func(t *testing.T, text string) {
		first, n := testenv.FirstStatement(text, sqltext.SQLite)
		if n == 0 {
			return
		}
		one, err := sqltree.Parse([]byte(first), sqltext.SQLite)
		if err != nil || one.SQL(nil) == "" {
			return
		}
		// SQLite stops at what it cannot read, so that only what it reads says where the end is.
		if p, end, err := s.c.first(text); err == nil {
			p.close()
			head := strings.TrimRight(text[:end], "; \t\r\n\f")
			assert.True(t, strings.HasSuffix(head, strings.TrimRight(first, "; \t\r\n\f")), "SQLite's statement is %q, ours %q", head, first)
		}
		original, err := s.c.prepare(first)
		if err == nil {
			original.close()
		}
		again, end, made := s.c.first(one.SQL(nil))
		if made == nil {
			again.close()
			assert.Equal(t, len(one.SQL(nil)), end, "%q", one.SQL(nil))
		}
		if err == nil && made != nil && strings.Contains(made.Error(), "syntax error") {
			t.Fatalf("what is made of %q cannot be read: %q: %v", first, one.SQL(nil), made)
		}
	})
}
