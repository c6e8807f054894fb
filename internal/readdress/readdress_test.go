package readdress

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/rewrite"
)

func options(t *testing.T) Options {
	t.Helper()
	old, err := rewrite.ParseAddress("http://old.example")
	require.NoError(t, err)
	to, err := rewrite.ParseAddress("https://new.example")
	require.NoError(t, err)
	return Options{Rewrite: rewrite.Options{Mappings: []rewrite.Mapping{{Old: old, New: to}}}}
}

func TestFilter(t *testing.T) {
	for _, c := range []struct {
		f    Filter
		want string // which of a.x a.y b.x and text outside of tables, "-"
	}{
		{Filter{}, "a.x a.y b.x -"},
		{Filter{Tables: []string{"A"}}, "a.x a.y"},
		{Filter{Tables: []string{"?"}, Columns: []string{"x"}}, "a.x b.x"},
		{Filter{Columns: []string{"a.*"}}, "a.x a.y"},
		{Filter{Tables: []string{"*"}}, "a.x a.y b.x"},
		{Filter{Except: []string{"a"}}, "b.x -"},
		{Filter{Except: []string{"*.x"}}, "a.y -"},
		{Filter{Tables: []string{"a"}, Except: []string{"a.y"}}, "a.x"},
	} {
		var got []string
		for _, name := range []string{"a.x", "a.y", "b.x", "-"} {
			table, column, _ := strings.Cut(name, ".")
			if name == "-" {
				table = ""
			}
			if c.f.Wants(table, column) {
				got = append(got, name)
			}
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%+v", c.f)
	}
	assert.Error(t, (&Filter{Tables: []string{"["}}).Check())
}

func TestSamples(t *testing.T) {
	long := strings.Repeat("grüße ", 40)
	s := sampleOf([]byte(long+"see http://old.example/a for more of it, and "+long), []byte(long+"see https://new.example/a for more of it, and "+long))
	assert.Equal(t, "http://old", s.Old)
	assert.Equal(t, "https://new", s.New)
	assert.Contains(t, s.Before, "see http://old.example/a for more")
	assert.True(t, strings.HasPrefix(s.Before, "…") && strings.HasSuffix(s.Before, "…"), s.Before)
	assert.Less(t, len(s.Before), 160)
	s = sampleOf([]byte("a\x00b"), []byte("a\x00\xffc"))
	assert.Equal(t, Sample{"a b", "a c", "b", "c"}, s)
}

// TestAccountIsInOrder: whatever the number of goroutines, the counts, the first
// samples and the lines of changes are those of one after the other.
func TestAccountIsInOrder(t *testing.T) {
	var dump, want strings.Builder
	want.WriteString("table,column,row,before,after\n")
	for i := range 30_000 {
		n := strings.Repeat("x", i%50)
		dump.WriteString("INSERT INTO t (id, v) VALUES (1,'http://old.example/" + n + "');\n")
		want.WriteString("t,v,,http://old.example/" + n + ",https://new.example/" + n + "\n")
	}
	dump.WriteString("INSERT INTO t (v) VALUES ('at old.example');\n")
	opts := options(t)
	var out, changes bytes.Buffer
	opts.Changes = &changes
	acc, d, err := Dump(t.Context(), &out, strings.NewReader(dump.String()), opts)
	require.NoError(t, err)
	assert.Equal(t, "mariadb", d.String())
	assert.True(t, strings.ReplaceAll(dump.String(), "http://old", "https://new") == out.String())
	assert.True(t, want.String() == changes.String(), "every change in its order")
	require.Len(t, acc.Columns, 1)
	c := acc.Columns[0]
	assert.EqualValues(t, 30_000, c.Tally.Changed)
	assert.EqualValues(t, 30_001, acc.Tally.Values)
	require.Len(t, c.Samples, maxSamples)
	assert.Equal(t, "http://old.example/xx", c.Samples[2].Before)
	require.Len(t, c.Leftovers, 1)
}

// failing fails after some bytes.
type failing struct{ left int }

func (f *failing) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, assert.AnError
	}
	return len(b), nil
}

func TestFailingWriter(t *testing.T) {
	text := strings.Repeat("INSERT INTO t VALUES ('http://old.example');\n", 100_000)
	for _, left := range []int{0, 1 << 20} {
		_, _, err := Dump(t.Context(), &failing{left}, strings.NewReader(text), options(t))
		assert.ErrorIs(t, err, assert.AnError)
	}
	opts := options(t)
	opts.Changes = &failing{1 << 10}
	_, _, err := Dump(t.Context(), &bytes.Buffer{}, strings.NewReader(text), opts)
	assert.ErrorIs(t, err, assert.AnError)
}
