package redirects

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"hovix/internal/spreadsheet"
)

// Format says how a table is written.
type Format struct {
	Comma  rune   // between columns
	CRLF   bool   // lines end as on Windows
	BOM    bool   // a mark of the encoding comes first, by which some spreadsheets know UTF-8
	Header bool   // the first row names the columns
	Read   string // encoding in which a table was: "UTF-8", "UTF-16", "Windows-1252"
}

// DefaultFormat is what every spreadsheet opens and every program reads.
var DefaultFormat = Format{Comma: ',', Header: true, Read: "UTF-8"}

// ErrNotTable says that a file is no table.
var ErrNotTable = errors.New("not a table")

// TableReader reads a table row by row: CSV with commas or semicolons, TSV, in UTF-8,
// UTF-16 or Windows-1252, with or without a mark of the encoding, as spreadsheets leave
// them.
type TableReader struct {
	Format
	csv *csv.Reader
}

// sniffSize is how much of a table is looked at to know its format.
const sniffSize = 64 << 10

// NewTableReader begins to read a table. The format is known by its beginning.
func NewTableReader(r io.Reader) (*TableReader, error) {
	b := bufio.NewReaderSize(r, sniffSize)
	head, err := b.Peek(sniffSize)
	if len(head) == 0 && err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("read the table: %w", err)
	}
	t := &TableReader{}
	decoder, err := t.encoding(head, err != nil)
	if err != nil {
		return nil, err
	}
	in := bufio.NewReaderSize(transform.NewReader(b, decoder), sniffSize)
	text, _ := in.Peek(sniffSize / 2)
	t.Comma = delimiter(text)
	t.CRLF = bytes.Contains(text, []byte("\r\n"))
	t.csv = csv.NewReader(in)
	t.csv.Comma, t.csv.LazyQuotes, t.csv.FieldsPerRecord, t.csv.ReuseRecord = t.Comma, true, -1, true
	return t, nil
}

// encoding knows the encoding of a text by its first bytes; all tells that they are the
// whole text.
func (t *TableReader) encoding(head []byte, all bool) (transform.Transformer, error) {
	t.Read = "UTF-8"
	switch {
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		t.BOM = true
		return unicode.BOMOverride(encoding.Nop.NewDecoder()), nil
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		t.BOM, t.Read = true, "UTF-16"
		return unicode.BOMOverride(encoding.Nop.NewDecoder()), nil
	case bytes.IndexByte(head, 0) >= 0:
		return nil, fmt.Errorf("%w: it holds NUL bytes; save it as CSV", ErrNotTable)
	}
	whole := head
	if !all { // the last character may be cut
		for i := 0; i < utf8.UTFMax && len(whole) > 0 && !utf8.Valid(whole); i++ {
			whole = whole[:len(whole)-1]
		}
	}
	if utf8.Valid(whole) {
		return encoding.Nop.NewDecoder(), nil
	}
	t.Read = "Windows-1252"
	return charmap.Windows1252.NewDecoder(), nil
}

// delimiter knows what stands between columns by the first lines: what most of them
// hold as often as the first. A table of one column has none.
func delimiter(text []byte) rune {
	lines := sampleLines(text)
	best, most := ',', 0
	for _, c := range []rune{'\t', ';', ',', '|'} {
		if len(lines) == 0 {
			break
		}
		want, same := countOutside(lines[0], c), 0
		for _, l := range lines {
			if countOutside(l, c) == want {
				same++
			}
		}
		if want > 0 && same*want > most {
			best, most = c, same*want
		}
	}
	return best
}

// sampleLines gives the first lines that are not empty, but one that may be cut.
func sampleLines(text []byte) (lines []string) {
	for len(text) > 0 && len(lines) < 20 {
		line, rest, whole := bytes.Cut(text, []byte("\n"))
		if !whole && len(lines) > 0 {
			break
		}
		if s := strings.TrimRight(string(line), "\r"); strings.TrimSpace(s) != "" {
			lines = append(lines, s)
		}
		text = rest
	}
	return lines
}

// countOutside counts a character outside of quotes.
func countOutside(line string, c rune) (n int) {
	quoted := false
	for _, r := range line {
		switch {
		case r == '"':
			quoted = !quoted
		case r == c && !quoted:
			n++
		}
	}
	return n
}

// Next gives the next row that is not empty, with its place in the file: the line on
// which it begins, from 1. io.EOF comes after the last. The row is valid until the next
// call.
func (t *TableReader) Next() (row []string, line int, err error) {
	for {
		row, err = t.csv.Read()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil, 0, io.EOF
			}
			return nil, 0, fmt.Errorf("%w: %w", ErrNotTable, err)
		}
		line, _ = t.csv.FieldPos(0)
		empty := true
		for i, cell := range row {
			// UTF-16 may hold NUL, which no table can; bytes that are no UTF-8 after all would
			// change the encoding of the whole table when it is read again.
			row[i] = spreadsheet.Unguard(strings.ToValidUTF8(strings.ReplaceAll(cell, "\x00", ""), "\ufffd"))
			empty = empty && strings.TrimSpace(row[i]) == ""
		}
		if !empty {
			return row, line, nil
		}
	}
}

// TableWriter writes a table.
type TableWriter struct {
	csv *csv.Writer
	row []string
}

// NewTableWriter begins a table.
func NewTableWriter(w io.Writer, f Format) (*TableWriter, error) {
	if f.BOM {
		if _, err := io.WriteString(w, "\ufeff"); err != nil {
			return nil, err
		}
	}
	t := &TableWriter{csv: csv.NewWriter(w)}
	t.csv.Comma, t.csv.UseCRLF = f.Comma, f.CRLF
	return t, nil
}

// Write writes a row.
func (t *TableWriter) Write(row []string) error {
	t.row = t.row[:0]
	for _, cell := range row {
		t.row = append(t.row, spreadsheet.Guard(cell))
	}
	return t.csv.Write(t.row)
}

// Flush writes what is left.
func (t *TableWriter) Flush() error {
	t.csv.Flush()
	return t.csv.Error()
}
