package pieces

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var when = time.Date(2024, 2, 29, 10, 0, 0, 0, time.UTC)

func tarOf(t *testing.T, headers ...*tar.Header) string {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		h.ModTime = when
		if h.Typeflag == tar.TypeReg {
			h.Size = int64(len(h.Name))
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write([]byte(h.Name))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	name := filepath.Join(t.TempDir(), "a.tar")
	require.NoError(t, os.WriteFile(name, b.Bytes(), 0o600))
	return name
}

func TestUnpack(t *testing.T) {
	into := t.TempDir()
	skipped, err := Unpack(context.Background(), tarOf(t,
		&tar.Header{Typeflag: tar.TypeDir, Name: "./locked/", Mode: 0o555},
		&tar.Header{Typeflag: tar.TypeReg, Name: "locked/in it", Mode: 0o400},
		&tar.Header{Typeflag: tar.TypeReg, Name: "/absolute/a", Mode: 0o640},
		&tar.Header{Typeflag: tar.TypeReg, Name: "twice", Mode: 0o600}, &tar.Header{Typeflag: tar.TypeReg, Name: "twice", Mode: 0o644},
		&tar.Header{Typeflag: tar.TypeLink, Name: "hard", Linkname: "twice"},
		&tar.Header{Typeflag: tar.TypeSymlink, Name: "soft", Linkname: "../elsewhere"},
		&tar.Header{Typeflag: tar.TypeFifo, Name: "pipe"}), into, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"pipe"}, skipped)
	for name, mode := range map[string]fs.FileMode{"locked": fs.ModeDir | 0o555, "locked/in it": 0o400, "absolute/a": 0o640, "twice": 0o644, "hard": 0o644, "soft": fs.ModeSymlink | 0o777} {
		st, err := os.Lstat(filepath.Join(into, name))
		require.NoError(t, err)
		assert.Equal(t, mode, st.Mode(), name)
		if name == "locked" || mode.IsRegular() {
			assert.True(t, when.Equal(st.ModTime()), name)
		}
	}
	require.NoError(t, os.Chmod(filepath.Join(into, "locked"), 0o700)) // or it cannot be removed
}

// TestHostileTar: nothing is written outside of the folder, whatever names and
// links say.
func TestHostileTar(t *testing.T) {
	outside := t.TempDir()
	into := filepath.Join(outside, "into")
	for name, headers := range map[string][]*tar.Header{
		"dots":          {{Typeflag: tar.TypeReg, Name: "../out"}, {Typeflag: tar.TypeReg, Name: "a/../../out"}, {Typeflag: tar.TypeDir, Name: ".."}},
		"through links": {{Typeflag: tar.TypeSymlink, Name: "l", Linkname: ".."}, {Typeflag: tar.TypeReg, Name: "l/out", Mode: 0o600}},
		"absolute link": {{Typeflag: tar.TypeSymlink, Name: "l", Linkname: outside}, {Typeflag: tar.TypeReg, Name: "l/out", Mode: 0o600}},
		"hard link":     {{Typeflag: tar.TypeLink, Name: "l", Linkname: "../../../../../../../../../etc/passwd"}},
		"folder":        {{Typeflag: tar.TypeSymlink, Name: "l", Linkname: ".."}, {Typeflag: tar.TypeDir, Name: "l/out", Mode: 0o700}},
	} {
		require.NoError(t, os.Mkdir(into, 0o700))
		skipped, err := Unpack(context.Background(), tarOf(t, headers...), into, nil)
		assert.True(t, err != nil || len(skipped) > 0, "%s: it is said", name)
		list, err := os.ReadDir(outside)
		require.NoError(t, err)
		assert.Len(t, list, 1, "%s: only the folder itself", name)
		require.NoError(t, os.RemoveAll(into))
	}
}

func TestUnpackZip(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range []string{"site/", "site/a.php", `site\windows.txt`, "../out"} {
		f, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: when})
		require.NoError(t, err)
		if name[len(name)-1] != '/' {
			_, err = f.Write([]byte(name))
			require.NoError(t, err)
		}
	}
	h := &zip.FileHeader{Name: "site/link"}
	h.SetMode(fs.ModeSymlink | 0o777)
	f, err := w.CreateHeader(h)
	require.NoError(t, err)
	_, err = f.Write([]byte("a.php"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	name := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(name, b.Bytes(), 0o600))
	into := t.TempDir()
	skipped, err := Unpack(context.Background(), name, into, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"../out"}, skipped)
	for _, name := range []string{"a.php", "windows.txt", "link"} {
		_, err := os.ReadFile(filepath.Join(into, "site", name))
		assert.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(name, b.Bytes()[:b.Len()/2], 0o600))
	_, err = Unpack(context.Background(), name, t.TempDir(), nil)
	assert.Error(t, err, "half a zip file")
}
