package main_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/annex"
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

// TestInterruptedPacksGoOn kills packs and goes on with them: what is in the file
// already is not read again, what changed meanwhile is.
func TestInterruptedPacksGoOn(t *testing.T) {
	dir := museum(t, database.Location{})
	manyFiles(t, dir, 800, 64<<10)
	file := filepath.Join(t.TempDir(), "site.tar.zst")
	pack := []string{"pack", dir, "-o", file, "--resume", "--json"}
	dies := func(at int) {
		run := testenv.HovixIn(t, "", []string{fmt.Sprintf("HOVIX_FAULT=file:%d", at)}, append(pack, "--yes")...)
		require.Equal(t, -1, run.Status, run.Err)
		require.NoFileExists(t, file)
		require.FileExists(t, file+".partial")
	}
	ok(t, testenv.Hovix(t, pack...))
	whole := listed(t, file)
	require.NoError(t, os.Remove(file))
	resumed := 0
	for _, at := range [][]int{{1}, {600}, {700}, {800}, {700, 100}, {750, 20, 20}} {
		for _, n := range at { // and again while it goes on
			dies(n)
		}
		run := testenv.Hovix(t, pack...)
		require.Equal(t, 0, run.Status, run.Err)
		if strings.Contains(run.Out, `"resumed": true`) {
			resumed++
		}
		ok(t, testenv.Hovix(t, "inspect", file, "--check"))
		assert.ElementsMatch(t, whole, listed(t, file), "everything is in it, once")
		assert.NoFileExists(t, file+".partial")
		require.NoError(t, os.Remove(file))
	}
	assert.GreaterOrEqual(t, resumed, 4, "those with something to go on with did")

	// Files that change between the runs are packed as they are at the end.
	dies(700)
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

	// So is one whose size and time are the same, and one that another took the place of.
	require.NoError(t, os.Remove(file))
	dies(700)
	st, err := os.Stat(changed)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(changed, []byte("ANOTHER CONTENT"), 0o644))
	require.NoError(t, os.Chtimes(changed, st.ModTime(), st.ModTime()))
	ok(t, testenv.Hovix(t, pack...))
	target = filepath.Join(t.TempDir(), "new")
	testenv.Hovix(t, "restore", file, target)
	content, err = os.ReadFile(filepath.Join(target, "media/050/50.bin"))
	require.NoError(t, err)
	assert.Equal(t, "ANOTHER CONTENT", string(content))

	// Another order is another pack.
	require.NoError(t, os.Remove(file))
	dies(500)
	run := testenv.Hovix(t, "pack", dir, "-o", file, "--resume", "--yes", "--json", "--without", "media/001")
	require.Equal(t, 0, run.Status, run.Err)
	assert.NotContains(t, run.Out, `"resumed"`)
	run = testenv.Hovix(t, "pack", dir, "-o", "-", "--resume")
	assert.Equal(t, 2, run.Status)
}

// listed gives names and hashes of what is in an archive, but of what tells of the
// pack itself.
func listed(t *testing.T, file string, args ...string) (lines []string) {
	t.Helper()
	for _, line := range strings.Split(ok(t, testenv.Hovix(t, append([]string{"inspect", file, "--list"}, args...)...)).Out, "\n") {
		if !strings.Contains(line, "hovix/") && !strings.Contains(line, "RESTORE.txt") {
			lines = append(lines, line)
		}
	}
	return lines
}

// mentions gives how many mentions of old addresses a restore says that it has rewritten.
func mentions(t *testing.T, run testenv.Run) int {
	t.Helper()
	m := regexp.MustCompile(`Rewrote +([\d,]+) mentions`).FindStringSubmatch(run.Out)
	require.NotNil(t, m, run.Out)
	n, err := strconv.Atoi(strings.ReplaceAll(m[1], ",", ""))
	require.NoError(t, err)
	return n
}

// forgeStored has an interrupted restore say that it found more in one of its stored chunks,
// and gives how much more; 0 if it has stored none.
func forgeStored(t *testing.T, folder string) (more int) {
	t.Helper()
	for _, file := range glob(annex.Of(folder).Dir, "0*/rows.json") {
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		first, rest, found := strings.Cut(string(content), "\n")
		if found && !strings.Contains(first, "found") {
			more = 700
			first = strings.TrimSuffix(first, "}") + `,"found":[{"column":"x","tally":{"Values":700,"Changed":700,"Forms":[700]}}]}`
		}
		require.NoError(t, os.WriteFile(file, []byte(first+"\n"+rest), 0o600))
	}
	return more
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
			rewrote := mentions(t, s.ok(t, s.restore()...))
			s.reset(t)
			for _, point := range []string{"journal", "filled", "filled:3", "filled:6", "staged", "sealed"} {
				run := testenv.HovixIn(t, "", append([]string{"HOVIX_FAULT=" + point, "HOVIX_FAULT_ALONE=1"}, s.env...), args...)
				require.Equal(t, -1, run.Status, "%s: %s", point, run.Err)
				s.settled(t)
				s.whole(t, point)
				if second := map[string]string{"filled": "filled", "filled:6": "staged"}[point]; second != "" { // interrupted twice
					testenv.HovixIn(t, "", append([]string{"HOVIX_FAULT=" + second, "HOVIX_FAULT_ALONE=1"}, s.env...), args...)
					s.settled(t)
				}
				more := 0
				if point == "staged" { // what was found in stored rows is not looked for again
					more = forgeStored(t, s.folder)
				}
				again := s.ok(t, args...)
				if point != "sealed" {
					assert.Equal(t, rewrote+more, mentions(t, again), "%s: what was found before counts too", point)
				}
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
