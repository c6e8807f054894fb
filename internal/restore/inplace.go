package restore

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/database/sqltext"
	"hovix/internal/fault"
	"hovix/internal/fsys"
	"hovix/internal/rowlog"
	"hovix/internal/site"
)

// advanceInPlace carries out the change in place that the journal tells of, or takes it
// back, or makes it again, from wherever that stands.
func advanceInPlace(ctx context.Context, an *annex.Annex, j *journal, l database.Location) (warnings []string, err error) {
	root, err := fsys.OpenExact(an.Target)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, root.Close()) }()
	if j.Step == switching {
		if j.What == "rewrite" {
			made := true
			err := withLog(ctx, an, j.Point, l, false, func(log *rowlog.Log, ed database.Editor) (err error) {
				made, err = log.Made(ctx, ed)
				return err
			})
			if err != nil {
				return nil, err
			}
			if !made {
				return nil, &notSwitchedError{errors.New("its transaction was not committed")}
			}
		} else if warnings, err = exchangeRows(ctx, an, j, l); err != nil {
			return nil, &notSwitchedError{err} // and what a lost answer had done is as it should be when it is done again
		}
		fault.Point("tables")
		warnings = append(warnings, editedFiles(an, root, j)...)
		if err := putFiles(an, root, j); err != nil {
			return nil, err
		}
		fault.Point("folders")
	}
	return warnings, j.settleInPlace(ctx, an, root)
}

// exchangeRows brings the rows of a change to the state that its record in the journal
// says is live. Rows that are so already stay.
func exchangeRows(ctx context.Context, an *annex.Annex, j *journal, l database.Location) (warnings []string, err error) {
	p := j.Record
	err = withLog(ctx, an, j.Point, l, true, func(log *rowlog.Log, ed database.Editor) error {
		to := rowlog.After
		if p.Undone {
			to = rowlog.Before
		}
		done, err := log.Apply(ctx, ed, to, false)
		if err != nil {
			return err
		}
		for _, left := range done.Left {
			w := fmt.Sprintf("table %s: %d rows stay as they are: %s", left.Table, left.Rows, strings.Join(left.Which, "; "))
			if left.Rows == 1 {
				w = fmt.Sprintf("table %s: a row stays as it is: %s", left.Table, left.Which[0])
			}
			if left.Rows > int64(len(left.Which)) && len(left.Which) > 1 {
				w += "; …"
			}
			warnings = append(warnings, w)
		}
		return touch(ctx, an.Target, ed, p)
	})
	return warnings, err
}

// touch does what lets the site answer at the address that it has again.
func touch(ctx context.Context, target string, ed database.Editor, p *Point) error {
	s, err := site.Open(target)
	if err != nil {
		return nil // nobody knows of what kind it is, and its rows are what they are to be
	}
	tables, err := ed.Tables(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, t := range tables {
		names = append(names, t.Name)
	}
	for _, t := range s.Touches(names, p.InPlace.mappings(p.Undone)) {
		if err := ed.Touch(ctx, strings.Replace(t.SQL, "%s", sqltext.QuoteName(t.Table, ed.Info().Engine.Dialect()), 1)); err != nil {
			return err
		}
	}
	return nil
}

// editedFiles tells of files that somebody has changed since a change in place.
func editedFiles(an *annex.Annex, root *fsys.Handle, j *journal) (warnings []string) {
	for i, f := range j.Record.InPlace.Files {
		held := heldName(j.Point, i)
		if sum, err := sumOf(an.Handle, held); err != nil || sum != f.Held || f.Live == "" {
			continue
		}
		if sum, err := sumOf(root, f.Path); err == nil && sum != f.Live {
			warnings = append(warnings, fmt.Sprintf("%s was changed since; what it held until now is kept in %s", f.Path, an.Shown(held)))
		}
	}
	return warnings
}

// takeBackInPlace puts rows back that no transaction has taken back.
func takeBackInPlace(ctx context.Context, an *annex.Annex, j *journal, l database.Location) error {
	log, f, err := openLog(an, j.Point)
	if log == nil {
		return err
	}
	lasting := log.Lasting()
	log.Close()
	if err := f.Close(); err != nil || !lasting {
		return err
	}
	return withLog(ctx, an, j.Point, l, true, func(log *rowlog.Log, ed database.Editor) error {
		_, err := log.Apply(ctx, ed, rowlog.Before, true)
		return err
	})
}

// checkInPlace proves that what a change has kept is there, and that its database can be
// reached.
func (p *Point) checkInPlace(ctx context.Context, an *annex.Annex, known []database.Location) (l database.Location, err error) {
	for i, f := range p.InPlace.Files {
		if an.SerialOf(heldName(p.ID, i)) == 0 {
			return l, fmt.Errorf("%s, which holds what %s was, is gone; throw the point away with hovix undo --discard", an.Shown(heldName(p.ID, i)), f.Path)
		}
	}
	if p.Database == "" {
		return l, nil
	}
	if l, err = login(p.Database, known); err != nil {
		return l, err
	}
	ed, err := engines.Edit(ctx, l)
	if err != nil {
		return l, err
	}
	return l, ed.Close()
}

// size is what a change takes on disk, in bytes.
func (p *InPlace) size(an *annex.Annex, point string) (n int64) {
	names := []string{filepath.Join(point, rowsName)}
	for i := range p.Files {
		names = append(names, heldName(point, i))
	}
	for _, name := range names {
		if st, err := an.Lstat(name); err == nil {
			n += st.Size()
		}
	}
	return n
}

// inPlaceByHand says what a point of a change in place holds.
func (p *Point) inPlaceByHand(an *annex.Annex) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "What hovix rewrite changed in %s on %s, or an undo took back\n\n", an.Target, p.Made.UTC().Format("2 January 2006 at 15:04:05 UTC"))
	if p.InPlace.Rows > 0 {
		fmt.Fprintf(&b, "%d rows of %s were changed; the file %s says which, and their values before and after.\n\n", p.InPlace.Rows, p.Database, rowsName)
	}
	for i, f := range p.InPlace.Files {
		fmt.Fprintf(&b, "    cp %s %s\n", shellQuote(an.Shown(heldName(p.ID, i))), shellQuote(an.Target+"/"+f.Path))
	}
	if len(p.InPlace.Files) > 0 {
		b.WriteString("\nputs the files back by hand.\n\n")
	}
	fmt.Fprintf(&b, "Files and rows together: hovix undo %s\n\nIf the site is as it should be, this folder can be removed.\n", shellQuote(an.Target))
	return []byte(b.String())
}
