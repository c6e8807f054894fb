// Package sqlfile reads an SQL dump as if it were the database that the dump was
// made of: text as the dump programs of MariaDB, MySQL, PostgreSQL and SQLite and
// web panels write it, plain or compressed. It takes a file and a folder for what
// has to be written on the way, and gives a database.Reader. No server is needed
// and nothing of the dump is executed, but for the tables and rows of SQLite,
// which SQLite itself loads into a file.
//
// The dump is gone through once to find what is where; the rows of a table are
// then read from their places.
package sqlfile

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/mariadb"
	"hovix/internal/database/postgres"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/dump"
	"hovix/internal/inflate"
	"hovix/internal/progress"
)

// headSize is how much of a dump tells what it is, in bytes.
const headSize = 64 << 10

// Open reads the dump in the file path. scratch is a folder for what has to be
// written on the way, which the caller removes when the Reader is closed. The
// error wraps dump.ErrNotDump for a file that holds no SQL text, and is an
// UnfitError for one that cannot be read as a database.
func Open(ctx context.Context, path, scratch string, rep progress.Reporter) (_ database.Reader, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("open the dump: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			if errors.Is(err, sqltext.ErrRefused) {
				err = &UnfitError{err}
			}
			err = fmt.Errorf("%s: %w", path, err)
		}
	}()
	if f, err = plain(f, scratch); err != nil {
		return nil, err
	}
	head := make([]byte, headSize)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head = head[:n]
	if err := dump.Check(head); err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	progress.Of(rep).Phase("Looking through the dump", st.Size())
	in := &until{&progress.Reader{R: io.NewSectionReader(f, 0, st.Size()), Rep: progress.Of(rep)}, ctx}
	if dump.Detect(head) == dump.SQLite {
		defer f.Close()
		return loadSQLite(ctx, in, scratch)
	}
	r := &reader{file: f, scratch: scratch, tables: map[string]*table{}, mirror: &mirror{columns: map[string][]string{}}}
	var ix indexer
	if dump.Detect(head) == dump.Postgres {
		r.d, r.info = sqltext.Postgres, postgresInfo(head)
		ix = &postgresIndex{r: r}
	} else {
		r.d, r.info = sqltext.MySQL, mysqlInfo(head)
		ix = &mysqlIndex{r: r, names: "utf8mb4", own: databaseOf(head)}
	}
	if err := r.index(in, ix); err != nil {
		return nil, err
	}
	return r, nil
}

// UnfitError says why a dump cannot be read as a database, and what to do.
type UnfitError struct{ why error }

// Error says which statement is meant.
func (e *UnfitError) Error() string {
	return strings.Replace(e.why.Error(), sqltext.ErrRefused.Error()+": ", "", 1)
}

// plain gives the file itself, or what it holds compressed in a file in scratch.
func plain(f *os.File, scratch string) (*os.File, error) {
	kind, err := inflate.Compressed(bufio.NewReader(io.NewSectionReader(f, 0, 16)))
	if err != nil || kind == "" {
		return f, err
	}
	defer f.Close()
	in, err := inflate.Reader(f, headSize)
	if err != nil {
		return f, err
	}
	out, err := os.OpenFile(filepath.Join(scratch, "dump.sql"), os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o600)
	if err != nil {
		return f, err
	}
	if _, err := io.Copy(out, in); err != nil {
		return out, fmt.Errorf("uncompress: %w", err)
	}
	return out, nil
}

// until is a reader that ends with the context.
type until struct {
	io.Reader
	ctx context.Context
}

func (u *until) Read(b []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.Reader.Read(b)
}

// indexer finds what is where in the dumps of a dialect.
type indexer interface {
	// take hears of a statement, and of the rows of COPY in s behind it.
	take(st sqltext.Statement, s *sqltext.Splitter) error
	end() error
}

// extent is a stretch of a dump in which rows of one table lie.
type extent struct {
	from, to int64
	columns  []string // COPY: of the rows
}

// table is what the dump tells of a table.
type table struct {
	def      *sqltree.Table
	keys     []string
	extents  []extent
	settable []settable // columns that an INSERT without a list of them sets
	names    string     // charset of its rows
}

// settable is a column that rows give a value.
type settable struct {
	name      string
	introduce string // what its texts beyond ASCII get before them
	always    bool   // and those in ASCII too
}

func (t *table) bytes() (n int64) {
	for _, e := range t.extents {
		n += e.to - e.from
	}
	return n
}

// reader is a database.Reader of a dump.
type reader struct {
	file       *os.File
	lent       bool
	d          sqltext.Dialect
	info       database.Info
	tables     map[string]*table
	order      []string
	objects    []database.Object
	positions  strings.Builder
	notCarried []string
	scratch    string
	mirror     *mirror
}

func (r *reader) index(in io.Reader, ix indexer) error {
	s := sqltext.NewSplitter(in, r.d, 0)
	s.CopyHeads()
	for st, err := range s.All() {
		if err != nil {
			return err
		}
		if err := ix.take(st, s); err != nil {
			return fmt.Errorf("at byte %d: %w", st.Offset, err)
		}
	}
	return ix.end()
}

// addTable takes a definition. A second one of the same name takes its place.
func (r *reader) addTable(def *sqltree.Table) {
	if r.tables[def.Name] == nil {
		r.order = append(r.order, def.Name)
	}
	r.tables[def.Name] = &table{def: def}
}

// find gives a table that rows or changes are for.
func (r *reader) find(name string) (*table, error) {
	if t := r.tables[name]; t != nil {
		return t, nil
	}
	return nil, fmt.Errorf("%w: it speaks of the table %s before it makes it; make the dump with the definitions of the tables", sqltext.ErrRefused, name)
}

// addObject takes an object. A second one of the same name takes its place: dump
// programs make a view first that only looks like the right one.
func (r *reader) addObject(o database.Object) {
	r.objects = slices.DeleteFunc(r.objects, func(p database.Object) bool {
		return o.Name != "" && p.Kind == o.Kind && p.Name == o.Name && o.Kind != database.Other
	})
	r.objects = append(r.objects, o)
}

// versionOf finds a version in the comments at the beginning of a dump.
func versionOf(head []byte, pattern string) string {
	m := regexp.MustCompile(pattern).FindSubmatch(head)
	if m == nil {
		return "of unknown version"
	}
	return string(m[1])
}

func (r *reader) Info() database.Info { return r.info }

func (r *reader) Tables(context.Context) (tables []database.Table, err error) {
	for _, name := range r.order {
		tables = append(tables, database.Table{Name: name, Bytes: r.tables[name].bytes()})
	}
	if r.d == sqltext.MySQL {
		slices.SortFunc(tables, func(a, b database.Table) int { return strings.Compare(a.Name, b.Name) })
	}
	return tables, nil
}

func (r *reader) Definition(_ context.Context, name string) (string, []string, error) {
	t, err := r.find(name)
	if err != nil {
		return "", nil, err
	}
	quoted := sqltext.QuoteName(name, r.d)
	if r.d == sqltext.Postgres {
		quoted = sqltext.QuoteRelation(name)
	}
	return t.def.Render(quoted, func(sqltree.Item) bool { return true }), t.keys, nil
}

func (r *reader) Rows(ctx context.Context, name, without string, size int, yield func(database.Chunk) error) error {
	t, err := r.find(name)
	if err != nil {
		return err
	}
	skip, err := r.ordinals(ctx, name, without)
	if err != nil {
		return err
	}
	w := &rowWriter{name: name, d: r.d, size: size, yield: yield}
	n := int64(0)
	err = r.each(ctx, t, func(columns []string, row []byte) error {
		n++
		if len(skip) > 0 && skip[0] == n {
			skip = skip[1:]
			return nil
		}
		return w.row(columns, row)
	})
	if err == nil {
		err = w.end()
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", name, err)
	}
	return nil
}

// each gives all rows of a table with the columns whose values they hold.
func (r *reader) each(ctx context.Context, t *table, yield func(columns []string, row []byte) error) error {
	for _, e := range t.extents {
		in := &until{io.NewSectionReader(r.file, e.from, e.to-e.from), ctx}
		s := sqltext.NewSplitter(in, r.d, 0)
		var err error
		if r.d == sqltext.Postgres {
			err = copyRows(s, e.columns, yield)
		} else {
			err = insertRows(s, t, yield)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// rowWriter writes rows in statements of its own. Those of one INSERT may name
// other columns than those of another.
type rowWriter struct {
	name    string
	d       sqltext.Dialect
	size    int
	yield   func(database.Chunk) error
	columns []string
	inserts *database.ChunkWriter
	copies  *database.CopyWriter
	line    []byte
}

func (w *rowWriter) row(columns []string, row []byte) error {
	if w.inserts == nil && w.copies == nil || !slices.Equal(columns, w.columns) {
		if err := w.end(); err != nil {
			return err
		}
		w.begin(columns)
	}
	if w.copies != nil {
		w.line = append(append(w.line[:0], row...), '\n')
		_, err := w.copies.Write(w.line)
		return err
	}
	return w.inserts.End(append(w.inserts.Begin(), row...))
}

func (w *rowWriter) begin(columns []string) {
	w.columns = columns
	var list []string
	for _, c := range columns {
		list = append(list, sqltext.QuoteName(c, w.d))
	}
	if w.d != sqltext.Postgres {
		w.inserts = database.NewChunkWriter("INSERT INTO "+sqltext.QuoteName(w.name, w.d)+" ("+strings.Join(list, ",")+") VALUES", w.size, w.size, w.yield)
		return
	}
	what := sqltext.QuoteRelation(w.name)
	if len(list) > 0 {
		what += " (" + strings.Join(list, ",") + ")"
	}
	w.copies = database.NewCopyWriter("COPY "+what+" FROM stdin;\n", w.size, w.yield)
}

func (w *rowWriter) end() error {
	switch {
	case w.copies != nil:
		return w.copies.Close()
	case w.inserts != nil:
		return w.inserts.Close()
	}
	return nil
}

func (r *reader) Objects(context.Context) ([]database.Object, error) { return r.objects, nil }

func (r *reader) Prologue() string {
	if r.d == sqltext.Postgres {
		return postgres.Prologue()
	}
	return mariadb.Prologue()
}

func (r *reader) Epilogue(context.Context) (string, error) {
	if r.d == sqltext.Postgres {
		return r.positions.String(), nil
	}
	return "SET foreign_key_checks=1;\nSET unique_checks=1;\n" + r.positions.String(), nil
}

func (r *reader) NotCarried(context.Context) ([]string, error) { return r.notCarried, nil }

// Fork gives another reader of the same file.
func (r *reader) Fork(context.Context) (database.Reader, error) {
	return &reader{file: r.file, lent: true, d: r.d, info: r.info, tables: r.tables, order: r.order, scratch: r.scratch, mirror: r.mirror}, nil
}

func (r *reader) Close() error {
	if r.lent {
		return nil
	}
	return errors.Join(r.mirror.close(), r.file.Close())
}
