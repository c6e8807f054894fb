package readdress

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"os"

	"hovix/internal/database"
	"hovix/internal/progress"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Site changes the addresses in a site where it stands: in the database that ed
// has open (nil if it has none), in its settings and in the files that
// opts.Files chooses. Without write it changes nothing, and the account tells
// what would be changed.
//
// Everything is changed in one transaction, and files after it; rows of tables without
// transactions are put back where it fails: on an error nothing was changed. What was
// there before is kept as an undo point.
func Site(ctx context.Context, s *site.Site, ed database.Editor, opts Options, write bool) (a *Account, err error) {
	opts.Rewrite.Servers = []string{s.Database.Host}
	rw, err := rewrite.New(opts.Rewrite)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(opts.Filter.Check(), site.CheckFilePatterns(opts.Files), s.OnlyRestoreMoves(opts.Rewrite.Mappings)); err != nil {
		return nil, err
	}
	if a, err = newAccount(&opts, s.Keep); err != nil {
		return nil, fmt.Errorf("write the changes: %w", err)
	}
	var change *restore.Change
	if write {
		if change, err = restore.BeginChange(ctx, s, opts.Rewrite.Mappings, opts.Now); err != nil {
			return nil, err
		}
		if err := change.Unkept(); err != nil {
			a.Asides = append(a.Asides, fmt.Sprintf("no undo point is kept: %v", err))
		}
		if change.Recovery != nil {
			a.Asides = append(a.Asides, change.Recovery.String())
		}
		defer func() {
			if change != nil {
				err = errors.Join(err, change.Abort(ctx))
			}
		}()
	}
	f := newFiles(s, rw, a, opts.Files, change)
	if err := f.move(opts.Rewrite.Mappings); err != nil {
		return nil, err
	}
	if err := f.run(ctx); err != nil {
		return nil, err
	}
	if ed == nil {
		if err := a.chosen.unmatched(); err != nil {
			return nil, err
		}
	}
	if ed != nil {
		l := &live{ed: ed, rw: rw, a: a, write: write, change: change, rep: progress.Of(opts.Progress), seed: maphash.MakeSeed()}
		if f.from != f.to {
			l.touches = func(tables []string) []site.Touch { return s.Touches(tables, opts.Rewrite.Mappings) }
		}
		if err := l.all(ctx); err != nil {
			return nil, err
		}
	}
	if write {
		if ed == nil {
			if err := change.Ready(); err != nil {
				return nil, err
			}
		}
		// The database is what it should be from here on: that is not stopped half-way.
		var warnings []string
		a.Kept, warnings, err = change.End(ctx)
		if change = nil; err != nil {
			return nil, err
		}
		a.Notes = append(a.Notes, warnings...)
		a.noteCaches(s)
	}
	return a, a.end()
}

// all is the whole of the work on a database, in a transaction if it writes.
func (l *live) all(ctx context.Context) error {
	if l.write {
		if err := l.ed.Begin(ctx); err != nil {
			return err
		}
	}
	err := l.run(ctx)
	if err == nil {
		err = ctx.Err()
	}
	if err == nil && l.write {
		err = l.change.Ready()
	}
	if err == nil && l.write { // nobody could tell what an interrupted commit has done
		err = l.ed.Commit(context.WithoutCancel(ctx))
	}
	return err
}

// noteCaches tells of pages that were made with the old address.
func (a *Account) noteCaches(s *site.Site) {
	for _, c := range s.Caches {
		if entries, err := os.ReadDir(s.Root + "/" + c); err == nil && len(entries) > 0 {
			a.Notes = append(a.Notes, "pages kept in "+c+" may still show the old address: empty that folder")
		}
	}
}
