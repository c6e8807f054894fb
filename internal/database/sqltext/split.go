package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
)

// Statement is one statement of a stream.
type Statement struct {
	Text   []byte // without its delimiter, and without space and comments before it; valid until the next call
	Offset int64  // of Text in the stream
}

// Splitter cuts a stream into statements. It knows the DELIMITER lines of the
// MariaDB client, the triggers of SQLite and the routines and rules of
// PostgreSQL, whose bodies hold semicolons, and the rows behind COPY.
type Splitter struct {
	r         io.Reader
	d         Dialect
	buf       []byte
	start     int   // of what has not been given out
	offset    int64 // of buf[0] in the stream
	eof       bool
	delimiter string
	max       int
	heads     bool // COPY ends with its head
}

// DefaultMaxStatement is how long a statement may be, in bytes, unless a caller
// says otherwise: two bytes for each of the largest row that is carried, and room
// for other rows.
const DefaultMaxStatement = 576 << 20

// ErrTooLong says that a statement is longer than a Splitter may hold.
var ErrTooLong = errors.New("statement too long")

// NewSplitter returns a Splitter over r. max bounds the length of a statement
// in bytes; 0 means DefaultMaxStatement.
func NewSplitter(r io.Reader, d Dialect, max int) *Splitter {
	if max <= 0 {
		max = DefaultMaxStatement
	}
	return &Splitter{r: r, d: d, delimiter: ";", max: max}
}

// SplitBytes returns a Splitter over text that is in memory already.
func SplitBytes(text []byte, d Dialect) *Splitter {
	return &Splitter{buf: text, eof: true, d: d, delimiter: ";", max: len(text) + 1}
}

// CopyHeads makes Next return a COPY without its rows, so that a table of any
// size can be read: the caller takes them with Line.
func (s *Splitter) CopyHeads() { s.heads = true }

// Line returns the next row behind the head of a COPY, without its line break,
// and its offset; io.EOF for the line that ends the rows, io.ErrUnexpectedEOF where
// the text ends before it. The line is valid until the next call.
func (s *Splitter) Line() (line []byte, offset int64, err error) {
	s.compact()
	from := s.start
	for {
		if n := bytes.IndexByte(s.buf[from:], '\n'); n >= 0 {
			line, offset = s.buf[s.start:from+n], s.offset+int64(s.start)
			s.start = from + n + 1
			if bytes.Equal(line, copyEnd) {
				return nil, offset, io.EOF
			}
			return line, offset, nil
		}
		if s.eof {
			if bytes.Equal(s.buf[s.start:], copyEnd) {
				offset, s.start = s.offset+int64(s.start), len(s.buf)
				return nil, offset, io.EOF
			}
			return nil, 0, io.ErrUnexpectedEOF
		}
		from = len(s.buf) - s.start
		if err := s.more(); err != nil {
			return nil, 0, err
		}
		from += s.start
	}
}

// Next returns the next statement, io.EOF after the last.
func (s *Splitter) Next() (Statement, error) {
	for {
		begin, err := s.leading()
		if err != nil {
			return Statement{}, err
		}
		if done, err := s.command(); err != nil {
			return Statement{}, err
		} else if done {
			continue
		}
		end, next, err := s.end()
		if err != nil {
			return Statement{}, err
		}
		text := bytes.TrimRight(s.buf[begin:end], " \t\r\n")
		off := s.offset + int64(begin)
		s.start = next
		if len(text) > 0 {
			return Statement{text, off}, nil
		}
	}
}

// All gives the statements one after another; after an error it ends.
func (s *Splitter) All() iter.Seq2[Statement, error] {
	return func(yield func(Statement, error) bool) {
		for {
			st, err := s.Next()
			if errors.Is(err, io.EOF) || !yield(st, err) || err != nil {
				return
			}
		}
	}
}

// leading passes over space and comments and returns where the statement begins.
func (s *Splitter) leading() (int, error) {
	s.compact()
	for {
		if s.start >= len(s.buf) {
			if s.eof {
				return 0, io.EOF
			}
			if err := s.more(); err != nil {
				return 0, err
			}
			continue
		}
		if s.offset == 0 && s.start == 0 && bytes.HasPrefix(s.buf, []byte("\ufeff")) {
			s.start = 3
			continue
		}
		kind, n := scanToken(s.buf[s.start:], s.d)
		if (n < 0 || s.start+n == len(s.buf)) && !s.eof {
			if err := s.more(); err != nil {
				return 0, err
			}
			continue
		}
		if n < 0 || kind != Space && kind != Comment {
			return s.start, nil
		}
		s.start += n
	}
}

// command obeys a DELIMITER line at s.start.
func (s *Splitter) command() (bool, error) {
	const word = "delimiter"
	if s.d != MySQL || len(s.buf)-s.start <= len(word) || !strings.EqualFold(string(s.buf[s.start:s.start+len(word)]), word) || s.buf[s.start+len(word)] > ' ' {
		return false, nil
	}
	for {
		rest := s.buf[s.start+len(word):]
		n := bytes.IndexByte(rest, '\n')
		if n < 0 && !s.eof {
			if err := s.more(); err != nil {
				return false, err
			}
			continue
		}
		if n < 0 {
			n = len(rest)
		}
		d := strings.TrimSpace(string(rest[:n]))
		if d == "" || len(d) > 16 {
			return false, fmt.Errorf("%w: DELIMITER %q", ErrRefused, d)
		}
		s.delimiter = d
		s.start += len(word) + n
		return true, nil
	}
}

// end finds the delimiter of the statement at s.start.
func (s *Splitter) end() (end, next int, err error) {
	pos := s.start
	t := bodyState{d: s.d}
	for {
		if pos >= len(s.buf) {
			if s.eof {
				return pos, pos, nil
			}
		} else if rest := s.buf[pos:]; bytes.HasPrefix(rest, []byte(s.delimiter)) && t.mayEnd() {
			if !t.copy {
				return pos, pos + len(s.delimiter), nil
			}
			if s.heads {
				n := bytes.IndexByte(rest, '\n')
				if n >= 0 {
					return pos, pos + n + 1, nil
				}
				if s.eof {
					return pos, len(s.buf), nil
				}
			}
			if n := copyRowsEnd(rest); n >= 0 {
				return pos + n, pos + n, nil
			}
			if s.eof {
				return 0, 0, fmt.Errorf("COPY at byte %d: its rows have no end: %w", s.offset+int64(s.start), errOpen)
			}
		} else {
			kind, n := scanToken(rest, s.d)
			if n > 0 && (pos+n < len(s.buf) || s.eof) {
				if s.d != MySQL {
					t.take(kind, rest[:n])
				}
				pos += n
				continue
			}
			if s.eof {
				return 0, 0, fmt.Errorf("statement at byte %d: %w", s.offset+int64(s.start), errOpen)
			}
		}
		pos -= s.start
		if err := s.more(); err != nil {
			return 0, 0, err
		}
		pos += s.start
	}
}

// compact drops what has been given out, once it is worth the move.
func (s *Splitter) compact() {
	if s.r == nil || s.start < len(s.buf)/2 {
		return
	}
	n := copy(s.buf, s.buf[s.start:])
	s.buf, s.offset, s.start = s.buf[:n], s.offset+int64(s.start), 0
}

// more reads on behind buf.
func (s *Splitter) more() error {
	if len(s.buf)-s.start > s.max {
		return fmt.Errorf("%w: more than %d bytes from byte %d", ErrTooLong, s.max, s.offset+int64(s.start))
	}
	if len(s.buf) == cap(s.buf) {
		bigger := make([]byte, len(s.buf), max(256<<10, 2*cap(s.buf)))
		copy(bigger, s.buf)
		s.buf = bigger
	}
	n, err := s.r.Read(s.buf[len(s.buf):cap(s.buf)])
	s.buf = s.buf[:len(s.buf)+n]
	if errors.Is(err, io.EOF) {
		s.eof = true
		return nil
	}
	return err
}

// copyRowsEnd gives where the rows of COPY end that begin on the line behind b's
// first byte; -1 if they do not end in b.
func copyRowsEnd(b []byte) int {
	if i := bytes.Index(b, []byte("\n\\.\n")); i >= 0 {
		return i + 3
	}
	if bytes.HasSuffix(b, []byte("\n\\.")) {
		return len(b)
	}
	return -1
}

// bodyState follows a statement that may hold others. One of SQLite that begins
// with CREATE TRIGGER ends with the semicolon behind "; END" (as
// sqlite3_complete has it). One of PostgreSQL does not end inside parentheses,
// nor between BEGIN ATOMIC and its END (as its own client has it).
type bodyState struct {
	d       Dialect
	words   int
	create  bool
	trigger bool
	routine bool
	semi    bool // the last token was a semicolon
	end     bool // the last two were a semicolon and END
	begin   bool // the last token was BEGIN
	copy    bool // the statement is COPY … FROM stdin
	parens  int
	blocks  int // BEGIN ATOMIC and CASE that are open
}

func (t *bodyState) mayEnd() bool {
	return (!t.trigger || t.end) && t.parens <= 0 && t.blocks <= 0
}

func (t *bodyState) take(kind Kind, text []byte) {
	if kind == Space || kind == Comment {
		return
	}
	tok := Token{Kind: kind, Text: text}
	t.words++
	if t.d == Postgres {
		t.takePostgres(tok)
		return
	}
	t.end = t.semi && tok.Is("END")
	t.semi = kind == Punct && text[0] == ';'
	switch {
	case t.words == 1:
		t.create = tok.Is("CREATE")
	case t.create && t.words <= 3 && tok.Is("TRIGGER"):
		t.trigger = true
	}
}

func (t *bodyState) takePostgres(tok Token) {
	begin := t.begin
	t.begin = tok.Is("BEGIN")
	switch {
	case t.words == 1:
		t.create = tok.Is("CREATE")
		t.copy = tok.Is("COPY")
	case t.create && (t.words == 2 || t.words == 4) && (tok.Is("FUNCTION") || tok.Is("PROCEDURE")):
		t.routine = true
	case string(tok.Text) == "(":
		t.parens++
	case string(tok.Text) == ")":
		t.parens--
	case !t.routine:
	case begin && tok.Is("ATOMIC"), t.blocks > 0 && tok.Is("CASE"):
		t.blocks++
	case t.blocks > 0 && tok.Is("END"):
		t.blocks--
	}
}
