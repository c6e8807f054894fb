package main_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/dustin/go-humanize"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/fsys"
	"hovix/internal/testenv"
)

// checked gives what a plan says in one of its checks. The file after a hyphen is what is
// read there.
func checked(t *testing.T, what string, args ...string) string {
	t.Helper()
	var plan struct {
		Checks []struct{ What, Found, Failed string }
	}
	cmd := exec.Command(testenv.Binary(t), append(append([]string{"restore"}, args...), "--plan", "--json")...)
	if args[0] == "-" {
		in, err := os.Open(args[1])
		require.NoError(t, err)
		defer in.Close()
		cmd.Stdin = in
		cmd.Args = slices.Delete(cmd.Args, 3, 4)
	}
	out, _ := cmd.Output() // a check that failed ends it
	require.NoError(t, json.Unmarshal(out, &plan), "%s", out)
	for _, c := range plan.Checks {
		if c.What == what {
			return c.Found + c.Failed
		}
	}
	require.Fail(t, "no such check", "%s in %s", what, out)
	return ""
}

// needed gives the bytes that such a check begins with.
func needed(t *testing.T, found string) float64 {
	t.Helper()
	m := regexp.MustCompile(`^(?:about )?([\d.]+ [kMG]?B) (?:needed|are needed)`).FindStringSubmatch(found)
	require.NotNil(t, m, found)
	n, err := humanize.ParseBytes(m[1])
	require.NoError(t, err)
	return float64(n)
}

// onDisk gives what a folder takes of its disk.
func onDisk(t *testing.T, dir string) (bytes float64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := d.Info()
		require.NoError(t, err)
		bytes += float64(info.Sys().(*syscall.Stat_t).Blocks * 512)
		return nil
	}))
	return bytes
}

// TestRoomOfSmallFiles: each file takes whole blocks, which is what the plan counts: of a
// file and of a pipe. A disk that has room but no inodes is known, too.
func TestRoomOfSmallFiles(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir)
	r := rand.New(rand.NewPCG(1, 2))
	content := []byte(strings.Repeat("x", 9300))
	for i := range 6000 {
		folder := filepath.Join(dir, "uploads", fmt.Sprint(i/40))
		if i%40 == 0 {
			require.NoError(t, os.MkdirAll(folder, 0o755))
		}
		write(t, filepath.Join(folder, fmt.Sprintf("a-file-of-the-site-%d.txt", i)), content[:r.IntN(9000)*r.IntN(2)+r.IntN(300)])
	}
	file := packed(t, dir)
	parent := t.TempDir()
	target := filepath.Join(parent, "new")
	plan := needed(t, checked(t, "room for files", file, target))
	piped := needed(t, checked(t, "room for files", "-", file, target))
	ok(t, testenv.Hovix(t, "restore", file, target))
	used := onDisk(t, target)
	assert.InEpsilon(t, used, plan, 0.1)
	assert.InEpsilon(t, used, piped, 0.1, "of a pipe")

	disk := smallDisk(t, "200m,nr_inodes=3000")
	assert.Regexp(t, `the new site has 6,\d\d\d files and folders, and the disk of .* can hold 2,9\d\d more`, checked(t, "room for files", file, filepath.Join(disk, "new")))
}

// TestHoles: what is a hole in a file is one where it is restored, and takes no room in the
// archive or the plan.
func TestHoles(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir)
	const size = 300 << 20
	for name, at := range map[string][]int64{"uploads/disk.img": {0, 5000, 1 << 20, size - 3}, "uploads/empty.img": {}, "uploads/small.bin": {0}} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		f, err := os.Create(path)
		require.NoError(t, err)
		length := int64(size)
		if name == "uploads/small.bin" {
			length = 200_001
		}
		require.NoError(t, f.Truncate(length))
		for _, at := range at {
			_, err = f.WriteAt([]byte("not a hole"[:min(10, length-at)]), at)
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
	}
	write(t, filepath.Join(dir, "uploads/zeros.bin"), make([]byte, 200_000)) // written, and so no hole
	file := packed(t, dir)
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Less(t, st.Size(), int64(200_000))
	target := filepath.Join(t.TempDir(), "new")
	assert.Less(t, needed(t, checked(t, "room for files", file, target)), 1e6)
	ok(t, testenv.Hovix(t, "restore", file, target, "--yes"))
	for _, name := range testenv.Names(t, filepath.Join(dir, "uploads")) {
		testenv.Program(t, "cmp", nil, filepath.Join(dir, "uploads", name), filepath.Join(target, "uploads", name))
		want, err := os.Stat(filepath.Join(dir, "uploads", name))
		require.NoError(t, err)
		got, err := os.Stat(filepath.Join(target, "uploads", name))
		require.NoError(t, err)
		assert.LessOrEqual(t, fsys.OnDisk(got), fsys.OnDisk(want), name)
		assert.Equal(t, name != "zeros.bin", fsys.OnDisk(got) < 100_000, name)
	}
}

// TestRoomOfTables: what a server takes on its disk is near what the plan says, also where
// the engine's statistics knew nothing of the rows when they were packed.
func TestRoomOfTables(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, fill string }{
		{"statistics", ""},
		{"stale statistics", " STATS_PERSISTENT=1 STATS_AUTO_RECALC=0"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			from, to := testenv.MariaDB(t), testenv.MariaDB(t)
			testenv.Client(t, from, []byte(`CREATE TABLE posts (id BIGINT AUTO_INCREMENT PRIMARY KEY, title VARCHAR(200), body LONGTEXT, made DATETIME, state VARCHAR(20), KEY (title(60)), KEY (state, made))`+c.fill+`;
				CREATE TABLE meta (id BIGINT AUTO_INCREMENT PRIMARY KEY, post BIGINT, k VARCHAR(100), v LONGTEXT, KEY (post), KEY (k(40)))`+c.fill+`;
				CREATE TABLE few (a INT);
				INSERT INTO posts SELECT seq, CONCAT('The title of post ', MD5(seq)), REPEAT(CONCAT('words of ', seq, ' and more '), 10 + seq % 150), NOW(), 'publish' FROM seq_1_to_24000;
				INSERT INTO meta SELECT seq, seq DIV 5, CONCAT('_key_', seq % 37), IF(seq % 3, seq, SHA1(seq)) FROM seq_1_to_120000;
				INSERT INTO few VALUES (1);`))
			if c.fill == "" {
				testenv.Client(t, from, []byte("ANALYZE TABLE posts, meta, few;"))
			}
			dir := filepath.Join(t.TempDir(), "site")
			mariaSite(t, dir, from)
			file := packed(t, dir)
			target := liveFolder(t, to)
			plan := needed(t, checked(t, "room for tables", file, target))
			ok(t, testenv.Hovix(t, "restore", file, target, "--yes"))
			data := strings.TrimSpace(strings.TrimPrefix(testenv.Client(t, to, []byte("SELECT @@datadir;")), "@@datadir\n"))
			used := onDisk(t, filepath.Join(data, to.Name))
			t.Logf("%.1f MB in the plan, %.1f on the disk", plan/1e6, used/1e6)
			within := 0.15
			if c.fill != "" {
				within = 0.3 // by the text alone, which says nothing of keys
			}
			assert.InEpsilon(t, used, plan, within)
		})
	}
}
