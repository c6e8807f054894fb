package redirects

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func readAll(t testing.TB, content string) (rows [][]string, f Format) {
	t.Helper()
	r, err := NewTableReader(strings.NewReader(content))
	require.NoError(t, err)
	for {
		row, _, err := r.Next()
		if errors.Is(err, io.EOF) {
			return rows, r.Format
		}
		require.NoError(t, err)
		rows = append(rows, append([]string(nil), row...))
	}
}

// TestTablesOfSpreadsheets reads tables as programs save them.
func TestTablesOfSpreadsheets(t *testing.T) {
	want := [][]string{{"from", "to"}, {"/a", "/b"}, {"/two\nlines", `/with "quotes"`}, {"/c;d", "/e,f"}}
	for name, content := range map[string]string{
		"commas":      "from,to\n/a,/b\n\"/two\nlines\",\"/with \"\"quotes\"\"\"\n/c;d,\"/e,f\"\n",
		"semicolons":  "\ufefffrom;to\r\n/a;/b\r\n\"/two\nlines\";\"/with \"\"quotes\"\"\"\r\n\"/c;d\";/e,f\r\n",
		"tabs":        "from\tto\n/a\t/b\n\"/two\nlines\"\t\"/with \"\"quotes\"\"\"\n/c;d\t/e,f",
		"empty lines": "\n\nfrom,to\n,\n/a,/b\n\n\"/two\nlines\",\"/with \"\"quotes\"\"\"\n/c;d,\"/e,f\"\n\n",
	} {
		got, f := readAll(t, content)
		assert.Equal(t, want, got, name)
		assert.Equal(t, "UTF-8", f.Read)
	}
	_, f := readAll(t, "\ufefffrom;to\r\n/a;/b\r\n")
	assert.Equal(t, Format{Comma: ';', CRLF: true, BOM: true, Read: "UTF-8"}, f)

	utf16 := []byte("\xff\xfe")
	for _, r := range "/паром\t/ferry\r\n" {
		utf16 = append(utf16, byte(r), byte(r>>8))
	}
	got, f := readAll(t, string(utf16))
	assert.Equal(t, [][]string{{"/паром", "/ferry"}}, got)
	assert.Equal(t, "UTF-16", f.Read)
	got, f = readAll(t, "/stra\xdfe;/m\xfcnde\n")
	assert.Equal(t, [][]string{{"/straße", "/münde"}}, got)
	assert.Equal(t, "Windows-1252", f.Read)
	got, _ = readAll(t, "/only\n/one column\n")
	assert.Equal(t, [][]string{{"/only"}, {"/one column"}}, got)
	got, _ = readAll(t, "")
	assert.Empty(t, got)

	_, err := NewTableReader(bytes.NewReader([]byte("PK\x03\x04\x00\x00")))
	assert.ErrorIs(t, err, ErrNotTable)
}

// TestNoCellIsAFormula: what a spreadsheet would run is a text, and comes back as it was.
func TestNoCellIsAFormula(t *testing.T) {
	rows := [][]string{{"=1+1", "+x", "-y", "@z", "'=1", "''-2", "'plain", "'", "", "\ttab", "a=b"}}
	for _, f := range []Format{DefaultFormat, {Comma: ';', CRLF: true, BOM: true}, {Comma: '\t'}} {
		var b bytes.Buffer
		w, err := NewTableWriter(&b, f)
		require.NoError(t, err)
		require.NoError(t, w.Write(rows[0]))
		require.NoError(t, w.Flush())
		for _, cell := range []string{"=1+1", "+x", "-y", "@z"} {
			assert.Contains(t, b.String(), "'"+cell)
		}
		got, _ := readAll(t, b.String())
		assert.Equal(t, rows, got)
	}
}

// FuzzTable: whatever a file holds, reading ends; and what is written comes back.
func FuzzTable(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "\ufeffa;b\r\n\"x\ny\";'=2\r\n", "\xff\xfea\x00\t\x00", "a\tb\n", "\"", "'\"=\"\"", "|a|b|\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		r, err := NewTableReader(bytes.NewReader(content))
		if err != nil {
			return
		}
		for range 100 {
			row, _, err := r.Next()
			if err != nil {
				return
			}
			row = append([]string(nil), row...)
			var b bytes.Buffer
			w, err := NewTableWriter(&b, DefaultFormat)
			require.NoError(t, err)
			// The delimiter is told by the names of the columns.
			require.NoError(t, w.Write([]string{"from", "to", "status"}))
			require.NoError(t, w.Write(row))
			require.NoError(t, w.Flush())
			if strings.ContainsAny(strings.Join(row, ""), "\r") {
				continue // line breaks become plain ones
			}
			back, err := NewTableReader(&b)
			require.NoError(t, err)
			back.csv.Comma = ','
			_, _, err = back.Next()
			require.NoError(t, err)
			again, _, err := back.Next()
			require.NoError(t, err, "%q", row)
			require.Equal(t, row, append([]string(nil), again...))
		}
	})
}
