// Package sqlite reads and stages SQLite databases, through modernc.org/sqlite.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"

	lib "modernc.org/sqlite/lib"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// statementSize is about how long one INSERT gets, in bytes. SQLite keeps the
// whole of a statement's parse in memory.
const statementSize = 256 << 10

// reader reads one snapshot: a read transaction of a connection of its own.
type reader struct {
	c    *conn
	info database.Info
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

func (r *reader) NotCarried(ctx context.Context) ([]string, error) {
	rows, err := r.Strings(ctx, "SELECT name FROM pragma_table_list WHERE schema='main' AND type='virtual'")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, row := range rows {
		out = append(out, "virtual table "+row[0])
	}
	return out, nil
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

// columns lists what an INSERT can set: all but generated columns.
func (r *reader) columns(ctx context.Context, table string) ([]string, error) {
	rows, err := r.Strings(ctx, "SELECT name FROM pragma_table_xinfo(?) WHERE hidden=0 ORDER BY cid", table)
	if err != nil {
		return nil, fmt.Errorf("columns of %s: %w", table, err)
	}
	var names []string
	for _, row := range rows {
		names = append(names, quote(row[0]))
	}
	return names, nil
}

func quote(name string) string { return sqltext.QuoteName(name, sqltext.SQLite) }

func (r *reader) Rows(ctx context.Context, table, without string, size int, yield func(database.Chunk) error) error {
	columns, err := r.columns(ctx, table)
	if err != nil {
		return err
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

func (r *reader) Objects(ctx context.Context) ([]database.Object, error) {
	rows, err := r.Strings(ctx, "SELECT type, name, sql FROM sqlite_master WHERE type IN ('view','trigger') AND sql IS NOT NULL ORDER BY type='trigger', rowid")
	if err != nil {
		return nil, fmt.Errorf("list views and triggers: %w", err)
	}
	var out []database.Object
	for _, row := range rows {
		out = append(out, database.Object{Kind: database.ObjectKind(row[0]), Name: row[1], SQL: row[2]})
	}
	return out, nil
}

func (r *reader) Prologue() string { return "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n" }

// Epilogue sets the positions of AUTOINCREMENT columns, which SQLite keeps in a
// table of its own.
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
	return b.String(), nil
}
