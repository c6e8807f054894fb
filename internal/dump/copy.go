package dump

import (
	"bytes"
	"encoding/hex"
)

// copyRows passes over the rows of PostgreSQL's COPY in text format: a line a
// row, tabs between columns, \N for NULL, \. at the end.
func (s *scanner) copyRows() error {
	for {
		n, err := s.find(lineEnd)
		if err != nil {
			return err
		}
		line := s.buf[s.i : s.i+n]
		if n == 0 || bytes.Equal(bytes.TrimRight(line, "\r\n"), []byte(`\.`)) {
			s.i += n
			s.begin, s.rows, s.table, s.names = true, false, "", nil
			return nil
		}
		if !s.mentions(n) && !bytes.Contains(line, []byte(`\\x`)) {
			s.i += n
			continue
		}
		if err := s.piece(n, piece{kind: copyPiece, names: s.names}); err != nil {
			return err
		}
	}
}

// copyLine takes a row of COPY.
func (w *worker) copyLine(line []byte, p *piece) []byte {
	body := bytes.TrimSuffix(line, []byte("\n"))
	w.encoded = w.encoded[:0]
	column := 0
	for field := range bytes.SplitSeq(body, []byte("\t")) {
		if column > 0 {
			w.encoded = append(w.encoded, '\t')
		}
		at := Cell{Table: p.cell.Table}
		if column < len(p.names) {
			at.Column = p.names[column]
		}
		w.encoded = append(w.encoded, w.copyField(at, field)...)
		column++
	}
	return append(w.encoded, line[len(body):]...)
}

func (w *worker) copyField(at Cell, field []byte) []byte {
	if string(field) == `\N` {
		return field
	}
	if digits, isHex := bytes.CutPrefix(field, []byte(`\\x`)); isHex && len(digits) >= 16 {
		v := make([]byte, len(digits)/2)
		if _, err := hex.Decode(v, digits); err == nil && w.places(v)(0) < len(v) {
			if out, changed := w.vals.Value(at, v); changed {
				return hex.AppendEncode([]byte(`\\x`), out)
			}
			return field
		}
	}
	v := field
	if bytes.IndexByte(field, '\\') >= 0 {
		v = uncopy(field)
	}
	out, changed := w.vals.Value(at, v)
	if !changed {
		return field
	}
	return appendCopy(nil, out)
}

// uncopy decodes a field of COPY (the PostgreSQL manual, COPY, text format).
func uncopy(field []byte) []byte {
	out := make([]byte, 0, len(field))
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c != '\\' || i+1 >= len(field) {
			out = append(out, c)
			continue
		}
		i++
		switch c = field[i]; {
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
			n := 0
			for k := 0; k < 3 && i < len(field) && field[i] >= '0' && field[i] <= '7'; k++ {
				n = n*8 + int(field[i]-'0')
				i++
			}
			i--
			c = byte(n)
		case c == 'x' && i+1 < len(field) && hexDigit(field[i+1]) >= 0:
			n := 0
			for k := 0; k < 2 && i+1 < len(field) && hexDigit(field[i+1]) >= 0; k++ {
				i++
				n = n*16 + hexDigit(field[i])
			}
			c = byte(n)
		}
		out = append(out, c)
	}
	return out
}

func hexDigit(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// appendCopy encodes a field as PostgreSQL itself does.
func appendCopy(dst, v []byte) []byte {
	for _, c := range v {
		e := byte(0)
		switch c {
		case '\b':
			e = 'b'
		case '\f':
			e = 'f'
		case '\n':
			e = 'n'
		case '\r':
			e = 'r'
		case '\t':
			e = 't'
		case '\v':
			e = 'v'
		case '\\':
			e = '\\'
		}
		if e != 0 {
			dst = append(dst, '\\', e)
		} else {
			dst = append(dst, c)
		}
	}
	return dst
}
