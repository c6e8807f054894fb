package main_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// manyFiles adds files to a site so that packing and restoring it take a while.
func manyFiles(t testing.TB, dir string, count, size int) {
	t.Helper()
	data := make([]byte, size)
	rng := rand.NewChaCha8([32]byte{1})
	for i := range count {
		_, _ = rng.Read(data)
		folder := filepath.Join(dir, fmt.Sprintf("media/%03d", i%100))
		require.NoError(t, os.MkdirAll(folder, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("%d.bin", i)), data, 0o644))
	}
}

// kill runs hovix and kills it after a while.
func kill(t *testing.T, after time.Duration, args ...string) {
	t.Helper()
	cmd := exec.Command(testenv.Binary(t), args...)
	require.NoError(t, cmd.Start())
	time.Sleep(after)
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
}

// TestInterruptedPacksGoOn kills packs and goes on with them: what is in the file
// already is not read again, what changed meanwhile is.
func TestInterruptedPacksGoOn(t *testing.T) {
	dir := museum(t, database.Location{})
	manyFiles(t, dir, 800, 64<<10)
	file := filepath.Join(t.TempDir(), "site.tar.zst")
	pack := []string{"pack", dir, "-o", file, "--resume", "--json"}
	begin := time.Now()
	ok(t, testenv.Hovix(t, pack...))
	full := time.Since(begin)
	whole := listed(t, file)
	require.NoError(t, os.Remove(file))
	resumed := 0
	for i := range 6 {
		kill(t, full*time.Duration(i+3)/10, pack...)
		if !exists(file) && exists(file+".partial") && i%2 == 0 {
			kill(t, full/3, pack...) // and again while it goes on
		}
		run := testenv.Hovix(t, append(pack, "--yes")...)
		require.Equal(t, 0, run.Status, run.Err)
		if strings.Contains(run.Out, `"resumed": true`) {
			resumed++
		}
		ok(t, testenv.Hovix(t, "inspect", file, "--check"))
		assert.ElementsMatch(t, whole, listed(t, file), "everything is in it, once")
		assert.NoFileExists(t, file+".partial")
		require.NoError(t, os.Remove(file))
	}
	assert.Positive(t, resumed, "some went on")

	// Files that change between the runs are packed as they are at the end.
	for range 20 {
		kill(t, full*6/10, pack...)
		if exists(file) { // it was too late
			require.NoError(t, os.Remove(file))
		} else if exists(file+".partial") && testenv.FileSize(file+".partial") > 8<<20 {
			break
		}
	}
	changed := filepath.Join(dir, "media/050/50.bin")
	require.NoError(t, os.WriteFile(changed, []byte("another content"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "media/000/fresh.txt"), []byte("new"), 0o644))
	ok(t, testenv.Hovix(t, pack...))
	target := filepath.Join(t.TempDir(), "new")
	testenv.Hovix(t, "restore", file, target)
	content, err := os.ReadFile(filepath.Join(target, "media/050/50.bin"))
	require.NoError(t, err)
	assert.Equal(t, "another content", string(content))
	assert.FileExists(t, filepath.Join(target, "media/000/fresh.txt"))

	// Another order is another pack.
	require.NoError(t, os.Remove(file))
	kill(t, full/2, pack...)
	run := testenv.Hovix(t, "pack", dir, "-o", file, "--resume", "--yes", "--json", "--without", "media/001")
	require.Equal(t, 0, run.Status, run.Err)
	assert.NotContains(t, run.Out, `"resumed"`)
	run = testenv.Hovix(t, "pack", dir, "-o", "-", "--resume")
	assert.Equal(t, 2, run.Status)
}

// listed gives names and hashes of what is in an archive, but of what tells of the
// pack itself.
func listed(t *testing.T, file string) (lines []string) {
	t.Helper()
	for _, line := range strings.Split(ok(t, testenv.Hovix(t, "inspect", file, "--list")).Out, "\n") {
		if !strings.Contains(line, "hovix/") && !strings.Contains(line, "RESTORE.txt") {
			lines = append(lines, line)
		}
	}
	return lines
}

// TestInterruptedRestoresGoOn kills restores on all engines and goes on with them
// until one is through: the site is the one that an uninterrupted restore makes, and
// what was staged before is not staged again.
func TestInterruptedRestoresGoOn(t *testing.T) {
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStand(t, fresh)
			args := append(s.restore(), "--resume")
			for i, point := range []string{"journal", "filled", "filled:3", "filled:6", "staged", "sealed"} {
				run := testenv.HovixIn(t, "", append([]string{"HOVIX_FAULT=" + point, "HOVIX_FAULT_ALONE=1"}, s.env...), args...)
				require.Equal(t, -1, run.Status, "%s: %s", point, run.Err)
				s.settled(t)
				s.whole(t, point)
				if i%2 == 1 && point != "sealed" { // interrupted twice
					testenv.HovixIn(t, "", append([]string{"HOVIX_FAULT=filled:2", "HOVIX_FAULT_ALONE=1"}, s.env...), args...)
					s.settled(t)
				}
				again := s.ok(t, args...)
				assert.Equal(t, point != "sealed", strings.Contains(again.Out+again.Err, "is gone on with"), "%s: %s", point, again.Out)
				same(t, s.after, s.state(t), point)
				s.kept(t)
				s.reset(t)
			}
			// Another archive's stage is removed, and a run without --resume begins anew.
			testenv.HovixIn(t, "", append([]string{"HOVIX_FAULT=filled:2"}, s.env...), args...)
			s.settled(t)
			other := append([]string{}, args...)
			other[4] = "https://third.example"
			run := s.ok(t, other...)
			assert.Contains(t, run.Err+run.Out, "what it had staged is removed")
			s.reset(t)
		})
	}
}
