// Package dump rewrites the values in SQL dumps: text as written by the dump
// programs of MariaDB, MySQL, PostgreSQL and SQLite and by web panels. It takes
// a reader, a writer and a function for values, streams from one to the other
// in constant memory, and copies byte for byte what the function leaves alone.
//
// It looks at literals and at the rows of COPY; what a statement does is not its
// concern, so that nothing in a dump is refused.
package dump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
)

// Dialect is the dialect of a dump.
type Dialect int

// The dialects of dumps.
const (
	MySQL Dialect = iota // MariaDB and MySQL
	Postgres
	SQLite
)

// String names the dialect's engine.
func (d Dialect) String() string { return [...]string{"mariadb", "postgres", "sqlite"}[d] }

// ErrNotDump says that an input is no SQL dump.
var ErrNotDump = errors.New("no SQL dump")

// Check refuses, by the first kilobytes, what cannot be SQL text.
func Check(head []byte) error {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case len(text) == 0:
		return fmt.Errorf("%w: it is empty", ErrNotDump)
	case bytes.HasPrefix(text, []byte("PGDMP")):
		return fmt.Errorf("%w: it is a dump in PostgreSQL's custom format; pg_restore --file=dump.sql writes it as SQL text", ErrNotDump)
	case bytes.HasPrefix(text, []byte("SQLite format 3")):
		return fmt.Errorf("%w: it is an SQLite database itself", ErrNotDump)
	case text[0] == '<':
		return fmt.Errorf("%w: it is a web page or XML", ErrNotDump)
	case bytes.IndexByte(head[:min(len(head), 512)], 0) >= 0:
		return fmt.Errorf("%w: it begins with binary data", ErrNotDump)
	}
	return nil
}

// Detect tells the dialect by the first kilobytes of a dump.
func Detect(head []byte) Dialect {
	has := func(s string) bool { return bytes.Contains(head, []byte(s)) }
	switch {
	case has("\n-- engine: mariadb\n"):
		return MySQL
	case has("PostgreSQL database dump"), has("\n-- engine: postgres\n"), has("\nCOPY "), has("SET standard_conforming_strings"), has("pg_catalog"):
		return Postgres
	case has("\n-- engine: sqlite\n"), has("PRAGMA "), has("sqlite_sequence"), has("BEGIN TRANSACTION;") && !has("`"):
		return SQLite
	}
	return MySQL
}

// Cell says where in a dump a value stands. Both names are empty outside of rows.
type Cell struct {
	Table, Column string
	Bytes         bool // it is written as bytes, not as a text
}

// Values is what a dump's values are shown to.
type Values interface {
	// Places returns a function that gives the place of the first byte of text at
	// or after from that may matter, len(text) if there is none; from never gets
	// smaller. Literals without such a byte pass.
	Places(text []byte) func(from int) int
	// Batch begins a run of values. Several runs go on at the same time, each on
	// one goroutine.
	Batch() Batch
}

// Batch is shown the values of one stretch of a dump, in their order.
type Batch interface {
	// Value returns what takes the place of v, and whether it is anything else. The
	// result is used before Value is called again.
	Value(at Cell, v []byte) ([]byte, bool)
	// Done ends the batch. It is called in the order of the dump, never twice at a
	// time.
	Done() error
}

// Options sets how a dump is read. The zero value is good.
type Options struct {
	Dialect  Dialect
	Progress func(n int64) // told of every n bytes read
}

// maxLiteral bounds a literal or a line of COPY, which is in memory as a whole.
const maxLiteral = 512 << 20

const (
	blockSize = 512 << 10
	behind    = 16 // bytes before the next one that are kept, for what a literal's prefix is
)

// ErrTooLong says that a literal is longer than can be carried: most likely a quote is
// missing.
var ErrTooLong = fmt.Errorf("a literal of more than %d MB, or one that does not end", maxLiteral/1_000_000)

// Rewrite copies a dump from r to w and shows its values to vals.
func Rewrite(ctx context.Context, w io.Writer, r io.Reader, vals Values, opts Options) error {
	p := newPipeline(ctx, w, vals)
	s := &scanner{r: r, p: p, d: opts.Dialect, vals: vals, progress: opts.Progress,
		buf: make([]byte, 0, 2*blockSize), columns: map[string][]string{}, raws: map[Cell]bool{}, begin: true}
	var err error
	for more := true; more && err == nil; {
		more, err = s.token()
	}
	if err == nil {
		err = s.flush(len(s.buf))
	}
	return p.end(err)
}

// scanner goes through a dump token by token.
type scanner struct {
	r        io.Reader
	p        *pipeline
	d        Dialect
	vals     Values
	progress func(int64)

	buf     []byte
	i       int   // what is before it has been looked at
	written int   // what is before it has been written
	offset  int64 // of buf[0] in the dump
	eof     bool
	next    func(from int) int // where in buf[base:known] the bytes are that matter
	base    int
	known   int // 0: next is not valid
	first   int // place of the first of them at or after a place before i

	begin   bool // a statement begins
	rows    bool // inside the rows of an INSERT
	create  bool // inside the definition of a table
	depth   int  // of parentheses in the statement
	item    bool // the next word at depth 1 of a definition names a column
	column  int
	table   string
	names   []string            // columns of the statement
	columns map[string][]string // of the tables defined before
	raw     []bool              // of the columns of the statement: those that hold bytes
	raws    map[Cell]bool       // those of the tables defined before
	head    string              // of the last INSERT
	into    insert
}

// fill reads on, so that there is more in the buffer from byte i. It reports
// whether anything came.
func (s *scanner) fill() (bool, error) {
	if s.eof {
		return false, nil
	}
	if err := s.flush(s.i); err != nil {
		return false, err
	}
	if gone := s.i - behind; gone > 0 {
		s.buf = s.buf[:copy(s.buf, s.buf[gone:])]
		s.offset += int64(gone)
		s.i -= gone
		s.written -= gone
		s.known = 0
	}
	if len(s.buf) > maxLiteral {
		return false, fmt.Errorf("%w, from byte %d", ErrTooLong, s.offset)
	}
	if cap(s.buf)-len(s.buf) < blockSize {
		room := 2 * cap(s.buf)
		if room > maxLiteral/4 { // grown once for all: what is not used costs no memory
			room = maxLiteral + 2*blockSize
		}
		s.buf = append(make([]byte, 0, room), s.buf...)
	}
	for {
		n, err := s.r.Read(s.buf[len(s.buf) : len(s.buf)+blockSize])
		s.buf = s.buf[:len(s.buf)+n]
		if s.progress != nil && n > 0 {
			s.progress(int64(n))
		}
		if errors.Is(err, io.EOF) {
			s.eof = true
			return n > 0, nil
		}
		if err != nil {
			return false, fmt.Errorf("read the dump at byte %d: %w", s.offset+int64(len(s.buf)), err)
		}
		if n > 0 {
			return true, nil
		}
	}
}

// flush passes on what has been looked at, up to byte to.
func (s *scanner) flush(to int) error {
	if s.written >= to {
		return nil
	}
	s.p.pass(s.buf[s.written:to])
	s.written = to
	return s.p.sendIfFull()
}

// need makes sure that n bytes from i are in the buffer, unless the dump ends.
func (s *scanner) need(n int) error {
	for len(s.buf)-s.i < n {
		if more, err := s.fill(); err != nil || !more {
			return err
		}
	}
	return nil
}

// find looks for the end of something that begins at byte from after i: end gets
// the text from i and gives the place behind it, or -1 if it is not there yet.
func (s *scanner) find(end func(text []byte) int) (int, error) {
	for {
		if n := end(s.buf[s.i:]); n >= 0 {
			return n, nil
		}
		// Twice as much each time, or a long literal would be searched again and again.
		for want := 2*(len(s.buf)-s.i) + 1; len(s.buf)-s.i < want; {
			more, err := s.fill()
			if err != nil {
				return 0, err
			}
			if !more {
				break
			}
		}
		if s.eof {
			if n := end(s.buf[s.i:]); n >= 0 {
				return n, nil
			}
			return len(s.buf) - s.i, nil
		}
	}
}

// mentions reports whether one of the next n bytes matters.
func (s *scanner) mentions(n int) bool {
	if s.known < s.i+n {
		s.base, s.known, s.first = s.i, len(s.buf), -1
		s.next = s.vals.Places(s.buf[s.base:])
	}
	if s.first < s.i {
		s.first = s.base + s.next(s.i-s.base)
	}
	return s.first < s.i+n
}

// piece passes the n bytes at i on as something to be rewritten.
func (s *scanner) piece(n int, p piece) error {
	if err := s.flush(s.i); err != nil {
		return err
	}
	isBytes := p.cell.Bytes
	p.cell = s.cell()
	p.cell.Bytes = isBytes
	s.p.piece(s.buf[s.i:s.i+n], p)
	s.i += n
	s.written = s.i
	return s.p.sendIfFull()
}

// cell says where the reader is.
func (s *scanner) cell() Cell {
	c := Cell{Table: s.table}
	if s.rows && s.column < len(s.names) {
		c.Column = s.names[s.column]
	}
	return c
}

// insert is what the head of an INSERT names.
type insert struct {
	table string
	names []string
	raw   []bool
}

// telling are the bytes that may mean something outside of literals, by dialect.
var telling = func() (t [3][256]bool) {
	for d, bytes := range [...]string{MySQL: "'\"`-#/(),;0", Postgres: "'\"-/(),;$", SQLite: "'\"`-/(),;rR"} {
		for _, c := range bytes {
			t[d][c] = true
		}
	}
	return t
}()

func isWord(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
