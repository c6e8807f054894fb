package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// untab reads a row as LOAD DATA does (MariaDB's reference, LOAD DATA INFILE).
func untab(line string) (fields [][]byte) {
	field, null := []byte{}, false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\t':
			if null {
				field = nil
			}
			fields, field, null = append(fields, field), []byte{}, false
		case c != '\\':
			field = append(field, c)
		default:
			i++
			null = line[i] == 'N' && len(field) == 0 && (i+1 == len(line) || line[i+1] == '\t')
			if to := strings.IndexByte("0nrtbZ", line[i]); to >= 0 {
				field = append(field, "\x00\n\r\t\b\x1a"[to])
			} else if !null {
				field = append(field, line[i])
			}
		}
	}
	if null {
		field = nil
	}
	return append(fields, field)
}

func TestAppendTabbed(t *testing.T) {
	for in, want := range map[string]string{
		`(1,'a'),(-2.5e3,NULL)`:                       "1\ta\n-2.5e3\t\\N\n",
		`(NULL,"it's ""x"" \" ''")` + "\n":            "\\N\tit's \"x\" \\\" ''\n",
		`(0,'it''s \'x\' "" \\ \n\0\Z\%\_')`:          "0\tit's \\'x\\' \"\" \\\\ \\n\\0\\Z\\\\%\\\\_\n",
		"(18446744073709551615,'a\tb\nc')":            "18446744073709551615\ta\\\tb\\\nc\n",
		`( 7 , _binary'\\N' )` + ",\n(8,'\\N')":       "7\t\\\\N\n8\tN\n",
		"(1,x'0009410A5c'),(.5,0x414a),(1,_binary'')": "1\t\x00\\\tA\\\n\\\\\n.5\tAJ\n1\t\n",
		`('1','a')`:         "", // a text for a number
		`(1,2)`:             "",
		`(0x41,'a')`:        "",
		`(TRUE,'a')`:        "",
		`(1,_utf8mb4'ü')`:   "", // its bytes may be others in the column
		`(1,_binary x'41')`: "",
		`(1,b'101')`:        "",
		`(1,x'123')`:        "",
		`(1)`:               "",
		`(1,'a','b')`:       "",
		`(1,'a') (2,'b')`:   "",
		`(- NULL,'a')`:      "",
		`(1,'a');`:          "",
		`(1,'a'),`:          "",
		`(1,'a'`:            "",
	} {
		stmt := []byte("INSERT INTO t (a,b) VALUES " + in)
		ins, err := ParseInsert(stmt, MySQL)
		require.NoError(t, err)
		out, rows, ok := ins.AppendTabbed(nil, stmt, []bool{true, false})
		require.Equal(t, want != "", ok, in)
		assert.Equal(t, want, string(out), in)
		if ok {
			assert.EqualValues(t, strings.Count(in, "),")+1, rows, in)
		}
	}
}

// requireTabbed requires that LOAD DATA reads the values that a statement means, if they
// are such that it can.
func requireTabbed(t *testing.T, ins *Insert, stmt []byte) {
	text, _, ok := ins.AppendTabbed(nil, stmt, make([]bool, max(len(ins.Columns), 1)))
	if !ok {
		return
	}
	var want [][]byte
	require.NoError(t, ins.EachRow(stmt, MySQL, nil, func(row []byte) error {
		fields, err := Fields(row, MySQL)
		want = append(want, fields...)
		return err
	}))
	var got [][]byte
	for text := string(text); text != ""; {
		end := 0
		for ; text[end] != '\n'; end++ {
			if text[end] == '\\' {
				end++
			}
		}
		got = append(got, untab(text[:end])...)
		text = text[end+1:]
	}
	require.Equal(t, want, got, "%q became %q", stmt, text)
}

func BenchmarkAppendTabbed(b *testing.B) {
	stmt := rowsOfText()
	ins, err := ParseInsert(stmt, MySQL)
	require.NoError(b, err)
	b.SetBytes(int64(len(stmt)))
	b.ReportAllocs()
	var out []byte
	for b.Loop() {
		var ok bool
		out, _, ok = ins.AppendTabbed(out[:0], stmt, []bool{true, false, true})
		require.True(b, ok)
	}
}
