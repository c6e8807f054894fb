package main_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestEncryptedArchives packs for a key and under a passphrase, looks into such
// archives, and restores them from a file and from a pipe; without the key nothing is
// told and nothing is changed.
func TestEncryptedArchives(t *testing.T) {
	dir := museum(t, database.Location{})
	work := t.TempDir()
	key := filepath.Join(work, "key")
	public := strings.TrimSpace(strings.TrimPrefix(string(testenv.Program(t, "age-keygen", nil, "-y", makeKey(t, key))), "Public key: "))
	file, plain := filepath.Join(work, "site.tar.zst.age"), packed(t, dir)
	run := ok(t, testenv.Hovix(t, "pack", dir, "-o", file, "--recipient", public))
	assert.Contains(t, run.Out, "site.tar.zst.age, encrypted")

	for _, args := range [][]string{{"inspect", file}, {"restore", file, filepath.Join(work, "none")}} {
		run := testenv.Hovix(t, args...)
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "no key at hand opens it")
		assert.Contains(t, run.Err, "--identity FILE")
		assert.NotContains(t, run.Out+run.Err, "Brackwater", "nothing is told of what is in it")
	}
	other := filepath.Join(work, "other")
	makeKey(t, other)
	run = testenv.Hovix(t, "inspect", file, "--identity", other)
	assert.Contains(t, run.Err, "it was made for other recipients")

	run = ok(t, testenv.Hovix(t, "inspect", file, "--identity", key, "--check"))
	assert.Contains(t, run.Out, "encrypted")
	assert.Contains(t, run.Out, "Intact")
	assert.ElementsMatch(t, listed(t, plain), listed(t, file, "--identity", key))
	target := filepath.Join(work, "new")
	run = testenv.Hovix(t, "restore", file, target, "--identity", key, "--url", "https://new.example")
	require.Equal(t, 3, run.Status, run.Err)

	piped := exec.Command(testenv.Binary(t), "restore", "-", filepath.Join(work, "piped"), "--identity", key, "--url", "https://new.example")
	in, err := os.Open(file)
	require.NoError(t, err)
	defer in.Close()
	piped.Stdin = in
	_ = piped.Run()
	assert.Equal(t, 3, piped.ProcessState.ExitCode())
	assert.FileExists(t, filepath.Join(work, "piped/hovix.toml"))

	secret := []string{"HOVIX_PASSPHRASE=low tide"}
	under := filepath.Join(work, "under.age")
	require.Equal(t, 0, testenv.HovixIn(t, "", secret, "pack", dir, "-o", under, "--passphrase").Status)
	assert.Equal(t, 0, testenv.HovixIn(t, "", secret, "inspect", under).Status)
	phrase := filepath.Join(work, "phrase")
	require.NoError(t, os.WriteFile(phrase, []byte("low tide\n"), 0o600))
	ok(t, testenv.Hovix(t, "inspect", under, "--passphrase-file", phrase))
	run = testenv.HovixIn(t, "", []string{"HOVIX_PASSPHRASE=high tide"}, "inspect", under)
	assert.Contains(t, run.Err, "the passphrase is another one")
	assert.NotContains(t, run.Err, "high tide")
	run = testenv.Hovix(t, "inspect", under)
	assert.Contains(t, run.Err, "no terminal to ask for it")

	for _, args := range [][]string{{"--recipient", "nonsense"}, {"--recipient", public, "--passphrase"}, {"--recipient", public, "--resume"}} {
		run := testenv.Hovix(t, append([]string{"pack", dir, "-o", filepath.Join(work, "bad")}, args...)...)
		assert.Equal(t, 2, run.Status, "%v: %s", args, run.Err)
	}
	assert.NoFileExists(t, filepath.Join(work, "bad"))
}

func makeKey(t *testing.T, path string) string {
	t.Helper()
	_, err := exec.Command(testenv.Tool(t, "age-keygen"), "-o", path).CombinedOutput()
	require.NoError(t, err)
	return path
}

// TestWhoMayRead: archives and logs are their owner's alone, and so is what lies beside
// a target.
func TestWhoMayRead(t *testing.T) {
	dir := museum(t, database.Location{})
	work := t.TempDir()
	file, log, target := filepath.Join(work, "a.tar.zst"), filepath.Join(work, "log"), filepath.Join(work, "www")
	siteFile(t, target, `name = "old"`)
	ok(t, testenv.Hovix(t, "pack", dir, "-o", file, "--log", log))
	testenv.Hovix(t, "restore", file, target, "--yes", "--log", log)
	for path, want := range map[string]fs.FileMode{file: 0o600, log: 0o600, annex.Of(target).Dir: fs.ModeDir | 0o700} {
		st, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, want, st.Mode(), path)
	}
	points := glob(annex.Of(target).Dir, "0*")
	require.Len(t, points, 1)
	st, err := os.Stat(points[0])
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), st.Mode().Perm())
}
