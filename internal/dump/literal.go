package dump

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"regexp"
	"slices"
	"strconv"
	"unicode/utf8"

	"hovix/internal/database/sqltext"
)

// quoted passes over a literal in quotes.
func (s *scanner) quoted() error {
	kind := s.prefix()
	quote := s.buf[s.i]
	n := literalEnd(s.buf[s.i:], quote, kind == escaped)
	if n < 0 {
		var err error
		if n, err = s.find(func(t []byte) int { return literalEnd(t, quote, kind == escaped) }); err != nil {
			return err
		}
	}
	long := n >= 16+3 // shorter digits hold no address
	switch {
	case kind == otherKind:
		s.i += n
		return nil
	case kind == hexDigits && long:
		return s.piece(n, piece{kind: hexPiece, skip: 1})
	case kind != hexDigits && long && s.d == Postgres: // binary data: '\x6f6c64', or E'\\x6f6c64'
		if b := s.buf[s.i+1:]; b[0] == '\\' && b[1] == 'x' {
			return s.piece(n, piece{kind: hexPiece, skip: 3})
		} else if kind == escaped && b[0] == '\\' && b[1] == '\\' && b[2] == 'x' {
			return s.piece(n, piece{kind: hexPiece, skip: 4})
		}
	}
	isBytes := s.d == MySQL && (s.rows && s.column < len(s.raw) && s.raw[s.column] || s.introduced())
	if kind == hexDigits || n < 3 || !isBytes && !s.mentions(n) || s.buf[s.i+n-1] != quote {
		s.i += n
		return nil
	}
	return s.piece(n, piece{kind: textPiece, backslash: kind == escaped, cell: Cell{Bytes: isBytes}})
}

// What may stand before a literal in quotes.
const (
	plain = iota
	escaped
	hexDigits
	otherKind // bits, names
)

// prefix tells the kind of the literal that begins at i.
func (s *scanner) prefix() int {
	kind := plain
	if s.d == MySQL {
		kind = escaped
	}
	if s.i == 0 || s.i > 1 && isWord(s.buf[s.i-2]) {
		return kind
	}
	switch s.buf[s.i-1] {
	case 'x', 'X':
		return hexDigits
	case 'b', 'B':
		return otherKind
	case 'e', 'E':
		if s.d == Postgres {
			return escaped
		}
	}
	return kind
}

// introduced reports whether _binary stands before the literal at i. Its value and those
// of columns of bytes are all looked at: compressed ones mention nothing.
func (s *scanner) introduced() bool {
	const word = "_binary"
	b := bytes.TrimRight(s.buf[max(0, s.i-len(word)-2):s.i], " ")
	return bytes.HasSuffix(b, []byte(word))
}

// literalEnd gives the end of a literal at the beginning of t, -1 if it is not
// there yet.
func literalEnd(t []byte, quote byte, backslash bool) int {
	for i := 1; i < len(t); {
		n := bytes.IndexByte(t[i:], quote)
		if n < 0 {
			return -1
		}
		at := i + n
		if backslash {
			k := at
			for k > i && t[k-1] == '\\' {
				k--
			}
			if (at-k)%2 == 1 {
				i = at + 1
				continue
			}
		}
		if at+1 >= len(t) { // another quote may follow
			return -1
		}
		if t[at+1] != quote {
			return at + 1
		}
		i = at + 2
	}
	return -1
}

// text shows the text of a literal to the values, and gives the literal anew in
// its manner.
func (w *worker) text(lit []byte, p *piece) []byte {
	quote, raw := lit[0], lit[1:len(lit)-1]
	m := &w.manner
	*m = manner{quote: quote, backslash: p.backslash, marks: m.marks[:0]}
	v := raw
	nextQuote, nextEscape := indexFrom(raw, 0, quote), len(raw)
	if p.backslash {
		nextEscape = indexFrom(raw, 0, '\\')
	}
	if min(nextQuote, nextEscape) < len(raw) {
		w.decoded = m.decode(w.decoded[:0], raw, nextQuote, nextEscape)
		v = w.decoded
	}
	out, changed := w.vals.Value(p.cell, v)
	if !changed {
		return lit
	}
	w.encoded = m.again(w.encoded[:0], raw, v, out)
	return w.encoded
}

// manner is how a literal is written.
type manner struct {
	quote     byte
	backslash bool      // escapes count
	like      bool      // a backslash before % and _ stands for itself
	how       [256]byte // what stands behind the backslash; 0: none; doubled: for the quote
	marks     []int     // places in the text of what is written as two bytes
}

// maxMarks bounds the memory for them; a literal with more is written anew.
const maxMarks = 1 << 20

// doubled says that a quote is doubled, not escaped.
const doubled = 1

// decode appends the text that a literal means to v, and notes the manner of it.
// nextQuote and nextEscape are the places of the first quote and of the first
// backslash that counts, len(raw) if there is none.
func (m *manner) decode(v, raw []byte, nextQuote, nextEscape int) []byte {
	quote := m.quote
	for i := 0; ; {
		if nextQuote < i {
			nextQuote = indexFrom(raw, i, quote)
		}
		if nextEscape < i {
			nextEscape = indexFrom(raw, i, '\\')
		}
		at := min(nextQuote, nextEscape)
		if at+1 >= len(raw) {
			return append(v, raw[i:]...)
		}
		v = append(v, raw[i:at]...)
		i = at + 2
		c, e := raw[at], raw[at+1]
		switch {
		case c == quote && e == quote:
			m.how[quote] = doubled
		case c == quote: // no literal has it; it stands for itself
			v, i = append(v, c), at+1
			continue
		case e == '%' || e == '_':
			m.like = true
			v = append(v, c, e)
			continue
		default:
			if c = sqltext.Unescape(e); m.how[c] == 0 {
				m.how[c] = e
			}
		}
		if len(m.marks) < maxMarks {
			m.marks = append(m.marks, len(v))
		}
		v = append(v, c)
	}
}

// indexFrom gives the place of the first c in b at or behind from, len(b) if
// there is none.
func indexFrom(b []byte, from int, c byte) int {
	if n := bytes.IndexByte(b[from:], c); n >= 0 {
		return from + n
	}
	return len(b)
}

// again appends out as a literal, as encode does, where out is the changed text
// of raw, which decode has read as v. What both begin and end with is copied.
func (m *manner) again(dst, raw, v, out []byte) []byte {
	head := commonPrefix(v, out)
	tail := commonSuffix(v[head:], out[head:])
	// With \% a backslash must not be parted from what follows it.
	if m.like || len(m.marks) == maxMarks {
		return m.encode(dst, out)
	}
	from, _ := slices.BinarySearch(m.marks, head)
	to, _ := slices.BinarySearch(m.marks, len(v)-tail)
	dst = append(append(dst, m.quote), raw[:head+from]...)
	dst = m.escape(dst, out[head:len(out)-tail])
	return append(append(dst, raw[len(v)-tail+to:]...), m.quote)
}

func commonPrefix(a, b []byte) int {
	n := min(len(a), len(b))
	i := 0
	for i+8 <= n && binary.LittleEndian.Uint64(a[i:]) == binary.LittleEndian.Uint64(b[i:]) {
		i += 8
	}
	for i < n && a[i] == b[i] {
		i++
	}
	return i
}

func commonSuffix(a, b []byte) int {
	n := min(len(a), len(b))
	a, b = a[len(a)-n:], b[len(b)-n:]
	i := n
	for i >= 8 && binary.LittleEndian.Uint64(a[i-8:]) == binary.LittleEndian.Uint64(b[i-8:]) {
		i -= 8
	}
	for i > 0 && a[i-1] == b[i-1] {
		i--
	}
	return n - i
}

// encode appends v to dst as a literal.
func (m *manner) encode(dst, v []byte) []byte {
	return append(m.escape(append(dst, m.quote), v), m.quote)
}

// escape appends v as it stands between the quotes of a literal.
func (m *manner) escape(dst, v []byte) []byte {
	how := m.how
	if m.backslash && how['\\'] == 0 {
		how['\\'] = '\\'
	}
	if how[m.quote] == 0 {
		if how[m.quote] = doubled; m.backslash {
			how[m.quote] = m.quote
		}
	}
	last := 0
	for i, c := range v {
		h := how[c]
		if h == 0 || c == '\\' && m.like && i+1 < len(v) && (v[i+1] == '%' || v[i+1] == '_') {
			continue
		}
		dst = append(dst, v[last:i]...)
		last = i + 1
		if h == doubled {
			dst = append(dst, c, c)
		} else {
			dst = append(dst, '\\', h)
		}
	}
	return append(dst, v[last:]...)
}

// hex takes x'…' or 0x…, with p.skip bytes before the digits.
func (w *worker) hex(lit []byte, p *piece) []byte {
	digits := bytes.TrimSuffix(lit[p.skip:], []byte("'"))
	w.decoded = append(w.decoded[:0], make([]byte, len(digits)/2)...)
	v := w.decoded
	if _, err := hex.Decode(v, digits); err != nil {
		return lit
	}
	p.cell.Bytes = true
	out, changed := w.vals.Value(p.cell, v)
	if !changed {
		return lit
	}
	enc := hex.AppendEncode(nil, out)
	if bytes.ContainsAny(digits, "ABCDEF") {
		enc = bytes.ToUpper(enc)
	}
	return slices.Concat(lit[:p.skip], enc, lit[p.skip+len(digits):])
}

// hexNumber passes over 0x….
func (s *scanner) hexNumber() error {
	n, err := s.find(func(t []byte) int {
		for i := 2; i < len(t); i++ {
			if !isWord(t[i]) {
				return i
			}
		}
		return -1
	})
	if err != nil {
		return err
	}
	if n < 16+2 {
		s.i += n
		return nil
	}
	return s.piece(n, piece{kind: hexPiece, skip: 2})
}

// call passes over replace(…), in which SQLite's dump program writes texts with
// line breaks.
func (s *scanner) call() error {
	n, err := s.find(callEnd)
	if err != nil {
		return err
	}
	text := s.buf[s.i : s.i+n]
	if !s.mentions(n) {
		s.i += n
		return nil
	}
	if _, ok := sqltext.TextCall(text); !ok {
		s.i++ // what is inside is looked at as any other literal
		return nil
	}
	return s.piece(n, piece{kind: callPiece})
}

// call takes replace(…).
func (w *worker) call(text []byte, p *piece) []byte {
	v, _ := sqltext.TextCall(text)
	out, changed := w.vals.Value(p.cell, v)
	if !changed {
		return text
	}
	return encodeCall(text, out)
}

var placeholder = regexp.MustCompile(`'((?:[^']|'')*)',char\((\d+)\)`)

// encodeCall writes v as a call like the old one, with the same placeholders for
// line breaks, where that means v; as a cast otherwise. Line breaks themselves
// will not do: SQLite's client turns some into others.
func encodeCall(old, v []byte) []byte {
	at := bytes.IndexByte(old, '\'')
	end := at + literalEnd(old[at:], '\'', false)
	inner := v
	for _, p := range placeholder.FindAllSubmatch(old[end:], -1) {
		if n, err := strconv.Atoi(string(p[2])); err == nil && n < 128 {
			inner = bytes.ReplaceAll(inner, []byte{byte(n)}, p[1])
		}
	}
	m := manner{quote: '\''}
	out := append(m.encode(bytes.Clone(old[:at]), inner), old[end:]...)
	if again, ok := sqltext.TextCall(out); ok && bytes.Equal(again, v) && utf8.Valid(v) && bytes.IndexByte(v, 0) < 0 {
		return out
	}
	return append(sqltext.AppendHex([]byte("CAST("), v), " AS TEXT)"...)
}

// callEnd gives the end of a call at the beginning of t, behind the parenthesis
// that closes it.
func callEnd(t []byte) int {
	depth := 0
	for i := 0; i < len(t); i++ {
		switch t[i] {
		case '\'':
			n := literalEnd(t[i:], '\'', false)
			if n < 0 {
				return -1
			}
			i += n - 1
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}
