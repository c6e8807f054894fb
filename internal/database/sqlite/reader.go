// Package sqlite reads and stages SQLite databases, through modernc.org/sqlite.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	lib "modernc.org/sqlite/lib"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// statementSize is about how long one INSERT gets, in bytes. SQLite keeps the
// whole of a statement's parse in memory.
const statementSize = 256 << 10

// reader reads one snapshot: a read transaction of a connection of its own.
type reader struct {
	c        *conn
	info     database.Info
	virtuals []virtualTable // nil until somebody has asked
}

// Open begins a snapshot of the database at l.
func Open(_ context.Context, l database.Location) (database.Reader, error) {
	return openReader(l)
}

func openReader(l database.Location) (*reader, error) {
	fail := func(err error, advice string) error {
		return &database.ConnectError{Location: l, What: "open the database", Why: err, Advice: advice}
	}
	st, err := os.Stat(l.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fail(errors.New("there is no such file"), "Check the path of the database in the site's settings.")
	}
	if err != nil {
		return nil, fail(err, "Check the path and the rights of the file.")
	}
	if st.IsDir() {
		return nil, fail(errors.New("it is a folder"), "Name the database file itself.")
	}
	c, err := openRaw(l.Path, lib.SQLITE_OPEN_READONLY)
	if err != nil {
		return nil, fail(err, "Check the rights of the file and of its folder.")
	}
	r := &reader{c: c, info: database.Info{Engine: database.SQLite, Product: "SQLite"}}
	// The first read fixes the snapshot, and proves that this is a database.
	err = c.exec("BEGIN")
	if err == nil {
		err = c.exec("SELECT count(*) FROM sqlite_master")
	}
	if err != nil {
		c.close()
		return nil, fail(err, "Check that the file is an SQLite database.")
	}
	v, err := r.Strings(context.Background(), "SELECT sqlite_version()")
	if err != nil {
		c.close()
		return nil, err
	}
	r.info.Version = v[0][0]
	if charset, err := r.Strings(context.Background(), "PRAGMA encoding"); err == nil && len(charset) > 0 {
		r.info.Charset = charset[0][0]
	}
	return r, nil
}

func (r *reader) Info() database.Info { return r.info }

func (r *reader) Close() error {
	r.c.close()
	return nil
}

func (r *reader) Strings(_ context.Context, query string, args ...any) ([][]string, error) {
	return r.c.strings(query, args...)
}

// ordinary selects the tables that hold rows of their own: not SQLite's own,
// and neither virtual tables nor what these keep behind them.
const ordinary = `SELECT name FROM pragma_table_list WHERE schema='main' AND type='table' AND name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY name`

func (r *reader) Tables(ctx context.Context) ([]database.Table, error) {
	names, err := r.Strings(ctx, ordinary)
	if err != nil {
		return nil, fmt.Errorf("list tables: %w", err)
	}
	var tables []database.Table
	virtual, err := r.virtual(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range virtual {
		if v.carried() {
			names = append(names, []string{v.def.Name})
		}
	}
	for _, n := range names {
		t := database.Table{Name: n[0]}
		count, err := r.Strings(ctx, "SELECT count(*) FROM "+quote(t.Name))
		if err != nil {
			return nil, fmt.Errorf("count rows of %s: %w", t.Name, err)
		}
		t.Rows, _ = strconv.ParseInt(count[0][0], 10, 64)
		// dbstat knows the pages of a table; builds without it leave the size unknown.
		if size, err := r.Strings(ctx, "SELECT sum(pgsize) FROM dbstat WHERE name=? OR name IN (SELECT name FROM sqlite_master WHERE tbl_name=?)", t.Name, t.Name); err == nil && len(size) > 0 {
			t.Bytes, _ = strconv.ParseInt(size[0][0], 10, 64)
		}
		tables = append(tables, t)
	}
	return tables, nil
}

// virtualTable is a virtual table; def is nil where its definition is none that a restore
// makes.
type virtualTable struct {
	name string
	def  *sqltree.Table
}

// carried reports whether the table is made again: one with texts of its own, or one that is
// made of those of another.
func (v *virtualTable) carried() bool { return v.def != nil && (v.def.HasRows || v.def.Content != "") }

// virtual lists the virtual tables.
func (r *reader) virtual(ctx context.Context) (list []virtualTable, err error) {
	if r.virtuals != nil {
		return r.virtuals, nil
	}
	rows, err := r.Strings(ctx, "SELECT m.name, m.sql FROM sqlite_master m JOIN pragma_table_list l ON l.schema='main' AND l.name=m.name AND l.type='virtual' WHERE m.type='table' ORDER BY m.name")
	if err != nil {
		return nil, fmt.Errorf("list virtual tables: %w", err)
	}
	r.virtuals = []virtualTable{}
	for _, row := range rows {
		v := virtualTable{name: row[0]}
		if def, err := sqltree.ParseTable([]byte(row[1]), sqltext.SQLite); err == nil {
			v.def = def
		}
		r.virtuals = append(r.virtuals, v)
	}
	return r.virtuals, nil
}

// virtualNamed gives the virtual table of a name, nil if there is none.
func (r *reader) virtualNamed(name string) *virtualTable {
	for i := range r.virtuals {
		if r.virtuals[i].name == name {
			return &r.virtuals[i]
		}
	}
	return nil
}

// NotCarried lists virtual tables that cannot be made again, and triggers that would fail
// without them.
func (r *reader) NotCarried(ctx context.Context) (out []string, err error) {
	virtual, err := r.virtual(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range virtual {
		switch {
		case v.carried():
		case v.def != nil:
			out = append(out, "full-text index "+v.name+": it keeps no texts of its own, so that the site has to make it anew")
		default:
			out = append(out, "virtual table "+v.name)
		}
	}
	triggers, err := r.triggers(ctx)
	for _, t := range triggers {
		if needs := r.missing(t.SQL); needs != "" {
			out = append(out, "trigger "+t.Name+": it needs "+needs+", which stays behind")
		}
	}
	return out, err
}

// missing gives the name of a virtual table that stays behind and is mentioned in a text.
func (r *reader) missing(text string) string {
	for _, v := range r.virtuals {
		if !v.carried() && regexp.MustCompile(`(?i)\b`+regexp.QuoteMeta(v.name)+`\b`).MatchString(text) {
			return v.name
		}
	}
	return ""
}

func (r *reader) Definition(ctx context.Context, table string) (string, []string, error) {
	rows, err := r.Strings(ctx, "SELECT type, sql FROM sqlite_master WHERE tbl_name=? AND type IN ('table','index') AND sql IS NOT NULL ORDER BY type DESC, name", table)
	if err != nil {
		return "", nil, fmt.Errorf("definition of %s: %w", table, err)
	}
	if len(rows) == 0 || rows[0][0] != "table" {
		return "", nil, fmt.Errorf("definition of %s: there is no such table", table)
	}
	var keys []string
	for _, row := range rows[1:] {
		keys = append(keys, row[1])
	}
	return rows[0][1], keys, nil
}

// columns lists what an INSERT can set: all but generated columns, and the number of the row
// where it is no column and other things may know the row by it.
func (r *reader) columns(ctx context.Context, table string) ([]string, error) {
	rows, err := r.Strings(ctx, "SELECT name, pk, upper(type)='INTEGER' FROM pragma_table_xinfo(?) WHERE hidden=0 ORDER BY cid", table)
	if err != nil {
		return nil, fmt.Errorf("columns of %s: %w", table, err)
	}
	var names []string
	for _, row := range rows {
		names = append(names, quote(row[0]))
	}
	numbered, err := r.Strings(ctx, `SELECT wr=0 AND (type='table' AND NOT EXISTS (SELECT 1 FROM pragma_table_xinfo(?1) WHERE pk=1 AND upper(type)='INTEGER' AND NOT EXISTS (SELECT 1 FROM pragma_index_list(?1) WHERE origin='pk')) OR type='virtual') FROM pragma_table_list WHERE schema='main' AND name=?1`, table)
	if err != nil {
		return nil, fmt.Errorf("columns of %s: %w", table, err)
	}
	if v := r.virtualNamed(table); v != nil && v.def != nil && v.def.Module != "fts5" {
		return names, nil // its first column is the number
	}
	if len(numbered) > 0 && numbered[0][0] == "1" {
		if id := rowidOf(rows, nil); id != "" {
			names = append([]string{id}, names...)
		}
	}
	return names, nil
}

func quote(name string) string { return sqltext.QuoteName(name, sqltext.SQLite) }

func (r *reader) Rows(ctx context.Context, table, without string, size int, yield func(database.Chunk) error) error {
	columns, err := r.columns(ctx, table)
	if err != nil {
		return err
	}
	if v := r.virtualNamed(table); v != nil && !v.def.HasRows {
		return nil // it is made of another's
	}
	list := strings.Join(columns, ",")
	s, err := r.c.prepare("SELECT " + list + " FROM " + quote(table) + database.Remaining(without))
	if err != nil {
		return fmt.Errorf("read %s: %w", table, err)
	}
	defer s.close()
	w := database.NewChunkWriter("INSERT INTO "+quote(table)+" ("+list+") VALUES", statementSize, size, yield)
	for {
		more, err := s.step()
		if err != nil {
			return fmt.Errorf("read %s: %w", table, err)
		}
		if !more {
			return w.Close()
		}
		if err := s.fits(); err != nil {
			return fmt.Errorf("read %s: %w", table, err)
		}
		b := w.Begin()
		for i := range columns {
			if i > 0 {
				b = append(b, ',')
			}
			b = s.appendLiteral(b, i)
		}
		if err := w.End(b); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// fits refuses a row that is too large to be carried.
func (s *stmt) fits() error {
	n := 0
	for i := range s.columns() {
		if k := s.kind(i); k == lib.SQLITE_TEXT || k == lib.SQLITE_BLOB {
			n += s.size(i)
		}
	}
	return database.CheckRow(n)
}

// appendLiteral appends the value of column i as SQLite would read it again.
func (s *stmt) appendLiteral(b []byte, i int) []byte {
	switch s.kind(i) {
	case lib.SQLITE_INTEGER:
		return strconv.AppendInt(b, s.int64(i), 10)
	case lib.SQLITE_FLOAT:
		return appendFloat(b, s.float(i))
	case lib.SQLITE_TEXT:
		return sqltext.AppendSQLiteText(b, s.bytes(i, true))
	case lib.SQLITE_BLOB:
		return sqltext.AppendHex(b, s.bytes(i, false))
	}
	return append(b, "NULL"...)
}

func appendFloat(b []byte, f float64) []byte {
	switch {
	case math.IsInf(f, 1):
		return append(b, "9e999"...)
	case math.IsInf(f, -1):
		return append(b, "-9e999"...)
	}
	start := len(b)
	b = strconv.AppendFloat(b, f, 'e', 16, 64)
	short := strconv.AppendFloat(nil, f, 'g', -1, 64)
	if len(short) <= 15 { // few digits: every reader rounds them alike
		b = append(b[:start], short...)
		if !slices.ContainsFunc(short, func(c byte) bool { return c == '.' || c == 'e' }) {
			b = append(b, ".0"...)
		}
	}
	return b
}

func (r *reader) Objects(ctx context.Context) (out []database.Object, err error) {
	views, err := r.Strings(ctx, "SELECT name, sql FROM sqlite_master WHERE type='view' AND sql IS NOT NULL ORDER BY rowid")
	if err != nil {
		return nil, fmt.Errorf("list views: %w", err)
	}
	for _, row := range views {
		out = append(out, database.Object{Kind: database.View, Name: row[0], SQL: row[1]})
	}
	virtual, err := r.virtual(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range virtual {
		if v.carried() && !v.def.HasRows {
			out = append(out, database.Object{Kind: database.Other, Name: v.name, SQL: "INSERT INTO " + quote(v.name) + "(" + quote(v.name) + ") VALUES('rebuild')"})
		}
	}
	triggers, err := r.triggers(ctx)
	for _, t := range triggers {
		if r.missing(t.SQL) == "" {
			out = append(out, t)
		}
	}
	return out, err
}

func (r *reader) triggers(ctx context.Context) (out []database.Object, err error) {
	rows, err := r.Strings(ctx, "SELECT name, sql FROM sqlite_master WHERE type='trigger' AND sql IS NOT NULL ORDER BY rowid")
	if err != nil {
		return nil, fmt.Errorf("list triggers: %w", err)
	}
	for _, row := range rows {
		out = append(out, database.Object{Kind: database.Trigger, Name: row[0], SQL: row[1]})
	}
	return out, nil
}

func (r *reader) Prologue() string {
	text := "PRAGMA foreign_keys=OFF;\n"
	if r.info.Charset != "" && r.info.Charset != "UTF-8" {
		text += "PRAGMA encoding='" + r.info.Charset + "';\n"
	}
	return text + "BEGIN TRANSACTION;\n"
}

// Epilogue sets the positions of AUTOINCREMENT columns, which SQLite keeps in a
// table of its own.
// analyze makes statistics of the tables anew.
const analyze = "ANALYZE"

func (r *reader) Epilogue(ctx context.Context) (string, error) {
	has, err := r.Strings(ctx, "SELECT 1 FROM sqlite_master WHERE name='sqlite_sequence'")
	if err != nil {
		return "", err
	}
	var b strings.Builder
	if len(has) > 0 {
		rows, err := r.Strings(ctx, "SELECT name, seq FROM sqlite_sequence ORDER BY name")
		if err != nil {
			return "", err
		}
		b.WriteString("DELETE FROM sqlite_sequence;\n")
		for _, row := range rows {
			text := sqltext.AppendSQLiteText(nil, []byte(row[0]))
			fmt.Fprintf(&b, "INSERT INTO sqlite_sequence (name,seq) VALUES (%s,%s);\n", text, row[1])
		}
	}
	b.WriteString("COMMIT;\n")
	if has, err = r.Strings(ctx, "SELECT 1 FROM sqlite_master WHERE name='sqlite_stat1'"); err != nil {
		return "", err
	}
	if len(has) > 0 { // the statistics themselves are made again
		b.WriteString(analyze + ";\n")
	}
	for _, name := range []string{"user_version", "application_id", "journal_mode"} {
		rows, err := r.Strings(ctx, "PRAGMA "+name)
		if err != nil {
			return "", err
		}
		if v := rows[0][0]; v != "0" && (name != "journal_mode" || v == "wal") {
			fmt.Fprintf(&b, "PRAGMA %s=%s;\n", name, v)
		}
	}
	return b.String(), nil
}
