package sqltree

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
)

// FuzzParse: what is taken for one statement of a site is written as one statement, without
// comments, which means the same: it is read again as the same tree, and written as the
// same text.
func FuzzParse(f *testing.F) {
	dialects := []sqltext.Dialect{maria, pg, lite}
	files, err := filepath.Glob("../../../cmd/hovix/testdata/hostile/*.sql")
	require.NoError(f, err)
	require.NotEmpty(f, files)
	for _, name := range files {
		content, err := os.ReadFile(name)
		require.NoError(f, err)
		for at := range dialects {
			for _, c := range bytes.Split(content, []byte("\n")) {
				if len(c) > 20 {
					f.Add(c, at)
				}
			}
		}
	}
	for at, text := range []string{fullTable,
		`CREATE TABLE a (b int DEFAULT nextval('s'::regclass), c text COLLATE "C", CHECK ((c ~ E'\\d'))) PARTITION BY RANGE (b)`,
		`CREATE TABLE "a b" (b INTEGER PRIMARY KEY AUTOINCREMENT, c TEXT DEFAULT (lower('X') || x'00')) WITHOUT ROWID, STRICT`,
	} {
		f.Add([]byte(text), at)
	}
	f.Add([]byte("CREATE TABLE a ('b', '')"), 2)
	f.Add([]byte("CREATE RULE r AS ON INSERT TO public.a DO b; c"), 1)
	f.Add([]byte("CREATE RULE r AS ON INSERT TO public.a DO b;;"), 1)
	f.Add([]byte("CREATE TABLE a (b s.c(d))"), 1)
	f.Add([]byte("CREATE TABLE a (b int) PARTITION BY RANGE (TO x BY (c))"), 0)
	f.Add([]byte(`CREATE INDEX i ON "public"."a" (b) WHERE (SELECT c FROM d)`), 1)
	f.Fuzz(func(t *testing.T, text []byte, at int) {
		if at < 0 || at >= len(dialects) {
			return
		}
		d := dialects[at]
		if table, err := ParseTable(text, d); err == nil {
			once := table.SQL(nil)
			require.True(t, isOne(once, d), "%s", once)
			again, err := ParseTable([]byte(once), d)
			require.NoError(t, err, "%s", once)
			assert.Equal(t, once, again.SQL(nil))
			assert.Equal(t, table.References(), again.References())
		}
		s, err := Parse(text, d)
		if err != nil || s.SQL(nil) == "" { // of what only a client reads
			return
		}
		once := s.SQL(nil)
		if s.body == "" {
			require.True(t, isOne(once, d), "%s", once)
		}
		again, err := Parse([]byte(once), d)
		require.NoError(t, err, "%s", once)
		assert.Equal(t, once, again.SQL(nil))
		assert.Equal(t, s.Shape, again.Shape, "%s", once)
		assert.Equal(t, s.References(), again.References(), "%s", once)
	})
}
