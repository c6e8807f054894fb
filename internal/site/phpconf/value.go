package phpconf

import (
	"bytes"
	"strconv"
	"strings"
)

// kind is the kind of a value.
type kind int

const (
	unknown kind = iota // only PHP could tell
	null
	boolean
	number
	text
	array
)

// value is what an expression means, and where it stands.
type value struct {
	kind     kind
	s        string    // as text: of booleans "true" and "false", of null "null"
	list     []element // of an array
	size     int       // of an array: its elements, with those of arrays in it
	why      string    // unknown: what it needs
	missing  bool      // unknown, because it is not there
	maybe    bool      // it is set under a condition that is not decided
	src      *source
	from, to int // in src
}

type element struct {
	key string
	val value
}

func unknownOf(why string) value { return value{why: why[:min(len(why), maxWhy)]} }

// maxWhy bounds a reason, in bytes: reasons of several values are joined.
const maxWhy = 300

func textOf(s string) value { return value{kind: text, s: s} }

func boolOf(b bool) value {
	return value{kind: boolean, s: strconv.FormatBool(b)}
}

// truth gives what a condition makes of the value.
func (v value) truth() (is, known bool) {
	switch v.kind {
	case unknown:
		return false, v.missing
	case null:
		return false, true
	case boolean:
		return v.s == "true", true
	case number:
		f, err := strconv.ParseFloat(v.s, 64)
		return f != 0, err == nil
	case text:
		return v.s != "" && v.s != "0", true
	case array:
		return len(v.list) > 0, true
	}
	return false, false
}

// asText gives the value as it is joined to a text.
func (v value) asText() (string, bool) {
	switch v.kind {
	case null:
		return "", true
	case boolean:
		if v.s == "true" {
			return "1", true
		}
		return "", true
	case number, text:
		return v.s, true
	}
	return "", false
}

// at gives the element under a key.
func (v value) at(key string) (value, bool) {
	for i := len(v.list) - 1; i >= 0; i-- {
		if v.list[i].key == key {
			return v.list[i].val, true
		}
	}
	return value{}, false
}

// set puts an element under a key, or the next number if key is "".
func (v *value) set(key string, e value) {
	list := append([]element(nil), v.list...)
	if key == "" {
		key = strconv.Itoa(nextIndex(list))
	}
	v.kind = array
	for i := range list {
		if list[i].key == key {
			v.size += e.size - list[i].val.size
			list[i].val = e
			v.list = list
			return
		}
	}
	v.size += 1 + e.size
	v.list = append(list, element{key, e})
}

func nextIndex(list []element) int {
	n := 0
	for _, e := range list {
		if i, err := strconv.Atoi(e.key); err == nil && i >= n {
			n = i + 1
		}
	}
	return n
}

// quote writes a single-quoted PHP string.
func quote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

// unescape reads the inside of a string with escapes, as between double quotes
// or in a heredoc; quote is the byte that is escaped there, 0 for none.
func unescape(s string, quote byte) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c != '\\' || i+1 == len(s) {
			b.WriteByte(c)
			continue
		}
		i++
		switch c = s[i]; {
		case c == quote, c == '\\', c == '$':
			b.WriteByte(c)
		case strings.IndexByte("nrtvef", c) >= 0:
			b.WriteByte(map[byte]byte{'n': '\n', 'r': '\r', 't': '\t', 'v': '\v', 'e': 0x1b, 'f': '\f'}[c])
		case c == 'x' && hexLength(s[i+1:], 2) > 0:
			n := hexLength(s[i+1:], 2)
			v, _ := strconv.ParseUint(s[i+1:i+1+n], 16, 8)
			b.WriteByte(byte(v))
			i += n
		case c == 'u' && i+1 < len(s) && s[i+1] == '{' && strings.IndexByte(s[i:], '}') > 2:
			end := i + strings.IndexByte(s[i:], '}')
			if v, err := strconv.ParseUint(s[i+2:end], 16, 32); err == nil {
				b.WriteRune(rune(v))
				i = end
				continue
			}
			b.WriteString(`\u`)
		case c >= '0' && c <= '7':
			n := 1
			for n < 3 && i+n < len(s) && s[i+n] >= '0' && s[i+n] <= '7' {
				n++
			}
			v, _ := strconv.ParseUint(s[i:i+n], 8, 16)
			b.WriteByte(byte(v))
			i += n - 1
		default:
			b.WriteByte('\\')
			b.WriteByte(c)
		}
	}
	return b.String()
}

func hexLength(s string, most int) int {
	n := 0
	for n < most && n < len(s) && strings.IndexByte("0123456789abcdefABCDEF", s[n]) >= 0 {
		n++
	}
	return n
}

// unescapeSingle reads the inside of a string in single quotes.
func unescapeSingle(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) && (s[i+1] == '\\' || s[i+1] == '\'') {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// heredocText gives the text of a heredoc without the indentation of its end,
// and whether it stands as it is.
func heredocText(b []byte) (s string, raw bool) {
	_, raw, body, last, _ := heredocParts(b)
	if body >= last {
		return "", raw
	}
	indent := len(b[last:]) - len(bytes.TrimLeft(b[last:], " \t"))
	lines := strings.Split(strings.TrimSuffix(strings.TrimSuffix(string(b[body:last]), "\n"), "\r"), "\n")
	for i, l := range lines {
		lines[i] = l[min(len(l)-len(strings.TrimLeft(l, " \t")), indent):]
	}
	return strings.Join(lines, "\n"), raw
}
