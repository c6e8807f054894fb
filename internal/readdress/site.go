package readdress

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io/fs"
	"os"
	"syscall"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/progress"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Site changes the addresses in a site where it stands: in the database that ed
// has open (nil if it has none), in its settings and in the files that
// opts.Files chooses. Without write it changes nothing, and the account tells
// what would be changed.
//
// Everything is changed in one transaction, and files after it: on an error
// nothing was changed, but for a *PartlyError.
func Site(ctx context.Context, s *site.Site, ed database.Editor, opts Options, write bool) (a *Account, err error) {
	if write {
		lock, err := annex.Take(s.Root, "rewrite")
		switch {
		case err == nil:
			defer func() { _ = lock.Release() }()
		case errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS): // where none can be made, no restore could be under way either
		default:
			return nil, err
		}
	}
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
	f := newFiles(s, rw, a, opts.Files, write)
	defer func() { err = errors.Join(err, f.discard()) }()
	if err := f.move(opts.Rewrite.Mappings); err != nil {
		return nil, err
	}
	if err := f.run(ctx); err != nil {
		return nil, err
	}
	if ed != nil {
		l := &live{ed: ed, rw: rw, a: a, write: write, rep: progress.Of(opts.Progress), seed: maphash.MakeSeed()}
		if f.from != f.to {
			l.touches = func(tables []string) []site.Touch { return s.Touches(tables, opts.Rewrite.Mappings) }
		}
		if err := l.all(ctx); err != nil {
			return nil, err
		}
	}
	// The database is what it should be from here on: that is not stopped half-way.
	if err := f.put(); err != nil {
		return nil, fmt.Errorf("%w; the database is changed already, and a second run changes the files alone", err)
	}
	if write {
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
	if err == nil && l.write { // nobody could tell what an interrupted commit has done
		err = l.ed.Commit(context.WithoutCancel(ctx))
	}
	if err != nil && l.lasting > 0 {
		return &PartlyError{Rows: l.lasting, Err: err}
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
