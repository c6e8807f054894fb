package sqlite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/fsys"
)

// stage builds a new database file.
type stage struct {
	path     string // the new file
	inFolder bool   // it lies where it belongs
	db       *Session
	mu       sync.Mutex      // of names
	names    map[string]bool // tables and views that are staged, in small letters
	objects  []*sqltree.Statement
	settings []string // of the database, made last
	code     bool     // stored code was agreed to
	filled   database.Filled
	done     bool
}

// progress is the table in which the stage keeps what is done, until Seal.
const progress = `"_hovix_done"`

// NewStage begins a new database in the file at path, which must not exist: that
// of StagePath, or inFolder, a place in a folder that is exchanged as a whole. With
// resume it goes on with one that was interrupted; the error wraps
// database.ErrNotResumed where that cannot be.
func NewStage(ctx context.Context, path string, inFolder bool, opts database.StageOptions) (database.Stage, error) {
	resume := opts.Resume
	if err := begin(path, resume); err != nil {
		return nil, err
	}
	s := &stage{path: path, inFolder: inFolder, names: map[string]bool{}, code: opts.StoredCode}
	var err error
	// Until the switch nobody reads this file. It is synced to disk in the end; a run
	// that goes on with it looks through it first.
	if s.db, err = NewSession(ctx, path, "journal_mode=TRUNCATE", "synchronous=OFF", "foreign_keys=OFF", "cache_size=-32000"); err != nil {
		return nil, errors.Join(fmt.Errorf("stage the database in %s: %w", path, err), s.Discard(ctx))
	}
	if resume {
		if err := s.remember(ctx); err != nil {
			return nil, errors.Join(fmt.Errorf("%w: %w", database.ErrNotResumed, err), s.Leave())
		}
		return s, nil
	}
	if opts.Charset != "" && opts.Charset != "UTF-8" { // it is fixed by the first table
		one, err := sqltree.Parse([]byte("PRAGMA encoding='"+opts.Charset+"'"), sqltext.SQLite)
		if err == nil {
			err = s.exec(ctx, "PRAGMA encoding='"+one.SetTo+"'")
		}
		if err != nil {
			return nil, errors.Join(err, s.Discard(ctx))
		}
	}
	if err := s.exec(ctx, "CREATE TABLE "+progress+" (tab TEXT, n INTEGER, stored INTEGER)"); err != nil {
		return nil, errors.Join(err, s.Discard(ctx))
	}
	return s, nil
}

// begin makes the empty file, or looks for the one that is gone on with.
func begin(path string, resume bool) error {
	_, err := os.Lstat(path)
	switch {
	case resume && err != nil:
		return fmt.Errorf("%w: %w", database.ErrNotResumed, err)
	case resume:
		return nil
	case err == nil:
		return fmt.Errorf("stage the database: %s exists already", path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("stage the database: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("stage the database: %w", err)
	}
	return f.Close()
}

// remember proves that the file is sound, and reads what is done.
func (s *stage) remember(ctx context.Context) error {
	sound, err := s.db.Strings(ctx, "PRAGMA quick_check(1)")
	if err != nil {
		return err
	}
	if sound[0][0] != "ok" {
		return errors.New(sound[0][0])
	}
	rows, err := s.db.Strings(ctx, "SELECT tab, n, stored FROM "+progress)
	for _, row := range rows {
		n, e := strconv.Atoi(row[1])
		stored, e2 := strconv.ParseInt(row[2], 10, 64)
		if err = errors.Join(err, e, e2); err != nil {
			break
		}
		s.filled.Add(row[0], n, stored)
	}
	return err
}

// once runs statements and keeps that they are done, in one transaction, unless a
// run before this has. It gives the number of rows that they stored.
func (s *stage) once(ctx context.Context, table string, n int, stmts ...string) (stored int64, err error) {
	if stored, done := s.filled.Rows(table, n); done {
		return stored, nil
	}
	stored, err = s.db.Together(ctx, stmts, func(rows int64) string {
		name := sqltext.AppendSQLiteText(nil, []byte(table))
		return fmt.Sprintf("INSERT INTO %s VALUES (%s, %d, %d)", progress, name, n, rows)
	})
	if err != nil {
		return 0, fmt.Errorf("stage the database in %s: %w", s.path, err)
	}
	return stored, nil
}

func (s *stage) exec(ctx context.Context, q string) error {
	if err := s.db.Run(ctx, q); err != nil {
		return fmt.Errorf("stage the database in %s: %w", s.path, err)
	}
	return nil
}

func (s *stage) Target(table string) string { return quote(table) }

func (s *stage) Define(ctx context.Context, def *sqltree.Table) error {
	s.known(def.Name)
	_, err := s.once(ctx, def.Name, database.Defined, def.SQL(nil))
	return err
}

// known notes that a table or view is staged.
func (s *stage) known(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.names[strings.ToLower(name)] = true
}

// check insists that a statement refers to what is staged alone.
func (s *stage) check(one *sqltree.Statement) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range one.References() {
		if !s.names[strings.ToLower(r.Name)] {
			return fmt.Errorf("%w: %s refers to %s, which the archive does not bring", sqltext.ErrRefused, one.Name, r.Name)
		}
	}
	return nil
}

func (s *stage) Filled(table string, chunk int) (int64, bool) { return s.filled.Rows(table, chunk) }

func (s *stage) Fill(table string, chunk int, _ int64, stmts [][]byte) func(context.Context) (int64, error) {
	return func(ctx context.Context) (int64, error) {
		var texts []string
		for _, stmt := range stmts {
			texts = append(texts, string(stmt))
		}
		return s.once(ctx, table, chunk, texts...)
	}
}

func (s *stage) Finish(ctx context.Context, table string, keys []string) error {
	var texts []string
	for _, k := range keys {
		one, err := sqltree.Parse([]byte(k), sqltext.SQLite)
		if err != nil {
			return err
		}
		if one.Shape != sqltree.ShapeKey || !strings.EqualFold(one.Table, table) {
			return fmt.Errorf("%w: %.60q stands where keys of %s belong", sqltext.ErrRefused, k, table)
		}
		texts = append(texts, one.SQL(nil))
	}
	_, err := s.once(ctx, table, database.KeysMade, texts...)
	return err
}

// sequences is the table in which SQLite keeps the positions of AUTOINCREMENT columns.
const sequences = "sqlite_sequence"

// Positions takes the rows of sqlite_sequence.
func (s *stage) Positions(ctx context.Context, stmt []byte) error {
	if string(stmt) == "DELETE FROM "+sequences {
		has, err := s.db.Strings(ctx, "SELECT 1 FROM sqlite_master WHERE name='"+sequences+"'")
		if err != nil || len(has) == 0 { // a source keeps it when its last such column is gone
			return err
		}
		return s.exec(ctx, "DELETE FROM "+sequences)
	}
	if string(stmt) == analyze {
		s.settings = append(s.settings, analyze)
		return nil
	}
	one, err := sqltree.Parse(stmt, sqltext.SQLite)
	if err == nil && one.Setting != "" && one.Setting != "encoding" {
		s.settings = append(s.settings, "PRAGMA "+one.Setting+"="+one.SetTo)
	}
	if err != nil || one.Shape == sqltree.ShapeNone {
		return err
	}
	if one.Shape != sqltree.ShapeInsert {
		return fmt.Errorf("%w: %.60q stands where positions of columns belong", sqltext.ErrRefused, stmt)
	}
	ins, err := sqltext.ParseInsert(stmt, sqltext.SQLite)
	if err != nil {
		return err
	}
	if ins.Table != sequences {
		return fmt.Errorf("%w: rows of %s at the end", sqltext.ErrRefused, ins.Table)
	}
	out, _, err := ins.AppendInsert(nil, stmt, sqltext.SQLite, quote(sequences), nil)
	if err != nil {
		return err
	}
	return s.exec(ctx, string(out))
}

// AddObject keeps an object for Seal.
func (s *stage) AddObject(_ context.Context, o database.Object) error {
	one, err := sqltree.Parse([]byte(o.SQL), sqltext.SQLite)
	switch {
	case err != nil:
		return fmt.Errorf("make %s %s: %w", o.Kind, o.Name, err)
	case one.IsCode() && !s.code:
		return fmt.Errorf("%w: make %s %s: nobody agreed to code for the database", sqltext.ErrRefused, o.Kind, o.Name)
	case one.Shape == sqltree.ShapeView:
		s.known(one.Name)
	case one.Shape == sqltree.ShapeOther: // a full-text index is made of what it is of
		s.mu.Lock()
		known := s.names[strings.ToLower(one.Table)]
		s.mu.Unlock()
		if !known {
			return fmt.Errorf("%w: an index of %s, which the archive does not bring", sqltext.ErrRefused, one.Table)
		}
	case one.Shape != sqltree.ShapeTrigger:
		return fmt.Errorf("%w: %.60q stands where views and triggers belong", sqltext.ErrRefused, o.SQL)
	}
	s.objects = append(s.objects, one)
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
	stmts := []string{"BEGIN"}
	for _, o := range s.objects {
		if err := s.check(o); err != nil {
			return nil, nil, err
		}
		stmts = append(stmts, o.SQL(nil))
	}
	for _, o := range slices.Concat(stmts, []string{"DROP TABLE " + progress, "COMMIT", "PRAGMA journal_mode=DELETE"}, s.settings) {
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

func (s *stage) Leave() error {
	s.done = true
	return s.db.Close()
}

func (s *stage) Discard(context.Context) error {
	if s.done {
		return nil
	}
	s.done = true
	var err error
	if s.db != nil {
		err = s.db.Close()
	}
	for _, suffix := range []string{"", "-journal", "-wal", "-shm"} {
		if e := os.Remove(s.path + suffix); e != nil && !os.IsNotExist(e) {
			err = errors.Join(err, e)
		}
	}
	return err
}
