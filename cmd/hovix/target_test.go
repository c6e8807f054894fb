package main_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/restore"
	"hovix/internal/testenv"
)

// TestTargetsOfOthers: a restore does not replace a folder that holds more than a site.
func TestTargetsOfOthers(t *testing.T) {
	file := packed(t, talkative(t))
	work := t.TempDir()
	in := func(name string, files map[string]string) string {
		dir := filepath.Join(work, name)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		writeTree(t, dir, files)
		return dir
	}
	home := in("home", map[string]string{".profile": "umask 022\n"})
	databases := in("data", map[string]string{"notes.txt": "x"})
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(databases, "shop.sqlite")}, []byte("CREATE TABLE a (b);"))
	for dir, says := range map[string]string{
		in("sites", map[string]string{"one/hovix.toml": `name = "One"`, "two/hovix.toml": `name = "Two"`}):      "holds other sites (one, two)",
		in("hosts", map[string]string{"a.example/htdocs/hovix.toml": `name = "A"`, "b.example/logs/x": "line"}): "holds other sites (a.example/htdocs)",
		home:      "is a home folder",
		databases: "is no site and holds databases (shop.sqlite)",
		"/usr":    "is a folder of the system",
	} {
		var before map[string]string
		if dir != "/usr" {
			before = snapshot(t, dir)
		}
		for _, how := range [][]string{{"--yes"}, {"--plan"}, {"--yes", "--only", "uploads"}} {
			run := testenv.HovixIn(t, "", []string{"HOME=" + home}, append([]string{"restore", file, dir, "--url", "https://new.example"}, how...)...)
			assert.Equal(t, 1, run.Status, dir)
			assert.Contains(t, run.Err, says)
		}
		if before != nil {
			assert.Equal(t, before, snapshot(t, dir), "nothing is changed")
		}
	}
	empty := in("empty", nil)
	run := testenv.HovixIn(t, "", []string{"HOME=" + empty}, "restore", file, empty, "--url", "https://new.example", "--yes")
	assert.Contains(t, []int{0, 3}, run.Status, "an empty home folder is as good as any: %s", run.Err)
}

// TestWhatOnlyTheTargetHas: the plan names what will be gone; what is never packed and
// other sites stay, and so does what is named.
func TestWhatOnlyTheTargetHas(t *testing.T) {
	source := talkative(t)
	file := packed(t, source)
	for _, piped := range []bool{false, true} {
		dir := filepath.Join(t.TempDir(), "site")
		require.NoError(t, os.CopyFS(dir, os.DirFS(source)))
		mine := map[string]string{".git/config": "[core]\n", ".git/objects/aa/bb": "x", "ext/mine/a.php": strings.Repeat("a", 5000), "ext/mine/lib/b.php": "b", "up/mine.txt": "mine", "before.sql.gz": "dump", "error.log": "line\n",
			"blog/hovix.toml": `name = "Blog"`, "blog/post.html": "hello"}
		writeTree(t, dir, mine)
		args := []string{file, dir, "--url", "http://old.example"}
		var plan restore.Plan
		run := testenv.Hovix(t, append([]string{"restore", "--plan", "--json"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(run.Out), &plan), run.Err)
		require.NotNil(t, plan.Gone)
		assert.EqualValues(t, 3, plan.Gone.Count)
		require.Len(t, plan.Gone.Items, 2)
		assert.Equal(t, "ext/", plan.Gone.Items[0].Name)
		assert.EqualValues(t, 2, plan.Gone.Items[0].Count)
		assert.Equal(t, "up/mine.txt", plan.Gone.Items[1].Name)
		assert.Contains(t, strings.Join(plan.Notes, "\n"), "Another site lies in "+filepath.Join(dir, "blog"))

		run = testenv.Hovix(t, append([]string{"restore", "--plan"}, args...)...)
		assert.Contains(t, run.Out, "3 files (5.0 kB) only the target has")
		assert.Contains(t, run.Out, "--keep PATH keeps")
		if piped {
			cmd := exec.Command("sh", "-c", "cat '"+file+"' | '"+testenv.Binary(t)+"' restore - '"+dir+"' --url http://old.example --yes --keep up/mine.txt")
			out, _ := cmd.CombinedOutput()
			assert.Contains(t, string(out), "2 files (5.0 kB) only the target had, and are in the undo point: ext/")
		} else {
			run = testenv.Hovix(t, append([]string{"restore", "--yes", "--keep", "up/mine.txt"}, args...)...)
			assert.Contains(t, run.Out, "2 files (5.0 kB) only the target had, and are in the undo point: ext/")
		}
		for rel, content := range mine {
			text, err := os.ReadFile(filepath.Join(dir, rel))
			if strings.HasPrefix(rel, "ext/") {
				assert.ErrorIs(t, err, os.ErrNotExist, rel)
				continue
			}
			assert.NoError(t, err)
			assert.Equal(t, content, string(text), rel)
		}
		ok(t, testenv.Hovix(t, "undo", dir, "--yes"))
		assert.FileExists(t, filepath.Join(dir, "ext/mine/a.php"))
	}
}

// TestEveryRestoreCanBeUndone: also one onto nothing, after which the database is as good
// for its own dump program as before.
func TestEveryRestoreCanBeUndone(t *testing.T) {
	for name, fresh := range engineStands {
		if name == "SQLite in a mount point" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l := fresh(t)
			from := l
			if l.Engine != "" && l.Engine != database.SQLite {
				from = fresh(t)
				testenv.Client(t, from, []byte("CREATE TABLE seen (a INT); CREATE VIEW seeing AS SELECT a FROM seen; CREATE VIEW twice AS SELECT a AS b FROM seeing;"))
			} else {
				from = database.Location{}
			}
			file := packed(t, museum(t, from))
			dir := filepath.Join(t.TempDir(), "www")
			args := []string{"restore", file, dir, "--url", "https://new.example", "--yes", "--without", "stored-code"}
			if l.Engine != "" {
				args = append(args, "--database", l.String())
			}
			env := []string{"HOVIX_DATABASE_PASSWORD=" + l.Password}
			undo := []string{"undo", dir, "--yes"}
			if l.Engine != "" {
				undo = append(undo, "--database", l.String())
			}
			run := testenv.HovixIn(t, "", env, args...)
			require.Contains(t, []int{0, 3}, run.Status, run.Err)
			assert.Contains(t, run.Out, "hovix undo takes the new site away again")
			tables := func() string {
				switch {
				case l.Engine == database.MariaDB:
					return testenv.Client(t, l, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT LIKE '\_hovix%' ORDER BY 1;`))
				case l.Engine == database.Postgres:
					return testenv.Client(t, l, []byte(`SELECT relname FROM pg_class WHERE relnamespace='public'::regnamespace AND relkind IN ('r','v') ORDER BY 1`))
				case l.Path != "" && exists(l.Path):
					return testenv.Client(t, l, []byte(".tables"))
				}
				return ""
			}
			dump := func() {
				t.Helper()
				switch l.Engine {
				case database.MariaDB:
					mariaDump(t, l, "--routines", "--events", "--triggers")
					out := testenv.Program(t, "mariadb-check", nil, "--no-defaults", "-S", l.Socket, "-utester", "-p"+l.Password, "--check-upgrade", l.Name)
					assert.NotRegexp(t, "(?i)error|warning", string(out))
					testenv.Client(t, l, []byte("SHOW TABLE STATUS;"))
				case database.Postgres:
					testenv.Program(t, "pg_dump", nil, testenv.PostgresArgs(l)...)
				}
			}
			there := tables()
			site := snapshot(t, dir)
			for range 2 {
				ok(t, testenv.HovixIn(t, "", env, undo...))
				assert.NoDirExists(t, dir)
				assert.Empty(t, strings.TrimSpace(tables()))
				dump()
				ok(t, testenv.HovixIn(t, "", env, append(undo, "--redo")...))
				assert.Equal(t, there, tables())
				assert.Equal(t, site, snapshot(t, dir))
				dump()
			}
		})
	}
}

// TestMountPoints: a folder that is mounted, from the same file system too, is restored into,
// and what is staged and kept lies in it where no visitor gets at it.
func TestMountPoints(t *testing.T) {
	file := packed(t, talkative(t))
	tmpfs := smallDisk(t, "100m")
	bound := filepath.Join(t.TempDir(), "bound")
	lies := filepath.Join(t.TempDir(), "lies")
	require.NoError(t, os.Mkdir(bound, 0o755))
	require.NoError(t, os.Mkdir(lies, 0o755))
	out, err := exec.Command("mount", "--bind", lies, bound).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("umount", "-l", bound).Run() })
	for _, dir := range []string{tmpfs, bound} {
		writeTree(t, dir, map[string]string{"index.html": "old", "old.txt": "old", "lost+found/x": "y"})
		args := []string{"restore", file, dir, "--url", "https://new.example"}
		run := testenv.Hovix(t, append(args, "--plan")...)
		assert.Contains(t, run.Out, "is a mount point and stays")
		run = testenv.Hovix(t, append(args, "--yes")...)
		require.Equal(t, 3, run.Status, run.Err)
		assert.FileExists(t, filepath.Join(dir, "up/a.txt"))
		assert.FileExists(t, filepath.Join(dir, "lost+found/x"))
		assert.NoFileExists(t, filepath.Join(dir, "old.txt"))
		assert.Contains(t, values(t, dir), "https://new.example/1")
		annexes := glob(dir, ".*.hovix")
		require.Len(t, annexes, 1)
		st, err := os.Stat(annexes[0])
		require.NoError(t, err)
		assert.EqualValues(t, 0o700, st.Mode().Perm())
		require.Len(t, glob(annexes[0], "0*/.htaccess"), 1)
		survey := testenv.Hovix(t, "survey", dir)
		assert.NotContains(t, survey.Out, "old.txt", "what is kept is none of the site")
		ok(t, testenv.Hovix(t, "undo", dir, "--yes"))
		text, err := os.ReadFile(filepath.Join(dir, "index.html"))
		require.NoError(t, err)
		assert.Equal(t, "old", string(text))
		assert.NoDirExists(t, filepath.Join(dir, "up"))
		ok(t, testenv.Hovix(t, "undo", dir, "--discard", "--yes"))
		assert.Empty(t, glob(dir, ".*.hovix"), "nothing is left")
	}
}
