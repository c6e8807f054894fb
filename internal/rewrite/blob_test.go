package rewrite

import (
	"encoding/base64"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Leaps over text miss no base64: what is found is what a search finds that looks at
// every byte. The shortest texts that hold something old are among them.
func TestBlobsAreNotLeaptOver(t *testing.T) {
	rw := rewriter(t, plainMove, "/www/o/sites /srv/new")
	var b *blobs
	for _, s := range rw.seekers {
		if s, ok := s.(*blobs); ok {
			b = s
		}
	}
	require.NotNil(t, b)
	pieces := []string{" ", ",", "'", "<p>", "ü", "\x00", `\n`, `\/`, "=", "a", "The", "harbour", "aGVsbG8", strings.Repeat("x", 40), "abcDefghijklmnopqrst"}
	for _, s := range []string{"/www/o/sites", "http://old.example", "http://old.example/a?b", "see //old.example/ and more of it"} {
		for range 3 {
			pieces = append(pieces, base64.StdEncoding.EncodeToString([]byte(s)), base64.RawStdEncoding.EncodeToString([]byte(s)))
			s = "." + s
		}
	}
	r := rand.New(rand.NewPCG(5, 6))
	found := 0
	for range 20000 {
		v := ""
		for range 1 + r.IntN(12) {
			v += pieces[r.IntN(len(pieces))]
		}
		want := -1
		for i := 0; i < len(v) && want < 0; {
			end, upper := runEnd([]byte(v), i)
			switch {
			case end-i >= b.least && upper && b.in([]byte(v[i:end])):
				want = i
			case end < len(v) && v[end] == '\\':
				i = escapeEnd([]byte(v), end)
			default:
				i = end + 1
			}
		}
		if want >= 0 {
			found++
		}
		require.Equal(t, want, b.next([]byte(v), 0), "%q", v)
	}
	assert.Greater(t, found, 2000)
	for _, s := range []string{"/www/o/sites", "http://old.example"} {
		assert.Zero(t, b.next([]byte(base64.RawStdEncoding.EncodeToString([]byte(s))), 0), s)
	}
}
