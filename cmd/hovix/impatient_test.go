package main_test

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// slow passes bytes on, but for a pause of three seconds.
const slow = `(head -c 1500000; sleep 3; cat)`

// TestImpatientServers: servers that end sessions and statements after a second or two, as
// some hosts have them, end neither a restore nor a pack nor a rewriting that waits longer
// for a pipe.
func TestImpatientServers(t *testing.T) {
	t.Parallel()
	for name, own := range map[string]func(testing.TB, string) *testenv.Server{
		"MariaDB": func(t testing.TB, dir string) *testenv.Server {
			return testenv.OwnMariaDB(t, dir, "--wait-timeout=2", "--interactive-timeout=2", "--max-statement-time=1", "--net-read-timeout=1", "--net-write-timeout=1",
				"--idle-transaction-timeout=2", "--idle-readonly-transaction-timeout=2", "--idle-write-transaction-timeout=2")
		},
		"PostgreSQL": func(t testing.TB, dir string) *testenv.Server {
			return testenv.OwnPostgres(t, dir, "-c", "statement_timeout=1s", "-c", "idle_in_transaction_session_timeout=2s", "-c", "idle_session_timeout=2s", "-c", "lock_timeout=1s")
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file := bulky(t, engineFresh[name], 12)
			folder := liveFolder(t, own(t, t.TempDir()).Location)
			shell := func(command string) string {
				cmd := exec.Command("bash", "-o", "pipefail", "-c", command, testenv.Binary(t), file, folder)
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s", out)
				return string(out)
			}
			shell(slow + ` <"$1" | "$0" restore - "$2" --url http://old.example --yes`)
			again := filepath.Join(t.TempDir(), "again.tar.zst")
			shell(`"$0" pack "$2" -o - | ` + slow + ` >` + again)
			ok(t, testenv.Hovix(t, "inspect", again, "--check"))
			fifo := filepath.Join(t.TempDir(), "changes")
			require.NoError(t, syscall.Mkfifo(fifo, 0o600))
			done := make(chan int64, 1)
			go func() {
				in, err := os.Open(fifo)
				if assert.NoError(t, err) {
					time.Sleep(3 * time.Second)
					n, err := io.Copy(io.Discard, in)
					assert.NoError(t, err)
					done <- n
				}
			}()
			run := testenv.Hovix(t, "rewrite", folder, "--map", "http://old.example=http://new.example", "--changes", fifo, "--yes")
			require.Contains(t, []int{0, 3}, run.Status, run.Err)
			assert.Contains(t, run.Out, "1,200 of 1,200 values")
			assert.Greater(t, <-done, int64(20_000_000))
		})
	}
}

// TestKilledOverKeys: a restore that is killed while the server makes keys, which goes on with
// that for a while, is gone on with by the next run at once.
func TestKilledOverKeys(t *testing.T) {
	t.Parallel()
	fill := map[string][2]string{
		"MariaDB": {"CREATE TABLE keyed (id INT PRIMARY KEY, a CHAR(32), b CHAR(32), c CHAR(40), KEY (a), KEY (b), KEY (c), KEY (a,b), KEY (b,c)); INSERT INTO keyed SELECT seq, MD5(seq), MD5(seq+1), SHA1(seq) FROM seq_1_to_250000;",
			"SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE DB=DATABASE() AND INFO LIKE 'ALTER TABLE `\\_hovix%'"},
		"PostgreSQL": {"CREATE TABLE keyed (id int PRIMARY KEY, a text, b text); INSERT INTO keyed SELECT n, md5(n::text), md5((n+1)::text) FROM generate_series(1,250000) n; CREATE INDEX ka ON keyed (a,b); CREATE INDEX kb ON keyed (b,a);",
			"SELECT count(*) FROM pg_stat_activity WHERE datname=current_database() AND state='active' AND query LIKE '%INDEX%\\_hovix%' AND query NOT LIKE '%pg_stat%'"},
	}
	for name, fresh := range engineFresh {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			from, to := fresh(t), fresh(t)
			testenv.Client(t, from, []byte(fill[name][0]))
			dir := filepath.Join(t.TempDir(), "site")
			siteFile(t, dir, `database = "`+from.String()+`"`, `database-password = "`+from.Password+`"`)
			file, folder := packed(t, dir), liveFolder(t, to)
			args := []string{"restore", file, folder, "--yes", "--resume"}
			cmd := exec.Command(testenv.Binary(t), args...)
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool {
				return regexp.MustCompile(`[1-9]`).MatchString(testenv.Client(t, to, []byte(fill[name][1]+";")))
			}, 60*time.Second, 20*time.Millisecond, "the server makes keys")
			require.NoError(t, cmd.Process.Kill())
			_ = cmd.Wait()
			run := ok(t, testenv.Hovix(t, args...))
			assert.Contains(t, run.Err+run.Out, "is gone on with")
			assert.Contains(t, testenv.Client(t, to, []byte("SELECT COUNT(*) FROM keyed;")), "250000")
			ok(t, testenv.Hovix(t, "undo", folder, "--yes"))
		})
	}
}

// TestServerRestartsInTheSwitch: a server that dies in the middle of a switch or an undo and
// comes back is waited for, and the exchange is finished.
func TestServerRestartsInTheSwitch(t *testing.T) {
	t.Parallel()
	for name, own := range ownServers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file := bulky(t, engineFresh[name], 1)
			server := own(t, t.TempDir())
			folder := liveFolder(t, server.Location)
			for i, point := range []string{"database@go-on", "tables@go-on", "database@undo", "complete@go-on"} {
				args := []string{"restore", file, folder, "--url", "https://new.example", "--yes"}
				undo := strings.HasSuffix(point, "undo")
				env := []string{"HOVIX_PAUSE=" + point, "HOVIX_PAUSE_AT=" + filepath.Join(t.TempDir(), "there")}
				if undo {
					ok(t, testenv.Hovix(t, args...))
					args = []string{"undo", folder, "--yes"}
					env = append(env, "HOVIX_FAULT_ALONE=1")
				}
				cmd := exec.Command(testenv.Binary(t), args...)
				cmd.Env = append(os.Environ(), env...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				require.NoError(t, cmd.Start())
				at := strings.TrimPrefix(env[1], "HOVIX_PAUSE_AT=")
				require.Eventually(t, func() bool { return exists(at) }, 30*time.Second, 5*time.Millisecond, "%s %s", point, &out)
				server.Kill()
				require.NoError(t, os.Remove(at))
				time.Sleep(1500 * time.Millisecond)
				server.Start()
				_ = cmd.Wait()
				require.Contains(t, []int{0, 3}, cmd.ProcessState.ExitCode(), "%s: %s", point, &out)
				assert.Contains(t, out.String(), "waiting up to 60 seconds", point)
				assert.NotContains(t, out.String(), "nothing was changed")
				if !undo {
					assert.Equal(t, "100", rowsIn(t, server.Location, "bulk"), point)
					ok(t, testenv.Hovix(t, "undo", folder, "--yes"))
				}
				ok(t, testenv.Hovix(t, "undo", folder, "--discard", "--yes"))
				assert.Equal(t, []string{"www"}, names(t, filepath.Dir(folder)), i)
			}
		})
	}
}

// TestTablesHeldByOthers: a lock that another program holds ends a restore in words that say
// what to do, with the site as it was.
func TestTablesHeldByOthers(t *testing.T) {
	t.Parallel()
	hold := map[string]string{"MariaDB": "LOCK TABLES live READ; SELECT SLEEP(16);", "PostgreSQL": "BEGIN; LOCK TABLE live IN ACCESS SHARE MODE; SELECT pg_sleep(16);"}
	for name, fresh := range engineFresh {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			from, to := fresh(t), fresh(t)
			for _, l := range []database.Location{from, to} {
				testenv.Client(t, l, []byte("CREATE TABLE live (a INT); INSERT INTO live VALUES (1);"))
			}
			dir := filepath.Join(t.TempDir(), "site")
			siteFile(t, dir, `database = "`+from.String()+`"`, `database-password = "`+from.Password+`"`)
			file, folder := packed(t, dir), liveFolder(t, to)
			before := snapshot(t, folder)
			held := make(chan bool)
			go func() {
				defer close(held)
				testenv.Client(t, to, []byte(hold[name]))
			}()
			time.Sleep(time.Second)
			run := testenv.Hovix(t, "restore", file, folder, "--yes")
			require.Equal(t, 1, run.Status, run.Out)
			assert.Contains(t, run.Err, "in use by others")
			assert.Contains(t, run.Err, "let it end, or end it")
			assert.NotContains(t, run.Err, "1205")
			assert.Equal(t, before, snapshot(t, folder))
			<-held
			ok(t, testenv.Hovix(t, "restore", file, folder, "--yes"))
		})
	}
}
