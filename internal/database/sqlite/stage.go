package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/fsys"
)

// stage builds a new database file.
type stage struct {
	path     string // the new file
	inFolder bool   // it lies where it belongs
	db       *sql.DB
	mu       sync.Mutex // one writer at a time
	objects  []string
	done     bool
}

// NewStage begins a new database in the file at path, which must not exist: that
// of StagePath, or inFolder, a place in a folder that is exchanged as a whole.
func NewStage(ctx context.Context, path string, inFolder bool) (database.Stage, error) {
	if _, err := os.Lstat(path); err == nil {
		return nil, fmt.Errorf("stage the database: %s exists already", path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("stage the database: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, fmt.Errorf("stage the database: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	s := &stage{path: path, inFolder: inFolder}
	if s.db, err = sql.Open("sqlite", path); err != nil {
		return nil, fmt.Errorf("stage the database: %w", err)
	}
	s.db.SetMaxOpenConns(1)
	// Until the switch nobody reads this file, and a crash throws it away: no
	// journal is needed. It is synced to disk in the end.
	for _, q := range []string{"PRAGMA journal_mode=OFF", "PRAGMA synchronous=OFF", "PRAGMA foreign_keys=OFF", "PRAGMA cache_size=-32000", "BEGIN"} {
		if err := s.exec(ctx, q); err != nil {
			return nil, errors.Join(err, s.Discard(ctx))
		}
	}
	return s, nil
}

func (s *stage) exec(ctx context.Context, q string) error {
	_, err := s.run(ctx, q)
	return err
}

// run runs a statement and gives the number of rows that it stored.
func (s *stage) run(ctx context.Context, q string) (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	res, err := s.db.ExecContext(ctx, q)
	if err != nil {
		return 0, fmt.Errorf("stage the database in %s: %w (in %.60q)", s.path, err, q)
	}
	return res.RowsAffected()
}

func (s *stage) Target(table string) string { return quote(table) }

func (s *stage) Define(ctx context.Context, def *sqltext.CreateTable) error {
	return s.exec(ctx, def.Text)
}

func (s *stage) Insert(ctx context.Context, _ string, stmt []byte) (int64, error) {
	return s.run(ctx, string(stmt))
}

func (s *stage) Finish(ctx context.Context, _ string, keys []string) error {
	for _, k := range keys {
		if err := s.exec(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

func (s *stage) Positions(ctx context.Context, stmt []byte) error {
	return s.exec(ctx, string(stmt))
}

func (s *stage) AddObject(_ context.Context, o database.Object) error {
	s.objects = append(s.objects, o.SQL)
	return nil
}

// Touch runs a statement on a staged table.
func (s *stage) Touch(ctx context.Context, stmt string) error {
	return s.exec(ctx, stmt)
}

// Ready has nothing to do: all is in the new file already.
func (s *stage) Ready(context.Context) error { return nil }

// Seal closes the new file. Where it lies in a folder that is exchanged as a
// whole, there is no state to exchange.
func (s *stage) Seal(ctx context.Context) (*database.State, []string, error) {
	for _, o := range append(s.objects, "COMMIT") {
		if err := s.exec(ctx, o); err != nil {
			return nil, nil, err
		}
	}
	if err := s.db.Close(); err != nil {
		return nil, nil, fmt.Errorf("close the new database: %w", err)
	}
	if err := syncFile(s.path); err != nil {
		return nil, nil, err
	}
	s.done = true
	if s.inFolder {
		return nil, nil, nil
	}
	st, err := os.Lstat(s.path)
	if err != nil {
		return nil, nil, fmt.Errorf("look at the new database: %w", err)
	}
	return &database.State{Engine: database.SQLite, File: s.path, Serial: fsys.Serial(st)}, nil, nil
}

func syncFile(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func (s *stage) Discard(context.Context) error {
	if s.done {
		return nil
	}
	s.done = true
	err := s.db.Close()
	for _, suffix := range []string{"", "-journal", "-wal", "-shm"} {
		if e := os.Remove(s.path + suffix); e != nil && !os.IsNotExist(e) {
			err = errors.Join(err, e)
		}
	}
	if err != nil && strings.Contains(err.Error(), "closed") {
		return nil
	}
	return err
}
