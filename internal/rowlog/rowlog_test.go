package rowlog

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/testenv"
)

// edited gives an editor of a new database of SQLite that has run statements, and where it
// is.
func edited(t testing.TB, statements string) (database.Editor, database.Location) {
	t.Helper()
	l := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "x.sqlite")}
	testenv.Client(t, l, []byte(statements))
	ed, err := engines.Edit(t.Context(), l)
	require.NoError(t, err)
	t.Cleanup(func() { _ = ed.Close() })
	return ed, l
}

// logged changes all texts of a table from a to b, writes that down, and gives the log.
func logged(t testing.TB, ed database.Editor, table, a, b string) *bytes.Buffer {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(&out)
	require.NoError(t, err)
	require.NoError(t, ed.Begin(t.Context()))
	tab, err := ed.Editable(t.Context(), table)
	require.NoError(t, err)
	var changes []database.Change
	require.NoError(t, ed.Scan(t.Context(), tab, func(row *database.Row) error {
		c := database.Change{Key: row.Key()}
		for i, v := range row.Values {
			if to := strings.ReplaceAll(string(v), a, b); v != nil && to != string(v) {
				c.Columns, c.Old, c.New = append(c.Columns, i), append(c.Old, bytes.Clone(v)), append(c.New, []byte(to))
			}
		}
		if len(c.Columns) > 0 {
			changes = append(changes, c)
		}
		return nil
	}))
	for i := 0; i < len(changes); i += 7 {
		batch := changes[i:min(i+7, len(changes))]
		require.NoError(t, w.Write(tab, batch))
		outcomes, err := ed.Update(t.Context(), tab, batch)
		require.NoError(t, err)
		for _, o := range outcomes {
			require.Equal(t, database.Updated, o.Kind, o.Why)
		}
	}
	require.NoError(t, ed.Commit(t.Context()))
	assert.EqualValues(t, len(changes), w.Rows())
	return &out
}

// rows123 fills a table with a chain of keys: each row's new key is the old one of another,
// so that an order other than the right one repeats a key on the way.
const rows123 = `CREATE TABLE chain (k TEXT PRIMARY KEY, v BLOB) WITHOUT ROWID; WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM s WHERE n<50) INSERT INTO chain SELECT substr('aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa',1,n)||'x', CASE n%3 WHEN 0 THEN x'00ff' ELSE 'a'||n END FROM s;`

func TestApplyGoesBackAndForth(t *testing.T) {
	ed, l := edited(t, rows123)
	before := testenv.Client(t, l, []byte("SELECT k, quote(v) FROM chain;"))
	text := logged(t, ed, "chain", "x", "ax")
	after := testenv.Client(t, l, []byte("SELECT k, quote(v) FROM chain;"))
	require.NotEqual(t, before, after)
	log, err := Open(bytes.NewReader(text.Bytes()), int64(text.Len()))
	require.NoError(t, err)
	defer log.Close()
	assert.False(t, log.Empty())
	assert.False(t, log.Lasting())
	for range 2 {
		for _, to := range []Direction{Before, After} {
			again, err := engines.Edit(t.Context(), l)
			require.NoError(t, err)
			require.NoError(t, again.Begin(t.Context()))
			made, err := log.Made(t.Context(), again)
			require.NoError(t, err)
			assert.Equal(t, to == Before, made, "it tells which of the states is there")
			done, err := log.Apply(t.Context(), again, to, false)
			require.NoError(t, err)
			assert.EqualValues(t, 50, done.Rows)
			assert.Empty(t, done.Left)
			once, err := log.Apply(t.Context(), again, to, false)
			require.NoError(t, err)
			assert.Zero(t, once.Rows, "what is as it should be stays")
			assert.Empty(t, once.Left)
			require.NoError(t, again.Commit(t.Context()))
			require.NoError(t, again.Close())
			want := before
			if to == After {
				want = after
			}
			assert.Equal(t, want, testenv.Client(t, l, []byte("SELECT k, quote(v) FROM chain;")))
		}
	}
}

func TestApplyLeavesWhatIsNewer(t *testing.T) {
	ed, l := edited(t, `CREATE TABLE a (id INTEGER PRIMARY KEY, v TEXT, w TEXT); INSERT INTO a VALUES (1,'x','x'),(2,'x','x'),(3,'x','x'),(4,'x','y');`)
	text := logged(t, ed, "a", "x", "y")
	for statement, wants := range map[string][]string{
		"UPDATE a SET v='mine' WHERE id=1; DELETE FROM a WHERE id=2;": {"a: 2: id=1 has been changed since|id=2 is gone"},
		"ALTER TABLE a RENAME COLUMN w TO z;":                         {"a: 4: there is no column w any more"},
		"DROP TABLE a;":                                               {"a: 4: the table is gone"},
	} {
		copied := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "copy.sqlite")}
		testenv.Client(t, copied, []byte(testenv.Client(t, l, []byte(".dump\n"))+statement))
		again, err := engines.Edit(t.Context(), copied)
		require.NoError(t, err)
		defer again.Close()
		require.NoError(t, again.Begin(t.Context()))
		log, err := Open(bytes.NewReader(text.Bytes()), int64(text.Len()))
		require.NoError(t, err)
		done, err := log.Apply(t.Context(), again, Before, false)
		require.NoError(t, err)
		log.Close()
		var got []string
		for _, left := range done.Left {
			which := left.Which
			if len(which) == 2 && which[0] > which[1] { // the last goes first
				which = []string{which[1], which[0]}
			}
			got = append(got, fmt.Sprintf("%s: %d: %s", left.Table, left.Rows, strings.Join(which, "|")))
		}
		if strings.HasPrefix(statement, "ALTER") { // a row of v alone could be put back, and is
			require.Len(t, got, 1)
			assert.Contains(t, got[0], "there is no column w any more")
			continue
		}
		assert.Equal(t, wants, got, statement)
	}
}

// TestTornLogs: what a run was killed over while it wrote does not count, and what is
// damaged is an error, never a guess.
func TestTornLogs(t *testing.T) {
	ed, _ := edited(t, rows123)
	text := logged(t, ed, "chain", "x", "y").Bytes()
	whole, err := Open(bytes.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	defer whole.Close()
	last := whole.blocks[len(whole.blocks)-1]
	for cut := range len(text) {
		l, err := Open(bytes.NewReader(text[:cut]), int64(cut))
		require.NoError(t, err)
		if want := len(whole.blocks) - 1; int64(cut) >= last.at-4 && len(l.blocks) != want {
			require.Len(t, l.blocks, want, "cut at %d", cut)
		}
		l.Close()
	}
	for at := last.at; at < last.at+last.size; at++ {
		bad := bytes.Clone(text)
		bad[at] ^= 0x55
		l, err := Open(bytes.NewReader(bad), int64(len(bad)))
		require.NoError(t, err)
		b, err := l.read(last)
		if err == nil { // a byte that no decoder looks at
			assert.Equal(t, "chain", b.table)
		} else {
			assert.True(t, errors.Is(err, ErrDamaged), err)
		}
		l.Close()
	}
}

// FuzzLog: no bytes make reading a log crash, or take more room than it may.
func FuzzLog(f *testing.F) {
	ed, _ := edited(f, rows123)
	text := logged(f, ed, "chain", "x", "y").Bytes()
	f.Add(text)
	f.Add(text[:len(text)/2])
	f.Add([]byte{4, 0, 0, 0, 0x28, 0xb5, 0x2f, 0xfd})
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := Open(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		defer l.Close()
		for _, bl := range l.blocks {
			b, err := l.read(bl)
			if err != nil {
				continue
			}
			for _, c := range b.changes {
				assert.Len(t, c.Old, len(c.Columns))
				assert.Len(t, c.New, len(c.Columns))
			}
		}
		d := &decoder{b: data}
		_ = d.batch()
	})
}
