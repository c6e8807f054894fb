package keyfile

import (
	"strings"
)

// lines calls f for each line with its place, until f returns true.
func lines(s string, f func(line string, at int) bool) {
	for at := 0; at < len(s); {
		n := strings.IndexByte(s[at:], '\n')
		end := at + n + 1
		if n < 0 {
			end = len(s)
		}
		if f(strings.TrimRight(s[at:end], "\r\n"), at) {
			return
		}
		at = end
	}
}

// findEnv finds the last NAME=value, as shells do.
func findEnv(s, key string) (v value, err error) {
	err = ErrNoKey
	lines(s, func(line string, at int) bool {
		body := strings.TrimLeft(line, " \t")
		at += len(line) - len(body)
		if rest, ok := strings.CutPrefix(body, "export "); ok {
			at += len(body) - len(rest)
			body = rest
		}
		name, rest, ok := strings.Cut(body, "=")
		if !ok || strings.TrimSpace(name) != key {
			return false
		}
		from := at + len(name) + 1
		v, err = scalar(rest, from, envStyle), nil
		return false
	})
	return v, err
}

// style says how texts are written in a format.
type style struct {
	comments string // what begins a comment behind a value
	spaced   bool   // only with space before it
	bare     func(text string) bool
	double   func(text string) string
	single   func(text string) (string, bool) // false: it cannot hold the text
	unescape func(text string) string         // of the inside of double quotes
}

// scalar reads a value at the beginning of rest, which stands at from.
func scalar(rest string, from int, st style) value {
	body := strings.TrimLeft(rest, " \t")
	from += len(rest) - len(body)
	v := value{from: from, write: st.plain}
	if body != "" && (body[0] == '"' || body[0] == '\'') {
		if n := closing(body); n > 0 {
			inside := body[1 : n-1]
			v.to = from + n
			if body[0] == '"' {
				v.text, v.write = st.unescape(inside), st.double
				return v
			}
			v.text = inside
			v.write = func(t string) string {
				if s, ok := st.single(t); ok {
					return s
				}
				return st.double(t)
			}
			return v
		}
	}
	end := len(body)
	for i := range len(body) {
		if strings.IndexByte(st.comments, body[i]) >= 0 && (!st.spaced || i == 0 || body[i-1] == ' ' || body[i-1] == '\t') {
			end = i
			break
		}
	}
	v.text = strings.TrimRight(body[:end], " \t")
	v.to = from + len(v.text)
	return v
}

func (st style) plain(t string) string {
	if st.bare(t) {
		return t
	}
	return st.double(t)
}

// closing gives the length of a quoted text at the beginning of s, 0 if it does
// not end. Double quotes can be escaped.
func closing(s string) int {
	for i := 1; i < len(s); i++ {
		switch {
		case s[0] == '"' && s[i] == '\\':
			i++
		case s[i] == s[0]:
			return i + 1
		}
	}
	return 0
}

func simple(t string) bool {
	return strings.Trim(t, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:@+,") == ""
}

func escaped(t string, these string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(t) {
		if t[i] == '\n' {
			b.WriteString(`\n`)
			continue
		}
		if strings.IndexByte(these, t[i]) >= 0 {
			b.WriteByte('\\')
		}
		b.WriteByte(t[i])
	}
	b.WriteByte('"')
	return b.String()
}

func unescaped(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
			if s[i] == 'n' {
				b.WriteByte('\n')
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

func singleQuoted(t string) (string, bool) {
	return "'" + t + "'", !strings.ContainsAny(t, "'\n")
}

var (
	envStyle = style{"#", true, simple, func(t string) string { return escaped(t, "\"\\$`") }, singleQuoted, unescaped}
	iniStyle = style{";", true, func(t string) bool {
		return simple(t) || !strings.ContainsAny(t, "\"';#\n\\") && strings.TrimSpace(t) == t
	}, func(t string) string { return escaped(t, "\"\\") }, singleQuoted, unescaped}
	tomlStyle = style{"#", false, func(t string) bool { return false }, func(t string) string { return escaped(t, "\"\\") }, singleQuoted, unescaped}
)

// findINI finds section.key, or key before the first section.
func findINI(s, key string, toml bool) (v value, err error) {
	section, st, err := "", iniStyle, ErrNoKey
	if toml {
		st = tomlStyle
	}
	lines(s, func(line string, at int) bool {
		body := strings.TrimLeft(line, " \t")
		at += len(line) - len(body)
		switch {
		case body == "", body[0] == '#', body[0] == ';':
			return false
		case body[0] == '[':
			if n := strings.IndexByte(body, ']'); n > 0 {
				section = strings.TrimSpace(body[1:n]) + "."
			}
			return false
		}
		n := strings.IndexAny(body, "=:")
		if toml {
			n = strings.IndexByte(body, '=')
		}
		if n < 0 || section+strings.Trim(strings.TrimSpace(body[:n]), `"'`) != key {
			return false
		}
		v, err = scalar(body[n+1:], at+n+1, st), nil
		return true
	})
	return v, err
}
