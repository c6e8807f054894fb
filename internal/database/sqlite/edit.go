package sqlite

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	lib "modernc.org/sqlite/lib"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// editor reads with a reader, and from Begin on with a connection that may
// write, which takes the reader's place.
type editor struct {
	*reader
	location database.Location
	writing  bool
	tables   map[string]*editTable
}

// editTable is what an editor knows of a table beyond an EditTable.
type editTable struct {
	rowid  string     // the name by which the row's number is reached; empty: there is none
	key    []string   // columns that name a row where there is no number
	unique [][]string // columns of its unique keys
	update map[string]*stmt
}

// Edit opens the database at l to be changed in place.
func Edit(ctx context.Context, l database.Location) (database.Editor, error) {
	r, err := openReader(l)
	if err != nil {
		return nil, err
	}
	return &editor{reader: r, location: l, tables: map[string]*editTable{}}, nil
}

// Begin ends the snapshot, and keeps others from writing until Commit.
func (e *editor) Begin(context.Context) error {
	c, err := openRaw(e.location.Path, lib.SQLITE_OPEN_READWRITE)
	if err != nil {
		return e.refusal("open the database to change it", err)
	}
	e.c.close()
	e.c = c
	// What a foreign key refers to is rewritten like the key itself. Pages that no
	// longer fit into memory cost a sync of the journal each time.
	for _, q := range []string{"PRAGMA foreign_keys=OFF", "PRAGMA cache_size=-32000", "BEGIN IMMEDIATE"} {
		if err := c.exec(q); err != nil {
			return e.refusal("begin the change", err)
		}
	}
	e.writing = true
	return nil
}

// refusal explains why nothing can be changed.
func (e *editor) refusal(what string, err error) error {
	var f *failure
	if errors.As(err, &f) {
		switch f.code & 0xff {
		case lib.SQLITE_READONLY, lib.SQLITE_CANTOPEN, lib.SQLITE_PERM:
			return fmt.Errorf("%s: %s: %w", what, f.text, database.ErrReadOnly)
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			return fmt.Errorf("%s: %s: %w", what, f.text, database.ErrBusy)
		}
	}
	return fmt.Errorf("%s: %w", what, err)
}

func (e *editor) Commit(context.Context) error {
	if err := e.c.exec("COMMIT"); err != nil {
		return e.refusal("commit the change", err)
	}
	e.writing = false
	return nil
}

// Touch runs a statement.
func (e *editor) Touch(_ context.Context, stmt string) error {
	if err := e.c.exec(stmt); err != nil {
		return e.refusal("change the site's records", err)
	}
	return nil
}

// Close takes back what was not committed.
func (e *editor) Close() error {
	for _, et := range e.tables {
		for _, s := range et.update {
			s.close()
		}
	}
	if e.writing {
		_ = e.c.exec("ROLLBACK") // closing would do the same
	}
	return e.reader.Close()
}

// Editable reads the table's columns and keys. Any column of SQLite may hold
// text, whatever its type says, and none has a limit.
func (e *editor) Editable(ctx context.Context, table string) (*database.EditTable, error) {
	fail := func(err error) (*database.EditTable, error) {
		return nil, fmt.Errorf("look at table %s: %w", table, err)
	}
	t, et := &database.EditTable{Name: table}, &editTable{update: map[string]*stmt{}}
	rows, err := e.Strings(ctx, "SELECT name, pk, upper(type)='INTEGER' FROM pragma_table_xinfo(?) WHERE hidden=0 ORDER BY cid", table)
	if err != nil {
		return fail(err)
	}
	if len(rows) == 0 {
		return fail(errors.New("there is no such table"))
	}
	for _, row := range rows {
		t.Columns = append(t.Columns, database.Column{Name: row[0]})
		if row[1] != "0" {
			et.key = append(et.key, row[0])
		}
	}
	without, err := e.Strings(ctx, "SELECT wr FROM pragma_table_list WHERE schema='main' AND name=?", table)
	if err != nil {
		return fail(err)
	}
	if len(without) == 0 || without[0][0] == "0" {
		// A key with an index of its own is not the row's number, whatever its type.
		index, err := e.Strings(ctx, "SELECT 1 FROM pragma_index_list(?) WHERE origin='pk'", table)
		if err != nil {
			return fail(err)
		}
		if len(index) > 0 {
			et.key = nil
		}
		if et.rowid = rowidOf(rows, et.key); et.rowid == "" {
			return fail(errors.New("its columns hide the numbers of its rows (rowid, _rowid_ and oid)"))
		}
	}
	if err := e.editKeys(ctx, t, et); err != nil {
		return fail(err)
	}
	triggers, err := e.Strings(ctx, `SELECT name, sql FROM sqlite_master WHERE type='trigger' AND tbl_name=?`, table)
	if err != nil {
		return fail(err)
	}
	for _, row := range triggers {
		if m := onUpdate.FindStringSubmatch(row[1]); m != nil && strings.EqualFold(m[1], "UPDATE") {
			t.Triggers = append(t.Triggers, row[0])
		}
	}
	e.tables[table] = et
	return t, nil
}

// onUpdate finds what a trigger waits for.
var onUpdate = regexp.MustCompile(`(?is)^\s*CREATE\b.*?\bTRIGGER\b.*?\b(INSERT|DELETE|UPDATE)\b`)

// rowidOf gives the name by which the number of a row is reached: that of the
// column which is it, or one that no column bears. rows are names and types.
func rowidOf(rows [][]string, key []string) string {
	if len(key) == 1 {
		for _, row := range rows {
			if row[0] == key[0] && row[2] == "1" {
				return quote(row[0])
			}
		}
	}
	for _, name := range []string{"rowid", "_rowid_", "oid"} {
		if !slices.ContainsFunc(rows, func(row []string) bool { return strings.EqualFold(row[0], name) }) {
			return name
		}
	}
	return ""
}

func (e *editor) editKeys(ctx context.Context, t *database.EditTable, et *editTable) error {
	rows, err := e.Strings(ctx, `SELECT l.name, COALESCE(i.name,'') FROM pragma_index_list(?) l, pragma_index_info(l.name) i WHERE l."unique"=1 AND l.partial=0 ORDER BY l.name, i.seqno`, t.Name)
	if err != nil {
		return err
	}
	for len(rows) > 0 {
		var names []string
		n := 0
		for n < len(rows) && rows[n][0] == rows[0][0] {
			names = append(names, rows[n][1])
			n++
		}
		rows = rows[n:]
		et.unique = append(et.unique, names)
		t.MarkKey(names)
	}
	return nil
}

// Tables leaves out what is made of other tables' texts: triggers keep it, or the site.
func (e *editor) Tables(ctx context.Context) ([]database.Table, error) {
	tables, err := e.reader.Tables(ctx)
	return slices.DeleteFunc(tables, func(t database.Table) bool {
		v := e.virtualNamed(t.Name)
		return v != nil && (!v.def.HasRows || v.def.Module != "fts5")
	}), err
}

// Concurrent: there is one connection.
func (e *editor) Concurrent() bool { return false }

// Scan shows every row. While it yields, Update may change rows of the table: a
// row that is seen twice holds nothing more to change the second time.
func (e *editor) Scan(ctx context.Context, t *database.EditTable, yield func(*database.Row) error) error {
	et := e.tables[t.Name]
	names := et.keyColumns()
	n := len(names)
	for _, c := range t.Columns {
		names = append(names, quote(c.Name))
	}
	s, err := e.c.prepare("SELECT " + strings.Join(names, ",") + " FROM " + quote(t.Name))
	if err != nil {
		return fmt.Errorf("read %s: %w", t.Name, err)
	}
	defer s.close()
	row := &database.Row{Values: make([][]byte, len(t.Columns)), Raw: make([]bool, len(t.Columns)), Key: func() database.Key { return s.key(names[:n]) }}
	for {
		more, err := s.step()
		if err != nil {
			return fmt.Errorf("read %s: %w", t.Name, err)
		}
		if !more {
			return nil
		}
		if err := s.fits(); err != nil {
			return fmt.Errorf("read %s: %w", t.Name, err)
		}
		s.cells(row, n)
		if err := yield(row); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// keyColumns gives what names a row, quoted.
func (et *editTable) keyColumns() (names []string) {
	if et.rowid != "" {
		return []string{et.rowid}
	}
	for _, k := range et.key {
		names = append(names, quote(k))
	}
	return names
}

// cells gives the texts and blobs of a row's columns from the n-th on.
func (s *stmt) cells(row *database.Row, n int) {
	values := row.Values
	for i := range values {
		row.Raw[i] = s.kind(n+i) == lib.SQLITE_BLOB
		switch s.kind(n + i) {
		case lib.SQLITE_TEXT:
			values[i] = s.bytes(n+i, true)
		case lib.SQLITE_BLOB:
			values[i] = s.bytes(n+i, false)
		default:
			values[i] = nil
		}
	}
}

func (s *stmt) key(names []string) database.Key {
	var where, label []byte
	for i, name := range names {
		if i > 0 {
			where, label = append(where, " AND "...), append(label, ' ')
		}
		at := len(where) + len(name) + 1
		where = s.appendLiteral(append(append(where, name...), '='), i)
		label = append(append(append(label, strings.Trim(name, `"`)...), '='), bytes.Trim(where[at:], "'")...)
	}
	parts := make([]string, len(names))
	for i := range parts {
		switch s.kind(i) {
		case lib.SQLITE_TEXT:
			parts[i] = partText + string(s.bytes(i, true))
		case lib.SQLITE_BLOB:
			parts[i] = partBlob + string(s.bytes(i, false))
		default:
			parts[i] = partNumber + string(s.appendLiteral(nil, i))
		}
	}
	return database.Key{Where: string(where), Label: string(label), Parts: parts}
}

// A part of a key begins with the storage class of its value.
const (
	partNumber = "n"
	partText   = "t"
	partBlob   = "b"
)

// isNumber knows a number as it is written for a key.
var isNumber = regexp.MustCompile(`^-?[0-9.]+(?:e[+-]?[0-9]+)?$`)

// Named names a row by the parts of its key.
func (e *editor) Named(t *database.EditTable, parts []string, c *database.Change) (database.Key, error) {
	et := e.tables[t.Name]
	columns := et.keyColumns()
	if len(parts) != len(columns) || slices.Contains(parts, "") {
		return database.Key{}, database.ErrNoName
	}
	place := func(column string) int { return slices.Index(columns, quote(column)) }
	parts = t.PartsAfter(parts, c, place, func(v []byte, old string) string { return old[:1] + string(v) })
	key := database.Key{Parts: parts}
	for i, p := range parts {
		value := p[1:]
		switch p[:1] {
		case partText:
			value = string(sqltext.AppendSQLiteText(nil, []byte(value)))
		case partBlob:
			value = string(sqltext.AppendHex(nil, []byte(value)))
		default:
			if !isNumber.MatchString(value) {
				return database.Key{}, database.ErrNoName
			}
		}
		if i > 0 {
			key.Where, key.Label = key.Where+" AND ", key.Label+" "
		}
		key.Where += columns[i] + "=" + value
		key.Label += strings.Trim(columns[i], `"`) + "=" + strings.Trim(value, "'")
	}
	return key, nil
}

// Update changes row by row; a statement that fails changes nothing.
func (e *editor) Update(ctx context.Context, t *database.EditTable, changes []database.Change) ([]database.Outcome, error) {
	outcomes := make([]database.Outcome, len(changes))
	for i := range changes {
		err := e.updateRow(t, &changes[i])
		var f *failure
		switch {
		case err == nil:
		case errors.As(err, &f) && f.code&0xff == lib.SQLITE_CONSTRAINT:
			outcomes[i] = database.Outcome{Kind: database.Unfit, Why: f.text}
			if f.code == lib.SQLITE_CONSTRAINT_UNIQUE || f.code == lib.SQLITE_CONSTRAINT_PRIMARYKEY {
				outcomes[i].Kind = database.Repeats
			}
		case errors.As(err, &f) && f.code&0xff == lib.SQLITE_TOOBIG:
			outcomes[i] = database.Outcome{Kind: database.Unfit, Why: f.text}
		default:
			return nil, e.refusal("change "+t.Name, err)
		}
	}
	return outcomes, ctx.Err()
}

func (e *editor) updateRow(t *database.EditTable, c *database.Change) error {
	s, err := e.updateOf(t, c)
	if err != nil {
		return err
	}
	defer s.reset()
	free, err := s.bindCells(c.New)
	defer free()
	if err != nil {
		return err
	}
	_, err = s.step()
	return err
}

// updateOf prepares the statement for a row. A value keeps its storage class.
// OR ABORT overrides what a table's own constraints would do besides.
func (e *editor) updateOf(t *database.EditTable, c *database.Change) (*stmt, error) {
	var b strings.Builder
	b.WriteString("UPDATE OR ABORT " + quote(t.Name) + " SET ")
	for i, at := range c.Columns {
		if i > 0 {
			b.WriteByte(',')
		}
		name := quote(t.Columns[at].Name)
		fmt.Fprintf(&b, "%s=CASE typeof(%s) WHEN 'blob' THEN ?%d ELSE ?%d END", name, name, 2*i+2, 2*i+1)
	}
	et := e.tables[t.Name]
	number := 2*len(c.Columns) + 1
	id, numbered := strings.CutPrefix(c.Key.Where, et.rowid+"=")
	if et.rowid == "" || !numbered {
		b.WriteString(" WHERE " + c.Key.Where)
		return e.cached(et, "", b.String())
	}
	fmt.Fprintf(&b, " WHERE %s=?%d", et.rowid, number)
	s, err := e.cached(et, b.String(), b.String())
	if err != nil {
		return nil, err
	}
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return nil, err
	}
	return s, s.bindInt(number, n)
}

// cached prepares a statement, or takes the one of this name. One without a
// name takes the place of the last one without.
func (e *editor) cached(et *editTable, name, sql string) (*stmt, error) {
	if s := et.update[name]; s != nil {
		if name != "" {
			return s, nil
		}
		s.close()
		delete(et.update, name)
	}
	s, err := e.c.prepare(sql)
	if err == nil {
		et.update[name] = s
	}
	return s, err
}

// Fetch is for engines in which others write meanwhile.
func (e *editor) Fetch(_ context.Context, t *database.EditTable, key database.Key) ([][]byte, error) {
	var names []string
	for _, c := range t.Columns {
		names = append(names, quote(c.Name))
	}
	s, err := e.c.prepare("SELECT " + strings.Join(names, ",") + " FROM " + quote(t.Name) + " WHERE " + key.Where)
	if err != nil {
		return nil, err
	}
	defer s.close()
	if more, err := s.step(); err != nil || !more {
		return nil, err
	}
	values := make([][]byte, len(names))
	s.cells(&database.Row{Values: values, Raw: make([]bool, len(names))}, 0)
	for i := range values {
		values[i] = bytes.Clone(values[i])
	}
	return values, nil
}

// Taken looks in every key that the change would alter.
func (e *editor) Taken(_ context.Context, t *database.EditTable, c *database.Change) (bool, error) {
	for _, unique := range e.tables[t.Name].unique {
		var terms []string
		var values [][]byte
		for _, name := range unique {
			at := slices.IndexFunc(c.Columns, func(i int) bool { return t.Columns[i].Name == name })
			if at >= 0 {
				values = append(values, c.New[at])
				terms = append(terms, fmt.Sprintf("%s IN (?%d,?%d)", quote(name), 2*len(values)-1, 2*len(values)))
				continue
			}
			terms = append(terms, quote(name)+"=(SELECT "+quote(name)+" FROM "+quote(t.Name)+" WHERE "+c.Key.Where+")")
		}
		if len(values) == 0 {
			continue
		}
		found, err := e.finds("SELECT 1 FROM "+quote(t.Name)+" WHERE "+strings.Join(terms, " AND ")+" AND NOT ("+c.Key.Where+")", values)
		if err != nil || found {
			return found, err
		}
	}
	return false, nil
}

func (e *editor) finds(query string, values [][]byte) (bool, error) {
	s, err := e.c.prepare(query)
	if err != nil {
		return false, err
	}
	defer s.close()
	free, err := s.bindCells(values)
	defer free()
	if err != nil {
		return false, err
	}
	return s.step()
}
