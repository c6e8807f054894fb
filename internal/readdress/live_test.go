package readdress

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/site"
	"hovix/internal/testenv"
)

// meddled is an Editor before whose first Update something happens.
type meddled struct {
	database.Editor
	before func()
}

func (m *meddled) Update(ctx context.Context, t *database.EditTable, c []database.Change) ([]database.Outcome, error) {
	if m.before != nil {
		m.before()
		m.before = nil
	}
	return m.Editor.Update(ctx, t, c)
}

// change rewrites a MariaDB database while before meddles with it.
func change(t *testing.T, ctx context.Context, l database.Location, opts Options, before func()) (*Account, error) {
	t.Helper()
	ed, err := engines.Edit(ctx, l)
	require.NoError(t, err)
	defer ed.Close()
	return Site(ctx, &site.Site{Root: t.TempDir(), Database: l}, &meddled{ed, before}, opts, true)
}

func rows(t *testing.T, l database.Location, query string) string {
	t.Helper()
	return strings.Join(strings.Split(strings.TrimSpace(testenv.Client(t, l, []byte(query+";"))), "\n")[1:], " ")
}

// TestChangesOfOthersSurvive: what the live site writes while its addresses are
// rewritten is neither lost nor overwritten.
func TestChangesOfOthersSurvive(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Exec(t, l, `CREATE TABLE t (id INT PRIMARY KEY, v TEXT, w TEXT) ENGINE=InnoDB;
		INSERT INTO t VALUES (1,'http://old.example/1','http://old.example/w'),(2,'http://old.example/2','x'),(3,'http://old.example/3','x'),(4,'http://old.example/4','x')`)
	a, err := change(t, t.Context(), l, options(t), func() {
		testenv.Exec(t, l, `UPDATE t SET v='edited http://old.example/1b' WHERE id=1; UPDATE t SET v='edited away' WHERE id=2; DELETE FROM t WHERE id=3; UPDATE t SET w='edited' WHERE id=4`)
	})
	require.NoError(t, err)
	assert.Equal(t, "1edited https://new.example/1bhttps://new.example/w 2edited awayx 4https://new.example/4edited", rows(t, l, "SELECT CONCAT(id,v,w) AS x FROM t ORDER BY id"))
	assert.EqualValues(t, 3, a.Tally.Changed)
	assert.EqualValues(t, 3, a.Tally.Occurrences())
	require.Len(t, a.Columns[0].Leftovers, 1)
	assert.Equal(t, "id=3: the row is gone, or is not found by its key and its old value", a.Columns[0].Leftovers[0].Detail)
	assert.EqualValues(t, 8, a.Read)
}

// TestLargeTableWithoutTransactions: what locks a table while it is read is read
// and changed nevertheless, however large.
func TestLargeTableWithoutTransactions(t *testing.T) {
	l := testenv.MariaDB(t)
	for engine, key := range map[string]string{"MyISAM": "a, b, c", "Aria": "b, a, c"} {
		testenv.Exec(t, l, "CREATE TABLE "+engine+" (a INT, b VARCHAR(30), c DATE, v TEXT, PRIMARY KEY ("+key+")) ENGINE="+engine+"; INSERT INTO "+engine+
			" SELECT seq DIV 700, CONCAT('ä',seq % 100), '2024-01-01' + INTERVAL seq DAY, CONCAT('http://old.example/',REPEAT('x',1000)) FROM seq_1_to_20000")
	}
	a, err := change(t, t.Context(), l, options(t), nil)
	require.NoError(t, err)
	assert.EqualValues(t, 40_000, a.Tally.Changed)
	assert.Equal(t, "40000", rows(t, l, "SELECT (SELECT COUNT(*) FROM MyISAM WHERE v LIKE 'https://new%')+(SELECT COUNT(*) FROM Aria WHERE v LIKE 'https://new%') AS x"))
}

// TestNothingIsHalfDone: what stops a change leaves every table as it was.
func TestNothingIsHalfDone(t *testing.T) {
	const transactional = `CREATE TABLE b (id INT PRIMARY KEY, v TEXT) ENGINE=InnoDB; INSERT INTO b SELECT seq, CONCAT('http://old.example/',seq) FROM seq_1_to_5000; `
	t.Run("interrupted", func(t *testing.T) {
		l := testenv.MariaDB(t)
		testenv.Exec(t, l, transactional)
		ctx, cancel := context.WithCancel(t.Context())
		n := 0
		ed, err := engines.Edit(ctx, l)
		require.NoError(t, err)
		defer ed.Close() // an open snapshot would keep the database from being dropped
		_, err = Site(ctx, &site.Site{Root: t.TempDir(), Database: l}, &counting{ed, &n, 3, cancel}, options(t), true)
		assert.ErrorIs(t, err, context.Canceled)
		require.NoError(t, ed.Close())
		assert.Equal(t, "5000", rows(t, l, "SELECT COUNT(*) AS x FROM b WHERE v LIKE 'http://old%'"))
	})
	t.Run("without transactions", func(t *testing.T) {
		l := testenv.MariaDB(t)
		testenv.Exec(t, l, strings.ReplaceAll(transactional, " b ", " z ")+strings.ReplaceAll(transactional, "InnoDB", "MyISAM"))
		ctx, cancel := context.WithCancel(t.Context())
		n := 0
		ed, err := engines.Edit(ctx, l)
		require.NoError(t, err)
		defer ed.Close() // an open snapshot would keep the database from being dropped
		_, err = Site(ctx, &site.Site{Root: t.TempDir(), Database: l}, &counting{ed, &n, 13, cancel}, options(t), true)
		assert.ErrorIs(t, err, context.Canceled)
		require.NoError(t, ed.Close())
		assert.Equal(t, "5000", rows(t, l, "SELECT COUNT(*) AS x FROM b WHERE v LIKE 'http://old%'"), "what no transaction takes back is put back")
		assert.Equal(t, "5000", rows(t, l, "SELECT COUNT(*) AS x FROM z WHERE v LIKE 'http://old%'"), "those with transactions go first, and are taken back")
		a, err := change(t, t.Context(), l, options(t), nil)
		require.NoError(t, err)
		assert.EqualValues(t, 10_000, a.Tally.Changed)
		assert.Equal(t, "0", rows(t, l, "SELECT COUNT(*) AS x FROM b WHERE v LIKE 'http://old%'"))
	})
	t.Run("a user who may only read", func(t *testing.T) {
		l := testenv.MariaDB(t)
		testenv.Exec(t, l, transactional)
		root := func(statements string) {
			testenv.Program(t, "mariadb", nil, "--no-defaults", "-S", l.Socket, "-uroot", "-e", statements)
		}
		root(fmt.Sprintf("GRANT SELECT ON %s.* TO reader@'%%' IDENTIFIED BY 'x'; GRANT SELECT ON %s.* TO reader@localhost IDENTIFIED BY 'x'", l.Name, l.Name))
		t.Cleanup(func() { root("DROP USER reader@'%', reader@localhost") })
		reader := l
		reader.User, reader.Password = "reader", "x"
		_, err := change(t, t.Context(), reader, options(t), nil)
		assert.ErrorIs(t, err, database.ErrReadOnly)
	})
	t.Run("held by others", func(t *testing.T) {
		l := testenv.MariaDB(t)
		testenv.Exec(t, l, transactional)
		testenv.Exec(t, database.Location{Socket: l.Socket}, "SET GLOBAL innodb_lock_wait_timeout=1")
		t.Cleanup(func() { testenv.Exec(t, database.Location{Socket: l.Socket}, "SET GLOBAL innodb_lock_wait_timeout=50") })
		other := testenv.Connect(t, l)
		tx, err := other.Begin()
		require.NoError(t, err)
		_, err = tx.Exec("UPDATE b SET v='mine' WHERE id=999")
		require.NoError(t, err)
		_, err = change(t, t.Context(), l, options(t), nil)
		assert.ErrorIs(t, err, database.ErrBusy)
		require.NoError(t, tx.Rollback())
		assert.Equal(t, "5000", rows(t, l, "SELECT COUNT(*) AS x FROM b WHERE v LIKE 'http://old%'"))
	})
	t.Run("SQLite that another process writes to", func(t *testing.T) {
		l := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "x.sqlite")}
		testenv.Client(t, l, []byte("CREATE TABLE t (v); INSERT INTO t VALUES ('http://old.example');"))
		ed, err := engines.Edit(t.Context(), l)
		require.NoError(t, err)
		defer ed.Close()
		holder, err := engines.Edit(t.Context(), l)
		require.NoError(t, err)
		defer holder.Close()
		require.NoError(t, holder.Begin(t.Context()))
		_, err = Site(t.Context(), &site.Site{Root: t.TempDir(), Database: l}, ed, options(t), true)
		assert.ErrorIs(t, err, database.ErrBusy)
	})
}

// counting cancels a run at its n-th update.
type counting struct {
	database.Editor
	n      *int
	at     int
	cancel func()
}

func (c *counting) Update(ctx context.Context, t *database.EditTable, changes []database.Change) ([]database.Outcome, error) {
	out, err := c.Editor.Update(ctx, t, changes)
	if *c.n++; *c.n == c.at {
		c.cancel()
	}
	return out, err
}
