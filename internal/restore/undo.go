package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/fault"
	"hovix/internal/fsys"
)

// maxPoints is how many undo points of a target are kept.
const maxPoints = 3

// ErrNoPoint says that there is nothing to undo.
var ErrNoPoint = errors.New("there is nothing to put back")

// UndoOptions says what is exchanged.
type UndoOptions struct {
	Target   string
	Redo     bool              // take back the last undo
	Database database.Location // login to the database; zero: that of the target's settings
	PlanOnly bool
	// Confirm is asked once, before anything is changed. nil agrees.
	Confirm func(*UndoPlan) error
	Guard   Guard
	Now     time.Time
}

// UndoPlan tells what an undo exchanges.
type UndoPlan struct {
	Target   string    `json:"target"`
	Point    *Point    `json:"point"` // what it holds becomes live
	Redo     bool      `json:"redo"`
	Recovery *Recovery `json:"recovery,omitempty"`
	Left     int       `json:"left"` // how many more points can be put back after it
}

// UndoResult tells what was exchanged.
type UndoResult struct {
	Plan     *UndoPlan     `json:"plan"`
	Kept     string        `json:"kept"`
	Warnings []string      `json:"warnings,omitempty"`
	Switch   time.Duration `json:"switch"`
}

// Undo exchanges what the newest undo point of a target holds for what is live,
// which the point holds then; with Redo it exchanges that back. A run that was
// interrupted is taken care of first: if it had not come to its switch, or was the
// same undo, that is all, and the result has no point.
func Undo(ctx context.Context, opts UndoOptions) (_ *UndoResult, err error) {
	target, err := fsys.Resolve(opts.Target)
	if err != nil {
		return nil, err
	}
	plan := &UndoPlan{Target: target, Redo: opts.Redo}
	an, err := annex.Look(target)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: nothing is kept for %s", ErrNoPoint, target)
	}
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, an.Release()) }()
	known := logins(target, opts.Database)
	if !opts.PlanOnly {
		if err := an.Close(); err != nil {
			return nil, err
		}
		if an, err = annex.Take(target, "undo"); err != nil {
			an = &annex.Annex{} // there is nothing to release
			return nil, err
		}
		if plan.Recovery, err = recoverRun(ctx, an, known); err != nil {
			return nil, err
		}
		if rec := plan.Recovery; rec != nil && (!rec.Finished || rec.What == "undo" && rec.undid != opts.Redo) {
			return &UndoResult{Plan: plan}, nil // that was it
		}
		known = logins(target, opts.Database)
	}
	list, err := points(an)
	if err != nil {
		return nil, err
	}
	if plan.Point, plan.Left = choose(list, opts.Redo); plan.Point == nil {
		if opts.Redo {
			return nil, fmt.Errorf("%w: no undo of %s is kept that could be taken back", ErrNoPoint, target)
		}
		if again, _ := choose(list, true); again != nil {
			return nil, fmt.Errorf("%w: all that is kept for %s was undone already; --redo brings %s again", ErrNoPoint, target, again.Holds)
		}
		return nil, fmt.Errorf("%w: no undo point is kept for %s", ErrNoPoint, target)
	}
	l, err := plan.check(ctx, an, known)
	if err != nil {
		return nil, err
	}
	if opts.Confirm != nil {
		if err := opts.Confirm(plan); err != nil {
			return nil, err
		}
	}
	if opts.PlanOnly {
		return nil, ErrPlanned
	}
	return plan.carryOut(ctx, an, l, &opts)
}

// choose gives the point that is next: those that were undone lie behind those
// that were not.
func choose(list []*Point, redo bool) (p *Point, left int) {
	for _, q := range list {
		switch {
		case redo && q.Undone && p == nil:
			p = q
		case redo && q.Undone:
			left++
		case !redo && !q.Undone:
			if p != nil {
				left++
			}
			p = q
		}
	}
	return p, left
}

// check proves that all of the point is there, and that its database can be
// reached.
func (u *UndoPlan) check(ctx context.Context, an *annex.Annex, known []database.Location) (l database.Location, err error) {
	p := u.Point
	if p.Folder && an.SerialOfFolder(filepath.Join(p.ID, filesName)) == 0 {
		return l, fmt.Errorf("%s, the folder in which the files were kept, is gone or is none any more; throw the point away with hovix undo --discard", an.Shown(p.ID, filesName))
	}
	if p.InPlace != nil {
		return p.checkInPlace(ctx, an, known)
	}
	if p.State == nil {
		return l, nil
	}
	ex, l, err := p.open(ctx, append(known, heldLogins(an, p.ID)...))
	if err != nil {
		return l, err
	}
	return l, errors.Join(ex.Check(ctx, p.State), ex.Close())
}

// open connects to the point's database.
func (p *Point) open(ctx context.Context, known []database.Location) (database.Exchanger, database.Location, error) {
	l, err := login(p.Database, known)
	if err != nil {
		return nil, l, err
	}
	ex, err := engines.Exchange(ctx, l)
	return ex, l, err
}

// carryOut makes the exchange.
func (u *UndoPlan) carryOut(ctx context.Context, an *annex.Annex, l database.Location, opts *UndoOptions) (*UndoResult, error) {
	p, now := u.Point, opts.Now
	if now.IsZero() {
		now = time.Now()
	}
	start := time.Now()
	id := newID()
	j := &journal{ID: id, What: "undo", Step: switching, Began: now, Archive: p.Holds.Name, Point: p.ID, Shared: p.Shared, Stamp: now.UTC().Format("060102_150405") + "_" + id[:4], State: p.State, Database: p.Database}
	switch {
	case p.Folder:
		j.Folder = an.SerialOfFolder(filepath.Join(p.ID, filesName))
	case p.Holds.NoFolder:
		j.Folder = 0
	default: // files were not exchanged
		j.Folder = an.TargetSerial()
	}
	if p.Folder && an.Inside {
		var err error
		if j.Moves, err = contentMoves(an, p.ID); err != nil {
			return nil, err
		}
	}
	record := *p
	record.Undone, record.Holds, record.Other = !p.Undone, p.Other, p.Holds
	j.Record = &record
	if err := j.write(an); err != nil {
		return nil, err
	}
	fault.Point("switching")
	ctx = context.WithoutCancel(ctx)
	warnings, err := carryOut(ctx, an, j, l, opts.Guard)
	var not *notSwitchedError
	if errors.As(err, &not) {
		return nil, errors.Join(not.error, an.Remove(ctx, journalName))
	}
	if err != nil {
		return nil, &HalfwayError{"the exchange", err}
	}
	return &UndoResult{Plan: u, Kept: an.Shown(p.ID), Warnings: warnings, Switch: time.Since(start)}, nil
}

// Points lists what is kept for a target, oldest first, with sizes.
func Points(ctx context.Context, target string, given database.Location) ([]*Point, error) {
	an, err := look(target)
	if an == nil || err != nil {
		return nil, err
	}
	list, err := points(an)
	if err != nil {
		return nil, errors.Join(err, an.Close())
	}
	known := logins(an.Target, given)
	for _, p := range list {
		p.measure(ctx, an, append(known, heldLogins(an, p.ID)...))
	}
	return list, an.Close()
}

// measure asks how much room the point takes, as far as its database can be reached.
func (p *Point) measure(ctx context.Context, an *annex.Annex, known []database.Location) {
	if p.Bytes = 0; p.Folder {
		p.Bytes = p.Holds.Files.Bytes
	}
	if p.InPlace != nil {
		p.Bytes = p.InPlace.size(an, p.ID)
	}
	if p.State == nil {
		return
	}
	if ex, _, err := p.open(ctx, known); err == nil {
		n, _ := ex.Size(ctx, p.State)
		p.Bytes += n
		_ = ex.Close()
	}
}

// Discard removes what is kept for a target, of which keep says no.
func Discard(ctx context.Context, target string, given database.Location, keep func(*Point) bool) (gone []*Point, err error) {
	if target, err = fsys.Resolve(target); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(annex.Of(target).Dir); err != nil {
		return nil, nil
	}
	an, err := annex.Take(target, "undo --discard")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, an.Release()) }()
	known := logins(target, given)
	if _, err := recoverRun(ctx, an, known); err != nil {
		return nil, err
	}
	list, err := points(an)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if keep(p) {
			continue
		}
		if err := p.discard(ctx, an, known); err != nil {
			return gone, err
		}
		gone = append(gone, p)
	}
	return gone, nil
}

// discard removes a point for good: its tables first, for without its record
// nobody would find them.
func (p *Point) discard(ctx context.Context, an *annex.Annex, known []database.Location) error {
	if p.State != nil && !p.State.IsEmpty() {
		ex, _, err := p.open(ctx, append(known, heldLogins(an, p.ID)...))
		if err != nil {
			return err
		}
		if err := errors.Join(ex.Drop(ctx, p.State), ex.Close()); err != nil {
			return fmt.Errorf("remove the tables that are kept: %w", err)
		}
	}
	fault.Point("dropped")
	if err := an.Rename(p.ID, p.ID+goneSuffix); err != nil {
		return fmt.Errorf("remove the undo point: %w", err)
	}
	return an.Remove(ctx, p.ID+goneSuffix)
}

// trim removes what a new restore makes useless: states that were undone before
// it, and all but the newest points.
func trim(ctx context.Context, an *annex.Annex, newest string, known []database.Location) (dropped []string, err error) {
	list, err := points(an)
	if err != nil {
		return nil, err
	}
	for _, p := range surplus(list, newest) {
		if e := p.discard(ctx, an, known); e != nil {
			err = errors.Join(err, e)
			continue
		}
		dropped = append(dropped, p.ID)
	}
	return dropped, err
}

// surplus gives the points that go when the newest is there.
func surplus(list []*Point, newest string) (gone []*Point) {
	var rest []*Point
	for _, p := range list {
		if p.Undone && p.ID != newest {
			gone = append(gone, p)
		} else {
			rest = append(rest, p)
		}
	}
	return append(gone, rest[:max(0, len(rest)-maxPoints)]...)
}

// replaced tells of the tables that a point keeps.
func (p *Point) replaced(ctx context.Context, l database.Location) (*Replaced, error) {
	if p.State == nil || p.State.IsEmpty() {
		return nil, nil
	}
	r := &Replaced{Tables: p.State.Tables, File: p.State.File}
	ex, err := engines.Exchange(ctx, l)
	if err != nil {
		return r, err
	}
	r.PutBack, err = ex.ByHand(ctx, p.State)
	return r, errors.Join(err, ex.Close())
}
