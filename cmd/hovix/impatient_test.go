package main_test

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// slow passes bytes on, but for a pause of three seconds.
const slow = `(head -c 1500000; sleep 3; cat)`

// TestImpatientServers: servers that end sessions and statements after a second or two, as
// some hosts have them, end neither a restore nor a pack nor a rewriting that waits longer
// for a pipe.
func TestImpatientServers(t *testing.T) {
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
