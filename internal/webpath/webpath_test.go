package webpath

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzNormal: a normal path is normal, and means the same as the one it came from.
func FuzzNormal(f *testing.F) {
	for _, s := range []string{"/a b", "/%2e%2E/%2f", "/%", "/%zz/\xff", "/a/../b/.", "//x", "/паром?"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		n := Normal("/" + s)
		require.Equal(t, n, Normal(n))
		require.True(t, strings.HasPrefix(n, "/"))
		if u, err := url.ParseRequestURI(n); err == nil && !strings.Contains(n, "//") {
			require.Equal(t, Decoded(n), u.Path)
		}
	})
}
