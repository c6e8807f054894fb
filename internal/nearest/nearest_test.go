package nearest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOf(t *testing.T) {
	parts := []string{"database", "uploads", "code", "settings"}
	for in, want := range map[string]string{"uplods": "uploads", "upload": "uploads", "DATABSE": "database", "coed": "code", "setings": "settings", "zebra": "", "": "", "x": ""} {
		assert.Equal(t, want, Of(in, parts), in)
	}
}

func TestEdits(t *testing.T) {
	for _, c := range []struct {
		a, b string
		n    int
	}{{"", "", 0}, {"abc", "abc", 0}, {"abc", "acb", 1}, {"abc", "ab", 1}, {"abc", "abcd", 1}, {"abc", "xyz", 3}, {"", "abc", 3}} {
		assert.Equal(t, c.n, edits(c.a, c.b), c)
		assert.Equal(t, c.n, edits(c.b, c.a), c)
	}
}

func TestPath(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sites", "museum"), 0o755))
	for in, want := range map[string]string{
		"sites/musuem": "sites/museum",
		"site/museum":  "sites/museum",
		"site/other":   "sites",
		"sites/zzz":    "",
		"zzzzzz":       "",
	} {
		got := Path(filepath.Join(dir, in))
		if want != "" {
			want = filepath.Join(dir, want)
		}
		assert.Equal(t, want, got, in)
	}
}
