package main_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
	cmd := exec.Command(testenv.Binary(t), args...)
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	require.NoError(t, cmd.Start())
	stop := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	err = cmd.Wait()
	require.True(t, stop.Stop(), "%v hangs", args)
	assert.NotContains(t, b.String(), "goroutine ", "%v", args)
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		assert.Less(t, usage.Maxrss<<10, limit, "room that %v took", args)
	}
	return b.String(), err
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
