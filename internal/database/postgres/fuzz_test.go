package postgres

import (
	"errors"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// FuzzServer asks the server how many statements it finds in a text, by having it prepare
// the text, which runs nothing: where Hovix finds one there are not more, where Hovix lets
// through a part the server does not take the text for one, and what Hovix writes anew can be read.
func FuzzServer(f *testing.F) {
	testenv.SeedStatements(f, "postgres", "SELECT '\\';' || e'\\';' || E'a''b'", "SELECT $a$;$a$, $$;$$, a$b$c", "/* /* ; */ ; */ SELECT 1", "SELECT 1 -- ;\n", "SELECT U&'\\003b' || U&\"d!0061\" UESCAPE '!'", "SELECT 'a'\n'b;'", "SELECT 1 <--;\n 2",
		"CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; SELECT 2; END", "CREATE RULE r AS ON INSERT TO a DO (SELECT 1; SELECT 2)", "SELECT b'01' || x'0f' || n'a;'", "SELECT 1e5, 1.5e, 0x1f, 1_000, $1", "SELECT a /* ' */ ; --")
	ctx := f.Context()
	l := testenv.Postgres(f)
	con, err := connect(ctx, l)
	require.NoError(f, err)
	f.Cleanup(func() { _ = con.Close(ctx) })
	copies := regexp.MustCompile(`(?i)copy`)
	f.Fuzz(func(t *testing.T, text string) {
		prepare := func(text string) (*pgconn.PgError, bool) {
			_, err := con.Prepare(ctx, "", text, nil)
			var pg *pgconn.PgError
			if err != nil && !errors.As(err, &pg) {
				require.NoError(t, err)
			}
			return pg, pg != nil && strings.Contains(pg.Message, "multiple commands")
		}
		first, n := testenv.FirstStatement(text, sqltext.Postgres)
		if n == 0 {
			return
		}
		if _, many := prepare(first); many {
			t.Fatalf("one statement, of which the server makes more: %q", first)
		}
		if one, err := sqltree.Parse([]byte(first), sqltext.Postgres); err == nil && one.SQL(nil) != "" {
			if pg, _ := prepare(text); n > 1 && pg == nil && !copies.MatchString(text) {
				t.Fatalf("%d statements, which are one to the server: %q", n, text)
			}
			pg, many := prepare(one.SQL(nil))
			assert.False(t, many, "%q", one.SQL(nil))
			if original, _ := prepare(first); pg != nil && pg.Code == "42601" && original == nil {
				t.Fatalf("what is made of %q cannot be read: %q: %v", first, one.SQL(nil), pg)
			}
		}
	})
}
