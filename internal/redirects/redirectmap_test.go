package redirects

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMapsAsPeopleLeaveThem reads maps with and without names of columns, in any order,
// and writes them without loss.
func TestMapsAsPeopleLeaveThem(t *testing.T) {
	m, err := ReadMap(strings.NewReader("\ufeffVisits;Owner;New URL;Old URL;Status;Score;Owner\r\n1.200;Ada;/new;/old;302;0,95;x\r\n;=cmd;https://other.example/;/b c;;;y\r\n"))
	require.NoError(t, err)
	assert.Equal(t, []Row{
		{From: "/old", To: "/new", Status: 302, Score: 0.95, Visits: 1200, Line: 2, More: []string{"Ada", "x"}},
		{From: "/b c", To: "https://other.example/", Score: ByHand, Line: 3, More: []string{"=cmd", "y"}},
	}, m.Rows)
	var b bytes.Buffer
	require.NoError(t, m.Write(&b))
	assert.Equal(t, "\ufeffvisits;Owner;to;from;status;score;Owner;reason\r\n1200;Ada;/new;/old;302;0.95;Ada;\r\n0;'=cmd;https://other.example/;/b c;301;;'=cmd;\r\n", b.String())

	m, err = ReadMap(strings.NewReader("/a\t/b\n/c\thttps://new.example/d\n"))
	require.NoError(t, err)
	assert.False(t, m.Format.Header)
	assert.Equal(t, "/c", m.Rows[1].From)
	m, err = ReadMap(strings.NewReader("301,/a,/b,note\n410,/c,,gone\n"))
	require.NoError(t, err)
	assert.Equal(t, []Row{{From: "/a", To: "/b", Status: 301, Score: ByHand, Line: 1, More: []string{"note"}}, {From: "/c", Status: 410, Score: ByHand, Line: 2, More: []string{"gone"}}}, m.Rows)

	for content, says := range map[string]string{"name,age\nx,1\n": "neither names of columns nor two addresses", "from,to\n/a,/b\n\n/c,/d,x\n\x00": "NUL"} {
		_, err := ReadMap(strings.NewReader(content))
		assert.ErrorContains(t, err, says, content)
	}
	// Cells that cannot be read are told of by check, and stay.
	m, err = ReadMap(strings.NewReader("from,to,status,score,visits\n/a,/b,200,,\n/a,/b,,2,\n/a,/b,,,many\n"))
	require.NoError(t, err)
	for i, says := range []string{`the status "200" is none of 301`, "no number from 0 to 1", "no number"} {
		assert.Contains(t, m.Rows[i].Bad, says)
	}
	b.Reset()
	require.NoError(t, m.Write(&b))
	assert.Equal(t, "from,to,status,score,visits,reason\n/a,/b,200,,0,\n/a,/b,301,2,0,\n/a,/b,301,,many,\n", b.String())
}
