package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/fault"
	"hovix/internal/manifest"
)

// tableState is a table whose entries are on their way.
type tableState struct {
	name    string
	before  <-chan struct{} // closed when what must be there before it is
	defined chan struct{}   // closed when its staged table is there
	left    atomic.Int64    // entries with rows that have not been staged
	rows    atomic.Int64    // that the engine has stored
	drained chan struct{}   // told each time one has been
	ended   bool
	skip    bool // it is not restored
	chunks  int  // that were announced
}

// entryName is database/t00001-name.1-rows-0000001.sql and the like.
var entryName = regexp.MustCompile(`^database/(t\d{5}-[^/]*)\.(0-table|1-rows-\d+|2-end)\.sql$`)

// announceSQL hears of the entries of the database in their order. What makes
// something is done in that order too: it may need what came before.
func (r *run) announceSQL(e *archive.Entry) error {
	m := entryName.FindStringSubmatch(e.Name)
	r.mu.Lock()
	defer r.mu.Unlock()
	if m == nil {
		if r.others[e.Name] {
			return fmt.Errorf("%w: %q is there twice", archive.ErrRefused, e.Name)
		}
		r.others[e.Name] = true
		if e.Name == manifest.EarlyName && r.early == nil {
			r.early = make(chan struct{})
			r.last = r.early
		}
		return nil
	}
	t := r.tables[m[1]]
	switch {
	case m[2] == "0-table":
		if t != nil {
			return fmt.Errorf("%w: a second definition, %q", archive.ErrRefused, e.Name)
		}
		t = &tableState{before: r.last, defined: make(chan struct{}), drained: make(chan struct{}, 1)}
		r.tables[m[1]], r.last = t, t.defined
	case t == nil || t.ended:
		return fmt.Errorf("%w: %q does not follow its table's definition", archive.ErrRefused, e.Name)
	case m[2] == "2-end":
		t.ended = true
	default:
		if t.chunks++; m[2] != fmt.Sprintf("1-rows-%07d", t.chunks) {
			return fmt.Errorf("%w: %q stands where rows number %d belong", archive.ErrRefused, e.Name, t.chunks)
		}
		t.left.Add(1)
	}
	return nil
}

// maxSQLBytes is how much SQL text makes sense for the tables that the manifest
// names: engines compress, and text is longer than what it stands for.
func (r *run) maxSQLBytes() int64 {
	n := int64(4 << 30)
	for _, t := range r.m.Database.Tables {
		n += 32 * max(t.Bytes, 0)
	}
	return n
}

// sql takes one entry with SQL text.
func (r *run) sql(ctx context.Context, e *archive.Entry, text []byte) error {
	if r.sqlBytes.Add(e.Size) > r.maxSQLBytes() {
		return fmt.Errorf("%w: its tables unpack to far more than its manifest says (at %q)", archive.ErrRefused, e.Name)
	}
	m := entryName.FindStringSubmatch(e.Name)
	var err error
	if m == nil {
		err = r.objects(ctx, e.Name, text)
	} else {
		r.mu.Lock()
		t := r.tables[m[1]]
		r.mu.Unlock()
		switch m[2] {
		case "0-table":
			err = r.define(ctx, t, text)
		case "2-end":
			err = r.endTable(ctx, t, e.Name, text)
		default:
			chunk, _ := strconv.Atoi(strings.TrimPrefix(m[2], "1-rows-"))
			err = r.rows(ctx, t, chunk, text)
		}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", e.Name, err)
	}
	return nil
}

func (r *run) dialect() sqltext.Dialect { return r.m.Database.Engine.Dialect() }

func (r *run) define(ctx context.Context, t *tableState, text []byte) error {
	all := sqltext.SplitBytes(text, r.dialect())
	st, err := all.Next()
	if err != nil {
		return err
	}
	def, err := sqltree.ParseTable(st.Text, r.dialect())
	if err != nil && r.passed(t, st.Text) {
		return nil
	}
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(r.m.Database.Tables, func(o database.Table) bool { return o.Name == def.Name }) {
		return fmt.Errorf("%w: table %s is not in the manifest", sqltext.ErrRefused, def.Name)
	}
	if more, err := all.Next(); !errors.Is(err, io.EOF) {
		return errors.Join(err, fmt.Errorf("%w: %.60q behind the definition of %s", sqltext.ErrRefused, more.Text, def.Name))
	}
	if t.before != nil {
		if err := waitFor(ctx, t.before); err != nil {
			return err
		}
	}
	t.name = def.Name
	r.way.Define(def)
	def.MapTexts(r.way.Texts(def.Name))
	if t.skip = !r.plan.sel.table(def.Name); !t.skip {
		if err := r.db.Define(ctx, def); err != nil {
			return err
		}
	}
	close(t.defined)
	return nil
}

// passed reports whether a definition that cannot be read is that of a table which packing
// found to be none that a restore makes; it and its rows are passed over then.
func (r *run) passed(t *tableState, stmt []byte) bool {
	name, ok := sqltree.TableName(stmt, r.dialect())
	if !ok || !r.plan.sel.refused[name] {
		return false
	}
	t.name, t.skip = name, true
	close(t.defined)
	return true
}

func waitFor(ctx context.Context, done <-chan struct{}) error {
	select {
	case <-done:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func (r *run) rows(ctx context.Context, t *tableState, chunk int, text []byte) error {
	if err := waitFor(ctx, t.defined); err != nil || t.skip || r.known(t, chunk) {
		return err
	}
	rows, target := r.way.Rows(text), r.db.Target(t.name)
	var stmts [][]byte
	size, count := 0, int64(0)
	for {
		var room []byte
		if b, ok := r.room.Get().(*[]byte); ok {
			room = (*b)[:0]
		}
		stmt, n, err := rows.Next(room, t.name, target)
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return err
		}
		stmts = append(stmts, stmt)
		size += len(stmt)
		count += n
	}
	if err := errors.Join(r.noteUnfit(), r.stored.add(t.name, chunk, rows.Found())); err != nil {
		return err
	}
	store := r.db.Fill(t.name, chunk, count, stmts)
	turn, err := r.desk.queue(ctx, t, size)
	if err != nil {
		return err
	}
	r.ends.Go(func() error {
		defer func() {
			for _, b := range stmts {
				r.room.Put(&b)
			}
		}()
		if err := r.fill(r.endsCtx, turn, store); err != nil {
			return fmt.Errorf("rows %d of %s: %w", chunk, t.name, err)
		}
		return nil
	})
	return nil
}

// fill stores a chunk of rows when it is its turn.
func (r *run) fill(ctx context.Context, turn *turn, store func(context.Context) (int64, error)) error {
	t := turn.table
	err := r.desk.serve(ctx, turn, func() error {
		n, err := store(ctx)
		t.rows.Add(n)
		return err
	})
	if err != nil {
		return err
	}
	fault.Point("filled")
	t.chunkDone()
	return nil
}

// chunkDone tells whoever waits for all rows of the table that a chunk is staged.
func (t *tableState) chunkDone() {
	t.left.Add(-1)
	select {
	case t.drained <- struct{}{}:
	default:
	}
}

var rowsComment = regexp.MustCompile(`(?m)^-- rows: (\d+)$`)

// endTable reads what makes a table's keys, and has it done beside what else
// comes: rows of other tables must not wait for it.
func (r *run) endTable(ctx context.Context, t *tableState, entry string, text []byte) error {
	var keys []string
	for st, err := range sqltext.SplitBytes(text, r.dialect()).All() {
		if err != nil {
			return err
		}
		one, err := sqltree.Parse(st.Text, r.dialect())
		if err != nil {
			return err
		}
		if one.Shape != sqltree.ShapeKey {
			return fmt.Errorf("%w: only keys may follow the rows, not %.60q", sqltext.ErrRefused, st.Text)
		}
		one.MapTexts(r.way.Texts(cmp.Or(one.Table, one.Name)))
		keys = append(keys, one.SQL(nil))
	}
	m := rowsComment.FindSubmatch(text)
	if m == nil {
		return fmt.Errorf("%w: the number of rows is missing", archive.ErrCorrupt)
	}
	want, _ := strconv.ParseInt(string(m[1]), 10, 64)
	r.ends.Go(func() error {
		if err := r.finishTable(r.endsCtx, t, keys, want); err != nil {
			return fmt.Errorf("%s: %w", entry, err)
		}
		return nil
	})
	return nil
}

// finishTable makes a table's keys when all its rows are staged. Their number is
// what the engine said it stored: to count them again takes as long as to read the
// table.
func (r *run) finishTable(ctx context.Context, t *tableState, keys []string, want int64) error {
	if err := waitFor(ctx, t.defined); err != nil {
		return err
	}
	if t.skip {
		return nil
	}
	for t.left.Load() > 0 {
		select {
		case <-t.drained:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	turn, err := r.desk.queue(ctx, t, 0)
	if err != nil {
		return err
	}
	if err := r.desk.serve(ctx, turn, func() error { return r.db.Finish(ctx, t.name, keys) }); err != nil {
		return err
	}
	n := t.rows.Load()
	if want != n {
		return fmt.Errorf("table %s has %d rows in the archive, but %d were staged", t.name, want, n)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.res.Tables = append(r.res.Tables, TableResult{t.name, n})
	r.res.Rows += n
	return nil
}

// kindOf names the objects that statements make.
var kindOf = map[sqltree.Shape]database.ObjectKind{sqltree.ShapeView: database.View, sqltree.ShapeTrigger: database.Trigger, sqltree.ShapeRoutine: database.Routine,
	sqltree.ShapeEvent: database.Event, sqltree.ShapeSequence: database.Sequence, sqltree.ShapeType: database.Type, sqltree.ShapeKey: database.Other, sqltree.ShapeOther: database.Other,
	sqltree.ShapeSchema: database.Other, sqltree.ShapeExtension: database.Other}

// objects takes what is not a table, and what closes the text. The statements at
// the beginning and the end are for clients; a stage sets its own session.
func (r *run) objects(ctx context.Context, name string, text []byte) error {
	var session database.Session
	for st, err := range sqltext.SplitBytes(text, r.dialect()).All() {
		if err != nil {
			return err
		}
		if strings.HasSuffix(name, "z3-end.sql") {
			if err := r.db.Positions(ctx, st.Text); err != nil {
				return err
			}
			continue
		}
		one, err := sqltree.Parse(st.Text, r.dialect())
		if err != nil {
			return err
		}
		kind, ok := kindOf[one.Shape]
		switch {
		case one.Setting != "":
			session.Set(one.Setting, one.SetTo)
		case one.Shape == sqltree.ShapeNone:
		case !ok, kind == database.Other && r.dialect() == sqltext.MySQL:
			return fmt.Errorf("%w: %.60q stands where views and triggers belong", sqltext.ErrRefused, st.Text)
		default:
			if err := r.addObject(ctx, database.Object{Kind: kind, Session: session, Early: name == manifest.EarlyName}, one); err != nil {
				return err
			}
		}
	}
	if name == manifest.EarlyName {
		close(r.early)
	}
	return nil
}

func (r *run) addObject(ctx context.Context, o database.Object, one *sqltree.Statement) (err error) {
	o.Name = cmp.Or(one.Name, one.Table)
	if take, err := r.takes(o, one); err != nil || !take {
		return err
	}
	one.MapTexts(r.way.Texts(o.Name)) // a view may hold an address too
	o.SQL = one.SQL(nil)
	if one.IsCode() {
		o.SQL = r.way.Definition(o.SQL)
	}
	return r.db.AddObject(ctx, o)
}

// takes reports whether an object is made: code for the database only if that was
// agreed to, and in the name of who restores; what may need all tables only if all
// are restored.
func (r *run) takes(o database.Object, one *sqltree.Statement) (bool, error) {
	if one.Definer != nil {
		return false, fmt.Errorf("%w: the %s %s is to run with the rights of another account (DEFINER)", sqltext.ErrRefused, o.Kind, o.Name)
	}
	if o.Kind.IsCode() {
		switch {
		case r.plan.sel.without.code, r.plan.sel.someTables():
			return false, nil
		case !r.opts.StoredCode:
			return false, fmt.Errorf("%w: the archive brings code that the database runs by itself, with the rights of who restores it: %s %s", ErrStoredCode, o.Kind, o.Name)
		}
	}
	if r.plan.sel.someTables() && !o.Early {
		return o.Kind == database.Other && r.plan.sel.table(one.Table), nil
	}
	return true, nil
}

// touch makes the changes with which the site answers at its new place at once.
func (r *run) touch(ctx context.Context) error {
	if r.m.Section {
		return nil
	}
	var names []string
	for _, t := range r.m.Database.Tables {
		if r.plan.sel.table(t.Name) {
			names = append(names, t.Name)
		}
	}
	touches := r.kind.Touches(r.m.Database.Prefix, names, r.plan.maps)
	if to := r.plan.Prefix; to != r.m.Database.Prefix {
		touches = append(touches, r.kind.Reprefix(r.m.Database.Prefix, to, names)...)
	}
	for _, t := range touches {
		if err := r.db.Touch(ctx, strings.Replace(t.SQL, "%s", r.db.Target(t.Table), 1)); err != nil {
			return err
		}
		if t.Why != "" && !slices.Contains(r.res.Touched, t.Why) {
			r.res.Touched = append(r.res.Touched, t.Why)
		}
	}
	return nil
}

// complete checks that everything that the archive promises has been staged.
func (r *run) complete(ctx context.Context) error {
	if r.m == nil {
		return errNoManifest
	}
	if r.res.Summary == nil {
		return fmt.Errorf("%w: %w", archive.ErrCorrupt, manifest.ErrNoSummary)
	}
	if r.db != nil {
		for _, t := range r.m.Database.Tables {
			if r.plan.sel.table(t.Name) && !slices.ContainsFunc(r.res.Tables, func(o TableResult) bool { return o.Name == t.Name }) {
				return fmt.Errorf("%w: table %s is missing", archive.ErrCorrupt, t.Name)
			}
		}
		slices.SortFunc(r.res.Tables, func(a, b TableResult) int { return strings.Compare(a.Name, b.Name) })
	}
	if err := r.plan.sel.unused(); err != nil {
		return err
	}
	return ctx.Err()
}
