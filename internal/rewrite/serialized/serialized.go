// Package serialized reads and rewrites values in PHP's serialization format
// (the PHP manual, function serialize; ext/standard/var_unserializer defines
// the grammar) byte for byte. Lengths in the format count bytes, so a changed
// string needs a changed length, at every level that holds it.
//
// The package takes the bytes of a value and a function for its strings, and
// gives the bytes of the changed value. It builds no values: what is not
// changed is copied as it stands. Nesting is limited only by memory.
package serialized

import (
	"fmt"
	"strconv"
	"sync"
)

// SyntaxError says where a value stops being in the format.
type SyntaxError struct {
	Offset int    // byte at which reading failed
	What   string // what was expected or found there
}

// Error gives the place and the reason.
func (e *SyntaxError) Error() string { return fmt.Sprintf("byte %d: %s", e.Offset, e.What) }

// Looks reports whether v begins like a serialized value that can hold text: a
// string, an array or an object. It is cheap, and a value for which it is
// false is not serialized.
func Looks(v []byte) bool {
	if len(v) < 4 || v[1] != ':' {
		return false
	}
	switch v[0] {
	case 'a', 's', 'O', 'C', 'S', 'E':
		return v[2] >= '0' && v[2] <= '9'
	}
	return false
}

// Valid returns nil if v is one whole serialized value, a *SyntaxError if not.
func Valid(v []byte) error {
	_, _, err := Rewrite(nil, v, nil)
	return err
}

// Visitor sees the strings of a value.
type Visitor interface {
	// Next gives the place of the first byte of the value at or after from that
	// matters. Strings without such a byte are not visited.
	Next(from int) int
	// String returns what takes the place of s, and whether it is anything else.
	// The result is copied before String is called again.
	String(s []byte) ([]byte, bool)
}

// VisitorFunc visits all strings.
type VisitorFunc func(s []byte) ([]byte, bool)

// Next returns from: every byte matters.
func (f VisitorFunc) Next(from int) int { return from }

// String calls f.
func (f VisitorFunc) String(s []byte) ([]byte, bool) { return f(s) }

var parsers = sync.Pool{New: func() any { return &parser{} }}

// Rewrite shows f each string in the value v: array keys and values, property
// values, and the payload of custom-serialized objects if that is a serialized
// value itself; class names, enum cases and property names are left alone.
// Where f returns true, its result replaces the string, and the length is set
// anew. The changed value is appended to dst. If nothing changed, dst comes back
// as it was, and changed is false. White space after the value is kept. The
// error is a *SyntaxError; then nothing has changed. f may be nil.
func Rewrite(dst, v []byte, f Visitor) (out []byte, changed bool, err error) {
	p := parsers.Get().(*parser)
	defer func() {
		*p = parser{stack: p.stack[:0]}
		parsers.Put(p)
	}()
	p.v, p.dst, p.f = v, dst, f
	start := len(dst)
	if err := p.run(); err != nil {
		return dst[:start], false, err
	}
	if !p.changed {
		return dst[:start], false, nil
	}
	return append(p.dst, v[p.copied:]...), true, nil
}

// level is an array or object whose members are being read.
type level struct {
	left   int // keys and values still to come
	object bool
}

type parser struct {
	v       []byte
	i       int
	dst     []byte
	copied  int // v[:copied] has been written to dst
	changed bool
	f       Visitor
	matters int // the first byte at or after i that matters
	stack   []level
}

func (p *parser) fail(what string) error { return &SyntaxError{p.i, what} }

func (p *parser) run() error {
	if err := p.value(false, false); err != nil {
		return err
	}
	for len(p.stack) > 0 {
		top := &p.stack[len(p.stack)-1]
		for top.left > 0 && p.simple(top.left%2 == 0, top.object) {
			top.left--
		}
		if top.left == 0 {
			if err := p.expect('}'); err != nil {
				return err
			}
			p.stack = p.stack[:len(p.stack)-1]
			continue
		}
		top.left--
		key := top.left%2 == 1
		if err := p.value(key, key && top.object); err != nil {
			return err
		}
	}
	for ; p.i < len(p.v); p.i++ {
		switch p.v[p.i] {
		case ' ', '\t', '\r', '\n':
		default:
			return p.fail("more bytes after the value")
		}
	}
	return nil
}

// simple passes over a number, or a string that does not matter, as nearly all
// members are. It reports false, and has read nothing, where there is anything
// else, or anything wrong.
func (p *parser) simple(key, object bool) bool {
	v, i := p.v, p.i
	if i+4 > len(v) || v[i+1] != ':' {
		return false
	}
	j := i + 2
	switch v[i] {
	case 's':
		n := 0
		for j < len(v) && j < i+11 && v[j]-'0' <= 9 {
			n = n*10 + int(v[j]-'0')
			j++
		}
		at := j + 2
		end := at + n
		if j == i+2 || end+2 > len(v) || v[j] != ':' || v[j+1] != '"' || v[end] != '"' || v[end+1] != ';' {
			return false
		}
		if !(key && object) && p.ask(at, end) {
			return false
		}
		p.i = end + 2
		return true
	case 'i':
		for j < len(v) && j < i+20 && v[j]-'0' <= 9 {
			j++
		}
		if j == i+2 || j == i+20 || j == len(v) || v[j] != ';' {
			return false
		}
		p.i = j + 1
		return true
	}
	return false
}

// value reads one value, or the head of one with members. A key may only be a
// number or a string; a property name is not given to f.
func (p *parser) value(key, property bool) error {
	if p.i >= len(p.v) {
		return p.fail("the value ends early")
	}
	kind := p.v[p.i]
	if key && kind != 'i' && kind != 's' && kind != 'S' {
		return p.fail("a key must be a number or a string")
	}
	start := p.i
	p.i++
	if kind == 'N' {
		return p.expect(';')
	}
	if err := p.expect(':'); err != nil {
		return err
	}
	switch kind {
	case 'b', 'i', 'd', 'r', 'R':
		return p.scalar(kind)
	case 's':
		return p.str(start, property)
	case 'S':
		return p.escapedStr(start, property)
	case 'a':
		return p.members(false)
	case 'O', 'o':
		if err := p.name(); err != nil {
			return err
		}
		return p.members(true)
	case 'E':
		if err := p.name(); err != nil {
			return err
		}
		p.i-- // name leaves us behind a colon; an enum ends with a semicolon
		return p.expect(';')
	case 'C':
		return p.custom()
	}
	p.i = start
	return p.fail(fmt.Sprintf("no value begins with %q", kind))
}

func (p *parser) expect(c byte) error {
	if p.i >= len(p.v) {
		return p.fail("the value ends early")
	}
	if p.v[p.i] != c {
		return p.fail(fmt.Sprintf("expected %q, found %q", c, p.v[p.i]))
	}
	p.i++
	return nil
}

// scalar reads a number up to its semicolon.
func (p *parser) scalar(kind byte) error {
	start := p.i
	for p.i < len(p.v) && p.v[p.i] != ';' {
		if !scalarByte(kind, p.v[p.i]) || p.i-start > 400 {
			return p.fail("not a number")
		}
		p.i++
	}
	if p.i == start {
		return p.fail("a number is missing")
	}
	if kind != 'd' && !whole(p.v[start:p.i]) {
		return &SyntaxError{start, "not a whole number"}
	}
	return p.expect(';')
}

// whole reports whether s, of digits and signs, is a number of 64 bits.
func whole(s []byte) bool {
	digits := s
	if s[0] == '-' || s[0] == '+' {
		digits = s[1:]
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return false
		}
	}
	if len(digits) > 18 {
		_, err := strconv.ParseInt(string(s), 10, 64)
		return err == nil
	}
	return len(digits) > 0
}

func scalarByte(kind, c byte) bool {
	switch kind {
	case 'b':
		return c == '0' || c == '1'
	case 'i':
		return c >= '0' && c <= '9' || c == '-' || c == '+'
	case 'd': // 0.5, 1.0E+25, -INF, NAN
		return c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.' || c >= 'A' && c <= 'Z' || c == 'e'
	}
	return c >= '0' && c <= '9'
}

// length reads a count and the colon behind it.
func (p *parser) length() (int, error) {
	start, n := p.i, 0
	for p.i < len(p.v) && p.v[p.i] >= '0' && p.v[p.i] <= '9' {
		if n = n*10 + int(p.v[p.i]-'0'); n > 1<<40 {
			return 0, p.fail("a length out of range")
		}
		p.i++
	}
	if p.i == start {
		return 0, p.fail("a length is missing")
	}
	return n, p.expect(':')
}

// quoted reads "…" of n bytes and returns where the bytes begin.
func (p *parser) quoted(n int) (int, error) {
	if err := p.expect('"'); err != nil {
		return 0, err
	}
	start := p.i
	if n > len(p.v)-start {
		return 0, p.fail(fmt.Sprintf("a string of %d bytes runs over the end", n))
	}
	p.i += n
	if p.i >= len(p.v) || p.v[p.i] != '"' {
		return 0, &SyntaxError{start, fmt.Sprintf("a string of %d bytes does not end where its length says", n)}
	}
	p.i++
	return start, nil
}

func (p *parser) str(start int, property bool) error {
	n, at := p.soundStr()
	if at < 0 {
		var err error
		if n, err = p.length(); err != nil {
			return err
		}
		if at, err = p.quoted(n); err != nil {
			return err
		}
		if err := p.expect(';'); err != nil {
			return err
		}
	}
	if property || !p.ask(at, at+n) {
		return nil
	}
	if s, ok := p.f.String(p.v[at : at+n]); ok {
		p.replace(start, "s:", len(s), `:"`, s, `";`)
	}
	return nil
}

// soundStr reads n:"…"; in one go, as nearly every string is. It returns -1 and
// reads nothing where anything is wrong.
func (p *parser) soundStr() (n, at int) {
	i := p.i
	for i < len(p.v) && i < p.i+9 && p.v[i] >= '0' && p.v[i] <= '9' {
		n = n*10 + int(p.v[i]-'0')
		i++
	}
	at = i + 2
	end := at + n
	if i == p.i || end+2 > len(p.v) || p.v[i] != ':' || p.v[i+1] != '"' || p.v[end] != '"' || p.v[end+1] != ';' {
		return 0, -1
	}
	p.i = end + 2
	return n, at
}

// ask reports whether f wants to see v[from:to].
func (p *parser) ask(from, to int) bool {
	if p.f == nil {
		return false
	}
	if p.matters < from {
		p.matters = p.f.Next(from)
	}
	return p.matters < to
}

// replace writes a new version of v[start:p.i] with a length set anew.
func (p *parser) replace(start int, head string, n int, open string, s []byte, end string) {
	if p.dst == nil {
		p.dst = make([]byte, 0, len(p.v)+len(p.v)/8+64)
	}
	p.dst = append(p.dst, p.v[p.copied:start]...)
	p.dst = append(p.dst, head...)
	p.dst = strconv.AppendInt(p.dst, int64(n), 10)
	p.dst = append(p.dst, open...)
	p.dst = append(p.dst, s...)
	p.dst = append(p.dst, end...)
	p.copied, p.changed = p.i, true
}

// escapedStr reads S:n:"…"; in which a byte may stand as a backslash and two
// hexadecimal digits. n counts the bytes meant.
func (p *parser) escapedStr(start int, property bool) error {
	n, err := p.length()
	if err != nil {
		return err
	}
	if err := p.expect('"'); err != nil {
		return err
	}
	if n > len(p.v)-p.i {
		return p.fail(fmt.Sprintf("a string of %d bytes runs over the end", n))
	}
	s := make([]byte, 0, n)
	for len(s) < n {
		if p.i >= len(p.v) {
			return p.fail("the value ends early")
		}
		c := p.v[p.i]
		p.i++
		if c == '\\' {
			if p.i+2 > len(p.v) {
				return p.fail("the value ends early")
			}
			b, err := strconv.ParseUint(string(p.v[p.i:p.i+2]), 16, 8)
			if err != nil {
				return p.fail("not two hexadecimal digits")
			}
			c = byte(b)
			p.i += 2
		}
		s = append(s, c)
	}
	if err := p.expect('"'); err != nil {
		return err
	}
	if err := p.expect(';'); err != nil {
		return err
	}
	if property || p.f == nil { // an escape may hide what matters
		return nil
	}
	if s, ok := p.f.String(s); ok {
		p.replace(start, "S:", len(s), `:"`, escape(s), `";`)
	}
	return nil
}

func escape(s []byte) []byte {
	var out []byte
	for _, c := range s {
		if c < ' ' || c > '~' || c == '\\' {
			out = fmt.Appendf(out, `\%02x`, c)
		} else {
			out = append(out, c)
		}
	}
	return out
}

// name reads n:"…": of a class.
func (p *parser) name() error {
	n, err := p.length()
	if err != nil {
		return err
	}
	if _, err := p.quoted(n); err != nil {
		return err
	}
	p.i++ // the colon, or for an enum the semicolon, which the caller checks
	if p.i > len(p.v) {
		return p.fail("the value ends early")
	}
	return nil
}

func (p *parser) members(object bool) error {
	if object && p.v[p.i-1] != ':' {
		return p.fail("a colon is missing after the class name")
	}
	n, err := p.length()
	if err != nil {
		return err
	}
	if n > len(p.v) { // each member takes several bytes
		return p.fail(fmt.Sprintf("%d members cannot fit", n))
	}
	p.stack = append(p.stack, level{2 * n, object})
	return p.expect('{')
}

// custom reads C:n:"class":m:{…}, whose m bytes the class itself defines.
func (p *parser) custom() error {
	if err := p.name(); err != nil {
		return err
	}
	head := p.i
	n, err := p.length()
	if err != nil {
		return err
	}
	if err := p.expect('{'); err != nil {
		return err
	}
	at := p.i
	if n > len(p.v)-at {
		return p.fail(fmt.Sprintf("%d bytes run over the end", n))
	}
	p.i += n
	if err := p.expect('}'); err != nil {
		return err
	}
	if payload := p.v[at : at+n]; p.ask(at, at+n) && Looks(payload) && Valid(payload) == nil {
		if s, ok := p.f.String(payload); ok {
			p.replace(head, "", len(s), ":{", s, "}")
		}
	}
	return nil
}
