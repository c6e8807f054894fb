package dump

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// replaced changes values for a worker.
type replaced struct{ from, to string }

func (r replaced) Value(_ Cell, v []byte) ([]byte, bool) {
	out := bytes.ReplaceAll(v, []byte(r.from), []byte(r.to))
	return out, !bytes.Equal(out, v)
}

func (replaced) Done() error { return nil }

// meaning gives the text of a literal.
func meaning(lit string, backslash bool) string {
	raw := []byte(lit[1 : len(lit)-1])
	m := manner{quote: lit[0], backslash: backslash}
	escape := len(raw)
	if backslash {
		escape = indexFrom(raw, 0, '\\')
	}
	return string(m.decode(nil, raw, indexFrom(raw, 0, lit[0]), escape))
}

// TestLiteralsMeanWhatTheyShould: whatever a literal is made of, its text with
// the change is what the new literal means, and what lies before the first change
// and behind the last is written as it was.
func TestLiteralsMeanWhatTheyShould(t *testing.T) {
	pieces := map[bool][]string{
		true:  {"a", "old", "é", `\'`, "''", `\"`, `"`, `\\`, `\n`, `\0`, `\Z`, `\x`, "\n", "% _", " old ", strings.Repeat("some text ", 5)},
		false: {"a", "old", "é", "''", `\`, `"`, "\n", "% _", strings.Repeat("some text ", 5)},
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		backslash := r.IntN(2) == 0
		var body strings.Builder
		for range r.IntN(12) {
			body.WriteString(pieces[backslash][r.IntN(len(pieces[backslash]))])
		}
		lit := "'" + body.String() + "'"
		for _, to := range []string{"", "longer", `it's "\`} {
			w := worker{vals: replaced{"old", to}}
			text := meaning(lit, backslash)
			got := string(w.text([]byte(lit), &piece{kind: textPiece, backslash: backslash}))
			want := strings.ReplaceAll(text, "old", to)
			require.Equal(t, want, meaning(got, backslash), "%s became %s", lit, got)
			require.Equal(t, len(got), literalEnd([]byte(got+";"), '\'', backslash), got)
			if to != "longer" { // what is new may end like what follows
				continue
			}
			first, last := strings.Index(lit, "old"), strings.LastIndex(lit, "old")
			if first < 0 {
				require.Equal(t, lit, got)
				continue
			}
			require.Equal(t, lit[:first], got[:first])
			require.True(t, strings.HasSuffix(got, lit[last+3:]), "%s became %s", lit, got)
		}
	}
}

// TestLiteralsWithTooManyEscapes: where the places of escapes are no longer noted,
// the literal is written anew, and means the same.
func TestLiteralsWithTooManyEscapes(t *testing.T) {
	lit := "'" + strings.Repeat(`\"`, maxMarks+5) + "old" + strings.Repeat(`\n`, 9) + "'"
	w := worker{vals: replaced{"old", "longer"}}
	got := string(w.text([]byte(lit), &piece{kind: textPiece, backslash: true}))
	assert.True(t, got == strings.Replace(lit, "old", "longer", 1))
}
