package testenv

import (
	"bytes"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hovix/internal/database"
)

// Server is a database server of a test's own, which it may kill.
type Server struct {
	Location database.Location // of a database on it, by TCP
	start    func() *exec.Cmd
	ready    func() error
	cmd      *exec.Cmd
	t        testing.TB
}

// Start starts the server and waits until it answers.
func (s *Server) Start() {
	s.t.Helper()
	s.cmd = s.start()
	var log bytes.Buffer
	s.cmd.Stdout, s.cmd.Stderr = &log, &log
	require.NoError(s.t, s.cmd.Start())
	if err := s.wait(); err != nil {
		s.Kill()
		s.t.Fatalf("the server does not answer: %v: %s", err, tail(log.String(), 2000))
	}
}

// wait waits until the server answers.
func (s *Server) wait() (err error) {
	for range 300 {
		if err = s.ready(); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

// Again waits until a server answers that may have crashed, and starts it anew if it
// does not.
func (s *Server) Again() {
	s.t.Helper()
	if s.ready() == nil {
		return
	}
	time.Sleep(time.Second)
	if s.ready() != nil {
		s.Kill()
		s.Start()
	}
}

// Kill ends the server at once, as a crash does.
func (s *Server) Kill() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	time.Sleep(300 * time.Millisecond) // its other processes notice
}

// asUser gives a command that runs as the user of a server, where root runs the test.
func asUser(t testing.TB, name, dir string, args ...string) *exec.Cmd {
	t.Helper()
	if os.Geteuid() != 0 {
		return exec.Command(args[0], args[1:]...)
	}
	u, err := user.Lookup(name)
	require.NoError(t, err)
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	for d := filepath.Dir(dir); len(d) > 1; d = filepath.Dir(d) { // it must get there
		if st, err := os.Stat(d); err == nil && st.Mode().Perm()&0o001 == 0 {
			require.NoError(t, os.Chmod(d, st.Mode().Perm()|0o111))
		}
	}
	require.NoError(t, os.Chown(dir, uid, gid))
	return exec.Command("setpriv", append([]string{"--reuid=" + u.Uid, "--regid=" + u.Gid, "--clear-groups"}, args...)...)
}

// OwnMariaDB makes a MariaDB server in dir, with further options.
func OwnMariaDB(t testing.TB, dir string, options ...string) *Server {
	t.Helper()
	need(t, "HOVIX_TEST_MARIADB_SOCKET", "a MariaDB server")
	data := filepath.Join(dir, "db")
	require.NoError(t, os.Mkdir(data, 0o755))
	asUser(t, "mysql", data)
	install := exec.Command(Tool(t, "mariadb-install-db"), "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db", "--innodb-log-file-size=8M")
	if os.Geteuid() == 0 {
		install.Args = append(install.Args, "--user=mysql")
	}
	install.Env = append(os.Environ(), "TMPDIR=/tmp") // where its user may write too
	out, err := install.CombinedOutput()
	require.NoError(t, err, "%s", out)
	s := &Server{t: t, Location: database.Location{Engine: database.MariaDB, Host: "127.0.0.1", Port: FreePort(t), User: "keeper", Password: Password, Name: "site"}}
	s.start = func() *exec.Cmd {
		args := append([]string{serverProgram(t, "mariadbd"), "--no-defaults", "--datadir=" + data, "--socket=" + filepath.Join(data, "sock"), "--port=" + strconv.Itoa(s.Location.Port), "--bind-address=127.0.0.1",
			"--skip-name-resolve", "--innodb-buffer-pool-size=64M", "--innodb-log-file-size=8M", "--log-error=" + filepath.Join(data, "log"), "--tmpdir=/tmp"}, options...)
		return asUser(t, "mysql", data, args...)
	}
	s.ready = func() error {
		db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/?multiStatements=true", s.Location.Port))
		if err != nil {
			return err
		}
		defer db.Close()
		_, err = db.Exec("CREATE DATABASE IF NOT EXISTS site CHARACTER SET utf8mb4; CREATE USER IF NOT EXISTS keeper@'%' IDENTIFIED BY '" + Password + "'; GRANT ALL ON site.* TO keeper@'%'")
		return err
	}
	s.Start()
	t.Cleanup(s.Kill)
	return s
}

// OwnPostgres makes a PostgreSQL server in dir, with further options.
func OwnPostgres(t testing.TB, dir string, options ...string) *Server {
	t.Helper()
	need(t, "HOVIX_TEST_POSTGRES_PORT", "a PostgreSQL server")
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	require.NotEmpty(t, found)
	sort.Strings(found)
	bin := filepath.Dir(found[len(found)-1])
	data := filepath.Join(dir, "pg")
	require.NoError(t, os.Mkdir(data, 0o700))
	install := asUser(t, "postgres", data, filepath.Join(bin, "initdb"), "-D", data, "-U", "keeper", "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8", "--wal-segsize=1")
	install.Dir = "/"
	out, err := install.CombinedOutput()
	require.NoError(t, err, "%s", out)
	s := &Server{t: t, Location: database.Location{Engine: database.Postgres, Host: "127.0.0.1", Port: FreePort(t), User: "keeper", Password: Password, Name: "site"}}
	s.start = func() *exec.Cmd {
		_ = os.Remove(filepath.Join(data, "postmaster.pid")) // of one that was killed
		args := append([]string{filepath.Join(bin, "postgres"), "-D", data, "-p", strconv.Itoa(s.Location.Port), "-k", data, "-c", "listen_addresses=127.0.0.1", "-c", "max_wal_size=8MB", "-c", "min_wal_size=2MB"}, options...)
		cmd := asUser(t, "postgres", data, args...)
		cmd.Dir = "/"
		return cmd
	}
	s.ready = func() error {
		args := []string{"-h", "127.0.0.1", "-p", strconv.Itoa(s.Location.Port), "-U", "keeper"}
		create := exec.Command("createdb", append(args, "site")...)
		if out, err := create.CombinedOutput(); err != nil && !bytes.Contains(out, []byte("already exists")) {
			return err
		}
		return exec.Command("psql", append(args, "-d", "site", "-c", "SELECT 1")...).Run()
	}
	s.Start()
	t.Cleanup(s.Kill)
	return s
}

// serverProgram finds a program that is not on everybody's path.
func serverProgram(t testing.TB, name string) string {
	t.Helper()
	if p, err := exec.LookPath(name); err == nil {
		return p
	}
	p := "/usr/sbin/" + name
	require.FileExists(t, p)
	return p
}
