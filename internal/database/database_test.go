package database

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseURL(t *testing.T) {
	for in, want := range map[string]Location{
		"mariadb://u@h:3307/n":              {Engine: MariaDB, User: "u", Host: "h", Port: 3307, Name: "n"},
		"mysql://u@h/n":                     {Engine: MariaDB, User: "u", Host: "h", Name: "n"},
		"mariadb://u@localhost/n?socket=/s": {Engine: MariaDB, User: "u", Host: "localhost", Name: "n", Socket: "/s"},
		"mariadb:///n":                      {Engine: MariaDB, Name: "n"},
		"mariadb://u%40x@[::1]:3306/n":      {Engine: MariaDB, User: "u@x", Host: "::1", Port: 3306, Name: "n"},
		"sqlite:data/a.db":                  {Engine: SQLite, Path: "data/a.db"},
		"sqlite:///abs/a.db":                {Engine: SQLite, Path: "/abs/a.db"},
		"SQLite:C:/x.db":                    {Engine: SQLite, Path: "C:/x.db"},
		"postgres://u@h:5433/n":             {Engine: Postgres, User: "u", Host: "h", Port: 5433, Name: "n"},
		"PostgreSQL:///n?socket=/run/pg":    {Engine: Postgres, Socket: "/run/pg", Name: "n"},
	} {
		got, err := ParseURL(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for in, want := range map[string]string{
		"nothing":                "is no database URL",
		"sqlite:":                "lacks the path",
		"oracle://u@h/n":         "unknown database engine",
		"postgres://u@h":         "postgres://user@host/name",
		"mariadb://u:secret@h/n": "holds a password",
		"mariadb://u@h":          "lacks the name",
		"mariadb://u@h:0/n":      "a port is a number",
		"mariadb://u:se%zz@h/n":  "cannot be read",
	} {
		_, err := ParseURL(in)
		require.ErrorContains(t, err, want, in)
		assert.NotContains(t, err.Error(), "secret")
		assert.NotContains(t, err.Error(), "se%zz")
	}
}

func TestLocationsPrintWithoutPassword(t *testing.T) {
	l := Location{Engine: MariaDB, User: "u", Password: "secret", Host: "h", Port: 1, Name: "n", Socket: "/s"}
	assert.Equal(t, "mariadb://u@h:1/n?socket=/s", l.String())
	back, err := ParseURL(l.String())
	require.NoError(t, err)
	l.Password = ""
	assert.Equal(t, l, back)
	e := &ConnectError{Location: l, What: "log in", Why: errors.New("denied")}
	assert.Equal(t, "cannot log in (mariadb://u@h:1/n?socket=/s): denied", e.Error())
	assert.True(t, Location{}.IsZero())
}

func TestSame(t *testing.T) {
	base := Location{Engine: MariaDB, Host: "localhost", Name: "n"}
	for _, c := range []struct {
		o    Location
		want bool
	}{
		{Location{Engine: MariaDB, Host: "127.0.0.1", Port: 3306, Name: "n"}, true},
		{Location{Engine: MariaDB, Name: "n"}, true},
		{Location{Engine: MariaDB, Host: "LOCALHOST", Name: "n", Socket: "/s"}, true},
		{Location{Engine: MariaDB, Host: "localhost", Name: "m"}, false},
		{Location{Engine: MariaDB, Host: "localhost", Port: 3307, Name: "n"}, false},
		{Location{Engine: MariaDB, Host: "other", Name: "n"}, false},
		{Location{Engine: SQLite, Path: "n"}, false},
	} {
		assert.Equal(t, c.want, base.Same(c.o), "%v", c.o)
		assert.Equal(t, c.want, c.o.Same(base), "%v", c.o)
	}
	dir := t.TempDir()
	file, link := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Symlink(file, link))
	assert.True(t, Location{Engine: SQLite, Path: file}.Same(Location{Engine: SQLite, Path: link}))
	assert.True(t, Location{Engine: SQLite, Path: "x/../y"}.Same(Location{Engine: SQLite, Path: "y"}))
}

func TestChunkWriter(t *testing.T) {
	var chunks []string
	var rows []int64
	w := NewChunkWriter("INSERT INTO t VALUES", 60, 150, func(c Chunk) error {
		chunks = append(chunks, string(c.SQL))
		rows = append(rows, c.Rows)
		return nil
	})
	for i := range 10 {
		require.NoError(t, w.End(append(w.Begin(), strings.Repeat("9", 10+i)...)))
	}
	require.NoError(t, w.Close())
	require.NoError(t, w.Close(), "nothing is left")
	var total int64
	for i, c := range chunks {
		total += rows[i]
		assert.True(t, strings.HasPrefix(c, "INSERT INTO t VALUES\n("), c)
		assert.True(t, strings.HasSuffix(c, ");\n"), c)
		assert.EqualValues(t, rows[i], strings.Count(c, "\n("), "rows are counted: %s", c)
		assert.Less(t, len(c), 150+80)
	}
	assert.EqualValues(t, 10, total)
	assert.Greater(t, len(chunks), 1)

	boom := errors.New("boom")
	bad := NewChunkWriter("X", 1, 1, func(Chunk) error { return boom })
	assert.ErrorIs(t, bad.End(append(bad.Begin(), '1')), boom)
	empty := NewChunkWriter("X", 1, 1, func(Chunk) error { return boom })
	assert.NoError(t, empty.Close(), "no rows, no chunk")
}

func TestColumnFits(t *testing.T) {
	pairs := func(v []byte) int64 { return int64(len(v) / 2) }
	for _, c := range []struct {
		column Column
		size   int
		want   bool
	}{
		{Column{}, 1 << 20, true},
		{Column{Bytes: 10}, 10, true},
		{Column{Bytes: 10}, 11, false},
		{Column{Chars: 5, Bytes: 20, Length: pairs}, 10, true},
		{Column{Chars: 5, Bytes: 20, Length: pairs}, 12, false},
		{Column{Chars: 50, Bytes: 20, Length: pairs}, 22, false},
		{Column{Chars: 5}, 5, true}, // nobody has to count what is short enough in bytes
	} {
		assert.Equal(t, c.want, c.column.Fits(make([]byte, c.size)), "%+v %d", c.column, c.size)
	}
	table := EditTable{Columns: []Column{{Name: "a"}, {Name: "b"}, {Name: "c"}}}
	table.MarkKey([]string{"a"})
	table.MarkKey([]string{"a", "b"})
	assert.Equal(t, []Column{{Name: "a", Unique: true, Keyed: true}, {Name: "b", Keyed: true}, {Name: "c"}}, table.Columns)
}

func TestViewOrder(t *testing.T) {
	views := []Object{{Name: "a", SQL: "select from `b`"}, {Name: "b", SQL: "select from `c`"}, {Name: "c", SQL: "select 1"}, {Name: "d", SQL: "from `a`"}}
	var got []string
	for _, v := range ViewOrder(views) {
		got = append(got, v.Name)
	}
	assert.Equal(t, []string{"c", "b", "a", "d"}, got)
	assert.Len(t, ViewOrder([]Object{{Name: "x", SQL: "`y`"}, {Name: "y", SQL: "`x`"}}), 2, "a circle ends")
}
