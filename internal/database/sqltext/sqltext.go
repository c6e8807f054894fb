// Package sqltext reads and writes the SQL text of dumps: it cuts a stream into
// statements, reads the statements that make tables and rows, and changes
// values in them, for the dialects of the engines. It understands just enough
// SQL to be sure what a statement does; everything else is refused.
//
// It takes bytes and readers and gives bytes; it never talks to a database.
package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// Dialect is a dialect of SQL text.
type Dialect int

// The dialects.
const (
	MySQL    Dialect = iota // MariaDB and MySQL: `names`, backslashes in strings
	SQLite                  // "names", no backslashes
	Postgres                // "names", $tag$strings$tag$, E'strings', COPY
)

// ErrRefused says that a statement is not of the few known shapes.
var ErrRefused = errors.New("refused SQL")

// Kind is the kind of a token.
type Kind int

// The kinds of tokens.
const (
	End         Kind = iota // no more tokens
	Space                   // white space
	Comment                 // -- …, # …, /* … */
	Conditional             // /*! … */, which MariaDB and MySQL execute
	Word                    // a bare word
	Name                    // a quoted name
	String                  // '…', in MySQL "…", in PostgreSQL E'…' and $tag$…$tag$
	Bytes                   // x'…', X'…', b'…', 0x…
	Number                  // 12, -1.5e3 without its sign
	Punct                   // any other single byte
)

// Token is a piece of SQL text.
type Token struct {
	Kind Kind
	Text []byte // as it stands
	At   int    // byte offset in the text
}

// Is reports whether the token is the bare word w, letter case ignored.
func (t Token) Is(w string) bool { return t.Kind == Word && strings.EqualFold(string(t.Text), w) }

// Lexer cuts text into tokens. An unclosed string, name or comment is an error.
type Lexer struct {
	text []byte
	pos  int
	d    Dialect
}

// NewLexer returns a lexer over text.
func NewLexer(text []byte, d Dialect) *Lexer { return &Lexer{text: text, d: d} }

var errOpen = errors.New("the text ends inside a string, name or comment")

// Next returns the next token of any kind, of kind End after the last.
func (l *Lexer) Next() (Token, error) {
	if l.pos >= len(l.text) {
		return Token{Kind: End, At: l.pos}, nil
	}
	kind, n := scanToken(l.text[l.pos:], l.d)
	if n < 0 {
		return Token{}, fmt.Errorf("byte %d: %w", l.pos, errOpen)
	}
	t := Token{kind, l.text[l.pos : l.pos+n], l.pos}
	l.pos += n
	return t, nil
}

// Skip returns the next token that is neither space nor comment.
func (l *Lexer) Skip() (Token, error) {
	for {
		t, err := l.Next()
		if err != nil || t.Kind != Space && t.Kind != Comment {
			return t, err
		}
	}
}

// scanToken gives kind and length of the token at the beginning of b, which is
// not empty, as the engine's own lexer cuts it. The length is -1 if b ends inside
// the token.
func scanToken(b []byte, d Dialect) (Kind, int) {
	switch c := b[0]; {
	case c == '\'':
		return String, stringEnd(b, d, d == MySQL)
	case c == '"' && d == MySQL:
		return String, quotedEnd(b, '"', true)
	case c == '"', c == '`' && d != Postgres:
		return Name, quotedEnd(b, c, false)
	case (c == 'e' || c == 'E') && d == Postgres && len(b) > 1 && b[1] == '\'':
		if n := stringEnd(b[1:], d, true); n > 0 {
			return String, n + 1
		}
		return String, -1
	case c == '$' && d == Postgres:
		return dollar(b)
	case c == '[' && d == SQLite:
		if n := bytes.IndexByte(b, ']'); n > 0 {
			return Name, n + 1
		}
		return Name, -1
	case c == ' ', c >= '\t' && c <= '\r':
		return Space, span(b, func(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' })
	case c == '-' && len(b) > 1 && b[1] == '-' && (d != MySQL || len(b) == 2 || b[2] <= ' ' || b[2] == 0x7f),
		c == '#' && d == MySQL:
		return Comment, lineEnd(b, d)
	case c == '/' && len(b) > 1 && b[1] == '*':
		return blockComment(b, d)
	case (c == 'x' || c == 'X' || c == 'b' || c == 'B') && len(b) > 1 && b[1] == '\'':
		if n := stringEnd(b[1:], d, false); n > 0 {
			return Bytes, n + 1
		}
		return Bytes, -1
	case c == '0' && d == MySQL && len(b) > 2 && b[1] == 'x' && isHex(b[2]):
		return Bytes, 2 + span(b[2:], isHex)
	case c >= '0' && c <= '9', c == '.' && len(b) > 1 && b[1] >= '0' && b[1] <= '9':
		return Number, numberEnd(b)
	case isWordByte(c, d):
		return Word, span(b, func(c byte) bool { return isWordByte(c, d) })
	}
	return Punct, 1
}

// lineEnd gives where the line ends that b begins with. To PostgreSQL a carriage
// return ends a line too (its lexer, scan.l: newline).
func lineEnd(b []byte, d Dialect) int {
	n := bytes.IndexByte(b, '\n')
	if d == Postgres {
		if r := bytes.IndexByte(b[:max(n, 0)], '\r'); r >= 0 {
			return r
		} else if r := bytes.IndexByte(b, '\r'); n < 0 && r >= 0 {
			return r
		}
	}
	if n < 0 {
		return len(b)
	}
	return n
}

// stringEnd is quotedEnd for a text in single quotes. In PostgreSQL it goes on in the
// next pair of quotes if only white space with a line break lies between, with the
// same rules for backslashes (scan.l: quotecontinue).
func stringEnd(b []byte, d Dialect, backslash bool) int {
	end := quotedEnd(b, '\'', backslash)
	for d == Postgres && end > 0 {
		next := continuation(b[end:])
		if next < 0 {
			break
		}
		n := quotedEnd(b[end+next:], '\'', backslash)
		if n < 0 {
			return -1
		}
		end += next + n
	}
	return end
}

// continuation gives where a string goes on that ended just before b: behind white
// space and line comments with a line break among them; -1 if it does not.
func continuation(b []byte) int {
	line := false
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c == '\n', c == '\r':
			line = true
			i++
		case c == ' ', c == '\t', c == '\f', c == '\v':
			i++
		case c == '-' && i+1 < len(b) && b[i+1] == '-':
			i += lineEnd(b[i:], Postgres)
		case c == '\'' && line:
			return i
		default:
			return -1
		}
	}
	return -1
}

// dollar cuts what begins with $ in PostgreSQL: a quoted text, a parameter, or the
// character alone.
func dollar(b []byte) (Kind, int) {
	if tag := DollarTag(b); tag != nil {
		if n := bytes.Index(b[len(tag):], tag); n >= 0 {
			return String, n + 2*len(tag)
		}
		return String, -1
	}
	if n := 1 + span(b[1:], func(c byte) bool { return isWordByte(c, Postgres) && c != '$' }); n == len(b) && n > 1 && !isDigit(b[1]) {
		return String, -1 // the tag may go on
	} else if n > 1 && isDigit(b[1]) {
		return Word, n
	}
	return Punct, 1
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func blockComment(b []byte, d Dialect) (Kind, int) {
	if head := conditionalHead(b); d == MySQL && head > 0 {
		return Conditional, conditionalEnd(b, head)
	}
	depth := 1
	for i := 2; i+1 < len(b); i++ {
		switch {
		case b[i] == '*' && b[i+1] == '/':
			i++
			if depth--; depth == 0 {
				return Comment, i + 1
			}
		case d == Postgres && b[i] == '/' && b[i+1] == '*': // there one may stand in another
			i++
			depth++
		case d != Postgres:
			n := bytes.Index(b[i:], []byte("*/"))
			if n < 0 {
				return Comment, -1
			}
			i += n - 1
		}
	}
	return Comment, -1
}

// conditionalHead gives the length of /*! or /*M! with the version behind it, at the
// beginning of b; 0 if b begins with something else.
func conditionalHead(b []byte) int {
	n := 2
	if len(b) > n && b[n] == 'M' {
		n++
	}
	if len(b) <= n || b[0] != '/' || b[1] != '*' || b[n] != '!' {
		return 0
	}
	return n + 1 + span(b[n+1:], isDigit)
}

// conditionalEnd finds the end of a comment that a server executes: its content is
// made of tokens, and a text in it may hold what ends comments elsewhere.
func conditionalEnd(b []byte, i int) int {
	for i < len(b) {
		if bytes.HasPrefix(b[i:], []byte("*/")) {
			return i + 2
		}
		n := 0
		if bytes.HasPrefix(b[i:], []byte("/*")) { // the first end counts, whatever it is
			if n = bytes.Index(b[i+2:], []byte("*/")) + 4; n < 4 {
				return -1
			}
		} else if _, n = scanToken(b[i:], MySQL); n < 0 {
			return -1
		}
		i += n
	}
	return -1
}

// DollarTag gives the $tag$ with which a string of PostgreSQL begins at b, nil
// if none does (the PostgreSQL manual, Dollar-Quoted String Constants).
func DollarTag(b []byte) []byte {
	for i, c := range b[1:] {
		switch {
		case c == '$':
			return b[:i+2]
		case c >= '0' && c <= '9' && i > 0, c == '_', c|0x20 >= 'a' && c|0x20 <= 'z', c >= 0x80:
		default:
			return nil
		}
	}
	return nil
}

func span(b []byte, f func(byte) bool) int {
	for i, c := range b {
		if !f(c) {
			return i
		}
	}
	return len(b)
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// isWordByte reports whether a byte may stand in a bare word. To PostgreSQL @ is an
// operator.
func isWordByte(c byte, d Dialect) bool {
	return c == '_' || c == '$' || c == '@' && d != Postgres || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// numberEnd gives the length of the number at the beginning of b. An e belongs to it
// only if digits follow: in 1E'…' it belongs to the text.
func numberEnd(b []byte) int {
	n := span(b, isDigit)
	if n < len(b) && b[n] == '.' {
		n += 1 + span(b[n+1:], isDigit)
	}
	if n == len(b) || b[n]|0x20 != 'e' {
		return n
	}
	at := n + 1
	if at < len(b) && (b[at] == '+' || b[at] == '-') {
		at++
	}
	if at < len(b) && isDigit(b[at]) {
		return at + span(b[at:], isDigit)
	}
	return n
}

// quotedEnd gives the length of the quoted text at the beginning of b, whose
// quote may be doubled or, if backslash is set, escaped; -1 if it does not end.
func quotedEnd(b []byte, quote byte, backslash bool) int {
	i, end := 1, 0 // end: where the next quote stands, once it has been looked for
	for {
		if end < i {
			n := bytes.IndexByte(b[i:], quote)
			if n < 0 {
				return -1
			}
			end = i + n
		}
		if backslash {
			if s := bytes.IndexByte(b[i:end], '\\'); s >= 0 {
				if i += s + 2; i > len(b) {
					return -1
				}
				continue
			}
		}
		if end+1 < len(b) && b[end+1] == quote {
			i = end + 2
			continue
		}
		return end + 1
	}
}

// Unquote gives the bytes that a String, Name or Bytes token means. It appends
// to dst.
func Unquote(dst []byte, t Token, d Dialect) ([]byte, error) {
	b := t.Text
	if t.Kind == Bytes {
		return unhex(dst, b)
	}
	if len(b) < 2 {
		return nil, fmt.Errorf("%w: %q is not quoted", ErrRefused, b)
	}
	quote := b[0]
	if d == Postgres && t.Kind == String {
		switch quote {
		case '$':
			n := len(DollarTag(b))
			return append(dst, b[n:len(b)-n]...), nil
		case '\'':
			return unquotePieces(dst, b, false)
		default:
			return unquotePieces(dst, b[1:], true)
		}
	}
	b = b[1 : len(b)-1]
	if quote == '[' {
		return append(dst, b...), nil
	}
	backslash := d == MySQL && t.Kind == String
	last := 0 // what stands from here on has not been copied
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == quote: // doubled
			dst = append(dst, b[last:i]...)
			i++
			last = i
		case c == '\\' && backslash && i+1 < len(b):
			dst = append(dst, b[last:i]...)
			i++
			last = i + 1
			c = Unescape(b[i])
			if c == 0 && b[i] != '0' { // \% and \_ keep their backslash
				dst = append(dst, '\\')
				c = b[i]
			}
			dst = append(dst, c)
		}
	}
	return append(dst, b[last:]...), nil
}

// unquotePieces appends what a text of PostgreSQL means, which may stand in several
// pairs of quotes.
func unquotePieces(dst, b []byte, backslash bool) (_ []byte, err error) {
	for {
		end := quotedEnd(b, '\'', backslash)
		if end < 0 {
			return nil, fmt.Errorf("%w: %.60q is not closed", ErrRefused, b)
		}
		inside := b[1 : end-1]
		if backslash {
			if dst, err = unescapePostgres(dst, inside); err != nil {
				return nil, err
			}
		} else {
			dst = append(dst, bytes.ReplaceAll(inside, []byte("''"), []byte("'"))...)
		}
		next := continuation(b[end:])
		if next < 0 {
			return dst, nil
		}
		b = b[end+next:]
	}
}

// Unescape gives the byte that c means behind a backslash in a string of MariaDB
// and MySQL; 0 for % and _ too, which keep their backslash.
func Unescape(c byte) byte {
	switch c {
	case '0':
		return 0
	case 'n':
		return '\n'
	case 'r':
		return '\r'
	case 't':
		return '\t'
	case 'b':
		return '\b'
	case 'Z':
		return 0x1a
	case '%', '_':
		return 0
	}
	return c
}

func unhex(dst, b []byte) ([]byte, error) {
	digits := b[2:]
	if b[1] == '\'' {
		digits = b[2 : len(b)-1]
	}
	if b[0] == 'b' || b[0] == 'B' {
		return nil, fmt.Errorf("%w: bit value %q", ErrRefused, b)
	}
	if len(digits)%2 != 0 {
		return nil, fmt.Errorf("%w: odd number of digits in %.40q", ErrRefused, b)
	}
	for i := 0; i < len(digits); i += 2 {
		hi, lo := hexValue(digits[i]), hexValue(digits[i+1])
		if hi > 15 || lo > 15 {
			return nil, fmt.Errorf("%w: %.40q is not hexadecimal", ErrRefused, b)
		}
		dst = append(dst, hi<<4|lo)
	}
	return dst, nil
}

func hexValue(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10
	case c >= 'A' && c <= 'F':
		return c - 'A' + 10
	}
	return 0xFF
}

// QuoteName gives a name quoted for the dialect.
func QuoteName(name string, d Dialect) string {
	if d != MySQL {
		return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
	}
	return "`" + strings.ReplaceAll(name, "`", "``") + "`"
}
