package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/database/sqlite"
	"hovix/internal/fault"
	"hovix/internal/fsys"
)

// notSwitchedError says that a switch failed and that everything is as it was.
type notSwitchedError struct{ error }

func (e *notSwitchedError) Unwrap() error { return e.error }

// Order is a switch that is handed to another process: everything else is in the
// journal of the target.
type Order struct {
	Target string            `json:"target"`
	Login  database.Location `json:"login"`
	Parent int               `json:"parent"` // process that hands it over
}

// Done tells what came of a switch that another process has carried out.
type Done struct {
	Notice   string   `json:"notice,omitempty"` // it is still at work, and says this meanwhile
	Warnings []string `json:"warnings,omitempty"`
	Failed   string   `json:"failed,omitempty"` // everything is as it was, and why
	Busy     bool     `json:"busy,omitempty"`   // others held what was to be exchanged
}

// failure is what the other process has failed with.
func (d *Done) failure() error {
	if d.Busy {
		return toldError{d.Failed, database.ErrBusy}
	}
	return errors.New(d.Failed)
}

// toldError is an error of another process, in its words.
type toldError struct {
	text string
	is   error
}

func (e toldError) Error() string { return e.text }
func (e toldError) Unwrap() error { return e.is }

// Guard carries out a switch in a process of its own, which gets the open lock of
// the target: should this process be killed meanwhile, that one finishes. An
// error says that it could not be asked, or was killed itself.
type Guard func(ctx context.Context, o Order, lock *os.File) (Done, error)

// GoOn is what that process does. lock is the lock that it was given.
func GoOn(ctx context.Context, o Order, lock *os.File) (d Done, err error) {
	an, err := annex.Inherit(o.Target, lock)
	if err != nil {
		return d, err
	}
	defer func() {
		if os.Getppid() != o.Parent { // it was killed, and nobody else is there to do it
			err = errors.Join(err, an.Release())
		}
	}()
	j, err := readJournal(an)
	if err != nil {
		return d, err
	}
	if j == nil || j.Step == staging {
		return d, errors.New("there is no switch to carry out")
	}
	d.Warnings, err = advance(ctx, an, j, o.Login)
	var not *notSwitchedError
	if errors.As(err, &not) {
		return Done{Failed: not.Error(), Busy: errors.Is(err, database.ErrBusy)}, nil
	}
	return d, err
}

// carryOut has the switch carried out that the journal tells of, by another
// process if there is one to do it.
func carryOut(ctx context.Context, an *annex.Annex, j *journal, l database.Location, guard Guard) ([]string, error) {
	if guard != nil && (j.State != nil || len(j.Moves) > 0) && !fault.Alone() {
		d, err := guard(ctx, Order{Target: an.Target, Login: l, Parent: os.Getpid()}, an.Lock())
		if err == nil && d.Failed != "" {
			return nil, &notSwitchedError{d.failure()}
		}
		if err == nil {
			return d.Warnings, nil
		}
		// It was killed, or could not be started: this process goes on with it.
		if j, err = readJournal(an); err != nil || j == nil {
			return nil, err
		}
	}
	return advance(ctx, an, j, l)
}

// advanceOnce is advance without patience.
func advanceOnce(ctx context.Context, an *annex.Annex, j *journal, l database.Location) (warnings []string, err error) {
	if j.Record != nil && j.Record.InPlace != nil {
		return advanceInPlace(ctx, an, j, l)
	}
	var ex database.Exchanger
	if j.State != nil {
		if ex, err = engines.Exchange(ctx, l); err != nil {
			if j.Aside == nil && j.Step == switching { // it has not begun
				return nil, &notSwitchedError{err}
			}
			return nil, err
		}
		defer func() { err = errors.Join(err, ex.Close()) }()
	}
	if j.Step == switching {
		if err := exchangeBoth(ctx, an, j, l, ex); err != nil {
			return nil, err
		}
	}
	if j.Step == reverting {
		return nil, revert(ctx, an, j, ex)
	}
	if ex != nil {
		if warnings, err = ex.Complete(ctx, j.State, j.Aside); err != nil {
			return nil, err
		}
	}
	fault.Point("complete")
	if err := settlePoint(ctx, an, j, ex); err != nil {
		return nil, err
	}
	fault.Point("point")
	return warnings, an.Remove(ctx, journalName)
}

// exchangeBoth exchanges the tables, then the folders. The tables are first, for
// they may have to wait for others.
func exchangeBoth(ctx context.Context, an *annex.Annex, j *journal, l database.Location, ex database.Exchanger) error {
	if ex != nil {
		if err := exchangeTables(ctx, an, j, l, ex); err != nil {
			return err
		}
	}
	fault.Point("tables")
	if err := exchangeAround(ctx, an, j); err != nil {
		err = fmt.Errorf("exchange the folders: %w", err)
		if ex == nil {
			return &notSwitchedError{err}
		}
		j.Step, j.Record = reverting, nil
		if e := errors.Join(j.write(an), revert(ctx, an, j, ex)); e != nil {
			var not *notSwitchedError
			if !errors.As(e, &not) {
				return errors.Join(err, e)
			}
		}
		return &notSwitchedError{err}
	}
	fault.Point("folders")
	j.Step = completing
	return j.write(an)
}

// exchangeTables makes sure that the state of the database is live.
func exchangeTables(ctx context.Context, an *annex.Annex, j *journal, l database.Location, ex database.Exchanger) error {
	done, err := ex.Exchanged(ctx, j.State, j.Aside)
	if err != nil || done {
		return err
	}
	err = ex.Exchange(ctx, j.State, j.Stamp, func(aside *database.State) error {
		j.Aside = aside
		return j.write(an)
	})
	if err == nil {
		return nil
	}
	// The answer may have been lost, not the exchange.
	again, e := engines.Exchange(ctx, l)
	if e != nil {
		return errors.Join(err, e)
	}
	done, e = again.Exchanged(ctx, j.State, j.Aside)
	if e = errors.Join(e, again.Close()); e != nil {
		return errors.Join(err, e)
	}
	if !done {
		return &notSwitchedError{err}
	}
	return nil
}

// revert puts the tables back, and removes those that were live for a moment.
func revert(ctx context.Context, an *annex.Annex, j *journal, ex database.Exchanger) error {
	done, err := ex.Exchanged(ctx, j.Aside, j.Back)
	if err == nil && !done {
		err = ex.Exchange(ctx, j.Aside, j.Stamp+"r", func(back *database.State) error {
			j.Back = back
			return j.write(an)
		})
	}
	if err == nil {
		_, err = ex.Complete(ctx, j.Aside, j.Back)
	}
	if err == nil && j.What == "restore" {
		err = ex.Drop(ctx, j.Back)
	} else if err == nil { // what an undo would have put back is kept under other names now
		p := &Point{}
		if err = an.Read(filepath.Join(j.Point, pointName), p); err == nil {
			p.State = j.Back
			err = an.Write(filepath.Join(j.Point, pointName), p)
		}
	}
	if err != nil {
		return err
	}
	j.Step = staging
	return errors.Join(j.write(an), &notSwitchedError{errors.New("the folders could not be exchanged, and the tables are back")})
}

// exchangeAround is exchangeFolders around a database of SQLite that stays: its log
// comes along, and is not left in the folder that goes, where it would be taken for
// one of the database's later states.
func exchangeAround(ctx context.Context, an *annex.Annex, j *journal) error {
	dir, base := filepath.Split(filepath.FromSlash(j.Shared))
	if j.Shared == "" {
		return exchangeFolders(an, j)
	}
	beside, name := an.Beside()
	live, err := openBelow(beside, filepath.Join(name, dir))
	if errors.Is(err, fs.ErrNotExist) {
		return exchangeFolders(an, j)
	}
	if err != nil {
		return err
	}
	defer live.Close()
	if live.SerialOf(base) == 0 {
		return exchangeFolders(an, j)
	}
	held, err := openBelow(an.Handle, filepath.Join(j.Point, filesName, dir))
	if err != nil {
		return err
	}
	defer func() { _ = held.Close() }()
	done := an.TargetSerial() == j.Folder
	if an.Inside {
		done = contentsDone(an, j)
	}
	if !done {
		release, err := sqlite.Hold(ctx, live.Path(base))
		if err != nil {
			return err
		}
		defer func() { _ = release() }()
		if err := secondNames(live, held, base); err != nil {
			return fmt.Errorf("keep the database %s: %w", j.Shared, err)
		}
	}
	if err := exchangeFolders(an, j); err != nil {
		return err
	}
	// What was held is live now, and the other way round.
	old, err := openBelow(an.Handle, filepath.Join(j.Point, filesName, dir))
	if err != nil {
		return err
	}
	defer old.Close()
	for _, f := range sqlite.Files(base)[1:] {
		if err := old.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// openBelow opens a folder at a path of several names.
func openBelow(h *fsys.Handle, path string) (*fsys.Handle, error) {
	path = filepath.Clean(path)
	dir, base := filepath.Split(path)
	if dir == "" {
		return h.Sub(base)
	}
	up, err := openBelow(h, dir)
	if err != nil {
		return nil, err
	}
	defer up.Close()
	return up.Sub(base)
}

// secondNames makes sure that the files of a database lie in another folder too.
func secondNames(live, held *fsys.Handle, base string) error {
	for _, f := range sqlite.Files(base) {
		if live.SerialOf(f) == held.SerialOf(f) {
			continue
		}
		if err := held.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		err := fsys.Link(live, f, held, f)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			err = copyFile(live, held, f)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// exchangeFolders makes sure that the folder is live which is to be, and that the
// other is held by the point. Serials tell which is which.
func exchangeFolders(an *annex.Annex, j *journal) error {
	if an.Inside {
		return exchangeContents(an, j)
	}
	held, between := filepath.Join(j.Point, filesName), filepath.Join(j.Point, filesName+".old")
	beside, name := an.Beside()
	now := an.TargetSerial()
	switch {
	case now == j.Folder: // it is done, or was done but for the last of three renames
	case j.Folder == 0:
		if err := fsys.Rename(beside, name, an.Handle, held); err != nil {
			return err
		}
	case an.SerialOfFolder(held) != j.Folder:
		return fmt.Errorf("%s is not the folder that was staged", an.Shown(held))
	case now == 0:
		if err := fsys.Rename(an.Handle, held, beside, name); err != nil {
			return err
		}
	default:
		err := fsys.Swap(an.Handle, held, beside, name)
		if errors.Is(err, fsys.ErrNotAtOnce) {
			if err = fsys.Rename(beside, name, an.Handle, between); err == nil {
				fault.Point("between")
				if err = fsys.Rename(an.Handle, held, beside, name); err != nil {
					return errors.Join(err, fsys.Rename(an.Handle, between, beside, name))
				}
			}
		}
		if err != nil {
			return err
		}
	}
	if err := an.Rename(between, held); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return errors.Join(beside.Sync(), an.SyncOf(held))
}
