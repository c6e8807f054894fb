package database

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSpace(t *testing.T) {
	dir := t.TempDir()
	c := Space(dir, Room{Tables: 1000})
	assert.NoError(t, c.Err)
	assert.Regexp(t, `^about 1.0 kB are needed; [\d.]+ .B are free$`, c.Found)
	c = Space(dir, Room{Tables: 1 << 60})
	assert.ErrorContains(t, c.Err, "for the new tables, beside the old ones, about 1.2 EB are needed, and the server's disk has")
	assert.Equal(t, c.Err.Error(), c.Failed)
	c = Space(dir, Room{Tables: 50 << 20, Sorting: 20 << 20, Log: 1 << 60})
	assert.ErrorContains(t, c.Err, "about 52 MB are needed, 21 MB more while keys are made, 1.2 EB for the server's log of changes")
	c = Space("", Room{Tables: 5 << 30})
	assert.NoError(t, c.Err)
	assert.True(t, c.Note, "so much is worth a look")
	assert.Contains(t, c.Found, "the server does not tell")
	assert.False(t, Space("/no/such/folder", Room{Tables: 1000}).Note)
	assert.Contains(t, Space(dir, Room{}).Found, "not known")
}

func TestSizes(t *testing.T) {
	for name, c := range map[string]struct {
		need       TableNeed
		rows, keys int64
	}{
		"a pipe":                     {TableNeed{Bytes: 1000, Keys: 300, Counted: 10, Rows: -1, Text: -1}, 700, 300},
		"an estimate that is near":   {TableNeed{Bytes: 1000, Keys: 300, Counted: 10, Rows: 12, Text: 9}, 700, 300},
		"rows that stayed behind":    {TableNeed{Bytes: 1000, Keys: 300, Counted: 10, Rows: 1, Text: 9}, 70, 30},
		"no rows":                    {TableNeed{Bytes: 1000, Keys: 300, Counted: 10, Rows: 0, Text: 0}, 0, 0},
		"old statistics of many":     {TableNeed{Bytes: 1e6, Keys: 1e5, Counted: 1000, Rows: 4000, Text: 1e6}, 36e5, 4e5},
		"old statistics of few":      {TableNeed{Bytes: 3 * 16384, Keys: 2 * 16384, Counted: 1, Rows: 1e6, Text: 1e7}, 34e6, 80e6},
		"rows, but of an old size":   {TableNeed{Bytes: 3 * 16384, Keys: 2 * 16384, Counted: 1e6, Rows: 1e6, Text: 1e7}, 34e6, 80e6},
		"a size of rows that went":   {TableNeed{Bytes: 1e9, Counted: 1000, Rows: 1000, Text: 1e5}, 124e3, 0},
		"no statistics, as of dumps": {TableNeed{Rows: 100, Text: 1000}, 3400, 0},
	} {
		rows, keys := c.need.Sizes()
		assert.Equal(t, [2]int64{c.rows, c.keys}, [2]int64{rows, keys}, name)
	}
	var r Room
	r.Sorted([]int64{4, 400, 0, 800, 40}, 2)
	assert.EqualValues(t, 1500, r.Sorting, "of the two largest")
}

func TestUnknownCollations(t *testing.T) {
	near := func(name string) string {
		return map[string]string{"a": "a", "b": "c"}[name]
	}
	assert.Equal(t, Check{What: "collations", Found: "the server knows them"}, Unknown([]string{"a", "a"}, near))
	c := Unknown([]string{"b", "a"}, near)
	assert.True(t, c.Note)
	assert.Equal(t, "b becomes c, the nearest one here", c.Found)
	assert.ErrorContains(t, Unknown([]string{"a", "z"}, near).Err, "neither the collation z nor one like it")
}

func TestFilled(t *testing.T) {
	var f Filled
	_, done := f.Rows("t", 1)
	assert.False(t, done)
	f.AddAll([][]string{{"t", "1", "40"}, {"t", "0", "0"}, {"u", "-1", "0"}})
	rows, done := f.Rows("t", 1)
	assert.True(t, done)
	assert.EqualValues(t, 40, rows)
	_, done = f.Rows("t", KeysMade)
	assert.True(t, done)
	_, done = f.Rows("u", Defined)
	assert.True(t, done)
	f.Forget("t")
	_, done = f.Rows("t", 1)
	assert.False(t, done)
}
