package sqltext

import (
	"bytes"
	"errors"
)

// AppendTabbed appends the rows of an INSERT statement of MariaDB and MySQL to dst as
// LOAD DATA reads them by default (MariaDB's reference, LOAD DATA INFILE): a line for
// each row, tabs between the values, \N for NULL. numbers tells of each column whether it
// holds numbers. ok is false where a value would not mean the same in that form: a
// number in a column of texts, a text in one of numbers, an introducer other than
// _binary, a bit value.
func (ins *Insert) AppendTabbed(dst, stmt []byte, numbers []bool) (out []byte, rows int64, ok bool) {
	r := rowReader{Lexer: Lexer{text: stmt, pos: ins.values, d: MySQL}}
	r.take = func(column int) error {
		if column >= len(numbers) {
			return errNotTabbed
		}
		if column > 0 {
			dst = append(dst, '\t')
		}
		if dst, ok = r.appendTabbed(dst, numbers[column]); !ok {
			return errNotTabbed
		}
		return nil
	}
	err := r.rows(len(numbers), func(int) error {
		dst = append(dst, '\n')
		return nil
	})
	if err != nil || len(bytes.TrimSpace(stmt[r.end:])) > 0 {
		return nil, 0, false
	}
	return dst, r.count, true
}

var errNotTabbed = errors.New("a value means something else to LOAD DATA")

// appendTabbed appends the next value.
func (r *rowReader) appendTabbed(dst []byte, number bool) ([]byte, bool) {
	if from := r.pos; number && r.simple() {
		if r.text[from] == 'N' {
			return append(dst, `\N`...), true
		}
		return append(dst, r.text[from:r.pos]...), true
	}
	t, err := r.Skip()
	switch {
	case err != nil:
	case t.Is("NULL"):
		return append(dst, `\N`...), true
	case number:
		if t.Kind == Punct && t.Text[0] == '-' {
			dst = append(dst, '-')
			t, err = r.Skip()
		}
		return append(dst, t.Text...), err == nil && t.Kind == Number
	case t.Is("_binary"):
		t, err = r.Skip()
		return appendTabbedText(dst, t), err == nil && t.Kind == String
	case t.Kind == String:
		return appendTabbedText(dst, t), true
	case t.Kind == Bytes:
		v, err := unhex(nil, t.Text)
		return appendEscaped(dst, v), err == nil
	}
	return nil, false
}

// apart are the bytes that do not mean themselves in a quoted text, or in a value of
// LOAD DATA.
var apart = [256]bool{'\t': true, '\n': true, '\\': true, '\'': true, '"': true}

// appendTabbedText appends what a String token means. Most escapes mean the same in
// both forms.
func appendTabbedText(dst []byte, t Token) []byte {
	if t.Kind != String {
		return dst
	}
	quote, b := t.Text[0], t.Text[1:len(t.Text)-1]
	last := 0
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case !apart[c]:
			continue
		case c == '\t', c == '\n':
			dst = append(append(dst, b[last:i]...), '\\', c)
		case c == '\\':
			dst = append(dst, b[last:i]...)
			i++
			switch c = b[i]; c {
			case '%', '_': // these keep their backslash
				dst = append(dst, '\\', '\\', c)
			case 'N': // means NULL, if it stands alone
				dst = append(dst, c)
			default:
				dst = append(dst, '\\', c)
			}
		case c == quote: // doubled
			dst = append(dst, b[last:i+1]...)
			i++
		default: // the other quote
			continue
		}
		last = i + 1
	}
	return append(dst, b[last:]...)
}

// appendEscaped appends bytes as a value of LOAD DATA.
func appendEscaped(dst, b []byte) []byte {
	for {
		i := bytes.IndexAny(b, "\t\n\\")
		if i < 0 {
			return append(dst, b...)
		}
		dst = append(append(dst, b[:i]...), '\\', b[i])
		b = b[i+1:]
	}
}
