package sqltext

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// The rows of COPY in text format (the PostgreSQL manual, COPY, File Formats): a
// line a row, tabs between columns, \N for NULL, \. at the end.

// copyEnd is the line that ends the rows of COPY.
var copyEnd = []byte(`\.`)

// parseCopy reads COPY table (columns) FROM stdin; and finds its rows.
func parseCopy(stmt []byte) (*Insert, error) {
	l := NewLexer(stmt, Postgres)
	bad := func(t Token) error {
		return fmt.Errorf("%w: COPY … FROM stdin was expected, and %.40q stands at byte %d", ErrRefused, t.Text, t.At)
	}
	t, err := l.Skip()
	if err != nil || !t.Is("COPY") {
		return nil, bad(t)
	}
	ins := &Insert{copy: true}
	if t, err = l.Skip(); err != nil {
		return nil, bad(t)
	}
	if ins.Table, t, err = relationOf(l, t); err != nil {
		return nil, err
	}
	if string(t.Text) == "(" {
		if ins.Columns, err = columnList(l, Postgres); err != nil {
			return nil, err
		}
		if t, err = l.Skip(); err != nil {
			return nil, bad(t)
		}
	}
	for _, w := range []string{"FROM", "stdin", ";"} {
		if err != nil || !strings.EqualFold(string(t.Text), w) {
			return nil, bad(t)
		}
		if w != ";" {
			t, err = l.Skip()
		}
	}
	rows, ok := bytes.CutPrefix(stmt[l.pos:], []byte("\n"))
	rows, ended := bytes.CutSuffix(rows, copyEnd)
	if !ok || !ended || len(rows) > 0 && rows[len(rows)-1] != '\n' {
		return nil, fmt.Errorf("%w: the rows of %s have no end", ErrRefused, ins.Table)
	}
	if bytes.Contains(rows, []byte("\n\\.\n")) || bytes.HasPrefix(rows, []byte("\\.\n")) {
		return nil, fmt.Errorf("%w: the rows of %s end before their end", ErrRefused, ins.Table)
	}
	ins.values, ins.end = l.pos+1, l.pos+1+len(rows)
	return ins, nil
}

// appendCopyRows appends the statement into another table with the values that
// rewrite changes. What it gives ends with the last row.
func (ins *Insert) appendCopyRows(dst, stmt []byte, target string, rewrite Rewrite, places Places) ([]byte, int64, error) {
	dst = append(ins.appendHead(append(dst, "COPY "...), target, Postgres), " FROM stdin;\n"...)
	rows := stmt[ins.values:ins.end]
	n := int64(bytes.Count(rows, []byte("\n")))
	if rewrite == nil {
		return append(dst, rows...), n, nil
	}
	at := ins.values
	for len(rows) > 0 {
		end := bytes.IndexByte(rows, '\n')
		if places != nil && places(at) >= at+end && !bytes.Contains(rows[:end], []byte(`\\x`)) { // bytea hides what it means
			dst, rows, at = append(dst, rows[:end+1]...), rows[end+1:], at+end+1
			continue
		}
		at += end + 1
		if ins.Begin != nil {
			ins.Begin(rows[:end])
		}
		var err error
		if dst, err = appendCopyRow(dst, rows[:end], rewrite); err != nil {
			return nil, 0, fmt.Errorf("rows of %s: %w", ins.Table, err)
		}
		rows = rows[end+1:]
	}
	return dst, n, nil
}

// CutCopy cuts what AppendInsert gives for COPY into its head, without the
// semicolon, and its rows.
func CutCopy(stmt []byte) (head string, rows []byte) {
	l := NewLexer(stmt, Postgres)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return string(stmt), nil
		}
		if string(t.Text) == ";" {
			return string(stmt[:t.At]), bytes.TrimPrefix(stmt[l.pos:], []byte("\n"))
		}
	}
}

// appendCopyRow appends one row.
func appendCopyRow(dst, row []byte, rewrite Rewrite) ([]byte, error) {
	column := 0
	for field := range bytes.SplitSeq(row, []byte{'\t'}) {
		if column > 0 {
			dst = append(dst, '\t')
		}
		raw, decode := field, func() ([]byte, error) { return UnescapeCopy(nil, field), nil }
		digits, binary := bytes.CutPrefix(field, []byte(`\\x`))
		if binary && len(digits)%2 == 0 {
			if v, err := hex.AppendDecode(nil, digits); err == nil {
				raw, decode = v, func() ([]byte, error) { return v, nil }
			} else {
				binary = false
			}
		}
		v, changed, err := rewrite(column, raw, binary, decode)
		switch {
		case err != nil:
			return nil, err
		case !changed:
			dst = append(dst, field...)
		case binary:
			dst = hex.AppendEncode(append(dst, `\\x`...), v)
		default:
			dst = AppendCopy(dst, v)
		}
		column++
	}
	return append(dst, '\n'), nil
}

// UnescapeCopy appends what a field of COPY means.
func UnescapeCopy(dst, field []byte) []byte {
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c != '\\' || i+1 >= len(field) {
			dst = append(dst, c)
			continue
		}
		var n int
		c, n = unescapeC(field[i+1:])
		dst = append(dst, c)
		i += n
	}
	return dst
}

// unescapeC gives the byte that is meant behind a backslash, in COPY and in E'…',
// and how many bytes of b tell it.
func unescapeC(b []byte) (c byte, n int) {
	c, n = b[0], 1
	switch {
	case c == 'b':
		c = '\b'
	case c == 'f':
		c = '\f'
	case c == 'n':
		c = '\n'
	case c == 'r':
		c = '\r'
	case c == 't':
		c = '\t'
	case c == 'v':
		c = '\v'
	case c >= '0' && c <= '7':
		for c, n = 0, 0; n < 3 && n < len(b) && b[n] >= '0' && b[n] <= '7'; n++ {
			c = c*8 + b[n] - '0'
		}
	case c == 'x' && len(b) > 1 && hexValue(b[1]) < 16:
		for c, n = 0, 1; n < 3 && n < len(b) && hexValue(b[n]) < 16; n++ {
			c = c*16 + hexValue(b[n])
		}
	}
	return c, n
}

// unescapePostgres appends what the inside of E'…' means.
func unescapePostgres(dst, b []byte) ([]byte, error) {
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case c == '\'':
			i++ // doubled
		case c == '\\' && i+1 < len(b) && (b[i+1] == 'u' || b[i+1] == 'U'):
			digits := 4
			if b[i+1] == 'U' {
				digits = 8
			}
			r := rune(0)
			for k := range digits {
				if i+2+k >= len(b) || hexValue(b[i+2+k]) > 15 {
					return nil, fmt.Errorf("%w: %.40q is no escape", ErrRefused, b[i:])
				}
				r = r<<4 | rune(hexValue(b[i+2+k]))
			}
			dst = utf8.AppendRune(dst, r)
			i += digits + 1
			continue
		case c == '\\' && i+1 < len(b):
			var n int
			c, n = unescapeC(b[i+1:])
			i += n
		}
		dst = append(dst, c)
	}
	return dst, nil
}

// copyEscape is what COPY writes behind a backslash for a byte; 0: the byte as
// it is.
var copyEscape = [256]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '\v': 'v', '\\': '\\'}

// AppendCopy appends a field as PostgreSQL itself writes it.
func AppendCopy(dst, v []byte) []byte {
	for _, c := range v {
		if e := copyEscape[c]; e != 0 {
			dst = append(dst, '\\', e)
		} else {
			dst = append(dst, c)
		}
	}
	return dst
}
