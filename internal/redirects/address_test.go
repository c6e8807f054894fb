package redirects

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseTarget(t *testing.T) {
	for in, want := range map[string]string{
		"/a": "/a", " /a b ": "/a%20b", "/a%20b": "/a%20b", "a/b": "/a/b", "/паром": "/%D0%BF%D0%B0%D1%80%D0%BE%D0%BC", "/%d0%bf%D0%B0ром": "/%D0%BF%D0%B0%D1%80%D0%BE%D0%BC",
		"/100%": "/100%25", "/a%2fb": "/a%2Fb", "/a%41": "/aA", "/x?b=1&a=%20": "/x?b=1&a=%20", "/x?": "/x?", "/x#top": "/x#top", "/a/./b/../c": "/a/c", "/..": "/", "/a/..": "/",
		"https://Old.Example:8080/A?x": "https://old.example:8080/A?x", "http://old.example": "http://old.example/", "//old.example/x": "https://old.example/x", "https://müseum.example/": "https://xn--mseum-kva.example/",
		"/⛴": "/%E2%9B%B4", "/a+b": "/a+b", "/a'(b)$": "/a'(b)$", `/a"b`: "/a%22b", "index.html": "/index.html", "?p=12": "/?p=12", "https://u:p@old.example/": "https://old.example/",
	} {
		got, err := ParseTarget(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got.String(), in)
		again, err := ParseTarget(got.String())
		require.NoError(t, err)
		assert.Equal(t, got, again, "it is normal: %s", in)
	}
	for in, says := range map[string]string{"": "empty", "ftp://x/": "not of the web", "old.example/page": "write https://old.example/page or /old.example/page", "https:///x": "cannot be"} {
		_, err := ParseTarget(in)
		assert.ErrorIs(t, err, ErrNoAddress, in)
		assert.ErrorContains(t, err, says, in)
	}
}
