package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/fsys"
)

// StagedError says that a restore failed, and that what it had staged is left for
// another to go on with.
type StagedError struct{ error }

// Unwrap gives the reason.
func (e *StagedError) Unwrap() error { return e.error }

// resumable looks for an interrupted restore that may be gone on with: one that was
// still staging.
func (r *run) resumable(ctx context.Context) error {
	j, err := readJournal(r.annex)
	if err != nil || j == nil || j.What != "restore" || j.Step != staging || j.Sealing {
		return err
	}
	r.before = j
	staged, err := r.annex.Sub(filepath.Join(j.Point, filesName))
	if err != nil {
		return nil // it had not come to that
	}
	defer staged.Close()
	return staged.Walk(ctx, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		r.plan.staged.inodes++
		if info, err := d.Info(); err == nil {
			r.plan.staged.bytes += fsys.OnDisk(info)
		}
		return nil
	})
}

// takeUp goes on with the interrupted run if it was of the same archive at the same
// place, or removes what it had staged.
func (r *run) takeUp(ctx context.Context, order string) error {
	if r.before == nil {
		return nil
	}
	if r.before.Order == order {
		r.resumed = true
		r.plan.Notes = append(r.plan.Notes, "An earlier run of this restore was interrupted, which began on "+r.before.Began.Local().Format("2 January 2006 at 15:04:05")+": what it has staged is gone on with.")
		return nil
	}
	return r.recover(ctx)
}

// goOn opens the stages of the interrupted run. Where what it left is not sound the
// restore begins anew.
func (r *run) goOn(ctx context.Context) error {
	r.j = r.before
	r.annex.Parents = append(r.annex.Parents, r.j.Parents...)
	if r.j.Database != "" {
		r.login = r.plan.location
	}
	if err := r.annex.MkdirAll(r.j.Point, 0o700); err != nil {
		return fmt.Errorf("make the folder in which the new site is staged: %w", err)
	}
	err := r.stages(ctx)
	if !errors.Is(err, database.ErrNotResumed) {
		return err
	}
	if err := takeBack(ctx, r.annex, r.j, r.login); err != nil {
		return fmt.Errorf("what an interrupted restore has staged has to be removed first: %w", err)
	}
	order := r.j.Order
	r.resumed, r.files, r.j = false, nil, nil
	return r.openStages(ctx, order)
}

// worthLeaving reports whether another run may get further than this one, which
// failed.
func worthLeaving(err error) bool {
	for _, final := range []error{archive.ErrCorrupt, archive.ErrRefused, archive.ErrNotArchive, archive.ErrNoEntry, sqltext.ErrRefused, ErrStoredCode, ErrLinksOut, ErrDeclined, errStaged} {
		if errors.Is(err, final) {
			return false
		}
	}
	return true
}

// giveUp leaves what was staged for another run to go on with, if that was asked for
// and makes sense, or removes it. What cannot be removed now is removed by the next
// run, as the journal tells it to.
func (r *run) giveUp(ctx context.Context, why error) error {
	if r.files != nil {
		r.files.close()
	}
	_ = r.closeStored(false)
	if r.j == nil || r.j.Step != staging {
		return nil
	}
	if r.opts.Resume && !r.j.Sealing && worthLeaving(why) {
		if r.db != nil {
			_ = r.db.Leave() // the connection may be why
		}
		return &StagedError{errors.New("what was staged is left")}
	}
	return r.discard(ctx)
}

// UnremovedError says that what a failed restore had staged is not removed in full, and
// why. The next run at the target does that.
type UnremovedError struct{ error }

// Unwrap gives the reason.
func (e *UnremovedError) Unwrap() error { return e.error }

// tidyTime is how long a run that was interrupted goes on removing what it had staged.
const tidyTime = 600 * time.Millisecond

// discard removes what was staged.
func (r *run) discard(ctx context.Context) error {
	if ctx.Err() != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), tidyTime)
		defer cancel()
	}
	var err error
	if r.db != nil {
		err = r.db.Discard(ctx)
	}
	j := *r.j
	if r.db != nil && err == nil && !r.sealed {
		j.Database = "" // it is done already
	}
	if e := takeBack(ctx, r.annex, &j, r.login); e != nil {
		return &UnremovedError{fmt.Errorf("what was staged could not be removed in full; the next run at this target removes it: %w", errors.Join(err, e))}
	}
	return nil
}
