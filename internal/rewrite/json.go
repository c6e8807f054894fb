package rewrite

import (
	"bytes"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// holdsEscapedSerialized reports whether v may be a JSON document with a
// serialized value in one of its strings. All other JSON is text to the
// scanner, which knows escaped slashes.
func holdsEscapedSerialized(v []byte) bool {
	trimmed := bytes.TrimLeft(v, " \t\r\n")
	if len(trimmed) == 0 || trimmed[0] != '{' && trimmed[0] != '[' && trimmed[0] != '"' {
		return false
	}
	return bytes.Contains(v, []byte(`:\"`)) || bytes.Contains(v, []byte(`:\u0022`)) || bytes.Contains(v, []byte(`:\\`))
}

// json rewrites a JSON document string by string: a string that holds a
// serialized value or another document is decoded, rewritten and encoded again
// in the manner in which it stood; the rest is text. Bytes outside of changed
// strings stay as they were.
func (rw *Rewriter) json(v []byte, s scope) ([]byte, bool) {
	var out []byte
	copied, changed := 0, false
	for i := 0; i < len(v); {
		q := bytes.IndexByte(v[i:], '"')
		if q < 0 {
			break
		}
		start := i + q + 1
		end := stringEnd(v, start)
		if end < 0 {
			break
		}
		i = end + 1
		raw := v[start:end]
		if !rw.Mentions(raw) {
			continue
		}
		if str, ok := rw.jsonString(raw, s); ok {
			out = append(append(out, v[copied:start]...), str...)
			copied, changed = end, true
		}
	}
	// What is outside of the strings of a sound document mentions nothing; where
	// the document is torn, the rest is text.
	tail, more := rw.tailText(v, copied, s)
	if !changed && !more {
		return v, false
	}
	return append(out, tail...), true
}

// tailText rewrites what a document that ends inside a string leaves over.
func (rw *Rewriter) tailText(v []byte, from int, s scope) ([]byte, bool) {
	rest := v[from:]
	i := 0
	for i < len(rest) {
		q := bytes.IndexByte(rest[i:], '"')
		if q < 0 {
			return rest, false
		}
		end := stringEnd(rest, i+q+1)
		if end < 0 {
			torn := rest[i+q:]
			if !rw.Mentions(torn) {
				return rest, false
			}
			return rw.text(append([]byte(nil), rest[:i+q]...), torn, s)
		}
		i = end + 1
	}
	return rest, false
}

// stringEnd gives the place of the quote that ends the string from v[i:], or -1.
func stringEnd(v []byte, i int) int {
	for i < len(v) {
		switch v[i] {
		case '"':
			return i
		case '\\':
			i++
		}
		i++
	}
	return -1
}

func (rw *Rewriter) jsonString(raw []byte, s scope) ([]byte, bool) {
	plain, manner, ok := decodeString(raw)
	if !ok || bytes.IndexByte(raw, '\\') < 0 || !needsDecoding(plain) {
		return rw.text(nil, raw, s)
	}
	// Only a string that comes back byte for byte may be taken apart.
	if !bytes.Equal(manner.encode(nil, plain), raw) {
		return rw.text(nil, raw, s)
	}
	s.depth++
	out, changed := rw.value(nil, plain, s)
	if !changed {
		return raw, false
	}
	return manner.encode(nil, out), true
}

// needsDecoding reports whether a decoded string holds lengths that a change
// would break.
func needsDecoding(s []byte) bool {
	return looksSerialized(s) || holdsEscapedSerialized(s)
}

func looksSerialized(s []byte) bool {
	return len(s) > 3 && s[1] == ':' && plausible(s)
}

// manner is the way in which an encoder wrote the strings of a document.
type manner struct {
	slash    bool // escapes slashes
	unicode  bool // escapes what is not ASCII
	upper    bool // writes the digits of \u in capitals
	hexQuote bool // writes \u0022 for a quote
	hexAmp   bool // writes \u0026, \u003c, \u003e, \u0027
}

// decodeString decodes the inside of a JSON string (RFC 8259, section 7) and
// notes the manner in which it was written.
func decodeString(raw []byte) (out []byte, m manner, ok bool) {
	out = make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if c != '\\' {
			out = append(out, c)
			continue
		}
		if i++; i >= len(raw) {
			return nil, m, false
		}
		switch raw[i] {
		case '"', '\\':
			out = append(out, raw[i])
		case '/':
			m.slash = true
			out = append(out, '/')
		case 'b':
			out = append(out, '\b')
		case 'f':
			out = append(out, '\f')
		case 'n':
			out = append(out, '\n')
		case 'r':
			out = append(out, '\r')
		case 't':
			out = append(out, '\t')
		case 'u':
			r, n := decodeU(raw[i-1:])
			if n == 0 {
				return nil, m, false
			}
			m.note(raw[i+1:i+5], r)
			out = utf8.AppendRune(out, r)
			i += n - 2
		default:
			return nil, m, false
		}
	}
	return out, m, true
}

func (m *manner) note(digits []byte, r rune) {
	switch {
	case r == '"':
		m.hexQuote = true
	case r == '&' || r == '<' || r == '>' || r == '\'':
		m.hexAmp = true
	case r >= 0x80:
		m.unicode = true
	}
	m.upper = m.upper || bytes.ContainsAny(digits, "ABCDEF")
}

// decodeU reads \uXXXX, or two of them that make a pair, and tells how many
// bytes it took; 0 if it cannot.
func decodeU(b []byte) (rune, int) {
	one := func(b []byte) (rune, bool) {
		if len(b) < 6 || b[0] != '\\' || b[1] != 'u' {
			return 0, false
		}
		n, err := strconv.ParseUint(string(b[2:6]), 16, 32)
		return rune(n), err == nil
	}
	r, ok := one(b)
	if !ok {
		return 0, 0
	}
	if !utf16.IsSurrogate(r) {
		return r, 6
	}
	low, ok := one(b[6:])
	if r = utf16.DecodeRune(r, low); !ok || r == utf8.RuneError {
		return 0, 0
	}
	return r, 12
}

// encode appends s as the inside of a JSON string.
func (m manner) encode(dst, s []byte) []byte {
	for len(s) > 0 {
		r, n := utf8.DecodeRune(s)
		switch {
		case r == '"' && m.hexQuote:
			dst = m.appendU(dst, '"')
		case r == '"' || r == '\\':
			dst = append(dst, '\\', byte(r))
		case r == '/' && m.slash:
			dst = append(dst, '\\', '/')
		case r < ' ':
			if i := bytes.IndexByte([]byte("\b\f\n\r\t"), byte(r)); i >= 0 {
				dst = append(dst, '\\', "bfnrt"[i])
			} else {
				dst = m.appendU(dst, r)
			}
		case m.hexAmp && (r == '&' || r == '<' || r == '>' || r == '\''):
			dst = m.appendU(dst, r)
		case m.unicode && r >= 0x10000:
			hi, lo := utf16.EncodeRune(r)
			dst = m.appendU(m.appendU(dst, hi), lo)
		case m.unicode && r >= 0x80 && (r != utf8.RuneError || n > 1):
			dst = m.appendU(dst, r)
		default:
			dst = append(dst, s[:n]...)
		}
		s = s[n:]
	}
	return dst
}

func (m manner) appendU(dst []byte, r rune) []byte {
	digits := "0123456789abcdef"
	if m.upper {
		digits = "0123456789ABCDEF"
	}
	return append(dst, '\\', 'u', digits[r>>12&15], digits[r>>8&15], digits[r>>4&15], digits[r&15])
}
