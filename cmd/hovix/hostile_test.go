package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestHostileSQL puts SQL into archives that does more than a site's tables and rows: it
// is refused before anything is changed, by users who might do it all.
func TestHostileSQL(t *testing.T) {
	t.Parallel()
	const table, rows, end, objects, last = "0-table", "1-rows", "2-end", "z1-objects", "z3-end"
	for engine, cases := range map[string][]struct{ what, entry, sql, says string }{
		"MariaDB": {
			{"a file among the rows", rows, "INSERT INTO `a` (`b`) VALUES (LOAD_FILE('/etc/passwd'));", "LOAD_FILE"},
			{"stacked statements", rows, "INSERT INTO `a` (`b`) VALUES ('x'); DROP TABLE `live`;", "DROP"},
			{"a statement in a comment", rows, "/*!50000 DROP TABLE `live` */;", "refused SQL"},
			{"one behind the rows", rows, "INSERT INTO `a` (`b`) VALUES ('x') /*!50000 ON DUPLICATE KEY UPDATE b=LOAD_FILE('/etc/passwd') */;", "refused SQL"},
			{"a subquery", rows, "INSERT INTO `a` (`b`) VALUES ((SELECT 1));", "refused SQL"},
			{"rows of another table", rows, "INSERT INTO `live` (`b`) VALUES ('x');", "rows of table live"},
			{"rows of another database", rows, "INSERT INTO `mysql`.`a` (`b`) VALUES ('x');", "refused SQL"},
			{"a table from a query", table, "CREATE TABLE `a` (`b` text) AS SELECT * FROM `live`;", "refused SQL"},
			{"a table elsewhere", table, "CREATE TABLE `a` (`b` text) ENGINE=FEDERATED CONNECTION='mysql://x@127.0.0.1/d/t';", "refused SQL"},
			{"a folder of the server", table, "CREATE TABLE `a` (`b` text) ENGINE=MyISAM DATA DIRECTORY='/tmp';", "an option of a table"},
			{"the same in a comment", table, "CREATE TABLE `a` (`b` text) ENGINE=MyISAM /*!50000 DATA DIRECTORY='/tmp' */;", "an option of a table"},
			{"tables joined in one", table, "CREATE TABLE `a` (`b` text) ENGINE=MRG_MyISAM UNION=(`live`);", "refused SQL"},
			{"a file as a default", table, "CREATE TABLE `a` (`b` text DEFAULT (LOAD_FILE('/etc/passwd')));", "LOAD_FILE"},
			{"a change behind the keys", end, "ALTER TABLE `a` ADD KEY (`b`(9)); GRANT ALL ON *.* TO x;\n-- rows: 1\n", "refused SQL"},
			{"somebody else's rights", objects, "CREATE DEFINER=`root`@`localhost` SQL SECURITY DEFINER VIEW `v` AS SELECT 1;", "rights of another account (DEFINER)"},
			{"a file in a view", objects, "CREATE VIEW `v` AS SELECT LOAD_FILE('/etc/passwd');", "refers to LOAD_FILE"},
			{"a file written", objects, "CREATE VIEW `v` AS SELECT 1 INTO OUTFILE '/tmp/x';", "INTO"},
			{"an account", objects, "CREATE USER x;", "unknown kind"},
			{"a right", objects, "GRANT ALL ON *.* TO x;", "unknown kind"},
			{"a library", objects, "CREATE FUNCTION f RETURNS STRING SONAME 'x.so';", "library"},
			{"a trigger", objects, "DELIMITER ;;\nCREATE TRIGGER `t` BEFORE INSERT ON `a` FOR EACH ROW DELETE FROM `live`;;\nDELIMITER ;\n", "trigger t"},
			{"a routine", objects, "DELIMITER ;;\nCREATE PROCEDURE `p`() DELETE FROM `live`;;\nDELIMITER ;\n", "routine p"},
			{"an event", objects, "DELIMITER ;;\nCREATE EVENT `e` ON SCHEDULE EVERY 1 DAY DO DELETE FROM `live`;;\nDELIMITER ;\n", "event e"},
			{"a query at the end", last, "DO SLEEP(1000);", "refused SQL"},
		},
		"PostgreSQL": {
			{"stacked statements", rows, "COPY \"public\".\"a\" (\"b\") FROM stdin;\nx\n\\.\nDROP TABLE live;", "refused SQL"},
			{"a program", rows, "COPY \"public\".\"a\" (\"b\") FROM PROGRAM 'id';\nx\n\\.\n", "refused SQL"},
			{"a file of the server", rows, "COPY \"public\".\"a\" (\"b\") FROM '/etc/passwd';\nx\n\\.\n", "refused SQL"},
			{"rows of another table", rows, "COPY \"public\".\"live\" (\"b\") FROM stdin;\nx\n\\.\n", "rows of table live"},
			{"a file as a default", table, "CREATE TABLE \"public\".\"a\" (\"b\" text DEFAULT pg_read_file('/etc/passwd'));", "pg_read_file"},
			{"a name in escapes", table, `CREATE TABLE "public"."a" ("b" text DEFAULT U&"\0070g_read_file"('/etc/passwd'));`, "escapes"},
			{"a file in a view", objects, "CREATE VIEW \"public\".\"v\" AS SELECT pg_read_file('/etc/passwd');", "pg_read_file"},
			{"a query in a text", objects, "CREATE MATERIALIZED VIEW \"public\".\"v\" AS SELECT query_to_xml('DELETE FROM live', true, true, '');", "query_to_xml"},
			{"a language that reaches out", objects, "CREATE FUNCTION \"public\".\"f\"() RETURNS text LANGUAGE plpython3u AS 'x';", "plpython3u"},
			{"a block", objects, "DO $$BEGIN DELETE FROM live; END$$;", "unknown kind"},
			{"a role", objects, "CREATE ROLE x SUPERUSER;", "unknown kind"},
			{"another owner", objects, "ALTER TABLE \"public\".\"a\" OWNER TO x;", "refused SQL"},
			{"a server setting", objects, "ALTER SYSTEM SET x=1;", "unknown kind"},
			{"a routine", objects, "CREATE FUNCTION \"public\".\"f\"() RETURNS int LANGUAGE sql AS $$SELECT 1$$;", "routine f"},
			{"a rule", objects, "CREATE RULE r AS ON INSERT TO \"public\".\"a\" DO ALSO DELETE FROM live;", "trigger r"},
			{"a query at the end", last, "SELECT pg_sleep(1000);", "refused SQL"},
		},
	} {
		t.Run(engine, func(t *testing.T) {
			source := engineFresh[engine](t)
			testenv.Client(t, source, []byte("CREATE TABLE a (b text); INSERT INTO a VALUES ('x'); CREATE VIEW v AS SELECT b FROM a"))
			dir := filepath.Join(t.TempDir(), "site")
			siteFile(t, dir, fmt.Sprintf("database = %q", source.String()), fmt.Sprintf("database-password = %q", source.Password))
			good := packed(t, dir)
			l := engineFresh[engine](t)
			testenv.Client(t, l, []byte("CREATE TABLE live (b text); INSERT INTO live VALUES ('mine'); CREATE TABLE a (b text)"))
			folder := liveFolder(t, l)
			before, tables := snapshot(t, folder), everything(t, l)
			for _, c := range cases {
				bad := reworked(t, good, func(name string, content []byte) []byte {
					if strings.Contains(filepath.Base(name), c.entry) && strings.HasPrefix(name, "database/") {
						return []byte(c.sql)
					}
					return content
				})
				run := testenv.Hovix(t, "restore", bad, folder, "--yes")
				assert.Equal(t, 1, run.Status, "%s: %s", c.what, run.Out)
				assert.Contains(t, run.Err, c.says, c.what)
				assert.Equal(t, before, snapshot(t, folder), c.what)
				assert.Equal(t, tables, everything(t, l), c.what)
				require.NoError(t, os.Remove(bad))
			}
			assert.Equal(t, []string{"www"}, names(t, filepath.Dir(folder)))
			run := testenv.Hovix(t, "restore", good, folder, "--yes")
			assert.Equal(t, 0, run.Status, run.Err)
		})
	}
}

// everything lists what is in a database, with the rows of the table live.
func everything(t *testing.T, l database.Location) string {
	t.Helper()
	if l.Engine == database.Postgres {
		return testenv.Client(t, l, []byte("SELECT nspname, relname, relkind FROM pg_class JOIN pg_namespace n ON n.oid=relnamespace WHERE nspname !~ '^pg_|information_schema' ORDER BY 1, 2; SELECT * FROM live; SELECT proname FROM pg_proc WHERE pronamespace='public'::regnamespace"))
	}
	return testenv.Client(t, l, []byte("SHOW FULL TABLES; SELECT * FROM live; SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE(); SHOW TRIGGERS; SHOW EVENTS"))
}
