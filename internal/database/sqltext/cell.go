package sqltext

import "bytes"

// Cell gives a value of a row for people, "" where it cannot be read. row begins with the
// first value, as a Begin of an Insert is told.
func (ins *Insert) Cell(row []byte, column int, d Dialect) string {
	if ins.copy {
		fields := bytes.SplitN(row, []byte{'\t'}, column+2)
		if column >= len(fields) {
			return ""
		}
		return string(UnescapeCopy(nil, bytes.TrimRight(fields[column], "\n")))
	}
	l := NewLexer(row, d)
	at, depth := 0, 0
	var text string
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return ""
		}
		switch {
		case t.Kind == Punct && t.Text[0] == '(':
			depth++
		case t.Kind == Punct && t.Text[0] == ')' && depth > 0:
			depth--
		case depth == 0 && t.Kind == Punct && (t.Text[0] == ',' || t.Text[0] == ')'):
			if at == column {
				return text
			}
			at, text = at+1, ""
			if t.Text[0] == ')' {
				return ""
			}
		case at == column && (t.Kind == String || t.Kind == Bytes):
			if v, err := Unquote(nil, t, d); err == nil {
				text = string(v)
			}
		case at == column && t.Kind != Word: // an introducer
			text += string(t.Text)
		}
	}
}
