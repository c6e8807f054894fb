package dump

import (
	"bytes"
	"encoding/hex"

	"hovix/internal/database/sqltext"
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
		if _, err := hex.Decode(v, digits); err == nil {
			at.Bytes = true
			if out, changed := w.vals.Value(at, v); changed {
				return hex.AppendEncode([]byte(`\\x`), out)
			}
			return field
		}
	}
	v := field
	if bytes.IndexByte(field, '\\') >= 0 {
		v = sqltext.UnescapeCopy(nil, field)
	}
	out, changed := w.vals.Value(at, v)
	if !changed {
		return field
	}
	return sqltext.AppendCopy(nil, out)
}
