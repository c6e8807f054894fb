package annex

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTakeAndRelease: the folder and those above it are made, one run at a time holds
// it, and nothing is left of what is empty.
func TestTakeAndRelease(t *testing.T) {
	root := t.TempDir()
	target := filepath.Join(root, "a/b/www")
	an, err := Take(target, "restore")
	require.NoError(t, err)
	assert.True(t, IsName(filepath.Base(an.Dir)))
	st, err := os.Stat(an.Dir)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), st.Mode().Perm())
	assert.True(t, Of(target).Busy())

	_, err = Take(target, "undo")
	var busy *BusyError
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, os.Getpid(), busy.Holder.PID)
	assert.Equal(t, "restore", busy.Holder.Command)
	assert.ErrorContains(t, err, "another run of Hovix is at work on "+target+": hovix restore, process "+strconv.Itoa(os.Getpid()))

	require.NoError(t, an.Release())
	require.NoError(t, an.Release(), "twice does no harm")
	assert.NoDirExists(t, filepath.Join(root, "a"), "what was made for it is gone")
	assert.False(t, Of(target).Busy())

	require.NoError(t, os.MkdirAll(filepath.Join(root, "a/b"), 0o755))
	an, err = Take(target, "restore")
	require.NoError(t, err)
	require.NoError(t, an.Write("note", map[string]int{"x": 1}))
	require.NoError(t, an.Release())
	assert.DirExists(t, an.Dir, "what is kept stays")
}

// TestNotes: a note is the old or the new one, and what is no note is told.
func TestNotes(t *testing.T) {
	an, err := Take(filepath.Join(t.TempDir(), "www"), "restore")
	require.NoError(t, err)
	defer func() { require.NoError(t, an.Release()) }()
	var got map[string]int
	assert.ErrorIs(t, an.Read("note", &got), fs.ErrNotExist)
	require.NoError(t, an.Write("note", map[string]int{"x": 1}))
	require.NoError(t, an.Write("note", map[string]int{"x": 2}))
	require.NoError(t, an.Read("note", &got))
	assert.Equal(t, map[string]int{"x": 2}, got)
	st, err := os.Stat(an.Path("note"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), st.Mode().Perm())
	assert.NoFileExists(t, an.Path("note"+NewSuffix))
	require.NoError(t, an.WriteFile("note", []byte("{")))
	assert.Error(t, an.Read("note", &got))
	assert.Error(t, an.Write("note", func() {}), "what JSON cannot hold")
	require.NoError(t, an.Remove("note"))
	assert.NoFileExists(t, an.Path("note"))
}

// TestTheDeadHoldNothing: the lock of a process that is gone is none.
func TestTheDeadHoldNothing(t *testing.T) {
	target := filepath.Join(t.TempDir(), "www")
	if os.Getenv("HOVIX_TEST_HOLD") != "" {
		_, err := Take(os.Getenv("HOVIX_TEST_HOLD"), "restore")
		if err != nil {
			os.Exit(1)
		}
		p, _ := os.FindProcess(os.Getpid())
		_ = p.Kill()
		select {}
	}
	cmd := exec.Command(os.Args[0], "-test.run=TestTheDeadHoldNothing")
	cmd.Env = append(os.Environ(), "HOVIX_TEST_HOLD="+target)
	var exit *exec.ExitError
	require.True(t, errors.As(cmd.Run(), &exit))
	require.Equal(t, -1, exit.ExitCode(), "it was killed")
	assert.FileExists(t, Of(target).Path("lock"))
	assert.False(t, Of(target).Busy())
	an, err := Take(target, "restore")
	require.NoError(t, err)
	require.NoError(t, an.Release())
}

// TestWhatCannotBeMade: the folder above the target is a file.
func TestWhatCannotBeMade(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Take(filepath.Join(file, "www"), "restore")
	assert.Error(t, err)
	assert.False(t, IsName(".hovix"))
	assert.False(t, IsName("www.hovix"))
}
