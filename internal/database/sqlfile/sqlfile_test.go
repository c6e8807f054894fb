package sqlfile

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/dump"
)

func open(t testing.TB, text string) (database.Reader, error) {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, "a.sql")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	r, err := Open(context.Background(), path, dir, nil)
	if err == nil {
		t.Cleanup(func() { _ = r.Close() })
	}
	return r, err
}

func rows(t testing.TB, r database.Reader, table, without string) string {
	t.Helper()
	var b strings.Builder
	require.NoError(t, r.Rows(context.Background(), table, without, 1000, func(c database.Chunk) error {
		b.Write(c.SQL)
		return nil
	}))
	return b.String()
}

// panelDump is written as web panels do: keys and automatic numbers come last.
const panelDump = `-- Server version: 10.6.12-MariaDB
SET SQL_MODE = "NO_AUTO_VALUE_ON_ZERO";
START TRANSACTION;
SET time_zone = "+00:00";
/*!40101 SET NAMES utf8mb4 */;

CREATE TABLE ` + "`posts`" + ` (
  ` + "`id`" + ` int(11) NOT NULL,
  ` + "`title`" + ` varchar(50) CHARACTER SET latin1 NOT NULL,
  ` + "`body`" + ` text DEFAULT NULL,
  ` + "`raw`" + ` blob DEFAULT NULL,
  ` + "`at`" + ` timestamp NOT NULL DEFAULT current_timestamp()
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

INSERT INTO ` + "`posts` (`id`, `title`, `body`, `raw`, `at`)" + ` VALUES
(1, 'Café', 'It''s a ; day', 0xff00, '2024-01-01 00:00:00'),
(2, 'plain', 'Grüße', NULL, '2024-01-01 00:00:00');
REPLACE INTO posts (id, title) VALUES (3, 'trash');

ALTER TABLE ` + "`posts`" + `
  ADD PRIMARY KEY (` + "`id`" + `),
  ADD KEY ` + "`by_title` (`title`)" + `;
ALTER TABLE ` + "`posts`" + `
  MODIFY ` + "`id`" + ` int(11) NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=4;
COMMIT;
`

func TestPanelDump(t *testing.T) {
	r, err := open(t, panelDump)
	require.NoError(t, err)
	assert.Equal(t, database.Info{Engine: database.MariaDB, Product: "MariaDB", Version: "10.6.12", Charset: "utf8mb4"}, r.Info())
	create, keys, err := r.Definition(context.Background(), "posts")
	require.NoError(t, err)
	assert.Empty(t, keys)
	assert.Contains(t, create, "`id` int(11) NOT NULL AUTO_INCREMENT,\n")
	assert.Contains(t, create, "PRIMARY KEY (`id`),\n  KEY `by_title` (`title`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 AUTO_INCREMENT=4")
	assert.Equal(t, "INSERT INTO `posts` (`id`,`title`,`body`,`raw`,`at`) VALUES\n(1, _utf8mb4'Café', 'It''s a ; day', 0xff00, '2024-01-01 00:00:00'),\n(2, 'plain', _binary'Grüße', NULL, '2024-01-01 00:00:00');\n"+
		"INSERT INTO `posts` (`id`,`title`) VALUES\n(3, 'trash');\n", rows(t, r, "posts", ""), "text in another charset than the column's is converted by the server")
	assert.NotContains(t, rows(t, r, "posts", "`title`='TRASH' OR body LIKE '%day'"), "trash")
	got, err := r.Strings(context.Background(), "SELECT COUNT(*), MAX(id) FROM `posts` WHERE title LIKE 'Caf%' OR raw IS NULL")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"3", "3"}}, got)
	_, err = r.Strings(context.Background(), "SELECT 1 FROM `gone`")
	assert.ErrorContains(t, err, "gone")
}

func TestUnfitDumps(t *testing.T) {
	const table = "CREATE TABLE `t` (`a` int, `w` timestamp NULL);\n"
	for text, want := range map[string]string{
		"":                          "it is empty",
		"PGDMP\x01\x02":             "custom format",
		"SELECT 1;":                 "it makes no table",
		"INSERT INTO t VALUES (1);": "before it makes it",
		table + "UPDATE t SET a=1;": "it changes rows by",
		table + "TRUNCATE TABLE t;": "it changes rows by",
		table + "SET time_zone='+02:00';INSERT INTO t VALUES (1,NULL);":                                                  "is in the time zone +02:00",
		table + "INSERT INTO t VALUES (1,NULL);":                                                                         "does not say in which time zone",
		table + "SET time_zone='UTC';SET NAMES gbk;INSERT INTO t VALUES (SLEEP(9),1);":                                   "a literal was expected",
		"CREATE TABLE `t` (`a` text) CHARSET=utf8;SET NAMES sjis;INSERT INTO t VALUES ('x');":                            "in the charset sjis",
		"SET sql_mode='ANSI_QUOTES';CREATE TABLE t (a int);INSERT INTO t VALUES (1);":                                    "in the SQL mode ANSI_QUOTES",
		"USE a;CREATE TABLE t (a int);USE b;CREATE TABLE t (a int);":                                                     "several databases (a, b)",
		table + "ALTER TABLE t DROP COLUMN a;":                                                                           "not part of a dump",
		table + "INSERT INTO t (x) VALUES (1);":                                                                          "time zone",
		"-- PostgreSQL database dump\nCREATE TABLE public.t (a int);\nINSERT INTO public.t VALUES (1);":                  "make the dump with COPY",
		"-- PostgreSQL database dump\nCREATE TABLE public.t (a int);\nCOPY public.t (a) FROM stdin;\n1\n2\n":             "the rows of t: unexpected EOF",
		"PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t(a);\nATTACH '/etc/passwd' AS x;\nCOMMIT;\n":        "unknown kind",
		"PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t(a);\nINSERT INTO t VALUES(load_extension('x'));\n": "a literal was expected",
	} {
		r, err := open(t, text)
		if err == nil { // rows are read in full only when they are packed
			err = r.Rows(context.Background(), "t", "", 1000, func(database.Chunk) error { return nil })
		}
		assert.ErrorContains(t, err, want, text)
	}
	_, err := open(t, "<html>")
	assert.ErrorIs(t, err, dump.ErrNotDump)
	_, err = open(t, table+"CALL x();")
	var unfit *UnfitError
	assert.ErrorAs(t, err, &unfit)
}

// FuzzOpen: whatever a dump holds, it is read or refused, and what is read is rows
// of literals alone.
func FuzzOpen(f *testing.F) {
	for _, s := range []string{panelDump,
		"-- PostgreSQL database dump\n\\restrict x\n\nCREATE TABLE public.t (a int, b text);\nALTER TABLE public.t ALTER COLUMN a ADD GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME public.s);\nCOPY public.t (a, b) FROM stdin;\n1\tx\\n\n\\.\nCREATE INDEX i ON ONLY public.t USING btree (a);\nSELECT pg_catalog.setval('public.s', 1, true);\n",
		"/*!50001 CREATE TABLE `v` (`a` tinyint NOT NULL) ENGINE=MyISAM */;\nDELIMITER ;;\n/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`b`*/ /*!50003 TRIGGER t AFTER INSERT ON v FOR EACH ROW SET @a=1 */;;\nDELIMITER ;\n/*!50001 DROP TABLE v*/;\nCREATE VIEW v AS SELECT 1;CREATE TABLE t (a int);",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := open(t, text)
		if err != nil {
			return
		}
		ctx := context.Background()
		tables, err := r.Tables(ctx)
		require.NoError(t, err)
		for _, table := range tables {
			if _, _, err := r.Definition(ctx, table.Name); err != nil {
				t.Fatal(err)
			}
			_ = r.Rows(ctx, table.Name, "", 100, func(c database.Chunk) error {
				require.NotEmpty(t, c.SQL)
				require.Positive(t, c.Rows)
				return nil
			})
		}
	})
}
