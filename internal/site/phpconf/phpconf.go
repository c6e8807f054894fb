// Package phpconf reads and changes settings in PHP source: constants made
// with define or const, and variables set to a literal. It cuts the source
// into tokens as PHP does, so that comments, strings and heredocs mislead
// nobody; it runs nothing. A change replaces the bytes of one value and keeps
// every other byte.
package phpconf

import (
	"bytes"
	"fmt"
	"strings"
)

// File is a piece of PHP source with the settings found in it.
type File struct {
	src    []byte
	consts map[string]value
	vars   map[string]value
}

// value is a setting's value and where it stands.
type value struct {
	text     string
	known    bool // it is a literal or joins literals
	from, to int
}

// Parse reads source. The error says where it stops being PHP.
func Parse(src []byte) (*File, error) {
	f := &File{src: src, consts: map[string]value{}, vars: map[string]value{}}
	toks, err := tokens(src)
	if err != nil {
		return nil, err
	}
	for i := range toks {
		f.read(toks[i:])
	}
	return f, nil
}

// read takes a setting that begins with the first token.
func (f *File) read(t []token) {
	word := func(i int) string {
		if i < len(t) {
			return strings.ToLower(t[i].text(f.src))
		}
		return ""
	}
	switch {
	case t[0].kind == tWord && word(0) == "define" && word(1) == "(" && len(t) > 4 && t[2].kind == tString && word(3) == ",":
		name, ok := unquote(t[2].text(f.src))
		if v, n := f.expression(t[4:]); ok && n > 0 {
			keepFirst(f.consts, name, v)
		}
	case t[0].kind == tWord && word(0) == "const" && len(t) > 3 && word(2) == "=":
		if v, n := f.expression(t[3:]); n > 0 {
			keepFirst(f.consts, t[1].text(f.src), v)
		}
	case t[0].kind == tVar && len(t) > 2 && word(1) == "=":
		if v, n := f.expression(t[2:]); n > 0 {
			f.vars[t[0].text(f.src)[1:]] = v
		}
	}
}

// keepFirst sets a constant unless it is set: PHP ignores a second define.
func keepFirst(m map[string]value, name string, v value) {
	if _, ok := m[name]; !ok {
		m[name] = v
	}
}

// expression reads up to the comma, parenthesis or semicolon that ends a value.
func (f *File) expression(t []token) (v value, n int) {
	v.known = true
	depth := 0
	var b strings.Builder
	for n < len(t) {
		s := t[n].text(f.src)
		if depth == 0 && (s == ")" || s == ";" || s == ",") {
			break
		}
		switch {
		case s == "(" || s == "[":
			depth++
			v.known = false
		case s == ")" || s == "]":
			depth--
		case s == ".":
		case t[n].kind == tString:
			text, ok := unquote(s)
			v.known = v.known && ok
			b.WriteString(text)
		case t[n].kind == tNumber, t[n].kind == tWord && isLiteralWord(s):
			b.WriteString(s)
		default:
			v.known = false
		}
		n++
	}
	if n == 0 || n == len(t) {
		return v, 0
	}
	v.text, v.from, v.to = b.String(), t[0].from, t[n-1].to
	return v, n
}

func isLiteralWord(s string) bool {
	switch strings.ToLower(s) {
	case "true", "false", "null":
		return true
	}
	return false
}

// Const returns the value of a constant as text. ok is false if it is not
// defined or cannot be known without running PHP.
func (f *File) Const(name string) (text string, ok bool) {
	v, found := f.consts[name]
	return v.text, found && v.known
}

// Var returns the value of a variable, named without its dollar sign.
func (f *File) Var(name string) (text string, ok bool) {
	v, found := f.vars[name]
	return v.text, found && v.known
}

// Computed reports whether a constant is defined by an expression that only
// PHP can evaluate.
func (f *File) Computed(name string) bool {
	v, found := f.consts[name]
	return found && !v.known
}

// SetConst gives a constant a text value, in place; a constant that is not
// there is defined right behind the opening tag.
func (f *File) SetConst(name, text string) error {
	if v, ok := f.consts[name]; ok {
		return f.replace(v.from, v.to, quote(text))
	}
	return f.insert("define( " + quote(name) + ", " + quote(text) + " );\n")
}

// SetVar gives a variable a text value, in place, or sets it right behind the
// opening tag.
func (f *File) SetVar(name, text string) error {
	if v, ok := f.vars[name]; ok {
		return f.replace(v.from, v.to, quote(text))
	}
	return f.insert("$" + name + " = " + quote(text) + ";\n")
}

// Bytes gives the source as it is now.
func (f *File) Bytes() []byte { return f.src }

func (f *File) replace(from, to int, text string) error {
	src := append(append(bytes.Clone(f.src[:from]), text...), f.src[to:]...)
	g, err := Parse(src)
	if err != nil {
		return fmt.Errorf("change a setting: %w", err)
	}
	*f = *g
	return nil
}

func (f *File) insert(text string) error {
	at := bytes.Index(f.src, []byte("<?php"))
	if at < 0 {
		return fmt.Errorf("the file has no opening <?php")
	}
	at += len("<?php")
	if n := bytes.IndexByte(f.src[at:], '\n'); n >= 0 && len(bytes.TrimSpace(f.src[at:at+n])) == 0 {
		return f.replace(at+n+1, at+n+1, text)
	}
	return f.replace(at, at, "\n"+text)
}

// quote writes a single-quoted PHP string.
func quote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

// unquote reads a quoted string without interpolation. ok is false where a
// variable is put in.
func unquote(s string) (text string, ok bool) {
	if len(s) < 2 {
		return "", false
	}
	body := s[1 : len(s)-1]
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		c := body[i]
		switch {
		case c == '$' && s[0] == '"':
			return "", false
		case c != '\\' || i+1 == len(body):
			b.WriteByte(c)
		case body[i+1] == '\\' || body[i+1] == s[0]:
			i++
			b.WriteByte(body[i])
		case s[0] == '"' && strings.IndexByte("nrt$", body[i+1]) >= 0:
			i++
			b.WriteByte(map[byte]byte{'n': '\n', 'r': '\r', 't': '\t', '$': '$'}[body[i]])
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), true
}
