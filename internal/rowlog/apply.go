package rowlog

import (
	"bytes"
	"context"
	"crypto/sha1"
	"fmt"
	"slices"

	"hovix/internal/database"
)

// Direction says which state of a database is wanted.
type Direction bool

// The states that a log knows.
const (
	Before Direction = false
	After  Direction = true
)

// Applied tells what became of the rows of a log.
type Applied struct {
	Rows int64  // that were changed
	Left []Left // that stay as they are, for somebody has changed them since
}

// Left are the rows of a table that stay as they are.
type Left struct {
	Table string
	Rows  int64
	Which []string // the first of them, and why
}

const maxWhich = 3

func (a *Applied) leave(table string, n int64, format string, args ...any) {
	at := slices.IndexFunc(a.Left, func(l Left) bool { return l.Table == table })
	if at < 0 {
		at = len(a.Left)
		a.Left = append(a.Left, Left{Table: table})
	}
	l := &a.Left[at]
	l.Rows += n
	if text := fmt.Sprintf(format, args...); len(l.Which) < maxWhich && !slices.Contains(l.Which, text) {
		l.Which = append(l.Which, text)
	}
}

// apply is one pass over a log.
type apply struct {
	ed      database.Editor
	to      Direction
	tables  map[string]*database.EditTable // nil: it is not there any more
	keyless map[string][]database.Change
	order   []string // of those
	out     *Applied
}

// Apply brings the rows of a log to the state before it, or after it, in the transaction
// that ed is in. A row is changed only if it still has the values of the other state; one
// that has those wanted already is as it should be, and any other stays and is told of.
// lasting takes only tables whose changes no transaction takes back.
func (l *Log) Apply(ctx context.Context, ed database.Editor, to Direction, lasting bool) (*Applied, error) {
	a := &apply{ed: ed, to: to, tables: map[string]*database.EditTable{}, keyless: map[string][]database.Change{}, out: &Applied{}}
	for i := range l.blocks {
		if to == Before { // what came last goes first, or keys might repeat for a moment
			i = len(l.blocks) - 1 - i
		}
		b, err := l.read(l.blocks[i])
		if err != nil {
			return nil, err
		}
		if lasting && !b.lasting {
			continue
		}
		if err := a.batch(ctx, b); err != nil {
			return nil, err
		}
	}
	for _, table := range a.order {
		if err := a.byValue(ctx, a.tables[table], a.keyless[table]); err != nil {
			return nil, err
		}
	}
	return a.out, nil
}

// table looks at a table that a log names.
func (a *apply) table(ctx context.Context, name string) (*database.EditTable, error) {
	if t, known := a.tables[name]; known {
		return t, nil
	}
	tables, err := a.ed.Tables(ctx)
	if err != nil {
		return nil, err
	}
	var t *database.EditTable
	if slices.ContainsFunc(tables, func(t database.Table) bool { return t.Name == name }) {
		if t, err = a.ed.Editable(ctx, name); err != nil {
			return nil, err
		}
	}
	a.tables[name] = t
	return t, nil
}

func (a *apply) batch(ctx context.Context, b *batch) error {
	t, err := a.table(ctx, b.table)
	if err != nil {
		return err
	}
	if t == nil {
		a.out.leave(b.table, int64(len(b.changes)), "the table is gone")
		return nil
	}
	if a.to == Before {
		slices.Reverse(b.changes)
	}
	var changes []database.Change
	for _, c := range b.changes {
		if c.Columns, err = places(t, b.columns, c.Columns); err != nil {
			a.out.leave(t.Name, 1, "%v", err)
			continue
		}
		if len(c.Key.Parts) == 0 {
			if a.keyless[t.Name] == nil {
				a.order = append(a.order, t.Name)
			}
			a.keyless[t.Name] = append(a.keyless[t.Name], a.turned(c))
			continue
		}
		var by *database.Change
		if a.to == Before {
			by = &c
		}
		key, err := a.ed.Named(t, c.Key.Parts, by)
		if err != nil {
			a.out.leave(t.Name, 1, "%v", err)
			continue
		}
		c = a.turned(c)
		c.Key = key
		changes = append(changes, c)
	}
	if !slices.ContainsFunc(changes, func(c database.Change) bool { return a.renames(t, &c) }) {
		return a.update(ctx, t, changes)
	}
	// The new key of one row may be the old one of another, which has to go first.
	for i := range changes {
		if a.renames(t, &changes[i]) {
			if done, err := a.asWanted(ctx, t, &changes[i]); err != nil || done {
				if err != nil {
					return err
				}
				continue
			}
		}
		if err := a.update(ctx, t, changes[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

// renames reports whether a change is one of the row's key too.
func (a *apply) renames(t *database.EditTable, c *database.Change) bool {
	key, err := a.ed.Named(t, c.Key.Parts, c)
	return err == nil && key.Where != c.Key.Where
}

// asWanted reports whether a row is there under its new key already.
func (a *apply) asWanted(ctx context.Context, t *database.EditTable, c *database.Change) (bool, error) {
	key, err := a.ed.Named(t, c.Key.Parts, c)
	if err != nil {
		return false, nil
	}
	values, err := a.ed.Fetch(ctx, t, key)
	return err == nil && values != nil && holds(values, c.Columns, c.New), err
}

// turned gives a change as it leads to the state that is wanted.
func (a *apply) turned(c database.Change) database.Change {
	if a.to == Before {
		c.Old, c.New = c.New, c.Old
	}
	return c
}

// places finds columns, given by their places among names, among a table's own.
func places(t *database.EditTable, names []string, which []int) (out []int, err error) {
	for _, i := range which {
		at := slices.IndexFunc(t.Columns, func(c database.Column) bool { return c.Name == names[i] })
		if at < 0 {
			return nil, fmt.Errorf("there is no column %s any more", names[i])
		}
		out = append(out, at)
	}
	return out, nil
}

// update changes rows that are as the other state had them.
func (a *apply) update(ctx context.Context, t *database.EditTable, changes []database.Change) error {
	if !a.ed.Concurrent() { // nobody changes the rows meanwhile, and the engine does not compare them
		var err error
		changes, err = a.compared(ctx, t, changes)
		if err != nil {
			return err
		}
	}
	if len(changes) == 0 {
		return nil
	}
	outcomes, err := a.ed.Update(ctx, t, changes)
	if err != nil {
		return err
	}
	for i, o := range outcomes {
		switch o.Kind {
		case database.Updated:
			a.out.Rows++
		case database.Moved:
			if _, err := a.asOther(ctx, t, &changes[i]); err != nil {
				return err
			}
		default:
			a.out.leave(t.Name, 1, "%s: %s", changes[i].Key.Label, o.Why)
		}
	}
	return nil
}

// compared gives the changes whose rows have their old values.
func (a *apply) compared(ctx context.Context, t *database.EditTable, changes []database.Change) (out []database.Change, err error) {
	for i := range changes {
		as, err := a.asOther(ctx, t, &changes[i])
		if err != nil {
			return nil, err
		}
		if as {
			out = append(out, changes[i])
		}
	}
	return out, nil
}

// asOther reports whether a row has the values of the other state. Where it has neither
// those nor the wanted ones it is left.
func (a *apply) asOther(ctx context.Context, t *database.EditTable, c *database.Change) (bool, error) {
	values, err := a.ed.Fetch(ctx, t, c.Key)
	if err != nil {
		return false, err
	}
	if values == nil {
		// A key that is part of the change names the row as it should be.
		if key, err := a.ed.Named(t, c.Key.Parts, c); err == nil {
			if values, err = a.ed.Fetch(ctx, t, key); err != nil {
				return false, err
			}
		}
	}
	switch {
	case values == nil:
		a.out.leave(t.Name, 1, "%s is gone", c.Key.Label)
	case holds(values, c.Columns, c.Old):
		return true, nil
	case !holds(values, c.Columns, c.New):
		a.out.leave(t.Name, 1, "%s has been changed since", c.Key.Label)
	}
	return false, nil
}

// holds reports whether a row has these values in these columns.
func holds(row [][]byte, columns []int, values [][]byte) bool {
	for i, at := range columns {
		if row[at] == nil || !bytes.Equal(row[at], values[i]) {
			return false
		}
	}
	return true
}

// cell is a value of a column, by its hash.
type cell struct {
	column int
	sum    [sha1.Size]byte
}

// goal is what a value becomes.
type goal struct {
	value []byte
	rows  int64 // that are to have it
	found int64 // that have the value now
	mixed bool  // it came from more than one value
}

// byValue changes rows that have no names: those of a value that was not there before are
// all of them.
func (a *apply) byValue(ctx context.Context, t *database.EditTable, changes []database.Change) error {
	goals := map[cell]*goal{}
	for _, c := range changes {
		for i, at := range c.Columns {
			k := cell{at, sha1.Sum(c.Old[i])}
			g := goals[k]
			if g == nil {
				g = &goal{value: c.New[i]}
				goals[k] = g
			}
			g.rows++
			g.mixed = g.mixed || !bytes.Equal(g.value, c.New[i])
		}
	}
	each := func(yield func(row *database.Row, i int, g *goal) error) error {
		return a.ed.Scan(ctx, t, func(row *database.Row) error {
			for i, v := range row.Values {
				if v == nil {
					continue
				}
				if g := goals[cell{i, sha1.Sum(v)}]; g != nil {
					if err := yield(row, i, g); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	if err := each(func(_ *database.Row, _ int, g *goal) error { g.found++; return nil }); err != nil {
		return err
	}
	for k, g := range goals {
		if g.found != 0 && (g.mixed || g.found != g.rows) {
			a.out.leave(t.Name, g.found, "the table has no key, and rows that were changed cannot be told from others with the same %s", t.Columns[k.column].Name)
			delete(goals, k)
		}
	}
	var pending []database.Change
	err := each(func(row *database.Row, i int, g *goal) error {
		v := row.Values[i]
		pending = append(pending, database.Change{Key: row.Key(), Columns: []int{i}, Old: [][]byte{bytes.Clone(v)}, New: [][]byte{g.value}})
		return nil
	})
	if err != nil {
		return err
	}
	return a.rows(ctx, t, pending)
}

// rows changes rows that were just read, each by all that it is to have.
func (a *apply) rows(ctx context.Context, t *database.EditTable, pending []database.Change) error {
	var whole []database.Change
	for _, c := range pending {
		if n := len(whole) - 1; n >= 0 && c.Key.Where != "" && whole[n].Key.Where == c.Key.Where {
			whole[n].Columns, whole[n].Old, whole[n].New = append(whole[n].Columns, c.Columns...), append(whole[n].Old, c.Old...), append(whole[n].New, c.New...)
			continue
		}
		whole = append(whole, c)
	}
	for batch := range slices.Chunk(whole, 256) {
		outcomes, err := a.ed.Update(ctx, t, batch)
		if err != nil {
			return err
		}
		for i, o := range outcomes {
			if o.Kind == database.Updated {
				a.out.Rows++
			} else {
				a.out.leave(t.Name, 1, "%s: %s", batch[i].Key.Label, o.Why)
			}
		}
	}
	return nil
}

// Made reports whether a transaction in which the rows of the log were changed was
// committed: ed is in another, which only reads. It was, where no row can tell.
func (l *Log) Made(ctx context.Context, ed database.Editor) (bool, error) {
	a := &apply{ed: ed, tables: map[string]*database.EditTable{}, out: &Applied{}}
	for _, bl := range l.blocks {
		b, err := l.read(bl)
		if err != nil {
			return false, err
		}
		t, err := a.table(ctx, b.table)
		if err != nil {
			return false, err
		}
		if t == nil || b.lasting {
			continue
		}
		for _, c := range b.changes {
			sure, made, err := a.made(ctx, t, b, c)
			if err != nil || sure {
				return made, err
			}
		}
	}
	return true, nil
}

// made looks at one row.
func (a *apply) made(ctx context.Context, t *database.EditTable, b *batch, c database.Change) (sure, made bool, err error) {
	if c.Columns, err = places(t, b.columns, c.Columns); err != nil {
		return false, false, nil
	}
	if len(c.Key.Parts) == 0 {
		return a.madeByValue(ctx, t, c)
	}
	is := map[Direction]bool{}
	for to, by := range map[Direction]*database.Change{After: &c, Before: nil} {
		key, err := a.ed.Named(t, c.Key.Parts, by)
		if err != nil {
			return false, false, nil
		}
		values, err := a.ed.Fetch(ctx, t, key)
		if err != nil {
			return false, false, err
		}
		is[to] = values != nil && (to == After && holds(values, c.Columns, c.New) || to == Before && holds(values, c.Columns, c.Old))
	}
	// Both may be there: the new key of one row may be the old one of another.
	return is[After] != is[Before], is[After], nil
}

func (a *apply) madeByValue(ctx context.Context, t *database.EditTable, c database.Change) (sure, made bool, err error) {
	before, after := false, false
	err = a.ed.Scan(ctx, t, func(row *database.Row) error {
		before = before || holds(row.Values, c.Columns, c.Old)
		after = after || holds(row.Values, c.Columns, c.New)
		return nil
	})
	return before != after, after, err
}
