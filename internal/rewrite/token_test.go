package rewrite

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSlashBefore(t *testing.T) {
	for in, want := range map[string]struct {
		slash string
		form  Form
	}{
		`a/`:       {`/`, FormPlain},
		`a\/`:      {`\/`, FormJSON},
		`a\\\/`:    {`\\\/`, FormJSON},
		`a%2F`:     {`%2F`, FormPercent},
		`a%2f`:     {`%2f`, FormPercent},
		`a%252F`:   {`%252F`, FormPercent},
		`a%25252F`: {`%25252F`, FormPercent},
		`\u002f`:   {`\u002f`, FormJSON},
		`\\u002F`:  {`\\u002F`, FormJSON},
		`&#47;`:    {`&#47;`, FormEntity},
		`&#x2F;`:   {`&#x2F;`, FormEntity},
		`&sol;`:    {`&sol;`, FormEntity},
		`a`:        {``, 0},
		``:         {``, 0},
		`2F`:       {``, 0},
		`u002f`:    {``, 0},
		`&amp;`:    {``, 0},
		`%3F`:      {``, 0},
	} {
		slash, form := slashBefore([]byte(in), len(in))
		assert.Equal(t, want.slash, string(slash), in)
		assert.Equal(t, want.form, form, in)
	}
}

func TestBoundaries(t *testing.T) {
	for in, want := range map[string]bool{`|x`: true, ` |x`: true, `"|x`: true, `(|x`: true, `a|x`: false, `9|x`: false, `-|x`: false, `.|x`: false,
		`\n|x`: true, `\\t|x`: true, `n|x`: false, `%3D|x`: true, `%253D|x`: true, `3D|x`: false, `\u003d|x`: true, `u003d|x`: false, "é|x": true} {
		i := strings.IndexByte(in, '|')
		v := []byte(in[:i] + in[i+1:])
		assert.Equal(t, want, boundaryBefore(v, i), in)
	}
	for in, want := range map[string]bool{`x|`: true, `x|/`: true, `x|"`: true, `x|a`: false, `x|-`: false, `x|_`: false, `x|.`: true, `x|. `: true, `x|.a`: false, `x|é`: false, `x|:`: true, `x|%2F`: true} {
		i := strings.IndexByte(in, '|')
		v := []byte(in[:i] + in[i+1:])
		assert.Equal(t, want, endsHost(v, i), in)
	}
	for in, want := range map[string]bool{`x|`: true, `x|/a`: true, `x|?`: true, `x|#`: true, `x|"`: true, `x|a`: false, `x|.html`: false, `x|.`: true, `x|~`: false, `x|%20`: false} {
		i := strings.IndexByte(in, '|')
		v := []byte(in[:i] + in[i+1:])
		assert.Equal(t, want, style{slash: []byte("/")}.endsPath(v, i), in)
	}
	percent := style{slash: []byte("%2F"), form: FormPercent}
	for in, want := range map[string]bool{`x|%2Fa`: true, `x|%22`: true, `x|%26`: true, `x|%3F`: true, `x|%2D`: false, `x|%61`: false, `x|%2526`: true, `x|%`: false} {
		i := strings.IndexByte(in, '|')
		v := []byte(in[:i] + in[i+1:])
		assert.Equal(t, want, percent.endsPath(v, i), in)
	}
}

func TestFinder(t *testing.T) {
	for _, word := range []string{"old.example", "localhost", "127.0.0.1", "[::1]", "a-b", "x"} {
		f := newFinder(word)
		text := []byte("..." + strings.ToUpper(word) + "--" + word + "::" + word[:len(word)-1])
		first := f.next(text, 0)
		assert.Equal(t, 3, first, word)
		second := f.next(text, first+1)
		assert.Equal(t, 5+len(word), second, word)
		assert.Equal(t, -1, f.next(text, second+1), word)
		assert.Equal(t, -1, f.next(nil, 0), word)
	}
}

// TestManners: strings come back byte for byte in the manner in which each
// encoder wrote them.
func TestManners(t *testing.T) {
	for _, raw := range []string{
		`plain`, `a\/b`, `a/b`, `\"q\"`, `\u0022q\u0022`, `Gr\u00fc\u00dfe`, `Gr\u00FC`, `Grüße`, `\ud83d\udea2`, `\n\t\r\b\f`, `\u0001`, `\u003cb\u003e`, `\\x`, ``,
	} {
		plain, m, ok := decodeString([]byte(raw))
		assert.True(t, ok, raw)
		assert.Equal(t, raw, string(m.encode(nil, plain)), "%s means %s", raw, plain)
	}
	for _, bad := range []string{`\`, `\x`, `\u12`, `\ud83d`, `\ud83dx`, `\u00zz`} {
		_, _, ok := decodeString([]byte(bad))
		assert.False(t, ok, bad)
	}
}

func TestNamesForPeople(t *testing.T) {
	seen := map[string]bool{}
	for f := Form(0); f < numForms; f++ {
		seen[f.String()] = true
	}
	for r := Reason(0); r < numReasons; r++ {
		seen[r.String()] = true
	}
	assert.Len(t, seen, int(numForms)+int(numReasons), "each has a name of its own")
	assert.Equal(t, "…long  middle of the text http://x and what follows it more more…", excerpt([]byte(fmt.Sprintf("%s middle of the text http://x and what follows it %s", strings.Repeat("long ", 20), strings.Repeat("more ", 20))), 121, 129))
	assert.Equal(t, "all of it", excerpt([]byte("all\nof\tit"), 4, 6))
}
