package main_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/testenv"
)

// memoryLimit is what a command may take at most for something small that claims to be
// large, in bytes.
const memoryLimit = 300 << 20

// bounds are files of a site that ask for more than they are worth. Where want is not
// empty, the commands end with a reason that matches it.
var bounds = []struct {
	name, file string
	content    func() string // none: a pipe that nobody writes to
	want       string
}{
	{"a site file of brackets", "hovix.toml", func() string { return "address = " + strings.Repeat("[", 4<<20) }, "hovix.toml.*brackets"},
	{"a site file of tables", "hovix.toml", func() string { return strings.Repeat("[a.a.a.a.a.a.a.a.a.a]\n", 100_000) }, "hovix.toml"},
	{"a site file of inline tables", "hovix.toml", func() string { return "a = " + strings.Repeat("{a=", 1<<20) }, "hovix.toml"},
	{"a site file of a dotted key", "hovix.toml", func() string { return strings.Repeat("a.", 1<<20) + "a = 1" }, "hovix.toml"},
	{"a site file of 20 MB", "hovix.toml", func() string { return "address = \"http://a.example\"\n#" + strings.Repeat("x", 20<<20) }, "hovix.toml.*larger"},
	{"a site file that is a pipe", "hovix.toml", nil, "hovix.toml.*(no regular file|pipe)"},
	{"settings of brackets", "wp-config.php", func() string { return "<?php define('DB_NAME', " + strings.Repeat("(", 4<<20) }, ""},
	{"settings of arrays", "wp-config.php", func() string { return "<?php $a = " + strings.Repeat("array(", 2<<20) }, ""},
	{"settings of minus signs", "wp-config.php", func() string { return "<?php $a = " + strings.Repeat("- ", 4<<20) + "1;" }, ""},
	{"settings of nested ifs", "wp-config.php", func() string { return "<?php " + strings.Repeat("if (1) {", 1<<20) }, ""},
	{"settings that double a value", "wp-config.php", func() string {
		return "<?php $a = 'xxxxxxxxxxxxxxxx';" + strings.Repeat("$a = $a.$a;", 40) + "define('DB_NAME', $a);"
	}, ""},
	{"settings that double an array", "wp-config.php", func() string {
		return "<?php $a = [1];" + strings.Repeat("$a = [$a, $a];", 40) + "define('DB_NAME', $a);"
	}, ""},
	{"settings that double by str_replace", "wp-config.php", func() string {
		return "<?php $a = 'x';" + strings.Repeat("$a = str_replace('x', 'xx', $a); $a = sprintf('%s%s', $a, $a); $a = \"$a$a\";", 40) + "define('DB_NAME', $a);"
	}, ""},
	{"settings that repeat a string", "wp-config.php", func() string { return "<?php define('DB_NAME', str_repeat('x', 9223372036854775807));" }, ""},
	{"settings that pad", "wp-config.php", func() string {
		return "<?php define('DB_NAME', sprintf('%2147483647s', 'x') . str_pad('x', 9999999999));"
	}, ""},
	{"settings that are a pipe", "wp-config.php", nil, ""},
	{"settings of heredocs", "wp-config.php", func() string { return "<?php " + strings.Repeat("$a = <<<A\n", 500_000) }, ""},
	{"a JSON file of brackets", "config.json", func() string { return strings.Repeat(`{"db":`, 150_000) }, "brackets"},
	{"a YAML file of aliases", "config.yaml", func() string {
		s := "a0: &a0 [x, x]\n"
		for i := range 40 {
			s += fmt.Sprintf("a%d: &a%d [*a%d, *a%d]\n", i+1, i+1, i, i)
		}
		return s + "db: *a40\n"
	}, "config.yaml"},
	{"a YAML file of brackets", "config.yml", func() string { return "db: " + strings.Repeat("[", 19_000) }, "config.yml"},
	{"rules that are a pipe", ".htaccess", nil, ""},
	{"an upload that is a pipe", "wp-content/uploads/a.jpg", nil, ""},
}

// bounded runs hovix, and insists that it takes no more room than it may.
func bounded(t *testing.T, limit int64, args ...string) (out string, err error) {
	t.Helper()
	var in io.Reader
	if i := slices.Index(args, "-"); i >= 0 && strings.HasPrefix(args[i+1], "<") { // - <FILE
		f, err := os.Open(args[i+1][1:])
		require.NoError(t, err)
		defer f.Close()
		in, args = f, slices.Delete(slices.Clone(args), i+1, i+2)
	}
	cmd := exec.Command(testenv.Binary(t), args...)
	cmd.Stdin = in
	// Not into memory: the system counts what the parent had when it started the child.
	file, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	defer file.Close()
	cmd.Stdout, cmd.Stderr = file, file
	require.NoError(t, cmd.Start())
	patience := 2 * time.Minute
	if os.Getenv("HOVIX_ENTRIES") != "" {
		patience = 2 * time.Hour
	}
	stop := time.AfterFunc(patience, func() { _ = cmd.Process.Kill() })
	err = cmd.Wait()
	require.True(t, stop.Stop(), "%v hangs", args)
	said := make([]byte, 1<<20)
	n, _ := file.ReadAt(said, 0)
	out = string(said[:n])
	assert.NotContains(t, out, "goroutine ", "%v", args)
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		t.Logf("%.200v took %d MB", args, usage.Maxrss>>10)
		assert.Less(t, usage.Maxrss<<10, limit, "room that %v took", args)
	}
	return out, err
}

// TestBoundsOfSites: what a site's files claim takes no room and no time beyond their own
// size, in every command that reads them.
func TestBoundsOfSites(t *testing.T) {
	for _, c := range bounds {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := filepath.Join(t.TempDir(), "site")
			file := filepath.Join(dir, c.file)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			if strings.HasPrefix(c.file, "config.") {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "hovix.toml"), []byte("[login]\nfile = \""+c.file+"\"\nengine = \"mariadb\"\nname = \"db\"\n"), 0o644))
			} else if c.file != "hovix.toml" {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "wp-includes"), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-includes/version.php"), []byte("<?php $wp_version = '6.1';"), 0o644))
			}
			if c.file != "wp-config.php" && !strings.HasPrefix(c.file, "config.") {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-config.php"), []byte("<?php define('DB_NAME', 'a'); define('DB_HOST', '127.0.0.1:1'); define('WP_HOME', 'http://a.example');"), 0o644))
			}
			if c.content == nil {
				require.NoError(t, syscall.Mkfifo(file, 0o666))
			} else {
				require.NoError(t, os.WriteFile(file, []byte(c.content()), 0o644))
			}
			for _, args := range [][]string{
				{"survey", dir}, {"pack", dir, "-o", filepath.Join(filepath.Dir(dir), "a.tar.zst"), "--yes"},
				{"rewrite", dir, "--map", "http://a.example=http://b.example", "--yes"},
			} {
				out, err := bounded(t, memoryLimit, args...)
				if c.want != "" && assert.Error(t, err, "%v", args) {
					assert.Regexp(t, "(?s)"+c.want, out, "%v", args)
				}
				assert.Less(t, len(out), 20_000, "%v", args)
			}
		})
	}
}

// pipes are commands that read a file, which may be a pipe that nobody writes to.
var pipes = map[string][]string{
	"an archive that is inspected": {"inspect", "PIPE"},
	"an archive that is checked":   {"inspect", "PIPE", "--check"},
	"an archive that is restored":  {"restore", "PIPE", "SITE", "--yes"},
	"an identity":                  {"inspect", "PIPE", "--identity", "PIPE"},
	"a dump that is rewritten":     {"rewrite", "PIPE", "--map", "http://a.example=http://b.example", "-o", "OUT"},
	"a map that is written":        {"redirects", "write", "PIPE", "--for", "nginx"},
	"a log that is gathered":       {"redirects", "gather", "PIPE", "-o", "OUT"},
	"a password file":              {"rewrite", "SITE", "--map", "http://a.example=http://b.example", "--database-password-file", "PIPE"},
}

// TestPipesEnd: a pipe in the place of a file is refused, or waited for no longer than
// until a signal.
func TestPipesEnd(t *testing.T) {
	t.Parallel()
	for name, args := range pipes {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			pipe, site := filepath.Join(dir, "pipe"), filepath.Join(dir, "site")
			require.NoError(t, syscall.Mkfifo(pipe, 0o666))
			siteFile(t, site, `address = "http://a.example"`, `kind = "plain"`)
			args = slices.Clone(args)
			for i, a := range args {
				args[i] = strings.NewReplacer("PIPE", pipe, "SITE", site, "OUT", filepath.Join(dir, "out.sql")).Replace(a)
			}
			cmd := exec.Command(testenv.Binary(t), args...)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Start())
			signal := time.AfterFunc(3*time.Second, func() { _ = cmd.Process.Signal(syscall.SIGTERM) })
			stop := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
			err := cmd.Wait()
			signal.Stop()
			require.True(t, stop.Stop(), "it hangs")
			t.Log(out.String())
			assert.Error(t, err)
		})
	}
}

// many writes an archive of a plain site with n empty files in one folder, or with n
// links to to, and gives its path.
func many(t *testing.T, n int, to string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "many.tar.zst")
	f, err := os.Create(file)
	require.NoError(t, err)
	w, err := archive.NewWriter(t.Context(), f, archive.Options{})
	require.NoError(t, err)
	add := func(name, link, content string) {
		e := archive.Entry{Name: name, Type: archive.TypeFile, Mode: 0o644, ModTime: time.Unix(1e9, 0)}
		if link != "" {
			e.Type, e.Link = archive.TypeSymlink, link
		}
		require.NoError(t, w.AddBytes(e, []byte(content)))
	}
	files := fmt.Sprintf(`"files":{"count":%d,"bytes":0}`, n)
	add("hovix/manifest.json", "", `{"format":1,"made":"2026-01-02T03:04:05Z","by":"hovix","kind":"plain","name":"many","address":"http://a.example","root":"/srv/many","parts":["uploads","code","settings"],`+files+`}`)
	for i := range n {
		add(fmt.Sprintf("files/many/%08d", i), to, "")
	}
	add("hovix/summary.json", "", `{"rows":0,`+files+`}`)
	_, err = w.Close()
	require.NoError(t, errors.Join(err, f.Close()))
	return file
}

// TestManyEntries: an archive of very many entries takes no more room than others, and
// links beyond number are refused (HOVIX_ENTRIES: how many files).
func TestManyEntries(t *testing.T) {
	n := 10_000
	if s := os.Getenv("HOVIX_ENTRIES"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	file, target := many(t, n, ""), filepath.Join(t.TempDir(), "new")
	for _, args := range [][]string{{"inspect", file}, {"inspect", file, "--list"}, {"inspect", file, "--check"}, {"restore", file, target, "--plan"}, {"restore", file, target, "--yes"}} {
		out, err := bounded(t, memoryLimit, args...)
		require.NoError(t, err, "%.3000s", out)
	}
	entries, err := os.ReadDir(filepath.Join(target, "many"))
	require.NoError(t, err)
	assert.Len(t, entries, n)

	// Read as it comes, for its index would unpack to far more than itself.
	target = filepath.Join(t.TempDir(), "new")
	out, err := bounded(t, memoryLimit, "restore", "-", "<"+many(t, 70_000, strings.Repeat("x", 1000)), target, "--yes")
	require.Error(t, err)
	assert.Contains(t, out, "more folders and links than can be restored")
	assert.NoDirExists(t, target)
}

// TestSignalEndsAtOnce: a signal ends a run that has much to read, or much to remove, and
// the next run puts in order what is left.
func TestSignalEndsAtOnce(t *testing.T) {
	file, parent := many(t, 20_000, ""), t.TempDir()
	target, staged := filepath.Join(parent, "new"), filepath.Join(parent, ".new.hovix")
	end := func(begun func(pid int) bool, args ...string) string {
		cmd := exec.Command(testenv.Binary(t), args...)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		require.Eventually(t, func() bool { return begun(cmd.Process.Pid) || len(done) > 0 }, 3*time.Minute, time.Millisecond)
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		select {
		case err := <-done:
			require.Error(t, err, "%s", out.String())
		case <-time.After(10 * time.Second):
			_ = cmd.Process.Kill()
			t.Fatalf("%v does not end", args)
		}
		assert.Contains(t, out.String(), "interrupted; nothing was changed")
		return out.String()
	}
	reads := func(pid int) bool { // it has opened the archive
		open, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
		return slices.ContainsFunc(open, func(fd string) bool {
			to, _ := os.Readlink(fd)
			return to == file
		})
	}
	end(reads, "inspect", file, "--check")
	out := end(func(int) bool {
		files, err := filepath.Glob(filepath.Join(staged, "*/files/many/00005000"))
		return err == nil && len(files) > 0
	}, "restore", file, target, "--yes")
	if strings.Contains(out, "not removed in full") {
		assert.DirExists(t, staged)
		end(reads, "restore", file, target, "--yes")
	} else {
		assert.Empty(t, names(t, parent))
	}
	ok(t, testenv.Hovix(t, "restore", file, target, "--yes"))
	assert.Equal(t, []string{".new.hovix", "new"}, names(t, parent))
	assert.Len(t, names(t, filepath.Join(parent, ".new.hovix")), 1, "nothing is left but the undo point")
}

// TestStalledPipes: a signal ends a run whose output nobody reads.
func TestStalledPipes(t *testing.T) {
	dir := t.TempDir()
	site, dump := filepath.Join(dir, "site"), filepath.Join(dir, "dump.sql")
	siteFile(t, site, `address = "http://a.example"`, `kind = "plain"`)
	random := make([]byte, 4<<20)
	_, _ = rand.NewChaCha8([32]byte{}).Read(random)
	require.NoError(t, os.WriteFile(filepath.Join(site, "random"), random, 0o644))
	require.NoError(t, os.WriteFile(dump, bytes.Repeat([]byte("INSERT INTO `a` VALUES ('http://a.example');\n"), 100_000), 0o644))
	for _, args := range [][]string{{"pack", site, "-o", "-"}, {"rewrite", dump, "--map", "http://a.example=http://b.example", "-o", "-"}} {
		r, w, err := os.Pipe()
		require.NoError(t, err)
		defer r.Close()
		cmd := exec.Command(testenv.Binary(t), args...)
		var errOut bytes.Buffer
		cmd.Stdout, cmd.Stderr = w, &errOut
		require.NoError(t, errors.Join(cmd.Start(), w.Close()))
		require.Eventually(t, func() bool {
			n, err := unix.IoctlGetInt(int(r.Fd()), unix.TIOCINQ)
			return err == nil && n > 32<<10 // it takes no more, or little
		}, time.Minute, time.Millisecond)
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		stop := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
		err = cmd.Wait()
		require.True(t, stop.Stop(), "%v hangs", args)
		require.Error(t, err)
		assert.Contains(t, errOut.String(), "interrupted; nothing was changed")
	}
}

// TestRowsTooLarge: a cell of 300 or 600 MB is refused where it is read, by a limit that is stated
// with what to do, and costs no more than twice its size.
func TestRowsTooLarge(t *testing.T) {
	t.Parallel()
	for engine, c := range map[string]struct {
		cell int64
		sql  string
	}{
		"SQLite":     {300_000_000, "CREATE TABLE files (a INTEGER PRIMARY KEY, b); INSERT INTO files VALUES (1, zeroblob(300000000))"},
		"PostgreSQL": {600_000_000, "CREATE TABLE files (a int PRIMARY KEY, b text); INSERT INTO files VALUES (1, repeat('http://a.example/ab ', 30000000))"},
	} {
		t.Run(engine, func(t *testing.T) {
			l := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "a.sqlite")}
			if engine == "PostgreSQL" {
				l = testenv.Postgres(t)
			}
			dir := filepath.Join(t.TempDir(), "site")
			testenv.Client(t, l, []byte(c.sql))
			siteFile(t, dir, `address = "http://a.example"`, fmt.Sprintf("database = %q", l.String()), fmt.Sprintf("database-password = %q", l.Password))
			archive := filepath.Join(t.TempDir(), "a.tar.zst")
			for _, args := range [][]string{
				{"pack", dir, "-o", archive, "--yes"},
				{"rewrite", dir, "--map", "http://a.example=http://b.example", "--yes"},
			} {
				out, err := bounded(t, 2*c.cell+memoryLimit, args...)
				require.Error(t, err, "%s", out)
				assert.Contains(t, out, "a row of it holds more than 268 MB")
				assert.Regexp(t, "--(without table:|except )files", out)
			}
			ok(t, testenv.Hovix(t, "pack", dir, "-o", archive, "--without", "table:files"))
			ok(t, testenv.Hovix(t, "rewrite", dir, "--map", "http://a.example=http://b.example", "--except", "files", "--yes"))
		})
	}
	dump := filepath.Join(t.TempDir(), "dump.sql")
	f, err := os.Create(dump)
	require.NoError(t, err)
	_, err = f.WriteString("INSERT INTO `files` VALUES (1, '")
	require.NoError(t, err)
	for range 520 {
		_, err = f.Write(bytes.Repeat([]byte("x"), 1<<20))
		require.NoError(t, err)
	}
	_, err = f.WriteString("');\n")
	require.NoError(t, errors.Join(err, f.Close()))
	out, err := bounded(t, 2*520<<20+memoryLimit, "rewrite", dump, "--map", "http://a.example=http://b.example", "-o", dump+".new")
	require.Error(t, err, "%s", out)
	assert.Contains(t, out, "a literal of more than 536 MB")
}
