package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
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
type exchanger struct {
	path string
	dir  *fsys.Handle // in which it lies, and in which all names are exchanged
	base string
}

// NewExchanger exchanges states of the database file at l. A file that lies in a
// folder which is exchanged as a whole needs none.
func NewExchanger(_ context.Context, l database.Location) (database.Exchanger, error) {
	path := filepath.Clean(l.Path)
	for parent := filepath.Dir(path); ; parent = filepath.Dir(parent) {
		real, err := fsys.Resolve(parent)
		if err != nil {
			return nil, err
		}
		dir, err := fsys.OpenExact(real)
		switch {
		case err == nil:
			base, err := filepath.Rel(parent, path)
			return &exchanger{path, dir, base}, err
		case !errors.Is(err, fs.ErrNotExist) || parent == filepath.Dir(parent):
			return nil, &database.ConnectError{Location: l, What: "open the folder of the database", Why: err, Advice: "Check the path of the database."}
		}
	}
}

func (x *exchanger) Close() error { return x.dir.Close() }

// beside gives the name, in the folder of the database, of a file that a state names by
// its path.
func (x *exchanger) beside(file string) (string, error) {
	if rest, ok := strings.CutPrefix(filepath.Clean(file), x.path+".hovix-"); ok && !strings.ContainsRune(rest, filepath.Separator) {
		return x.base + ".hovix-" + rest, nil
	}
	return "", fmt.Errorf("%s does not lie beside the database %s, where Hovix keeps what it replaces", file, x.path)
}

// Exchange puts a file in the place of the live one, whose writers are kept out
// meanwhile and whose log has been written into it, so that it is whole alone.
func (x *exchanger) Exchange(ctx context.Context, s *database.State, stamp string, record func(*database.State) error) (err error) {
	if err := x.Check(ctx, s); err != nil {
		return err
	}
	aside := &database.State{Engine: database.SQLite}
	if st, err := x.dir.Lstat(x.base); err == nil {
		if !st.Mode().IsRegular() {
			return fmt.Errorf("the database %s is no regular file", x.path)
		}
		aside.File, aside.Serial = x.path+".hovix-before-"+stamp, fsys.Serial(st)
		release, err := settle(ctx, x.dir.Path(x.base))
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
	staged := ""
	if s.File != "" {
		var err error
		if staged, err = x.beside(s.File); err != nil {
			return err
		}
	}
	if aside.File != "" && x.is(aside.Serial) {
		kept, err := x.beside(aside.File)
		if err != nil {
			return err
		}
		for _, suffix := range beside[1:] {
			if err := x.dir.Rename(x.base+suffix, kept+suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("put the old database aside: %w", err)
			}
		}
		// A second name first: the live one is never missing.
		if staged != "" {
			if err := fsys.Link(x.dir, x.base, x.dir, kept); err == nil || errors.Is(err, fs.ErrExist) {
				return x.put(staged)
			}
		}
		if err := x.dir.Rename(x.base, kept); err != nil {
			return fmt.Errorf("put the old database aside: %w", err)
		}
	}
	if staged == "" {
		return nil
	}
	return x.put(staged)
}

func (x *exchanger) put(name string) error {
	if err := x.dir.Rename(name, x.base); err != nil {
		return fmt.Errorf("put the database in place: %w", err)
	}
	return nil
}

// is reports whether the live file is the one of this serial.
func (x *exchanger) is(n uint64) bool { return x.dir.SerialOf(x.base) == n }

// settle writes the log of a database into its file and keeps writers out until
// release.
func settle(ctx context.Context, path string) (release func() error, err error) {
	db, err := NewSession(ctx, path)
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	// Where nobody else has it open the log is given up, so that closing the old
	// file does not remove what by then is the log of the new one.
	_ = db.Run(ctx, "PRAGMA journal_mode=DELETE")
	for _, q := range []string{"PRAGMA busy_timeout=10000", "PRAGMA wal_checkpoint(TRUNCATE)", "BEGIN IMMEDIATE"} {
		if err := db.Run(ctx, q); err != nil {
			if strings.Contains(err.Error(), "not a database") { // then there is nothing to settle
				break
			}
			return nil, errors.Join(fmt.Errorf("keep writers out of the database %s: %w", path, err), db.Close())
		}
	}
	return func() error {
		_ = db.Run(context.Background(), "ROLLBACK")
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
	return x.dir.SerialOf(x.base) == 0, nil
}

// Complete makes the exchange durable.
func (x *exchanger) Complete(context.Context, *database.State, *database.State) ([]string, error) {
	return nil, x.dir.Sync()
}

// Check looks for the file of a kept state.
func (x *exchanger) Check(_ context.Context, s *database.State) error {
	if s.File == "" {
		return nil
	}
	name, err := x.beside(s.File)
	if err != nil {
		return err
	}
	if x.dir.SerialOf(name) == 0 {
		return fmt.Errorf("the database file %s is gone, in which the state was kept", s.File)
	}
	return nil
}

// Size is that of the file.
func (x *exchanger) Size(_ context.Context, s *database.State) (n int64, err error) {
	if s.File == "" {
		return 0, nil
	}
	name, err := x.beside(s.File)
	if err != nil {
		return 0, err
	}
	for _, suffix := range beside {
		if st, err := x.dir.Lstat(name + suffix); err == nil {
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
	name, err := x.beside(s.File)
	if err != nil {
		return err
	}
	return x.remove(name)
}

// Sweep removes the staged file of an id.
func (x *exchanger) Sweep(_ context.Context, id string, _ []database.Note) error {
	return x.remove(StagePath(x.base, id))
}

func (x *exchanger) remove(name string) (err error) {
	for _, suffix := range beside {
		if e := x.dir.Remove(name + suffix); e != nil && !errors.Is(e, fs.ErrNotExist) {
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
