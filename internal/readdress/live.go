package readdress

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/progress"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// live is one pass over a database.
type live struct {
	ed      database.Editor
	rw      *rewrite.Rewriter
	a       *Account
	write   bool
	rep     progress.Reporter
	seed    maphash.Seed
	change  *restore.Change                    // what the changes are kept by; nil unless write
	touches func(tables []string) []site.Touch // what is done beside; nil: nothing
}

// A batch of changes is small beside the packet size of any server, and large
// enough that the way there does not count.
const (
	batchRows  = 512
	batchBytes = 512 << 10
)

// run goes through all tables, those last whose changes cannot be taken back.
func (l *live) run(ctx context.Context) error {
	all, err := l.ed.Tables(ctx)
	if err != nil {
		return err
	}
	var tables []*database.EditTable
	var size int64
	for _, info := range all {
		t, err := l.ed.Editable(ctx, info.Name)
		if err != nil {
			return err
		}
		for _, c := range t.Columns {
			l.a.chosen.see(t.Name, c.Name)
		}
		t.Columns = slices.DeleteFunc(t.Columns, func(c database.Column) bool { return !l.a.filter.Wants(t.Name, c.Name) })
		if len(t.Columns) > 0 {
			tables = append(tables, t)
			size += info.Bytes
		}
	}
	if err := l.a.chosen.unmatched(); err != nil {
		return err
	}
	slices.SortStableFunc(tables, func(x, y *database.EditTable) int {
		switch {
		case x.Lasting == y.Lasting:
			return 0
		case x.Lasting:
			return 1
		}
		return -1
	})
	phase := "Reading"
	if l.write {
		phase = "Changing"
	}
	l.rep.Phase(phase, size)
	for _, t := range tables {
		if err := l.table(ctx, t); err != nil {
			return err
		}
	}
	if err := l.touch(ctx, all); err != nil {
		return err
	}
	return l.definitions(ctx)
}

// touch does what lets the site answer at its new address at once.
func (l *live) touch(ctx context.Context, tables []database.Table) error {
	if l.touches == nil || !l.a.filter.Wants("", "") {
		return nil
	}
	var names []string
	for _, t := range tables {
		names = append(names, t.Name)
	}
	d := l.ed.Info().Engine.Dialect()
	for _, t := range l.touches(names) {
		if l.write {
			if err := l.ed.Touch(ctx, strings.Replace(t.SQL, "%s", sqltext.QuoteName(t.Table, d), 1)); err != nil {
				return err
			}
		}
		if t.Why != "" && !slices.Contains(l.a.Asides, t.Why) {
			l.a.Asides = append(l.a.Asides, t.Why)
		}
	}
	return nil
}

// table reads a table and changes it, both at a time where the database lets it.
func (l *live) table(ctx context.Context, t *database.EditTable) error {
	reader := &side{live: l, t: t, a: l.a}
	changer := &changer{side: side{live: l, t: t, a: l.a.part()}, values: map[uint64]bool{}, retried: map[string]bool{}}
	reader.begin()
	changer.begin()
	group, ctx := errgroup.WithContext(ctx)
	batches := make(chan []database.Change, 2)
	changer.a.changes = l.a.changes
	changer.flush = func(c []database.Change) error { return changer.take(ctx, c) }
	reader.flush = changer.flush
	if l.ed.Concurrent() {
		group.Go(func() error {
			for c := range batches {
				if err := changer.take(ctx, c); err != nil {
					return err
				}
			}
			return nil
		})
		reader.flush = func(c []database.Change) error {
			select {
			case batches <- c:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	group.Go(func() error {
		defer close(batches)
		err := l.ed.Scan(ctx, t, func(row *database.Row) error {
			l.a.Rows++
			return reader.row(row)
		})
		if errors.Is(err, database.ErrRowTooLarge) {
			return fmt.Errorf("%w; leave it out with --except %s", err, t.Name)
		}
		if err != nil {
			return err
		}
		return reader.end()
	})
	if err := group.Wait(); err != nil {
		return err
	}
	l.a.Tables++
	if n := reader.rows + changer.rows; n > 0 {
		l.note(t, n)
	}
	return l.a.join(changer.a)
}

// note tells what is unusual about a table of which rows are changed.
func (l *live) note(t *database.EditTable, rows int64) {
	if len(t.Triggers) > 0 {
		l.a.Asides = append(l.a.Asides, fmt.Sprintf("table %s has a trigger that runs for each of its %d changed rows: %s", t.Name, rows, strings.Join(t.Triggers, ", ")))
	}
	if t.Lasting {
		l.a.Asides = append(l.a.Asides, fmt.Sprintf("table %s has no transactions: visitors see its %d rows change one by one, and what an interrupted run has changed is put back by the next", t.Name, rows))
	}
}

// side is one side of the work on a table, which counts for itself: the one that
// reads, or the one that changes.
type side struct {
	*live
	t       *database.EditTable
	a       *Account
	columns []*Column // by t.Columns
	pending []database.Change
	size    int // of what is pending, in bytes
	flush   func([]database.Change) error
	buf     []byte // room for a value
	rows    int64  // with changes
}

// simple reports whether nothing is to be done with a changed value but to count
// it: it is not written, listed, or part of a key.
func (s *side) simple(i int) bool { return !s.write && !s.a.listed && !s.t.Columns[i].Keyed }

// room gives room for the new value of a column, if it is not to be kept.
func (s *side) room(i int) []byte {
	if s.simple(i) {
		return s.buf
	}
	return nil
}

func (s *side) begin() {
	for _, c := range s.t.Columns {
		s.columns = append(s.columns, s.a.column(s.t.Name, c.Name))
	}
}

// row looks at the values of one row.
func (s *side) row(row *database.Row) error {
	values, key := row.Values, row.Key
	var c database.Change
	read, counted := 0, false
	for i, v := range values {
		if v == nil {
			continue
		}
		read += len(v)
		col := s.columns[i]
		col.Read++
		if col.kept {
			s.rw.Keep(v, &col.Tally)
			continue
		}
		tally := rewrite.Tally{OnLeftover: col.Tally.OnLeftover}
		change := s.rw.ValueIn
		if s.t.Columns[i].Raw || row.Raw != nil && row.Raw[i] {
			change = s.rw.BytesIn
		}
		out, changed := change(s.room(i), v, &tally)
		if changed && !s.t.Columns[i].Fits(out) {
			s.leave(i, rewrite.Unfit, v, key().Label, unfitting(&s.t.Columns[i], out))
			continue
		}
		if tally.Values > 0 || changed {
			col.Tally.Add(&tally)
		}
		switch {
		case !changed:
		case s.simple(i):
			s.buf = out
			s.a.changed(col, "", v, out)
			counted = true
		default:
			c.Columns = append(c.Columns, i)
			c.Old = append(c.Old, bytes.Clone(v))
			c.New = append(c.New, out)
			s.size += len(v) + len(out)
		}
	}
	s.rep.Add(int64(read))
	if len(c.Columns) == 0 {
		if counted {
			s.rows++
		}
		return nil
	}
	c.Key = key()
	s.pending = append(s.pending, c)
	if len(s.pending) >= batchRows || s.size >= batchBytes {
		return s.end()
	}
	return nil
}

// end gives away what is pending.
func (s *side) end() error {
	if len(s.pending) == 0 {
		return nil
	}
	c := s.pending
	s.pending, s.size = nil, 0
	return s.flush(c)
}

// leave counts a value that stays as it is although it should change.
func (s *side) leave(i int, reason rewrite.Reason, v []byte, label, why string) {
	if label != "" {
		why = label + ": " + why
	}
	s.columns[i].Tally.Leave(reason, v, why)
}

func unfitting(c *database.Column, v []byte) string {
	if c.Chars > 0 && int64(len(v)) > c.Chars && c.Length(v) > c.Chars {
		return fmt.Sprintf("%d characters in place of at most %d", c.Length(v), c.Chars)
	}
	return fmt.Sprintf("%d bytes in place of at most %d", len(v), c.Bytes)
}

// changer makes changes, or finds out whether they could be made.
type changer struct {
	side
	values  map[uint64]bool // new values of keys, of a pass that does not write
	retried map[string]bool // rows that others changed meanwhile
}

// take makes a batch of changes.
func (r *changer) take(ctx context.Context, pending []database.Change) (err error) {
	outcomes := make([]database.Outcome, len(pending))
	if r.write {
		if err := r.change.Rows(r.t, pending); err != nil {
			return err
		}
		outcomes, err = r.ed.Update(ctx, r.t, pending)
	} else {
		err = r.foresee(ctx, pending, outcomes)
	}
	if err != nil {
		return err
	}
	for i := range pending {
		if err := r.outcome(ctx, &pending[i], outcomes[i]); err != nil {
			return err
		}
	}
	if err := r.a.flush(); err != nil {
		return err
	}
	return r.end() // rows that had to be looked at again
}

// foresee finds the changes that would repeat a key.
func (r *changer) foresee(ctx context.Context, pending []database.Change, outcomes []database.Outcome) error {
	for i := range pending {
		c := &pending[i]
		taken, err := r.ed.Taken(ctx, r.t, c)
		if err != nil {
			return err
		}
		for j, at := range c.Columns {
			if taken || !r.t.Columns[at].Unique {
				continue
			}
			var h maphash.Hash
			h.SetSeed(r.seed)
			_, _ = h.WriteString(r.t.Columns[at].Name + "=")
			_, _ = h.Write(c.New[j])
			taken = r.values[h.Sum64()]
			r.values[h.Sum64()] = true
		}
		if taken {
			outcomes[i] = database.Outcome{Kind: database.Repeats, Why: "another row has it"}
		}
	}
	return nil
}

// outcome counts a change, or takes its count back.
func (r *changer) outcome(ctx context.Context, c *database.Change, o database.Outcome) error {
	reason := rewrite.Unfit
	switch o.Kind {
	case database.Updated:
		r.rows++
		for j, i := range c.Columns {
			r.a.changed(r.columns[i], c.Key.Label, c.Old[j], c.New[j])
		}
		return nil
	case database.Moved:
		return r.again(ctx, c)
	case database.Repeats:
		reason = rewrite.Repeats
	}
	r.refuse(c, reason, o.Why)
	return nil
}

// refuse counts a change that was not made.
func (r *changer) refuse(c *database.Change, reason rewrite.Reason, why string) {
	r.takeBack(c)
	for j, i := range c.Columns {
		r.leave(i, reason, c.Old[j], c.Key.Label, why)
	}
}

// takeBack removes the counts of a change that was not made.
func (r *changer) takeBack(c *database.Change) {
	for j, i := range c.Columns {
		var tally rewrite.Tally
		r.rw.Value(c.Old[j], &tally)
		r.columns[i].Tally.Remove(&tally)
	}
}

// again takes a row that somebody else has changed since it was read.
func (r *changer) again(ctx context.Context, c *database.Change) error {
	values, err := r.ed.Fetch(ctx, r.t, c.Key)
	if err != nil {
		return err
	}
	// Once fetched it is held: nobody can have changed it a second time.
	if values == nil || r.retried[c.Key.Where] {
		r.refuse(c, rewrite.Unfit, "the row is gone, or is not found by its key and its old value")
		return nil
	}
	r.takeBack(c)
	r.retried[c.Key.Where] = true
	for i := range values { // the others have been looked at
		if !slices.Contains(c.Columns, i) {
			values[i] = nil
		} else if values[i] != nil {
			r.columns[i].Read--
		}
	}
	return r.row(&database.Row{Values: values, Key: func() database.Key { return c.Key }})
}

// definitions notes views and triggers that hold an old address: they are
// programs, which nobody rewrites unasked.
func (l *live) definitions(ctx context.Context) error {
	tables, err := l.ed.Tables(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if !l.a.filter.Wants(t.Name, "") {
			continue
		}
		create, keys, err := l.ed.Definition(ctx, t.Name)
		if err != nil {
			return err
		}
		for _, stmt := range append([]string{create}, keys...) {
			var tally rewrite.Tally
			if _, changed := l.rw.Value([]byte(stmt), &tally); changed {
				l.a.Notes = append(l.a.Notes, fmt.Sprintf("the definition of table %s holds an old address (a default, check, label, comment or expression), and stays as it is; a restore changes it", t.Name))
				break
			}
		}
	}
	objects, err := l.ed.Objects(ctx)
	if err != nil {
		return err
	}
	for _, o := range objects {
		var tally rewrite.Tally
		if _, changed := l.rw.Value([]byte(o.SQL), &tally); changed && l.a.filter.Wants(o.Name, "") {
			l.a.Notes = append(l.a.Notes, fmt.Sprintf("the definition of %s %s holds an old address, and stays as it is", o.Kind, o.Name))
		}
	}
	return nil
}
