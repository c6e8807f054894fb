package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestFurtherDatabases: databases of SQLite that a site has besides its own are packed as
// they are at one moment, while programs write to them, with what their logs hold; one that
// cannot be read so is packed as it lies, and named.
func TestFurtherDatabases(t *testing.T) {
	t.Parallel()
	dir := talkative(t)
	for _, mode := range []string{"wal", "delete"} {
		path := filepath.Join(dir, "up", mode+".db")
		testenv.Client(t, database.Location{Engine: database.SQLite, Path: path}, []byte("PRAGMA journal_mode="+mode+"; CREATE TABLE pair (a INT, b TEXT); CREATE INDEX i ON pair (b); INSERT INTO pair VALUES (0, 'x');"))
		// Each transaction leaves as many rows of one kind as of the other, and the log is
		// never written back.
		writer := exec.Command("sqlite3", path)
		script := "PRAGMA busy_timeout=10000; PRAGMA wal_autocheckpoint=0;\n"
		for i := range 10_000 {
			script += fmt.Sprintf("BEGIN; INSERT INTO pair VALUES (%d,'left'); INSERT INTO pair VALUES (%d,'right'); COMMIT;\n", i, i)
		}
		writer.Stdin = strings.NewReader(script)
		require.NoError(t, writer.Start())
		t.Cleanup(func() { _ = writer.Process.Kill(); _ = writer.Wait() })
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "up", "odd.db"), []byte("SQLite format 3\x00 and what is none"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "up", "odd.db-wal"), []byte("its log"), 0o644))
	time.Sleep(time.Second)
	file := filepath.Join(t.TempDir(), "a.tar.zst")
	run := testenv.Hovix(t, "pack", dir, "-o", file)
	require.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "up/odd.db: it is a database of SQLite that cannot be read at one moment")
	list := testenv.Hovix(t, "inspect", file, "--list").Out
	assert.NotContains(t, list, "up/wal.db-wal")
	assert.Contains(t, list, "up/odd.db-wal")
	target := filepath.Join(t.TempDir(), "www")
	require.Equal(t, 3, testenv.Hovix(t, "restore", file, target).Status)
	for _, mode := range []string{"wal", "delete"} {
		out := testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(target, "up", mode+".db")},
			[]byte("PRAGMA integrity_check; SELECT (SELECT count(*) FROM pair WHERE b='left')=(SELECT count(*) FROM pair WHERE b='right'), count(*)>1 FROM pair; PRAGMA journal_mode;"))
		assert.Equal(t, "ok\n1|1\n"+mode+"\n", out, mode)
	}
}
