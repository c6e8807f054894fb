package main_test

import (
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// TestSessionsOfMariaDB: views and stored code keep what they were made with: the SQL mode,
// charset and collation of the session, and the time zone of an event; through an archive,
// an undo, and pieces with a dump.
func TestSessionsOfMariaDB(t *testing.T) {
	from := testenv.MariaDB(t)
	testenv.ExecAs(t, from, `CREATE TABLE t (a INT, b VARCHAR(20)) ENGINE=InnoDB;
SET NAMES latin1 COLLATE latin1_german2_ci; SET sql_mode='ANSI_QUOTES,PIPES_AS_CONCAT'; SET time_zone='+05:00';
CREATE VIEW v AS SELECT a, 'x' || b AS "c d" FROM t;
CREATE FUNCTION f() RETURNS VARCHAR(10) RETURN 'a' || "b"('');
CREATE TRIGGER tr BEFORE INSERT ON t FOR EACH ROW SET NEW.b = 'a' || NEW.b;
CREATE EVENT ev ON SCHEDULE EVERY 1 DAY STARTS '2035-01-01 03:00:00' DISABLE DO DELETE FROM t;
SET NAMES utf8mb4; SET sql_mode=DEFAULT; SET time_zone='SYSTEM';
CREATE EVENT ev2 ON SCHEDULE AT '2035-06-01 12:00:00' DISABLE DO DELETE FROM t WHERE b='ü';
CREATE PROCEDURE p() SELECT 'Grüße';`)
	options := []string{"--routines", "--events", "--triggers", "--skip-comments"}
	of := func(text []byte) string {
		return string(regexp.MustCompile("DEFINER=\\S*@\\S*[`\"]|`").ReplaceAll(text, nil))
	}
	want := of(mariaDump(t, from, options...))
	require.Contains(t, want, "latin1_german2_ci")
	require.Contains(t, want, "+05:00")
	dir := filepath.Join(t.TempDir(), "site")
	mariaSite(t, dir, from)
	archive := packed(t, dir)

	to := testenv.MariaDB(t)
	other := filepath.Join(t.TempDir(), "other")
	mariaSite(t, other, to)
	restore := []string{"restore", archive, other, "--yes", "--stored-code"}
	ok(t, testenv.Hovix(t, restore...))
	assert.Equal(t, want, of(mariaDump(t, to, options...)))
	ok(t, testenv.Hovix(t, restore...)) // over what is there, and back
	ok(t, testenv.Hovix(t, "undo", other, "--yes"))
	ok(t, testenv.Hovix(t, "undo", other, "--discard", "--yes"))
	assert.Equal(t, want, of(mariaDump(t, to, options...)))

	_, sql := unpackWithTar(t, archive)
	by := testenv.MariaDB(t)
	testenv.Client(t, by, sql)
	assert.Equal(t, want, of(mariaDump(t, by, options...)), "by the client alone")

	pieces := testenv.MariaDB(t)
	plain := t.TempDir()
	siteFile(t, plain, `name = "Pieces"`)
	dump := write(t, filepath.Join(t.TempDir(), "dump.sql"), mariaDump(t, from, "--routines", "--events", "--triggers"))
	restorePieces(t, plain, dump, pieces)
	assert.Equal(t, want, of(mariaDump(t, pieces, options...)), "from a dump")
}
