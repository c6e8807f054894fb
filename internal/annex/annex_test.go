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
	assert.True(t, IsBusy(target))

	_, err = Take(target, "undo")
	var busy *BusyError
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, os.Getpid(), busy.Holder.PID)
	assert.Equal(t, "restore", busy.Holder.Command)
	assert.ErrorContains(t, err, "another run of Hovix is at work on "+target+": hovix restore, process "+strconv.Itoa(os.Getpid()))

	require.NoError(t, an.Release())
	require.NoError(t, an.Release(), "twice does no harm")
	assert.NoDirExists(t, filepath.Join(root, "a"), "what was made for it is gone")
	assert.False(t, IsBusy(target))

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
	st, err := os.Stat(an.Shown("note"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), st.Mode().Perm())
	assert.NoFileExists(t, an.Shown("note"+NewSuffix))
	require.NoError(t, an.WriteFile("note", []byte("{")))
	assert.Error(t, an.Read("note", &got))
	assert.Error(t, an.Write("note", func() {}), "what JSON cannot hold")
	require.NoError(t, an.Remove(t.Context(), "note"))
	assert.NoFileExists(t, an.Shown("note"))
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
	assert.FileExists(t, filepath.Join(Of(target).Dir, "lock"))
	assert.False(t, IsBusy(target))
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

// TestOthersFolders: a folder beside the target that somebody else could have made, or
// may write to, is not looked into, and nothing in it is changed.
func TestOthersFolders(t *testing.T) {
	for name, make := range map[string]func(dir string) error{
		"a link": func(dir string) error { return os.Symlink(t.TempDir(), dir) },
		"a file": func(dir string) error { return os.WriteFile(dir, []byte("{}"), 0o600) },
		"open to the group": func(dir string) error {
			return errors.Join(os.Mkdir(dir, 0o700), os.Chmod(dir, 0o770))
		},
		"open to all": func(dir string) error { return errors.Join(os.Mkdir(dir, 0o700), os.Chmod(dir, 0o701)) },
		"another's": func(dir string) error {
			if os.Geteuid() != 0 {
				return os.Symlink("/", dir)
			}
			return errors.Join(os.Mkdir(dir, 0o700), os.Chown(dir, 12345, 12345))
		},
	} {
		target := filepath.Join(t.TempDir(), "www")
		dir := Of(target).Dir
		require.NoError(t, make(dir), name)
		before, err := os.Lstat(dir)
		require.NoError(t, err)
		for _, open := range []func() (*Annex, error){func() (*Annex, error) { return Take(target, "restore") }, func() (*Annex, error) { return Look(target) }} {
			_, err := open()
			require.ErrorIs(t, err, ErrUntrusted, name)
			assert.ErrorContains(t, err, "nothing in it was read", name)
		}
		after, err := os.Lstat(dir)
		require.NoError(t, err)
		assert.Equal(t, before.Mode(), after.Mode(), name)
		if before.IsDir() {
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Empty(t, entries, name)
		}
	}
}
