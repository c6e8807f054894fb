// Package testenv gives tests what they run against: the built program, a
// MariaDB server, PHP, a real WordPress site. scripts/test.sh starts the
// servers and says in environment variables where they are; a test that needs
// one that is not there is skipped, and the script says so loudly.
package testenv

import (
	"bytes"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver "mysql"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
)

// Password is that of the user "tester" on the test server.
const Password = "test-password"

// need gives an environment variable or skips the test.
func need(t testing.TB, variable, what string) string {
	t.Helper()
	v := os.Getenv(variable)
	if v == "" {
		t.Skipf("LEFT OUT: %s is not available (%s is not set; run the tests with make test)", what, variable)
	}
	return v
}

// Tool gives the path of a program or skips the test.
func Tool(t testing.TB, name string) string {
	t.Helper()
	p, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("LEFT OUT: the program %s is not installed", name)
	}
	return p
}

// MariaDB makes an empty database on the test server, and a user who may do
// everything in it and nothing elsewhere; both are dropped after the test.
func MariaDB(t testing.TB) database.Location {
	t.Helper()
	socket := need(t, "HOVIX_TEST_MARIADB_SOCKET", "a MariaDB server")
	port, err := strconv.Atoi(need(t, "HOVIX_TEST_MARIADB_PORT", "a MariaDB server"))
	require.NoError(t, err)
	b := make([]byte, 5)
	_, _ = rand.Read(b)
	name := "hovix_test_" + hex.EncodeToString(b)
	l := database.Location{Engine: database.MariaDB, Host: "127.0.0.1", Port: port, Socket: socket, User: name, Password: Password, Name: name}
	server := database.Location{Socket: socket}
	Exec(t, server, "CREATE DATABASE "+name+" CHARACTER SET utf8mb4")
	for _, host := range []string{"localhost", "'%'"} {
		Exec(t, server, "CREATE USER "+name+"@"+host+" IDENTIFIED BY '"+Password+"'; GRANT ALL ON "+name+".* TO "+name+"@"+host)
	}
	t.Cleanup(func() {
		Exec(t, server, "DROP DATABASE IF EXISTS "+name+"; DROP USER "+name+"@localhost, "+name+"@'%'")
	})
	return l
}

// Postgres makes an empty database on the test server, dropped after the test,
// and a user who owns it and may do nothing else.
func Postgres(t testing.TB) database.Location {
	t.Helper()
	port, err := strconv.Atoi(need(t, "HOVIX_TEST_POSTGRES_PORT", "a PostgreSQL server"))
	require.NoError(t, err)
	b := make([]byte, 5)
	_, _ = rand.Read(b)
	name := "hovix_test_" + hex.EncodeToString(b)
	admin := database.Location{Engine: database.Postgres, Port: port, Socket: need(t, "HOVIX_TEST_POSTGRES_SOCKET", "a PostgreSQL server"), User: "tester", Name: "postgres"}
	l := admin
	l.User, l.Name, l.Password = name, name, Password
	psql := func(statements ...string) {
		for _, s := range statements {
			Program(t, "psql", nil, append(PostgresArgs(admin), "-c", s)...)
		}
	}
	psql("CREATE ROLE "+name+" LOGIN PASSWORD '"+Password+"'", "CREATE DATABASE "+name+" OWNER "+name)
	t.Cleanup(func() { psql("DROP DATABASE IF EXISTS "+name+" WITH (FORCE)", "DROP ROLE "+name) })
	return l
}

// PostgresArgs are the arguments with which PostgreSQL's own programs reach a
// database.
func PostgresArgs(l database.Location) []string {
	return []string{"-h", l.Socket, "-p", strconv.Itoa(l.Port), "-U", l.User, "-d", l.Name}
}

// Program runs a program with text as its input and gives its output.
func Program(t testing.TB, name string, input []byte, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(Tool(t, name), args...)
	cmd.Stdin = bytes.NewReader(input)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	require.NoError(t, cmd.Run(), "%s: %s", name, errOut.String())
	return out.Bytes()
}

// Connect gives a connection pool to a database of the test server.
func Connect(t testing.TB, l database.Location) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", fmt.Sprintf("tester:%s@unix(%s)/%s?multiStatements=true&charset=utf8mb4", Password, l.Socket, l.Name))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// Exec runs statements on a database of the test server.
func Exec(t testing.TB, l database.Location, statements string) {
	t.Helper()
	l.User = "tester"
	ExecAs(t, l, statements)
}

// ExecAs runs statements as the user of the location.
func ExecAs(t testing.TB, l database.Location, statements string) {
	t.Helper()
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@unix(%s)/%s?multiStatements=true&charset=utf8mb4", l.User, Password, l.Socket, l.Name))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(statements)
	require.NoError(t, err)
}

// Client runs the engine's own client with text as its input.
func Client(t testing.TB, l database.Location, text []byte) string {
	t.Helper()
	var cmd *exec.Cmd
	switch l.Engine {
	case database.SQLite:
		cmd = exec.Command(Tool(t, "sqlite3"), "-bail", l.Path)
	case database.Postgres:
		cmd = exec.Command(Tool(t, "psql"), append(PostgresArgs(l), "-v", "ON_ERROR_STOP=1", "-Atq")...)
	default:
		cmd = exec.Command(Tool(t, "mariadb"), "--no-defaults", "-S", l.Socket, "-utester", "-p"+Password, l.Name)
	}
	cmd.Stdin = bytes.NewReader(text)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "client: %s", out)
	return string(out)
}

var build struct {
	once sync.Once
	path string
	err  error
	out  []byte
}

// Binary builds hovix once in a test process and gives its path.
func Binary(t testing.TB) string {
	t.Helper()
	build.once.Do(func() {
		dir, err := os.MkdirTemp("", "hovix-test-bin-")
		if err != nil {
			build.err = err
			return
		}
		build.path = filepath.Join(dir, "hovix")
		cmd := exec.Command("go", "build", "-tags", "faults", "-o", build.path, "hovix/cmd/hovix")
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		build.out, build.err = cmd.CombinedOutput()
	})
	require.NoError(t, build.err, "build hovix: %s", build.out)
	return build.path
}

// Run is one run of hovix.
type Run struct {
	Out, Err string
	Status   int
}

// Hovix runs the built program.
func Hovix(t testing.TB, args ...string) Run {
	t.Helper()
	return HovixIn(t, "", nil, args...)
}

// HovixIn runs the built program in a folder with further environment variables.
func HovixIn(t testing.TB, dir string, env []string, args ...string) Run {
	t.Helper()
	cmd := exec.Command(Binary(t), args...)
	var out, errOut bytes.Buffer
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &out, &errOut
	cmd.Env = append(os.Environ(), env...)
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	return Run{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// FreePort gives a TCP port of the loopback address that nobody uses.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// here is the folder of this package's source.
func here() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(file)
}

// PHP runs a PHP program with text as its input and gives its output.
func PHP(t testing.TB, program string, input []byte, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(Tool(t, "php"), append([]string{"-d", "display_errors=stderr", "-d", "memory_limit=1G", "-r", program, "--"}, args...)...)
	cmd.Stdin = bytes.NewReader(input)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	require.NoError(t, cmd.Run(), "php: %s", errOut.String())
	require.Empty(t, errOut.String(), "php says")
	return out.Bytes()
}

// ServePHP serves a folder that holds a WordPress site, at a base path below it
// ("" or "/blog"), with PHP's own server on a port of the loopback address until
// the test ends.
func ServePHP(t testing.TB, folder string, port int, base string) {
	t.Helper()
	cmd := exec.Command(Tool(t, "php"), "-d", "display_errors=0", "-S", "127.0.0.1:"+strconv.Itoa(port), "-t", folder, filepath.Join(here(), "wordpress", "router.php"))
	cmd.Env = append(os.Environ(), "PHP_CLI_SERVER_WORKERS=2", "SITE_BASE="+base)
	var log bytes.Buffer
	cmd.Stdout, cmd.Stderr = &log, &log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // its workers end with it
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("php: %s", tail(log.String(), 4000))
		}
	})
	for range 100 {
		c, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err == nil {
			_ = c.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("php does not serve")
}

// WordPressNetwork makes a network of a site that WordPress has made, with three
// members below its address: nord, sued and west.
func WordPressNetwork(t testing.TB, folder, address string) {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	step := func(name string) {
		out, err := exec.Command(Tool(t, "php"), "-d", "display_errors=stderr", filepath.Join(here(), "wordpress", "network.php"), folder, address, name).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.Contains(t, string(out), name, "%s", out)
	}
	change := func(with string) {
		file := filepath.Join(folder, "wp-config.php")
		config, err := os.ReadFile(file)
		require.NoError(t, err)
		text := strings.Replace(string(config), "define( 'WP_DEBUG', false );\n", "define( 'WP_DEBUG', false );\n"+with, 1)
		require.NotEqual(t, string(config), text)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o640))
	}
	change("define( 'WP_ALLOW_MULTISITE', true );\n")
	step("tables")
	change(fmt.Sprintf("define( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', false );\ndefine( 'DOMAIN_CURRENT_SITE', '%s' );\ndefine( 'PATH_CURRENT_SITE', '%s/' );\ndefine( 'SITE_ID_CURRENT_SITE', 1 );\ndefine( 'BLOG_ID_CURRENT_SITE', 1 );\n", u.Host, u.Path))
	step("members")
}

// WordPressLinks gives a site other permalinks and another word before its categories,
// or, with "--" for both, gives where WordPress says that its pages are: JSON, path to
// title.
func WordPressLinks(t testing.TB, folder, structure, category string) []byte {
	t.Helper()
	out, err := exec.Command(Tool(t, "php"), "-d", "display_errors=stderr", filepath.Join(here(), "wordpress", "links.php"), folder, structure, category).Output()
	require.NoError(t, err, "%s", out)
	return out
}

// Names lists the entries of a folder.
func Names(t testing.TB, dir string) (out []string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func tail(s string, n int) string { return s[max(0, len(s)-n):] }

// WordPress installs a real WordPress site with content in a new folder and a
// new database, at the address given.
func WordPress(t testing.TB, address, prefix string) (folder string, l database.Location) {
	t.Helper()
	source := need(t, "HOVIX_TEST_WORDPRESS", "WordPress")
	php := Tool(t, "php")
	l = MariaDB(t)
	folder = filepath.Join(t.TempDir(), "old site")
	out, err := exec.Command("cp", "-r", source, folder).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Remove(filepath.Join(folder, ".htaccess")))
	files := filepath.Join(here(), "wordpress")
	theme := filepath.Join(folder, "wp-content/themes/harbour")
	out, err = exec.Command("cp", "-r", filepath.Join(files, "theme"), theme).CombinedOutput()
	require.NoError(t, err, "%s", out)
	config, err := os.ReadFile(filepath.Join(files, "config.php.txt"))
	require.NoError(t, err)
	text := strings.NewReplacer("@NAME@", l.Name, "@USER@", l.User, "@PASSWORD@", l.Password, "@HOST@", "localhost:"+l.Socket, "@PREFIX@", prefix).Replace(string(config))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-config.php"), []byte(text), 0o640))
	cmd := exec.Command(php, "-d", "display_errors=stderr", filepath.Join(files, "install.php"), folder, address)
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, "install WordPress: %s", out)
	require.Contains(t, string(out), "installed", "install WordPress: %s", out)
	return folder, l
}

// Stored checks what a stage gives for rows: how many it has stored.
func Stored(t testing.TB, want int64) func(int64, error) {
	return func(n int64, err error) {
		t.Helper()
		require.NoError(t, err)
		require.Equal(t, want, n)
	}
}

// Exchange makes a state of a database live, as a switch does, and gives the one
// that was put aside, with the warnings.
func Exchange(t testing.TB, ex database.Exchanger, s *database.State, stamp string) (*database.State, []string) {
	t.Helper()
	var aside *database.State
	done, err := ex.Exchanged(t.Context(), s, nil)
	require.NoError(t, err)
	require.False(t, done, "before the exchange")
	require.NoError(t, ex.Exchange(t.Context(), s, stamp, func(a *database.State) error {
		aside = a
		return nil
	}))
	done, err = ex.Exchanged(t.Context(), s, aside)
	require.NoError(t, err)
	require.True(t, done, "after the exchange")
	var warnings []string
	for range 2 { // after a crash it is done once more
		warnings, err = ex.Complete(t.Context(), s, aside)
		require.NoError(t, err)
	}
	return aside, warnings
}

// FileSize gives the size of a file, 0 if there is none.
func FileSize(path string) int64 {
	st, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return st.Size()
}

// ServerTests gives the folder of MariaDB's own test suite.
func ServerTests(t testing.TB) string {
	t.Helper()
	return need(t, "HOVIX_TEST_MARIADB_TESTS", "the statements of MariaDB's own test suite")
}
