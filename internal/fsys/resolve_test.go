package fsys

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestResolve follows what anybody may have laid in the way of a path.
func TestResolve(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{"ours", "theirs/site", "releases/1"} {
		require.NoError(t, os.MkdirAll(at(name), 0o755))
	}
	root := os.Geteuid() == 0
	if root {
		for _, name := range []string{"theirs", "theirs/site", "releases/1"} {
			require.NoError(t, os.Lchown(at(name), 12345, 12345))
		}
	} else {
		t.Log("links of other users were left out: they can be made by root only")
	}
	for _, c := range []struct {
		name, link, to string
		foreign        bool
		path, want     string // want is empty where the path is refused
	}{
		{"a folder", "", "", false, "ours", "ours"},
		{"what is not there", "", "", false, "theirs/new/site", "theirs/new/site"},
		{"our own link", "own", "theirs/site", false, "own", "theirs/site"},
		{"a link within a path", "own2", "theirs", false, "own2/site/x", "theirs/site/x"},
		{"upwards", "up", "../" + filepath.Base(dir) + "/ours", false, "up", "ours"},
		{"a link to nothing", "none", "theirs/later", false, "none/x", "theirs/later/x"},
		{"a link to itself", "loop", "loop", false, "loop", ""},
		{"somebody's link to ours", "theirs/www", "../ours", true, "theirs/www", ""},
		{"somebody's link above ours", "theirs/up", "..", true, "theirs/up/ours", ""},
		{"somebody's link to nothing", "theirs/soon", "../soon", true, "theirs/soon", ""},
		{"somebody's link to their own", "theirs/current", "../releases/1", true, "theirs/current", "releases/1"},
	} {
		if c.foreign && !root {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			if c.link != "" {
				require.NoError(t, os.Symlink(c.to, at(c.link)))
			}
			if c.foreign {
				require.NoError(t, os.Lchown(at(c.link), 12345, 12345))
			}
			got, err := Resolve(at(c.path))
			if c.want == "" {
				if require.Error(t, err); c.foreign {
					assert.ErrorIs(t, err, ErrForeignLink)
				}
				return
			}
			require.NoError(t, err)
			assert.Equal(t, at(c.want), got)
		})
	}
}

// TestOpenExact opens no folder by a link that was laid after the path was resolved.
func TestOpenExact(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a/b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/b/f"), []byte("x"), 0o600))
	h, err := OpenExact(filepath.Join(dir, "a/b"))
	require.NoError(t, err)
	b, err := h.ReadFile("f", 10)
	require.NoError(t, err)
	assert.Equal(t, "x", string(b))
	assert.Equal(t, filepath.Join(dir, "a/b"), h.Name())
	require.NoError(t, h.Close())
	require.NoError(t, os.Rename(filepath.Join(dir, "a"), filepath.Join(dir, "c")))
	require.NoError(t, os.Symlink("c", filepath.Join(dir, "a")))
	_, err = OpenExact(filepath.Join(dir, "a/b"))
	assert.Error(t, err)
	_, err = OpenExact(filepath.Join(dir, "a"))
	assert.Error(t, err)
}
