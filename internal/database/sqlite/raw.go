package sqlite

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"hovix/internal/database/sqltext"
)

// conn is a connection through SQLite's C interface. database/sql would build a
// Go value for each cell, and would read a column declared as DATETIME as a
// time: here cells are what SQLite stores, at the place where it holds them.
type conn struct {
	tls *libc.TLS
	db  uintptr
}

// stmt is a prepared statement of a conn.
type stmt struct {
	c *conn
	p uintptr
}

func openRaw(path string, flags int32) (*conn, error) {
	c := &conn{tls: libc.NewTLS()}
	name, err := libc.CString(path)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, name)
	out := libc.Xcalloc(c.tls, 1, 8)
	defer libc.Xfree(c.tls, out)
	rc := lib.Xsqlite3_open_v2(c.tls, name, out, flags, 0)
	c.db = *(*uintptr)(ptr(out))
	if rc != lib.SQLITE_OK {
		err := c.failure(rc)
		c.close()
		return nil, err
	}
	lib.Xsqlite3_busy_timeout(c.tls, c.db, 5000)
	return c, nil
}

// ptr makes a pointer of an address in SQLite's own memory, which the garbage
// collector neither moves nor frees.
func ptr(address uintptr) unsafe.Pointer { return *(*unsafe.Pointer)(unsafe.Pointer(&address)) }

// failure is an error of SQLite.
type failure struct {
	code int32 // extended where the call gave one
	text string
}

func (f *failure) Error() string { return f.text }

func (c *conn) failure(rc int32) error {
	if c.db == 0 {
		return &failure{rc, fmt.Sprintf("SQLite error %d", rc)}
	}
	return &failure{lib.Xsqlite3_extended_errcode(c.tls, c.db), libc.GoString(lib.Xsqlite3_errmsg(c.tls, c.db))}
}

func (c *conn) close() {
	if c.db != 0 {
		lib.Xsqlite3_close_v2(c.tls, c.db)
		c.db = 0
	}
	c.tls.Close()
}

// prepare makes a statement of a text, which must hold one and nothing else.
func (c *conn) prepare(sql string) (*stmt, error) {
	s, end, err := c.first(sql)
	if err != nil {
		return nil, err
	}
	if strings.Trim(sql[end:], " \t\r\n;") != "" || s.p == 0 {
		s.close()
		return nil, fmt.Errorf("%w: not one statement: %.80q", sqltext.ErrRefused, sql)
	}
	return s, nil
}

// first prepares the first statement of a text, and tells where it ends. Its p is 0
// where the text holds none.
func (c *conn) first(sql string) (s *stmt, end int, err error) {
	text, err := libc.CString(sql)
	if err != nil {
		return nil, 0, err
	}
	defer libc.Xfree(c.tls, text)
	out := libc.Xcalloc(c.tls, 2, 8)
	defer libc.Xfree(c.tls, out)
	if rc := lib.Xsqlite3_prepare_v2(c.tls, c.db, text, int32(len(sql)+1), out, out+8); rc != lib.SQLITE_OK {
		return nil, 0, fmt.Errorf("%w in %.80q", c.failure(rc), sql)
	}
	return &stmt{c, *(*uintptr)(ptr(out))}, int(*(*uintptr)(ptr(out + 8)) - text), nil
}

// exec runs a statement that gives no rows.
func (c *conn) exec(sql string) error {
	s, err := c.prepare(sql)
	if err != nil {
		return err
	}
	defer s.close()
	for {
		if more, err := s.step(); err != nil || !more {
			return err
		}
	}
}

// interruptible runs f, which uses the connection, and ends it once ctx is done.
func (c *conn) interruptible(ctx context.Context, f func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	over := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		lib.Xsqlite3_interrupt(c.tls, c.db)
		close(over)
	})
	err := f()
	if !stop() {
		<-over // it must not meet the next statement
		if err != nil {
			return context.Cause(ctx)
		}
	}
	return err
}

// strings runs a query and gives its rows, each value as text.
func (c *conn) strings(query string, args ...any) ([][]string, error) {
	s, err := c.prepare(query)
	if err != nil {
		return nil, err
	}
	defer s.close()
	for i, a := range args {
		if err := s.bind(i+1, fmt.Sprint(a)); err != nil {
			return nil, err
		}
	}
	var rows [][]string
	for {
		more, err := s.step()
		if err != nil || !more {
			return rows, err
		}
		row := make([]string, s.columns())
		for i := range row {
			row[i] = s.string(i)
		}
		rows = append(rows, row)
	}
}

// changes counts the rows that the last statement has inserted, changed or deleted, but those
// that a virtual table keeps behind it.
func (c *conn) changes() int64 { return lib.Xsqlite3_changes64(c.tls, c.db) }

// bind sets the i-th parameter, from 1, to a text.
func (s *stmt) bind(i int, text string) error {
	p, err := libc.CString(text)
	if err != nil {
		return err
	}
	defer libc.Xfree(s.c.tls, p)
	const transient = ^uintptr(0) // SQLITE_TRANSIENT: SQLite copies it
	if rc := lib.Xsqlite3_bind_text(s.c.tls, s.p, int32(i), p, int32(len(text)), transient); rc != lib.SQLITE_OK {
		return s.c.failure(rc)
	}
	return nil
}

// bindCell sets the i-th parameter to a text and the next one to the same bytes
// as a blob. SQLite reads them in v's copy, which free gives back after the
// statement has run.
func (s *stmt) bindCell(i int, v []byte) (free func(), err error) {
	p := libc.Xmalloc(s.c.tls, libc.Tsize_t(len(v)+1)) // an empty value has an address too
	if p == 0 {
		return func() {}, errors.New("no memory is left")
	}
	free = func() { libc.Xfree(s.c.tls, p) }
	copy(unsafe.Slice((*byte)(ptr(p)), len(v)+1), v)
	const static = 0 // SQLITE_STATIC: SQLite does not copy it
	if rc := lib.Xsqlite3_bind_text(s.c.tls, s.p, int32(i), p, int32(len(v)), static); rc != lib.SQLITE_OK {
		return free, s.c.failure(rc)
	}
	if rc := lib.Xsqlite3_bind_blob(s.c.tls, s.p, int32(i+1), p, int32(len(v)), static); rc != lib.SQLITE_OK {
		return free, s.c.failure(rc)
	}
	return free, nil
}

// bindCells sets the parameters from the first on, two for each value, as
// bindCell does.
func (s *stmt) bindCells(values [][]byte) (free func(), err error) {
	var frees []func()
	free = func() {
		for _, f := range frees {
			f()
		}
	}
	for i, v := range values {
		f, err := s.bindCell(2*i+1, v)
		frees = append(frees, f)
		if err != nil {
			return free, err
		}
	}
	return free, nil
}

// bindInt sets the i-th parameter to a number.
func (s *stmt) bindInt(i int, n int64) error {
	if rc := lib.Xsqlite3_bind_int64(s.c.tls, s.p, int32(i), n); rc != lib.SQLITE_OK {
		return s.c.failure(rc)
	}
	return nil
}

// reset makes a statement ready to run again.
func (s *stmt) reset() { lib.Xsqlite3_reset(s.c.tls, s.p) }

func (s *stmt) close() { lib.Xsqlite3_finalize(s.c.tls, s.p) }

// step goes to the next row; false after the last.
func (s *stmt) step() (bool, error) {
	switch rc := lib.Xsqlite3_step(s.c.tls, s.p); rc {
	case lib.SQLITE_ROW:
		return true, nil
	case lib.SQLITE_DONE:
		return false, nil
	default:
		return false, s.c.failure(rc)
	}
}

func (s *stmt) columns() int { return int(lib.Xsqlite3_column_count(s.c.tls, s.p)) }

func (s *stmt) kind(i int) int32 { return lib.Xsqlite3_column_type(s.c.tls, s.p, int32(i)) }

func (s *stmt) int64(i int) int64 { return lib.Xsqlite3_column_int64(s.c.tls, s.p, int32(i)) }

func (s *stmt) float(i int) float64 { return lib.Xsqlite3_column_double(s.c.tls, s.p, int32(i)) }

// size is the length of a text or blob, in bytes.
func (s *stmt) size(i int) int { return int(lib.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))) }

// bytes gives a text or blob where SQLite holds it; valid until the next step.
func (s *stmt) bytes(i int, text bool) []byte {
	var p uintptr
	if text {
		p = lib.Xsqlite3_column_text(s.c.tls, s.p, int32(i))
	} else {
		p = lib.Xsqlite3_column_blob(s.c.tls, s.p, int32(i))
	}
	n := lib.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))
	if p == 0 || n == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(ptr(p)), n)
}

// string gives any value as text.
func (s *stmt) string(i int) string { return string(s.bytes(i, true)) }
