package readdress

import (
	"bytes"
	"context"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/progress"
	"hovix/internal/rewrite"
)

// live is one pass over a database.
type live struct {
	ed    database.Editor
	rw    *rewrite.Rewriter
	a     *Account
	keep  []string // columns whose addresses stay, as table.column
	write bool
	rep   progress.Reporter

	t       *database.EditTable
	columns []*Column // by t.Columns
	kept    []bool
	pending []database.Change
	size    int // of what is pending, in bytes
	seed    maphash.Seed
	values  map[uint64]bool // new values of keys, of a pass that does not write
	retried map[string]bool // rows that others changed meanwhile
	lasting int64           // rows changed in tables that cannot be taken back
}

// A batch of changes is one message to the server: large enough that the way
// there does not count, far below the packet size of any server.
const (
	batchRows  = 200
	batchBytes = 256 << 10
)

// PartlyError says that something failed after rows of tables without
// transactions had been changed.
type PartlyError struct {
	Rows int64
	Err  error
}

// Error says what failed and what had been changed.
func (e *PartlyError) Error() string {
	return fmt.Sprintf("%v; %d rows of tables without transactions are changed already", e.Err, e.Rows)
}

// Unwrap gives what failed.
func (e *PartlyError) Unwrap() error { return e.Err }

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
		t.Columns = slices.DeleteFunc(t.Columns, func(c database.Column) bool { return !l.a.filter.Wants(t.Name, c.Name) })
		if len(t.Columns) > 0 {
			tables = append(tables, t)
			size += info.Bytes
		}
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
	return l.definitions(ctx)
}

func (l *live) table(ctx context.Context, t *database.EditTable) error {
	l.t, l.columns, l.kept = t, nil, nil
	l.values, l.retried = map[uint64]bool{}, map[string]bool{}
	for _, c := range t.Columns {
		l.columns = append(l.columns, l.a.column(t.Name, c.Name))
		l.kept = append(l.kept, slices.Contains(l.keep, t.Name+"."+c.Name))
	}
	before := l.a.changedRows
	err := l.ed.Scan(ctx, t, func(row *database.Row) error {
		l.a.Rows++
		return l.row(ctx, row.Values, row.Key)
	})
	if err == nil {
		err = l.flush(ctx)
	}
	if err != nil {
		return err
	}
	l.a.Tables++
	if n := l.a.changedRows - before; n > 0 {
		l.note(n)
	}
	return nil
}

// note tells what is unusual about a table of which rows are changed.
func (l *live) note(rows int64) {
	if len(l.t.Triggers) > 0 {
		l.a.Asides = append(l.a.Asides, fmt.Sprintf("table %s has a trigger that runs for each of its %d changed rows: %s", l.t.Name, rows, strings.Join(l.t.Triggers, ", ")))
	}
	if l.t.Lasting {
		l.a.Asides = append(l.a.Asides, fmt.Sprintf("table %s has no transactions: a run that is interrupted leaves some of its %d rows changed, and the next run goes on with the others", l.t.Name, rows))
	}
}

// row looks at the values of one row.
func (l *live) row(ctx context.Context, values [][]byte, key func() database.Key) error {
	var c database.Change
	read := 0
	for i, v := range values {
		if v == nil {
			continue
		}
		read += len(v)
		col := l.columns[i]
		col.Read++
		if l.kept[i] {
			l.rw.Keep(v, &col.Tally)
			continue
		}
		tally := rewrite.Tally{OnLeftover: col.Tally.OnLeftover}
		out, changed := l.rw.Value(v, &tally)
		if changed && !l.t.Columns[i].Fits(out) {
			l.leave(i, rewrite.Unfit, v, key().Label, unfitting(&l.t.Columns[i], out))
			continue
		}
		if tally.Values > 0 || changed {
			col.Tally.Add(&tally)
		}
		if changed {
			c.Columns = append(c.Columns, i)
			c.Old = append(c.Old, bytes.Clone(v))
			c.New = append(c.New, out)
			l.size += len(v) + len(out)
		}
	}
	l.rep.Add(int64(read))
	if len(c.Columns) == 0 {
		return nil
	}
	c.Key = key()
	l.pending = append(l.pending, c)
	if len(l.pending) >= batchRows || l.size >= batchBytes {
		return l.flush(ctx)
	}
	return nil
}

func unfitting(c *database.Column, v []byte) string {
	if c.Chars > 0 && int64(len(v)) > c.Chars && c.Length(v) > c.Chars {
		return fmt.Sprintf("%d characters in place of at most %d", c.Length(v), c.Chars)
	}
	return fmt.Sprintf("%d bytes in place of at most %d", len(v), c.Bytes)
}

// leave counts a value that stays as it is although it should change.
func (l *live) leave(i int, reason rewrite.Reason, v []byte, label, why string) {
	if label != "" {
		why = label + ": " + why
	}
	l.columns[i].Tally.Leave(reason, v, why)
}

// flush makes the pending changes, or finds out whether they could be made.
func (l *live) flush(ctx context.Context) error {
	pending := l.pending
	l.pending, l.size = nil, 0
	if len(pending) == 0 {
		return nil
	}
	outcomes := make([]database.Outcome, len(pending))
	var err error
	if l.write {
		if l.t.Lasting {
			l.lasting += int64(len(pending))
		}
		outcomes, err = l.ed.Update(ctx, l.t, pending)
	} else {
		err = l.foresee(ctx, pending, outcomes)
	}
	if err != nil {
		return err
	}
	for i := range pending {
		if err := l.outcome(ctx, &pending[i], outcomes[i]); err != nil {
			return err
		}
	}
	return l.a.flush()
}

// foresee finds the changes that would repeat a key.
func (l *live) foresee(ctx context.Context, pending []database.Change, outcomes []database.Outcome) error {
	for i := range pending {
		c := &pending[i]
		taken, err := l.ed.Taken(ctx, l.t, c)
		if err != nil {
			return err
		}
		for j, at := range c.Columns {
			if taken || !l.t.Columns[at].Unique {
				continue
			}
			var h maphash.Hash
			h.SetSeed(l.seed)
			_, _ = h.WriteString(l.t.Columns[at].Name + "=")
			_, _ = h.Write(c.New[j])
			taken = l.values[h.Sum64()]
			l.values[h.Sum64()] = true
		}
		if taken {
			outcomes[i] = database.Outcome{Kind: database.Repeats, Why: "another row has it"}
		}
	}
	return nil
}

// outcome counts a change, or takes its count back.
func (l *live) outcome(ctx context.Context, c *database.Change, o database.Outcome) error {
	switch o.Kind {
	case database.Updated:
		l.a.changedRows++
		for j, i := range c.Columns {
			l.a.changed(l.columns[i], c.Key.Label, c.Old[j], c.New[j])
		}
		return nil
	case database.Moved:
		return l.again(ctx, c)
	}
	reason := rewrite.Unfit
	if o.Kind == database.Repeats {
		reason = rewrite.Repeats
	}
	l.takeBack(c)
	for j, i := range c.Columns {
		l.leave(i, reason, c.Old[j], c.Key.Label, o.Why)
	}
	return nil
}

// takeBack removes the counts of a change that was not made.
func (l *live) takeBack(c *database.Change) {
	for j, i := range c.Columns {
		var tally rewrite.Tally
		l.rw.Value(c.Old[j], &tally)
		l.columns[i].Tally.Remove(&tally)
	}
}

// again takes a row that somebody else has changed since it was read.
func (l *live) again(ctx context.Context, c *database.Change) error {
	l.takeBack(c)
	values, err := l.ed.Fetch(ctx, l.t, c.Key)
	if err != nil {
		return err
	}
	// Once fetched it is held: nobody can have changed it a second time.
	if values == nil || l.retried[c.Key.Where] {
		for j, i := range c.Columns {
			l.leave(i, rewrite.Unfit, c.Old[j], c.Key.Label, "the row is gone, or is not found by its key and its old value")
		}
		return nil
	}
	l.retried[c.Key.Where] = true
	for i := range values { // the others have been looked at
		if !slices.Contains(c.Columns, i) {
			values[i] = nil
		} else if values[i] != nil {
			l.columns[i].Read--
		}
	}
	return l.row(ctx, values, func() database.Key { return c.Key })
}

// definitions notes views and triggers that hold an old address: they are
// programs, which nobody rewrites unasked.
func (l *live) definitions(ctx context.Context) error {
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
