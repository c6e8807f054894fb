package sqlite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	lib "modernc.org/sqlite/lib"
)

// Session is a connection that writes to a database. What it is given is one statement,
// which SQLite prepares and runs; it refuses a text that holds more. (The driver for
// database/sql would run all of them.) Its methods may be called from several
// goroutines, which take turns.
type Session struct {
	mu sync.Mutex
	c  *conn
}

var errClosed = fmt.Errorf("the connection is closed: %w", os.ErrClosed)

// NewSession opens the database file at path, which must exist; an empty one is a new
// database. Each of the pragmas ("foreign_keys=OFF") is set.
func NewSession(ctx context.Context, path string, pragmas ...string) (*Session, error) {
	c, err := openRaw(path, lib.SQLITE_OPEN_READWRITE)
	if err != nil {
		return nil, err
	}
	s := &Session{c: c}
	for _, p := range pragmas {
		if err := s.Run(ctx, "PRAGMA "+p); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	return s, nil
}

// Run runs one statement; rows that it gives are dropped. It ends early, with an error,
// once ctx is done.
func (s *Session) Run(ctx context.Context, stmt string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.run(ctx, stmt)
}

func (s *Session) run(ctx context.Context, stmt string) error {
	if s.c == nil {
		return errClosed
	}
	err := s.c.interruptible(ctx, func() error { return s.c.exec(stmt) })
	if _, bare := err.(*failure); bare { // one that does not say in what yet
		return fmt.Errorf("%w in %.80q", err, stmt)
	}
	return err
}

// Together runs statements in one transaction, in which nothing is kept if one of them
// fails. It gives the number of rows that they inserted, changed and deleted; last,
// where it is given, makes one more statement of that number.
func (s *Session) Together(ctx context.Context, stmts []string, last func(rows int64) string) (rows int64, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.run(ctx, "BEGIN"); err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			_ = s.c.exec("ROLLBACK") // SQLite may have done it
		}
	}()
	for _, stmt := range stmts {
		if err := s.run(ctx, stmt); err != nil {
			return 0, err
		}
		rows += s.c.changes()
	}
	if last != nil {
		if err := s.run(ctx, last(rows)); err != nil {
			return 0, err
		}
	}
	return rows, s.run(ctx, "COMMIT")
}

// Strings runs a query and gives its rows, each value as text.
func (s *Session) Strings(ctx context.Context, query string) (rows [][]string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c == nil {
		return nil, errClosed
	}
	err = s.c.interruptible(ctx, func() (err error) {
		rows, err = s.c.strings(query)
		return err
	})
	return rows, err
}

// Close ends the session, and takes back a transaction that was not committed.
// Closing it again does nothing.
func (s *Session) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.c != nil {
		s.c.close()
		s.c = nil
	}
	return nil
}
