package database

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSpace(t *testing.T) {
	dir := t.TempDir()
	c := Space(dir, 1000)
	assert.NoError(t, c.Err)
	assert.Contains(t, c.Found, "about 1.0 kB are needed, ")
	assert.Contains(t, c.Found, " are free")
	c = Space(dir, 1<<60)
	assert.ErrorContains(t, c.Err, "the new tables need about 1.2 EB beside the old ones")
	assert.Equal(t, c.Err.Error(), c.Failed)
	c = Space("", 5<<30)
	assert.NoError(t, c.Err)
	assert.True(t, c.Note, "so much is worth a look")
	assert.Contains(t, c.Found, "the server does not tell")
	assert.False(t, Space("/no/such/folder", 1000).Note)
	assert.Contains(t, Space(dir, 0).Found, "not known")
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
