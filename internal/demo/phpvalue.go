package demo

import (
	"fmt"
	"strconv"
	"strings"
)

// The museum's widgets, menu and options are stored as PHP-serialized values,
// as old content systems do. This file writes and reads the few kinds it uses.

// pair is a key with its value, in order.
type pair struct {
	key   string
	value any
}

// list is a serialized array.
type list []pair

// serialize gives a value in PHP's format.
func serialize(v any) string {
	switch v := v.(type) {
	case nil:
		return "N;"
	case bool:
		if v {
			return "b:1;"
		}
		return "b:0;"
	case int:
		return fmt.Sprintf("i:%d;", v)
	case float64:
		return "d:" + strconv.FormatFloat(v, 'g', -1, 64) + ";"
	case string:
		return "s:" + strconv.Itoa(len(v)) + `:"` + v + `";`
	case list:
		var b strings.Builder
		fmt.Fprintf(&b, "a:%d:{", len(v))
		for _, p := range v {
			if n, err := strconv.Atoi(p.key); err == nil {
				b.WriteString(serialize(n))
			} else {
				b.WriteString(serialize(p.key))
			}
			b.WriteString(serialize(p.value))
		}
		return b.String() + "}"
	}
	panic(fmt.Sprintf("demo: no serialized form of %T", v)) // a mistake in this package
}

// unserialize reads what serialize writes.
func unserialize(s string) (any, error) {
	r := &phpReader{s: s}
	v, err := r.value()
	if err == nil && r.i != len(s) {
		err = fmt.Errorf("byte %d: more after the value", r.i)
	}
	return v, err
}

type phpReader struct {
	s string
	i int
}

// until reads up to the byte c and passes over it.
func (r *phpReader) until(c byte) (string, error) {
	n := strings.IndexByte(r.s[r.i:], c)
	if n < 0 {
		return "", fmt.Errorf("byte %d: %q is missing", r.i, c)
	}
	part := r.s[r.i : r.i+n]
	r.i += n + 1
	return part, nil
}

func (r *phpReader) value() (any, error) {
	if len(r.s)-r.i < 2 {
		return nil, fmt.Errorf("byte %d: the value ends early", r.i)
	}
	kind := r.s[r.i]
	r.i += 2
	switch kind {
	case 'N':
		return nil, nil
	case 'b', 'i', 'd':
		text, err := r.until(';')
		if err != nil {
			return nil, err
		}
		switch kind {
		case 'b':
			return text == "1", nil
		case 'i':
			return strconv.Atoi(text)
		}
		return strconv.ParseFloat(text, 64)
	case 's':
		n, err := r.count()
		if err != nil || r.i+n+3 > len(r.s) || r.s[r.i+n+1:r.i+n+3] != `";` {
			return nil, fmt.Errorf("byte %d: a string does not end where its length says", r.i)
		}
		text := r.s[r.i+1 : r.i+1+n]
		r.i += n + 3
		return text, nil
	case 'a':
		return r.list()
	}
	return nil, fmt.Errorf("byte %d: unknown kind %q", r.i-2, kind)
}

func (r *phpReader) count() (int, error) {
	text, err := r.until(':')
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(text)
}

func (r *phpReader) list() (any, error) {
	n, err := r.count()
	if err != nil {
		return nil, err
	}
	r.i++ // {
	var l list
	for range n {
		k, err := r.value()
		if err != nil {
			return nil, err
		}
		v, err := r.value()
		if err != nil {
			return nil, err
		}
		l = append(l, pair{fmt.Sprint(k), v})
	}
	if r.i >= len(r.s) || r.s[r.i] != '}' {
		return nil, fmt.Errorf("byte %d: the list has no end", r.i)
	}
	r.i++
	return l, nil
}

// get gives the value of a key as text.
func (l list) get(key string) string {
	for _, p := range l {
		if p.key == key {
			return fmt.Sprint(p.value)
		}
	}
	return ""
}
