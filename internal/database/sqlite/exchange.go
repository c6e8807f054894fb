package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hovix/internal/database"
	"hovix/internal/fault"
	"hovix/internal/fsys"
)

// beside are the endings of the files that SQLite keeps beside a database.
var beside = []string{"", "-wal", "-shm", "-journal"}

// Files gives the paths of a database file and of those that SQLite keeps beside it.
func Files(path string) (files []string) {
	for _, suffix := range beside {
		files = append(files, path+suffix)
	}
	return files
}

// Hold writes the log of the database file at path into it, and keeps writers out
// until release, so that files can change their names around them.
func Hold(ctx context.Context, path string) (release func() error, err error) {
	return settle(ctx, path)
}

// exchanger exchanges a database file for another.
type exchanger struct{ path string }

// NewExchanger exchanges states of the database file at l. A file that lies in a
// folder which is exchanged as a whole needs none.
func NewExchanger(_ context.Context, l database.Location) (database.Exchanger, error) {
	return &exchanger{l.Path}, nil
}

func (x *exchanger) Close() error { return nil }

// Exchange puts a file in the place of the live one, whose writers are kept out
// meanwhile and whose log has been written into it, so that it is whole alone.
func (x *exchanger) Exchange(ctx context.Context, s *database.State, stamp string, record func(*database.State) error) (err error) {
	if err := x.Check(ctx, s); err != nil {
		return err
	}
	aside := &database.State{Engine: database.SQLite}
	if st, err := os.Lstat(x.path); err == nil {
		aside.File, aside.Serial = x.path+".hovix-before-"+stamp, fsys.Serial(st)
		release, err := settle(ctx, x.path)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, release()) }()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("look at the database: %w", err)
	}
	if err := record(aside); err != nil {
		return err
	}
	fault.Point("database")
	return x.place(s, aside)
}

// place is the step, from wherever it was left.
func (x *exchanger) place(s, aside *database.State) error {
	if aside.File != "" && x.is(aside.Serial) {
		for _, suffix := range beside[1:] {
			if err := os.Rename(x.path+suffix, aside.File+suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("put the old database aside: %w", err)
			}
		}
		// A second name first: the live one is never missing.
		if s.File != "" {
			if err := os.Link(x.path, aside.File); err == nil || errors.Is(err, fs.ErrExist) {
				return put(s.File, x.path)
			}
		}
		if err := os.Rename(x.path, aside.File); err != nil {
			return fmt.Errorf("put the old database aside: %w", err)
		}
	}
	if s.File == "" {
		return nil
	}
	return put(s.File, x.path)
}

func put(file, path string) error {
	if err := os.Rename(file, path); err != nil {
		return fmt.Errorf("put the database in place: %w", err)
	}
	return nil
}

// is reports whether the live file is the one of this serial.
func (x *exchanger) is(n uint64) bool {
	return fsys.SerialOf(x.path) == n
}

// settle writes the log of a database into its file and keeps writers out until
// release.
func settle(ctx context.Context, path string) (release func() error, err error) {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	// Where nobody else has it open the log is given up, so that closing the old
	// file does not remove what by then is the log of the new one.
	_, _ = db.ExecContext(ctx, "PRAGMA journal_mode=DELETE")
	for _, q := range []string{"PRAGMA busy_timeout=10000", "PRAGMA wal_checkpoint(TRUNCATE)", "BEGIN IMMEDIATE"} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			if strings.Contains(err.Error(), "not a database") { // then there is nothing to settle
				break
			}
			return nil, errors.Join(fmt.Errorf("keep writers out of the database %s: %w", path, err), db.Close())
		}
	}
	return func() error {
		_, _ = db.Exec("ROLLBACK")
		return db.Close()
	}, nil
}

// Exchanged knows the files by their serials.
func (x *exchanger) Exchanged(_ context.Context, s, aside *database.State) (bool, error) {
	if s.File != "" {
		return x.is(s.Serial), nil
	}
	if aside == nil {
		return false, nil
	}
	_, err := os.Lstat(x.path)
	return errors.Is(err, fs.ErrNotExist), nil
}

// Complete makes the exchange durable.
func (x *exchanger) Complete(context.Context, *database.State, *database.State) ([]string, error) {
	return nil, fsys.SyncDir(filepath.Dir(x.path))
}

// Check looks for the file of a kept state.
func (x *exchanger) Check(_ context.Context, s *database.State) error {
	if s.File == "" {
		return nil
	}
	if _, err := os.Lstat(s.File); err != nil {
		return fmt.Errorf("the database file %s is gone, in which the state was kept", s.File)
	}
	return nil
}

// Size is that of the file.
func (x *exchanger) Size(_ context.Context, s *database.State) (n int64, err error) {
	for _, suffix := range beside {
		if st, err := os.Lstat(s.File + suffix); err == nil && s.File != "" {
			n += st.Size()
		}
	}
	return n, nil
}

// Drop removes the file of a state.
func (x *exchanger) Drop(_ context.Context, s *database.State) error {
	if s.File == "" {
		return nil
	}
	return removeFiles(s.File)
}

// Sweep removes the staged file of an id.
func (x *exchanger) Sweep(_ context.Context, id string, _ []database.Note) error {
	return removeFiles(StagePath(x.path, id))
}

func removeFiles(path string) (err error) {
	for _, suffix := range beside {
		if e := os.Remove(path + suffix); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}

// StagePath is where the database file at path is staged.
func StagePath(path, id string) string { return path + ".hovix-stage-" + id }

// ByHand gives the commands of a shell.
func (x *exchanger) ByHand(_ context.Context, s *database.State) ([]string, error) {
	q := func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
	if s.File == "" {
		return []string{"rm " + q(x.path)}, nil
	}
	return []string{"mv " + q(s.File) + " " + q(x.path)}, nil
}
