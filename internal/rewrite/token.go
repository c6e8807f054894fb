package rewrite

import (
	"bytes"
	"unicode"
	"unicode/utf8"
)

// style is the spelling of the punctuation of an address where it stands: the
// bytes that stand for a slash, and the form to which they belong.
type style struct {
	slash []byte
	form  Form
}

// slashBefore reads the spelling of a slash that ends at v[:end]. It returns
// nil if there is none.
func slashBefore(v []byte, end int) ([]byte, Form) {
	if end == 0 {
		return nil, 0
	}
	switch v[end-1] {
	case '/':
		i := end - 1
		for i > 0 && v[i-1] == '\\' {
			i--
		}
		if i < end-1 {
			return v[i:end], FormJSON
		}
		return v[i:end], FormPlain
	case 'F', 'f':
		if end >= 3 && v[end-2] == '2' {
			if i := percentBefore(v, end-2); i >= 0 {
				return v[i:end], FormPercent
			}
			// \u002f, with as many backslashes as the nesting asks for
			if end >= 6 && bytes.EqualFold(v[end-5:end-2], []byte("u00")) && v[end-6] == '\\' {
				i := end - 6
				for i > 0 && v[i-1] == '\\' {
					i--
				}
				return v[i:end], FormJSON
			}
		}
	case ';':
		for _, e := range [...]string{"&#47;", "&#x2f;", "&sol;", "&#047;", "&#x2F;"} {
			if n := end - len(e); n >= 0 && bytes.EqualFold(v[n:end], []byte(e)) {
				return v[n:end], FormEntity
			}
		}
	}
	return nil, 0
}

// percentBefore gives the place of a percent sign, encoded any number of times
// (%, %25, %2525 …), that ends at v[:end], or -1.
func percentBefore(v []byte, end int) int {
	i := end
	for i >= 2 && v[i-1] == '5' && v[i-2] == '2' {
		i -= 2
	}
	if i >= 1 && v[i-1] == '%' {
		return i - 1
	}
	return -1
}

// colon gives the spelling of a colon that goes with s, in the letter case that
// the rest suggests.
func (s style) colon() []byte {
	switch s.form {
	case FormPercent:
		c := append([]byte(nil), s.slash[:len(s.slash)-2]...)
		if s.slash[len(s.slash)-1] == 'F' {
			return append(c, "3A"...)
		}
		return append(c, "3a"...)
	}
	return []byte(":")
}

// colons are the spellings of a colon in the style s, but for the colon itself.
func (s style) colons() []string {
	switch s.form {
	case FormPercent:
		return []string{string(s.slash[:len(s.slash)-2]) + "3a"}
	case FormEntity:
		return []string{"&#58;", "&#x3a;", "&colon;", "&#058;"}
	case FormJSON:
		return []string{`\u003a`}
	}
	return nil
}

// portColon gives the colon of a port that is put in: like that of the scheme, where
// there is one.
func (m *match) portColon() []byte {
	if m.colon != nil {
		return m.colon
	}
	return m.style.colon()
}

// colonBefore reads the spelling of a colon in the style s that ends at v[:end].
func (s style) colonBefore(v []byte, end int) []byte {
	if end > 0 && v[end-1] == ':' {
		return v[end-1 : end]
	}
	for _, f := range s.colons() {
		if n := end - len(f); n >= 0 && bytes.EqualFold(v[n:end], []byte(f)) {
			return v[n:end]
		}
	}
	return nil
}

// colonAfter reads a colon in the style s at v[at:].
func (s style) colonAfter(v []byte, at int) []byte {
	if at < len(v) && v[at] == ':' {
		return v[at : at+1]
	}
	for _, c := range s.colons() {
		if n := len(c); len(v)-at >= n && bytes.EqualFold(v[at:at+n], []byte(c)) {
			return v[at : at+n]
		}
	}
	return nil
}

// slashAfter reads a slash at v[at:] that is spelled as in s, letter case and
// the number of backslashes apart.
func (s style) slashAfter(v []byte, at int) []byte {
	if n := len(s.slash); len(v)-at >= n && bytes.EqualFold(v[at:at+n], s.slash) {
		return v[at : at+n]
	}
	if at < len(v) && v[at] == '/' {
		return v[at : at+1]
	}
	return nil
}

// boundaryBefore reports whether a word can begin at v[i]: nothing before it
// belongs to it. Letters that are part of an escape, such as the n of \n and
// the digits of %3D or \u003d, do not.
func boundaryBefore(v []byte, i int) bool {
	if i == 0 {
		return true
	}
	c := v[i-1]
	if !isAlnum(c) && c != '+' && c != '-' && c != '.' && c != '_' {
		return true
	}
	if i >= 2 && v[i-2] == '\\' && bytes.IndexByte([]byte("ntrbfv"), c) >= 0 {
		return true
	}
	if i >= 3 && isHex(c) && isHex(v[i-2]) && percentBefore(v, i-2) >= 0 {
		return true
	}
	return i >= 6 && v[i-6] == '\\' && v[i-5] == 'u' && isHex(c) && isHex(v[i-2]) && isHex(v[i-3]) && isHex(v[i-4])
}

// endsHost reports whether a host name that ends at v[:i] is complete: neither
// a letter nor a further label follows.
func endsHost(v []byte, i int) bool {
	if i >= len(v) {
		return true
	}
	switch c := v[i]; {
	case isAlnum(c), c == '-', c == '_':
		return false
	case c == '.':
		return i+1 >= len(v) || !isAlnum(v[i+1])
	case c >= 0x80:
		return endsBeforeLetter(v, i)
	}
	return true
}

// wordAt reads a letter, a digit or a sign upon one, beyond ASCII or in it, at v[i:].
// What is no UTF-8 counts as a letter: those of other charsets are.
func wordAt(v []byte, i int) (r rune, size int, is bool) {
	r, size = utf8.DecodeRune(v[i:])
	return r, size, r == utf8.RuneError && size == 1 || unicode.In(r, unicode.L, unicode.N, unicode.M)
}

// endsBeforeLetter reports whether a host name ends although something beyond ASCII
// follows at v[i:]: no punctuation belongs to it, and no last label of a registered name has
// letters of ASCII beside those of another script.
func endsBeforeLetter(v []byte, i int) bool {
	r, size, word := wordAt(v, i)
	if r == '。' || r == '．' || r == '｡' { // full stops of names, too (RFC 3490, section 3.1)
		return i+size >= len(v) || !isAlnum(v[i+size])
	}
	if !word {
		return true
	}
	if r == utf8.RuneError || unicode.In(r, unicode.Latin, unicode.M) || i > 0 && v[i-1] >= 0x80 {
		return false
	}
	for is := true; is && i < len(v); i += size {
		if v[i] == '-' {
			size = 1
		} else if _, size, is = wordAt(v, i); !is {
			break
		}
	}
	if i+1 >= len(v) || v[i] != '.' {
		return true
	}
	_, _, more := wordAt(v, i+1)
	return !more
}

// slashAt reads the spelling of a slash at v[at:], nil if there is none.
func slashAt(v []byte, at int) ([]byte, Form) {
	i := at
	for i < len(v) && v[i] == '\\' {
		i++
	}
	switch {
	case i < len(v) && v[i] == '/' && i > at:
		return v[at : i+1], FormJSON
	case i < len(v) && v[i] == '/':
		return v[at : i+1], FormPlain
	case i == at && len(v) >= at+3 && bytes.EqualFold(v[at:at+3], []byte("%2f")):
		return v[at : at+3], FormPercent
	}
	return nil, 0
}

// endsPath reports whether a base path or folder that ends at v[:i] is
// complete: a slash or something that is no part of a path segment follows.
func (s style) endsPath(v []byte, i int) bool {
	if i >= len(v) || s.slashAfter(v, i) != nil {
		return true
	}
	switch c := v[i]; {
	case isAlnum(c), c == '-', c == '_', c == '~':
		return false
	case c >= 0x80:
		_, _, word := wordAt(v, i)
		return !word
	case c == '%':
		if s.form != FormPercent {
			return false
		}
		// an encoded separator (%22, %26, %3F …) ends the path, an encoded letter does not
		e := v[i+1:]
		for len(e) >= 2 && e[0] == '2' && e[1] == '5' {
			e = e[2:]
		}
		return len(e) >= 2 && (e[0] == '2' && e[1] != 'd' && e[1] != 'D' && e[1] != 'e' && e[1] != 'E' || e[0] == '3' && !(e[1] >= '0' && e[1] <= '9'))
	case c == '.':
		return i+1 >= len(v) || !isAlnum(v[i+1])
	}
	return true
}
