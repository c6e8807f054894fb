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
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// stage builds a new database file.
type stage struct {
	path    string // the new file
	final   string // where it goes at the switch; empty if it is there already
	db      *sql.DB
	mu      sync.Mutex // one writer at a time
	objects []string
	done    bool
}

// NewStage begins a new database in the file at path, which must not exist. At
// the switch it takes the place of the file final; where final is empty, path
// lies in a folder that is switched as a whole.
func NewStage(ctx context.Context, path, final string) (database.Stage, error) {
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
	s := &stage{path: path, final: final}
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

func (s *stage) Switch(ctx context.Context) (*database.Replaced, error) {
	for _, o := range append(s.objects, "COMMIT") {
		if err := s.exec(ctx, o); err != nil {
			return nil, err
		}
	}
	if err := s.db.Close(); err != nil {
		return nil, fmt.Errorf("close the new database: %w", err)
	}
	if err := syncFile(s.path); err != nil {
		return nil, err
	}
	s.done = true
	rep := &database.Replaced{}
	if s.final == "" {
		return rep, nil
	}
	if _, err := os.Lstat(s.final); err == nil {
		rep.File = s.final + ".hovix-before-" + time.Now().UTC().Format("20060102-150405")
		if err := os.Rename(s.final, rep.File); err != nil {
			return nil, fmt.Errorf("put the old database aside: %w", err)
		}
		rep.PutBack = []string{fmt.Sprintf("mv '%s' '%s'", rep.File, s.final)}
	}
	if err := os.Rename(s.path, s.final); err != nil {
		return nil, fmt.Errorf("put the new database in place: %w", err)
	}
	return rep, nil
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
