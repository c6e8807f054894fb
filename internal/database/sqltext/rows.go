package sqltext

import (
	"bytes"
	"fmt"
)

// EachRow gives the rows of an INSERT statement one by one: the values of each as
// they stand between its parentheses. Each text without an
// introducer is shown to introduce, if that is not nil, as it stands in its
// quotes, and gets the introducer that it gives, such as _binary. What row is
// given is valid during the call only.
func (ins *Insert) EachRow(stmt []byte, d Dialect, introduce func(column int, raw []byte) string, row func(values []byte) error) error {
	r := rowReader{Lexer: Lexer{text: stmt, pos: ins.values, d: d}, introduce: introduce}
	err := r.rows(len(ins.Columns), func(from int) error {
		if len(r.dst) == 0 { // the usual case, which needs no copy
			return row(stmt[from : r.pos-1])
		}
		return row(append(r.dst, stmt[r.copied:r.pos-1]...))
	})
	if err != nil {
		return fmt.Errorf("rows of %s: %w", ins.Table, err)
	}
	return nil
}

// Values gives the values of a row that EachRow gave, each as it stands.
func Values(row []byte, d Dialect) (values [][]byte, err error) {
	l := NewLexer(row, d)
	from := 0
	for {
		t, err := l.Skip()
		if err != nil {
			return nil, err
		}
		if t.Kind == End || t.Kind == Punct && t.Text[0] == ',' {
			values = append(values, row[from:t.At])
			from = l.pos
		}
		if t.Kind == End {
			return values, nil
		}
	}
}

// Fields gives what the values of a row mean that EachRow gave, or a line of COPY: the bytes of
// texts, numbers as they stand, nil for NULL.
func Fields(row []byte, d Dialect) (fields [][]byte, err error) {
	if d == Postgres {
		for field := range bytes.SplitSeq(row, []byte{'\t'}) {
			if string(field) == `\N` {
				fields = append(fields, nil)
			} else {
				fields = append(fields, UnescapeCopy([]byte{}, field))
			}
		}
		return fields, nil
	}
	l := NewLexer(row, d)
	value := []byte{}
	for {
		t, err := l.Skip()
		if err != nil {
			return nil, err
		}
		switch {
		case t.Kind == End:
			return append(fields, value), nil
		case t.Kind == Punct && t.Text[0] == ',':
			fields, value = append(fields, value), []byte{}
		case t.Is("NULL"):
			value = nil
		case t.Kind == String || t.Kind == Bytes:
			if value, err = Unquote([]byte{}, t, d); err != nil {
				return nil, err
			}
		case t.Kind == Word && t.Text[0] == '_': // an introducer
		default: // a sign, a number, TRUE
			value = append(value, t.Text...)
		}
	}
}
