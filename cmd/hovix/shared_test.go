package main_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestDatabaseThatStays restores the files around a database of SQLite which visitors
// write to all the while, through a connection that stays open and through fresh ones:
// no row is lost, by the restore or by its undo, and the file is sound.
func TestDatabaseThatStays(t *testing.T) {
	dir := museum(t, database.Location{})
	file := packed(t, dir)
	folder := filepath.Join(t.TempDir(), "www")
	testenv.Hovix(t, "restore", file, folder, "--url", "https://old.example")
	path := filepath.Join(folder, "data/museum.sqlite")
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: path}, []byte("PRAGMA journal_mode=WAL; CREATE TABLE visit (n INTEGER);"))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "uploads/logo.png"), []byte("old logo"), 0o644))

	stay, err := sql.Open("sqlite", path+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer stay.Close()
	stay.SetMaxOpenConns(1)
	var stored atomic.Int64
	insert := func(db *sql.DB) {
		if _, err := db.Exec("INSERT INTO visit VALUES (1)"); err == nil {
			stored.Add(1)
		}
	}
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			default:
			}
			insert(stay)
			if db, err := sql.Open("sqlite", path+"?_pragma=busy_timeout(5000)"); err == nil {
				insert(db)
				_ = db.Close()
			}
		}
	}()
	for range 4 {
		run := testenv.Hovix(t, "restore", file, folder, "--only", "uploads", "--yes")
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
		logo, err := os.ReadFile(filepath.Join(folder, "uploads/logo.png"))
		require.NoError(t, err)
		assert.NotEqual(t, "old logo", string(logo))
		time.Sleep(50 * time.Millisecond)
		ok(t, testenv.Hovix(t, "undo", folder, "--yes"))
		logo, err = os.ReadFile(filepath.Join(folder, "uploads/logo.png"))
		require.NoError(t, err)
		assert.Equal(t, "old logo", string(logo))
		ok(t, testenv.Hovix(t, "undo", folder, "--discard", "--yes"))
	}
	close(stop)
	<-done
	require.NoError(t, stay.Close())
	require.Positive(t, stored.Load())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	var count int64
	var sound string
	require.NoError(t, db.QueryRow("SELECT count(*) FROM visit").Scan(&count))
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&sound))
	assert.Equal(t, stored.Load(), count, "every row that was stored is there")
	assert.Equal(t, "ok", sound)
}
