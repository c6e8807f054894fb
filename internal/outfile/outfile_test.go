package outfile

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

func write(t *testing.T, path, content string, opts Options) {
	t.Helper()
	f, err := Create(t.Context(), path, opts)
	require.NoError(t, err)
	_, err = io.WriteString(f, content)
	require.NoError(t, err)
	left, err := f.End(nil)
	require.NoError(t, err)
	assert.False(t, left)
}

func read(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

// TestRegular: a file is whole or not there, and one that is there is kept until it may be
// replaced.
func TestRegular(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	f, err := Create(t.Context(), path, Options{})
	require.NoError(t, err)
	_, err = io.WriteString(f, "half")
	require.NoError(t, err)
	assert.NoFileExists(t, path)
	_, err = Create(t.Context(), path, Options{})
	assert.ErrorIs(t, err, ErrBusy)
	why := errors.New("why")
	_, err = f.End(why)
	assert.ErrorIs(t, err, why)
	assert.Empty(t, testenv.Names(t, dir))

	write(t, path, "one", Options{})
	st, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), st.Mode())
	_, err = Create(t.Context(), path, Options{})
	assert.ErrorIs(t, err, ErrExists)
	require.NoError(t, os.Chmod(path, 0o640))
	write(t, path, "two", Options{Replace: true, Mode: 0o644})
	st, err = os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), st.Mode(), "the mode that it had")
	assert.Equal(t, "two", read(t, path))
	write(t, filepath.Join(dir, "b"), "", Options{Mode: 0o644})
	st, err = os.Stat(filepath.Join(dir, "b"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o644), st.Mode())

	_, err = Create(t.Context(), dir, Options{Replace: true})
	assert.ErrorIs(t, err, ErrFolder)
	_, err = Create(t.Context(), filepath.Join(dir, "none/c"), Options{})
	assert.ErrorIs(t, err, ErrNoFolder)
}

// TestResume: what is left of an interrupted run is there for the next.
func TestResume(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	f, err := Create(t.Context(), path, Options{Resume: true})
	require.NoError(t, err)
	_, err = io.WriteString(f, "half")
	require.NoError(t, err)
	left, err := f.End(errors.New("why"))
	assert.True(t, left)
	assert.Error(t, err)
	f, err = Create(t.Context(), path, Options{Resume: true})
	require.NoError(t, err)
	b, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Equal(t, "half", string(b))
	left, err = f.End(nil)
	assert.False(t, left)
	require.NoError(t, err)
	assert.Equal(t, "half", read(t, path))
}

// TestLinks: what a link leads to is replaced, and the link stays; the name of the file
// that is not whole yet is never followed.
func TestLinks(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "far"), 0o755))
	far, link := filepath.Join(dir, "far/a"), filepath.Join(dir, "link")
	require.NoError(t, os.WriteFile(far, []byte("old"), 0o604))
	require.NoError(t, os.Symlink("far/a", link))
	_, err := Create(t.Context(), link, Options{})
	assert.ErrorIs(t, err, ErrExists)
	write(t, link, "new", Options{Replace: true})
	to, err := os.Readlink(link)
	require.NoError(t, err)
	assert.Equal(t, "far/a", to)
	assert.Equal(t, "new", read(t, far))
	assert.Equal(t, []string{"far", "link"}, testenv.Names(t, dir))

	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "loose")))
	_, err = Create(t.Context(), filepath.Join(dir, "loose"), Options{Replace: true})
	assert.ErrorContains(t, err, "leads to nothing")

	require.NoError(t, os.Symlink("far/a", filepath.Join(dir, "b"+partial)))
	_, err = Create(t.Context(), filepath.Join(dir, "b"), Options{})
	assert.ErrorContains(t, err, "no file of yours")
	assert.Equal(t, "new", read(t, far))
}

// TestPipesAndDevices are written into, and stay what they are.
func TestPipesAndDevices(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan string, 1)
	go func() {
		b, _ := os.ReadFile(pipe)
		got <- string(b)
	}()
	write(t, pipe, "through", Options{})
	assert.Equal(t, "through", <-got)
	assert.Equal(t, []string{"pipe"}, testenv.Names(t, dir))
	st, err := os.Lstat(pipe)
	require.NoError(t, err)
	assert.Equal(t, fs.ModeNamedPipe, st.Mode().Type())

	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err = Create(ctx, pipe, Options{})
	assert.ErrorIs(t, err, context.DeadlineExceeded, "nobody reads")

	link := filepath.Join(dir, "null")
	require.NoError(t, os.Symlink(os.DevNull, link))
	for _, path := range []string{os.DevNull, link} {
		write(t, path, "gone", Options{})
		st, err := os.Stat(path)
		require.NoError(t, err)
		assert.NotZero(t, st.Mode()&fs.ModeCharDevice, path)
	}
}
