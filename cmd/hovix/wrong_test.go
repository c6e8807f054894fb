package main_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestWrongInput: one clear error each, with what to do, the right exit status,
// and nothing changed.
func TestWrongInput(t *testing.T) {
	work := t.TempDir()
	site := filepath.Join(work, "museum")
	require.NoError(t, os.Rename(museum(t, database.Location{}), site))
	good := filepath.Join(work, "good.tar.zst")
	ok(t, testenv.Hovix(t, "pack", site, "-o", good))
	archive, err := os.ReadFile(good)
	require.NoError(t, err)
	write := func(name string, content []byte) string {
		p := filepath.Join(work, name)
		require.NoError(t, os.WriteFile(p, content, 0o644))
		return p
	}
	page := write("page.tar.zst", []byte("<!DOCTYPE html><html><title>Sign in to download</title></html>"))
	empty := write("empty.tar.zst", nil)
	cut := write("cut.tar.zst", archive[:len(archive)*2/3])
	dump := write("dump.sql", []byte("-- dump\nCREATE TABLE a (b int);\n"))
	require.NoError(t, os.Mkdir(filepath.Join(work, "bare"), 0o755))
	siteFile(t, filepath.Join(work, "broken"), `name = "x`)
	siteFile(t, filepath.Join(work, "typo"), `adress = "http://x.example"`)
	siteFile(t, filepath.Join(work, "nodb"), `database = "sqlite:none.sqlite"`)
	target := filepath.Join(work, "new")
	for _, c := range []struct {
		name   string
		args   []string
		status int
		want   []string
	}{
		{"misspelt site", []string{"pack", filepath.Join(work, "musuem"), "-o", filepath.Join(work, "x")}, 1, []string{"there is no folder", "did you mean", "museum?"}},
		{"misspelt site, survey", []string{"survey", filepath.Join(work, "musem")}, 1, []string{"did you mean"}},
		{"a folder without a site", []string{"survey", filepath.Join(work, "bare")}, 1, []string{"no site is here", "is empty"}},
		{"a folder above the site", []string{"survey", work}, 1, []string{"no site is here", "there are 4 in it, each to be named by its own folder: broken, museum, nodb, typo"}},
		{"broken site file", []string{"survey", filepath.Join(work, "broken")}, 1, []string{"hovix.toml, line 1"}},
		{"misspelt key", []string{"survey", filepath.Join(work, "typo")}, 1, []string{`unknown key "adress"`, "did you mean address?"}},
		{"missing database file", []string{"pack", filepath.Join(work, "nodb"), "-o", filepath.Join(work, "x")}, 1, []string{"cannot open the database", "no such file"}},
		{"web page as archive", []string{"restore", page, target}, 1, []string{"it is a web page", "downloaded as a file"}},
		{"web page, inspected", []string{"inspect", page}, 1, []string{"it is a web page"}},
		{"empty file", []string{"restore", empty, target}, 1, []string{"it is an empty file"}},
		{"truncated file", []string{"restore", cut, target}, 1, []string{"ends early", "transfer the archive again"}},
		{"truncated file, inspected", []string{"inspect", cut, "--check"}, 1, []string{"ends early"}},
		{"a dump as archive", []string{"inspect", dump}, 1, []string{"it is an SQL dump"}},
		{"misspelt archive", []string{"inspect", filepath.Join(work, "god.tar.zst")}, 1, []string{"did you mean", "good.tar.zst?"}},
		{"target inside the source", []string{"restore", good, filepath.Join(site, "sub")}, 1, []string{"lies inside the folder of the site that was packed"}},
		{"target is a file", []string{"restore", good, dump}, 1, []string{"is a file; name a folder"}},
		{"archive inside the source", []string{"pack", site, "-o", filepath.Join(site, "x.tar.zst")}, 1, []string{"would lie inside the site"}},
		{"archive exists", []string{"pack", site, "-o", good}, 1, []string{"exists already", "--yes"}},
		{"archive in a folder that is not there", []string{"pack", site, "-o", filepath.Join(work, "nowhere", "x")}, 1, []string{"there is no folder"}},
		{"another engine", []string{"restore", good, target, "--database", "mariadb://u@127.0.0.1/x"}, 1, []string{"holds a SQLite database", "another engine"}},
		{"no output", []string{"pack", site}, 2, []string{"-o FILE"}},
		{"no argument", []string{"restore", good}, 2, []string{"TARGET is missing"}},
		{"too many arguments", []string{"survey", site, "more"}, 2, []string{"one argument too many"}},
		{"unknown option", []string{"pack", site, "--outptu", "x"}, 2, []string{"did you mean --output?"}},
		{"unknown command", []string{"sruvey", site}, 2, []string{"no command sruvey", "did you mean hovix survey?"}},
		{"unknown part", []string{"pack", site, "-o", "x", "--parts", "uplods"}, 2, []string{`no part "uplods"`, "did you mean uploads?"}},
		{"bad address", []string{"restore", good, target, "--url", "new.example"}, 2, []string{"has no scheme", "https://new.example"}},
		{"password on the command line", []string{"restore", good, target, "--database", "mariadb://u:s3cret@h/x"}, 2, []string{"holds a password"}},
		{"unknown engine", []string{"restore", good, target, "--database", "oracle://u@h/x"}, 2, []string{`unknown database engine "oracle"`}},
		{"half a mapping", []string{"restore", good, target, "--map", "http://a.example"}, 2, []string{"OLD=NEW"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := snapshot(t, work)
			run := testenv.Hovix(t, c.args...)
			assert.Equal(t, c.status, run.Status, run.Err)
			assert.Empty(t, run.Out)
			for _, w := range c.want {
				assert.Contains(t, run.Err, w)
			}
			assert.LessOrEqual(t, strings.Count(strings.TrimSpace(run.Err), "\n"), 1, "what and why, then what to do: %s", run.Err)
			assert.NotContains(t, run.Err, "s3cret")
			assert.NotContains(t, run.Err, "goroutine")
			assert.Equal(t, before, snapshot(t, work), "nothing is changed")
		})
	}
}

// TestWrongDatabase names which of the five values of a login is wrong.
func TestWrongDatabase(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE a (b INT)"))
	right := fmt.Sprintf("mariadb://tester@127.0.0.1:%d/%s", l.Port, l.Name)
	for _, c := range []struct{ name, url, password, want string }{
		{"host name", fmt.Sprintf("mariadb://tester@no-such-host.test:%d/%s", l.Port, l.Name), testenv.Password, `The host name "no-such-host.test" is unknown`},
		{"port", fmt.Sprintf("mariadb://tester@127.0.0.1:%d/%s", testenv.FreePort(t), l.Name), testenv.Password, "Nothing answers at 127.0.0.1"},
		{"socket", "mariadb://tester@localhost/x?socket=/nowhere/sock", testenv.Password, "No server listens on the socket /nowhere/sock"},
		{"user", fmt.Sprintf("mariadb://nobody@127.0.0.1:%d/%s", l.Port, l.Name), testenv.Password, "refuses this user and password"},
		{"password", right, "wrong-one", "refuses this user and password"},
		{"database", fmt.Sprintf("mariadb://tester@127.0.0.1:%d/no_such_db", l.Port), testenv.Password, `no database "no_such_db"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "site")
			siteFile(t, dir, fmt.Sprintf("database = %q", c.url), fmt.Sprintf("database-password = %q", c.password))
			file := filepath.Join(t.TempDir(), "x.tar.zst")
			run := testenv.Hovix(t, "pack", dir, "-o", file)
			assert.Equal(t, 1, run.Status)
			assert.Contains(t, run.Err, c.want)
			assert.NotContains(t, run.Err, c.password)
			assert.Empty(t, names(t, filepath.Dir(file)), "no half archive is left")
			survey := testenv.Hovix(t, "survey", dir)
			assert.Equal(t, 1, survey.Status)
			assert.Contains(t, survey.Out, "cannot be read", "the files are surveyed all the same")
			assert.Contains(t, survey.Err, c.want)
		})
	}
	t.Run("restore checks before anything is staged", func(t *testing.T) {
		dir := filepath.Join(t.TempDir(), "site")
		mariaSite(t, dir, l)
		file := packed(t, dir)
		parent := t.TempDir()
		run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=wrong-one"}, "restore", file, filepath.Join(parent, "new"), "--database", right)
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "refuses this user and password")
		assert.Empty(t, names(t, parent))
		run = testenv.Hovix(t, "restore", file, filepath.Join(parent, "new"))
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "name it with --database")
	})
	t.Run("a value that no longer fits", func(t *testing.T) {
		testenv.Client(t, l, []byte("CREATE TABLE tight (u VARCHAR(20)); INSERT INTO tight VALUES ('http://old.example/x')"))
		dir := filepath.Join(t.TempDir(), "site")
		mariaSite(t, dir, l, `address = "http://old.example"`)
		file := packed(t, dir)
		target := testenv.MariaDB(t)
		parent := t.TempDir()
		run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", file, filepath.Join(parent, "new"), "--url", "https://a-longer-name.example", "--database", target.String())
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "tight.u, u=http://old.example/x: 31 characters in place of at most 20")
		assert.Empty(t, names(t, parent))
		assert.Empty(t, content(t, target), "the staged tables are gone")
		rows, err := testenv.Connect(t, target).Query("SHOW TABLES")
		require.NoError(t, err)
		defer rows.Close()
		assert.False(t, rows.Next(), "the staged tables are gone")
		require.NoError(t, rows.Err())
	})
}

// TestEveryDamageIsFound flips, drops and adds bytes all over a small archive;
// inspect --check and restore find each, and the target stays as it was.
func TestEveryDamageIsFound(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `address = "http://old.example"`, `database = "sqlite:a.sqlite"`)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "page.html"), []byte(strings.Repeat("ferry ", 50)), 0o644))
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "a.sqlite")}, []byte("CREATE TABLE a (b); INSERT INTO a VALUES ('http://old.example/x')"))
	good, err := os.ReadFile(packed(t, dir))
	require.NoError(t, err)
	work := t.TempDir()
	target := filepath.Join(work, "live")
	siteFile(t, target, `name = "live"`)
	before := snapshot(t, work)
	bad := filepath.Join(t.TempDir(), "bad.tar.zst")
	rnd := rand.New(rand.NewPCG(8, 9))
	try := func(what string, content []byte) {
		require.NoError(t, os.WriteFile(bad, content, 0o644))
		run := testenv.Hovix(t, "inspect", bad, "--check")
		require.Equal(t, 1, run.Status, "inspect: %s", what)
		run = testenv.Hovix(t, "restore", bad, target, "--yes")
		require.Equal(t, 1, run.Status, "restore: %s: %s", what, run.Err)
		cmd := exec.Command(testenv.Binary(t), "restore", "-", target, "--yes")
		cmd.Stdin = strings.NewReader(string(content))
		out, err := cmd.CombinedOutput()
		require.Error(t, err, "restore from a pipe: %s: %s", what, out)
		require.Equal(t, before, snapshot(t, work), "the target after %s", what)
	}
	for i := 0; i < len(good); i += 1 + len(good)/45 {
		at := min(len(good)-1, i+rnd.IntN(8))
		flipped := append([]byte(nil), good...)
		flipped[at] ^= byte(1 << rnd.IntN(8))
		try(fmt.Sprintf("byte %d flipped", at), flipped)
	}
	for range 8 {
		at := rnd.IntN(len(good))
		try(fmt.Sprintf("byte %d missing", at), append(append([]byte(nil), good[:at]...), good[at+1:]...))
		try(fmt.Sprintf("a byte more at %d", at), append(append(append([]byte(nil), good[:at]...), 7), good[at:]...))
		try(fmt.Sprintf("cut at %d", at), good[:at])
	}
	try("a byte more at the end", append(append([]byte(nil), good...), '\n'))
}

// TestFullDisk packs to and restores on a file system that is too small.
func TestFullDisk(t *testing.T) {
	small := smallDisk(t, "1m")
	dir := museum(t, database.Location{})
	file := packed(t, dir)
	run := testenv.Hovix(t, "pack", dir, "-o", filepath.Join(small, "x.tar.zst"))
	assert.Equal(t, 1, run.Status)
	assert.Contains(t, run.Err, "no space left on device")
	assert.Contains(t, run.Err, "Make room")
	assert.Empty(t, names(t, small), "no half archive is left")
	run = testenv.Hovix(t, "restore", file, filepath.Join(small, "new"))
	assert.Equal(t, 1, run.Status)
	assert.Regexp(t, `the new site needs 2\.\d MB beside the target, and the disk of \S+ has 1\.\d MB free`, run.Err)
	assert.Empty(t, names(t, small))
	// Filled up after the check: the stage is removed.
	require.NoError(t, exec.Command("mount", "-o", "remount,size=3m", small).Run())
	require.NoError(t, os.WriteFile(filepath.Join(small, "filler"), make([]byte, 100<<10), 0o644))
	stop := make(chan struct{})
	go func() {
		defer close(stop)
		for range 200 {
			if len(glob(small, ".new.hovix/*/files")) > 0 {
				_ = os.WriteFile(filepath.Join(small, "filler"), make([]byte, 2600<<10), 0o644)
				return
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	run = testenv.Hovix(t, "restore", file, filepath.Join(small, "new"))
	<-stop
	assert.Equal(t, 1, run.Status, run.Out)
	assert.Equal(t, []string{"filler"}, names(t, small))
}

func glob(dir, pattern string) []string {
	found, _ := filepath.Glob(filepath.Join(dir, pattern))
	return found
}

// TestTerminal runs on a terminal: bars come and go, and a question is asked.
func TestTerminal(t *testing.T) {
	script := testenv.Tool(t, "script")
	dir := museum(t, database.Location{})
	work := t.TempDir()
	file, target := filepath.Join(work, "x.tar.zst"), filepath.Join(work, "new")
	siteFile(t, target, `name = "live"`)
	on := func(answer, command string) string {
		cmd := exec.Command("timeout", "20", script, "-qec", testenv.Binary(t)+" "+command, "/dev/null")
		// Colour depends on these; the machine that tests may have set them.
		cmd.Env = append(os.Environ(), "TERM=xterm-256color", "CI=", "NO_COLOR=")
		cmd.Stdin = strings.NewReader(answer)
		out, _ := cmd.CombinedOutput()
		require.NotEqual(t, 124, cmd.ProcessState.ExitCode(), "it hangs: %s", out)
		return string(out)
	}
	out := on("", "pack "+dir+" -o "+file)
	assert.Contains(t, out, "\x1b[1m", "bold")
	assert.Contains(t, out, "Packed Brackwater Ferry Museum")
	assert.Contains(t, on("", "inspect --check "+file), "Intact")
	before := snapshot(t, target)
	out = on("no\n", "restore "+file+" "+target)
	assert.Contains(t, out, "Replace it?")
	assert.Contains(t, out, "nothing was changed")
	assert.Equal(t, before, snapshot(t, target))
	out = on("yes\n", "restore "+file+" "+target+" --url https://new.example")
	assert.Contains(t, out, "Restored Brackwater Ferry Museum")
	assert.FileExists(t, filepath.Join(target, "assets/style.css"))
}

// TestInterrupt: Ctrl-C ends a run within a second and leaves nothing.
func TestInterrupt(t *testing.T) {
	work := t.TempDir()
	site := filepath.Join(work, "site")
	siteFile(t, site, `name = "large"`)
	for i := range 60 {
		b := make([]byte, 4<<20)
		_, _ = rand.NewChaCha8([32]byte{byte(i)}).Read(b)
		require.NoError(t, os.WriteFile(filepath.Join(site, fmt.Sprintf("%d.bin", i)), b, 0o644))
	}
	interrupt := func(args ...string) string {
		cmd := exec.Command(testenv.Binary(t), args...)
		var errOut strings.Builder
		cmd.Stderr = &errOut
		require.NoError(t, cmd.Start())
		time.Sleep(150 * time.Millisecond)
		require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case err := <-done:
			require.Error(t, err)
			assert.Equal(t, 1, cmd.ProcessState.ExitCode(), errOut.String())
		case <-time.After(3 * time.Second):
			t.Fatal("it does not stop")
		}
		return errOut.String()
	}
	out := t.TempDir()
	assert.Contains(t, interrupt("pack", site, "-o", filepath.Join(out, "x.tar.zst"), "--compress", "small"), "interrupted")
	assert.Empty(t, names(t, out))
	file := packed(t, site)
	parent := t.TempDir()
	assert.Contains(t, interrupt("restore", file, filepath.Join(parent, "new")), "interrupted")
	assert.Empty(t, names(t, parent))
}
