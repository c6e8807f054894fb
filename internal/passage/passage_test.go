package passage

import (
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/rewrite"
)

func options(t testing.TB, d sqltext.Dialect, texts ...rewrite.TextMapping) Options {
	t.Helper()
	old, err := rewrite.ParseAddress("http://old.example")
	require.NoError(t, err)
	to, err := rewrite.ParseAddress("https://new.example")
	require.NoError(t, err)
	return Options{Rewrite: rewrite.Options{Mappings: []rewrite.Mapping{{Old: old, New: to}}, Texts: texts}, Dialect: d, Keep: []string{"t.guid"}, Moved: []string{"t.moved"}}
}

func all(t testing.TB, o Options, text string) (string, []Column) {
	t.Helper()
	p, err := New(o)
	require.NoError(t, err)
	rows := p.Rows([]byte(text))
	var out []byte
	for {
		next, _, err := rows.Next(out, "t", "T")
		if errors.Is(err, io.EOF) {
			columns, _ := p.Account()
			return string(out), columns
		}
		require.NoError(t, err)
		out = append(next, ";\n"...)
	}
}

func TestRows(t *testing.T) {
	got, columns := all(t, options(t, sqltext.MySQL), "INSERT INTO `t` (`a`,`guid`,`moved`) VALUES\n('none','x',1);\nINSERT INTO `t` (`a`,`guid`,`moved`) VALUES\n('http://old.example/1','http://old.example/2','http://old.example/3'),\n(x'687474703a2f2f6f6c642e6578616d706c652f','','');\n")
	assert.Equal(t, "INSERT INTO T (`a`,`guid`,`moved`) VALUES\n('none','x',1);\nINSERT INTO T (`a`,`guid`,`moved`) VALUES\n('https://new.example/1','http://old.example/2','http://old.example/3'),\n(x'68747470733a2f2f6e65772e6578616d706c652f','','');\n", got)
	require.Len(t, columns, 2)
	assert.EqualValues(t, 2, columns[0].Tally.Changed)
	assert.EqualValues(t, 0, columns[1].Tally.Changed)
	assert.EqualValues(t, 1, columns[1].Tally.Leftovers[rewrite.Kept])

	got, _ = all(t, options(t, sqltext.Postgres), "COPY \"public\".\"t\" (\"a\",\"guid\") FROM stdin;\nx\t\\N\nhttp://old.example/1\thttp://old.example/2\n\\\\x687474703a2f2f6f6c642e6578616d706c652f\ty\n\\.\n")
	assert.Equal(t, "COPY T (\"a\",\"guid\") FROM stdin;\nx\t\\N\nhttps://new.example/1\thttp://old.example/2\n\\\\x68747470733a2f2f6e65772e6578616d706c652f\ty\n;\n", got)

	for text, want := range map[string]string{
		"INSERT INTO `u` VALUES (1)":                             "rows of table u among those of t",
		"INSERT INTO `t` VALUES (1); DROP TABLE `t`":             "an INSERT with literal rows was expected",
		"INSERT INTO `t` VALUES (1); -- x":                       "an INSERT with literal rows was expected",
		"INSERT INTO `t` VALUES (1) ON DUPLICATE KEY UPDATE a=1": "a literal was expected",
		"INSERT INTO `t` VALUES (SLEEP(1))":                      "a literal was expected",
	} {
		p, err := New(options(t, sqltext.MySQL))
		require.NoError(t, err)
		rows := p.Rows([]byte(text))
		for err == nil {
			_, _, err = rows.Next(nil, "t", "T")
		}
		assert.ErrorIs(t, err, sqltext.ErrRefused, text)
		assert.ErrorContains(t, err, want)
	}
}

// TestPlacesMissNothing: to look only at texts in which something old is mentioned
// gives what a look at every text gives.
func TestPlacesMissNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	parts := []string{"http://old.example/a", "old.example", "plain", "it''s", `\'`, `\\`, "http:\\\\/\\\\/old.example\\\\/", "%2F%2Fold.example%2F", "aHR0cDovL29sZC5leGFtcGxlL3BhZ2U=", "OLD.example", "//old.example", `a:1:{i:0;s:18:\"http://old.example\";}`, " ", "ü"}
	never := rewrite.TextMapping{Old: "\x01'never\"", New: "x"} // one that has to be looked for in decoded texts
	for range 3000 {
		var b strings.Builder
		for range 1 + r.IntN(3) {
			b.WriteString("INSERT INTO `t` (`a`,`b`) VALUES\n")
			for i := range 1 + r.IntN(4) {
				if i > 0 {
					b.WriteString(",\n")
				}
				b.WriteString("('")
				for range r.IntN(4) {
					b.WriteString(parts[r.IntN(len(parts))])
				}
				b.WriteString("',_binary'")
				for range r.IntN(3) {
					b.WriteString(parts[r.IntN(len(parts))])
				}
				b.WriteString("')")
			}
			b.WriteString(";\n")
		}
		want, counts := all(t, options(t, sqltext.MySQL, never), b.String())
		got, same := all(t, options(t, sqltext.MySQL), b.String())
		require.Equal(t, want, got, b.String())
		require.Len(t, same, len(counts))
		for i := range counts {
			require.Equal(t, counts[i].Tally.Occurrences(), same[i].Tally.Occurrences())
			require.Equal(t, counts[i].Tally.Leftovers, same[i].Tally.Leftovers, b.String())
		}
	}
}

// TestProved: a changed value that no longer parses, or in which something old is left,
// stays as it was and is counted as such.
func TestProved(t *testing.T) {
	p, err := New(options(t, sqltext.MySQL))
	require.NoError(t, err)
	old := []byte(`a:1:{s:1:"x";s:18:"http://old.example";}`)
	assert.True(t, p.proved(old, []byte(`a:1:{s:1:"x";s:19:"https://new.example";}`), p.rw.ValueIn))
	assert.False(t, p.proved(old, []byte(`a:1:{s:1:"x";s:18:"https://new.example";}`), p.rw.ValueIn), "a wrong length")
	assert.False(t, p.proved([]byte("http://old.example/ http://old.example/"), []byte("https://new.example/ http://old.example/"), p.rw.ValueIn), "one was forgotten")
	assert.True(t, p.proved([]byte("http://old.example/ me@old.example"), []byte("https://new.example/ me@old.example"), p.rw.ValueIn), "what stays by right")

	c := p.newCells(&sqltext.Insert{Table: "t", Columns: []string{"a"}})
	value := []byte("http://old.example/1")
	out, changed, err := c.rewrite(0, value, false, func() ([]byte, error) { return value, nil })
	require.NoError(t, err)
	assert.True(t, changed)
	assert.Equal(t, "https://new.example/1", string(out))
	assert.EqualValues(t, 1, c.tallies[0].Changed)
	assert.Zero(t, c.tallies[0].Leftovers[rewrite.Unproved])

	// Where a new folder is an old one too, a second run would go on, rightly.
	chain := options(t, sqltext.MySQL)
	chain.Rewrite.Roots = []rewrite.RootMapping{{Old: "/srv/a", New: "/srv/b"}, {Old: "/srv/b", New: "/srv/a"}}
	p, err = New(chain)
	require.NoError(t, err)
	c = p.newCells(&sqltext.Insert{Table: "t", Columns: []string{"a"}})
	value = []byte("/srv/a/x /srv/b/y")
	out, changed, err = c.rewrite(0, value, false, func() ([]byte, error) { return value, nil })
	require.NoError(t, err)
	assert.True(t, changed)
	assert.Equal(t, "/srv/b/x /srv/a/y", string(out))
}
