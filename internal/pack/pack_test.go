package pack

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/archive"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// folder makes a site of files only.
func folder(t *testing.T, files map[string]string) *site.Site {
	t.Helper()
	root := t.TempDir()
	files[site.SiteFile] = "name = \"Ferry\"\naddress = \"http://old.example\"\nuploads = [\"up\"]\ncaches = [\"tmp\"]\n"
	for rel, content := range files {
		p := filepath.Join(root, rel)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(content), 0o644))
	}
	s, err := site.Open(root)
	require.NoError(t, err)
	return s
}

// entries reads an archive back.
func entries(t *testing.T, packed []byte) map[string]archive.Entry {
	t.Helper()
	a, err := archive.Open(bytes.NewReader(packed), int64(len(packed)))
	require.NoError(t, err)
	out := map[string]archive.Entry{}
	require.NoError(t, a.Entries(func(e archive.Entry) error { out[e.Name] = e; return nil }))
	_, err = archive.Scan(t.Context(), bytes.NewReader(packed), archive.ScanOptions{}, func(context.Context, archive.Piece) error { return nil })
	require.NoError(t, err)
	return out
}

func names(m map[string]archive.Entry) (out []string) {
	for n := range m {
		out = append(out, n)
	}
	return out
}

func TestFilesOfEveryKind(t *testing.T) {
	s := folder(t, map[string]string{"a.txt": "a", "up/b.jpg": "b", "up/odd \xff name\n": "odd", "tmp/cached": "x", "empty": ""})
	require.NoError(t, os.Chmod(filepath.Join(s.Root, "a.txt"), 0o750))
	when := time.Date(2001, 2, 3, 4, 5, 6, 789, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(s.Root, "a.txt"), when, when))
	require.NoError(t, os.Symlink("../outside", filepath.Join(s.Root, "link")))
	require.NoError(t, os.Mkdir(filepath.Join(s.Root, "hollow"), 0o711))
	require.NoError(t, syscall.Mkfifo(filepath.Join(s.Root, "pipe"), 0o644))
	f, err := os.Create(filepath.Join(s.Root, "sparse"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(20<<20))
	require.NoError(t, f.Close())
	var out bytes.Buffer
	res, err := Run(t.Context(), s, &out, Options{By: "test", Now: when})
	require.NoError(t, err)
	got := entries(t, out.Bytes())
	assert.ElementsMatch(t, []string{"hovix/manifest.json", "RESTORE.txt", "files/a.txt", "files/up", "files/up/b.jpg", "files/up/odd \xff name\n", "files/empty",
		"files/link", "files/hollow", "files/sparse", "settings/hovix.toml", "hovix/summary.json"}, names(got))
	assert.EqualValues(t, 0o750, got["files/a.txt"].Mode)
	assert.True(t, when.Equal(got["files/a.txt"].ModTime))
	assert.Equal(t, "../outside", got["files/link"].Link)
	assert.EqualValues(t, 0o711, got["files/hollow"].Mode)
	assert.EqualValues(t, 20<<20, got["files/sparse"].Size)
	assert.Less(t, out.Len(), 100<<10, "a hole costs nothing")
	assert.EqualValues(t, 6, res.Summary.Files.Count)
	assert.EqualValues(t, 5, len(res.Largest))
	var left []string
	for _, l := range res.Manifest.LeftOut {
		left = append(left, l.What+": "+l.Reason)
	}
	assert.ElementsMatch(t, []string{"tmp: cache", "pipe: neither a file nor a folder nor a link"}, left)
	assert.Zero(t, res.Findings())
}

func TestChosenParts(t *testing.T) {
	s := folder(t, map[string]string{"code.php": "c", "up/b.jpg": "b"})
	for part, want := range map[site.Part][]string{
		site.Uploads:  {"files/up", "files/up/b.jpg"},
		site.Code:     {"files/code.php"},
		site.Settings: {"settings/hovix.toml"},
		site.Database: {},
	} {
		var out bytes.Buffer
		res, err := Run(t.Context(), s, &out, Options{Parts: []site.Part{part}})
		require.NoError(t, err)
		always := []string{"hovix/manifest.json", "RESTORE.txt", "hovix/summary.json"}
		assert.ElementsMatch(t, append(always, want...), names(entries(t, out.Bytes())), part)
		assert.Equal(t, part != site.Database, res.Manifest.Has(part), "a site without database has no such part")
	}
}

func TestManifestAndReadme(t *testing.T) {
	s := folder(t, map[string]string{"a": "x"})
	var out bytes.Buffer
	_, err := Run(t.Context(), s, &out, Options{By: "hovix test", Now: time.Date(2026, 1, 2, 3, 4, 5, 6, time.UTC)})
	require.NoError(t, err)
	a, err := archive.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	b, err := a.ReadFile(manifest.Name, 1<<20)
	require.NoError(t, err)
	m, err := manifest.Parse(b)
	require.NoError(t, err)
	assert.Equal(t, "Ferry", m.Name)
	assert.Equal(t, "http://old.example", m.Address)
	assert.Equal(t, "2026-01-02T03:04:05Z", m.Made.Format(time.RFC3339Nano))
	assert.Equal(t, site.Amount{Count: 1, Bytes: 1}, m.Files)
	text, err := a.ReadFile(manifest.Readme, 1<<20)
	require.NoError(t, err)
	for _, want := range []string{"Ferry\n=====", "tar --zstd -xf ARCHIVE", "http://old.example", "hovix restore"} {
		assert.Contains(t, string(text), want)
	}
	first := true
	_, err = archive.Scan(t.Context(), bytes.NewReader(out.Bytes()), archive.ScanOptions{Entry: func(e *archive.Entry) error {
		if first {
			assert.Equal(t, manifest.Name, e.Name, "the manifest comes first")
		}
		first = false
		return nil
	}}, func(context.Context, archive.Piece) error { return nil })
	require.NoError(t, err)
}

// vanishing removes a file when packing begins to read, as live sites do.
type vanishing struct {
	done func()
}

func (v *vanishing) Phase(name string, _ int64) {
	if strings.Contains(name, "files") {
		v.done()
	}
}
func (v *vanishing) Add(int64) {}

func TestFilesThatChangeAreReported(t *testing.T) {
	s := folder(t, map[string]string{"a-grows": "x", "b-unreadable": "y", "c": "z"})
	path := filepath.Join(s.Root, "b-unreadable")
	rep := &vanishing{done: func() {
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Mkdir(path, 0o755))
	}}
	var out bytes.Buffer
	res, err := Run(t.Context(), s, &out, Options{Progress: rep})
	require.NoError(t, err)
	assert.EqualValues(t, 2, res.Summary.Files.Count, "the walk sees what is there")
	entries(t, out.Bytes())
}

// failing fails as a broken disk does after some bytes.
type failing struct{ left int }

func (f *failing) Read(b []byte) (int, error) {
	if f.left == 0 {
		return 0, syscall.EIO
	}
	n := min(len(b), f.left)
	f.left -= n
	return n, nil
}

func TestABadBlockDoesNotCostThePack(t *testing.T) {
	r := &fileReader{r: &failing{left: 10}}
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Len(t, b, 10)
	assert.ErrorIs(t, r.err, syscall.EIO)
}

func TestErrorsEndThePack(t *testing.T) {
	s := folder(t, map[string]string{"a": strings.Repeat("x", 100)})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Run(ctx, s, io.Discard, Options{})
	require.ErrorIs(t, err, context.Canceled)
	full := errors.New("no space left on device")
	_, err = Run(t.Context(), s, writerFunc(func([]byte) (int, error) { return 0, full }), Options{})
	require.ErrorIs(t, err, full)
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }

func TestTableNamesAsFileNames(t *testing.T) {
	for in, want := range map[string]string{"wp_posts": "wp_posts", "a/b": "a%2Fb", "100%": "100%25", "ü": "%C3%BC", "..": ".."} {
		assert.Equal(t, want, fileName(in))
	}
	assert.Len(t, fileName(strings.Repeat("x", 300)), 100)
}

func TestManifestRoundTrip(t *testing.T) {
	m := &manifest.Manifest{Format: 1, Name: "a <b> & c", Parts: []site.Part{site.Code}}
	b, err := manifest.Encode(m)
	require.NoError(t, err)
	assert.Contains(t, string(b), "a <b> & c", "people read it")
	back, err := manifest.Parse(b)
	require.NoError(t, err)
	assert.Equal(t, m, back)
	assert.True(t, json.Valid(b))
	_, err = manifest.Parse([]byte(`{"format":2}`))
	assert.ErrorIs(t, err, archive.ErrNotArchive)
}
