package fsys

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tree makes a folder with files at three depths, more than are read at a time, and a link
// to a folder beside it.
func tree(t *testing.T) (h *Handle, outside string, files int) {
	t.Helper()
	parent := t.TempDir()
	outside = filepath.Join(parent, "outside")
	require.NoError(t, os.Mkdir(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "mine"), nil, 0o644))
	dir := filepath.Join(parent, "tree")
	for _, folder := range []string{"a/b/c", "d", "e"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o755))
	}
	for _, folder := range []string{"", "a", "a/b/c", "d"} {
		for i := range batch + 1 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, folder, fmt.Sprint(i)), nil, 0o644))
			files++
		}
	}
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "link")))
	h, err := OpenHandle(parent)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, h.Close()) })
	return h, outside, files
}

func TestWalk(t *testing.T) {
	parent, _, files := tree(t)
	h, err := parent.Sub("tree")
	require.NoError(t, err)
	defer h.Close()
	seen, folders, links := map[string]bool{}, 0, 0
	require.NoError(t, h.Walk(t.Context(), func(rel string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		assert.False(t, seen[rel], rel)
		seen[rel] = true
		switch {
		case d.IsDir():
			folders++
		case d.Type()&fs.ModeSymlink != 0:
			links++
		}
		return nil
	}))
	assert.Equal(t, []int{5, 1, files}, []int{folders, links, len(seen) - folders - links})
	assert.True(t, seen["a/b/c/7"])

	n := 0
	require.NoError(t, h.Walk(t.Context(), func(rel string, d fs.DirEntry, _ error) error {
		n++
		if rel == "a" {
			return fs.SkipDir
		}
		return nil
	}))
	assert.Equal(t, len(seen)-2-2*(batch+1), n)

	stop := errors.New("stop")
	assert.ErrorIs(t, h.Walk(t.Context(), func(string, fs.DirEntry, error) error { return stop }), stop)
	ctx, cancel := context.WithCancel(t.Context())
	n = 0
	assert.ErrorIs(t, h.Walk(ctx, func(string, fs.DirEntry, error) error { cancel(); n++; return nil }), context.Canceled)
	assert.Equal(t, 1, n)

	require.NoError(t, h.Walk(t.Context(), func(rel string, d fs.DirEntry, err error) error {
		if rel == "d" && err == nil {
			return os.RemoveAll(filepath.Join(parent.Name(), "tree/d")) // before it is read
		}
		if d == nil {
			assert.Equal(t, "d", rel)
			assert.ErrorIs(t, err, fs.ErrNotExist)
		}
		return nil
	}), "a folder that is gone is told of")
}

func TestRemoveTree(t *testing.T) {
	parent, outside, _ := tree(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, parent.RemoveTree(ctx, "tree"), context.Canceled)
	assert.DirExists(t, filepath.Join(parent.Name(), "tree"))
	require.NoError(t, parent.RemoveTree(t.Context(), "tree"))
	assert.NoDirExists(t, filepath.Join(parent.Name(), "tree"))
	assert.FileExists(t, filepath.Join(outside, "mine"), "no link is followed")
	require.NoError(t, parent.RemoveTree(t.Context(), "tree"), "what is not there")
}
