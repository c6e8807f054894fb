package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// hostileCase is a case of testdata/hostile.
type hostileCase struct {
	entry, what, sql string
	harmless         bool // it means something that does no harm, and is restored
}

// entryOf are the entries of an archive by their names in testdata/hostile.
var entryOf = map[string]string{"table": "0-table", "rows": "1-rows", "end": "2-end", "objects": "z1-objects", "last": "z3-end"}

func hostileCases(t *testing.T, name string) (cases []hostileCase) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata/hostile", name+".sql"))
	require.NoError(t, err)
	for block := range strings.SplitSeq("\n"+string(text), "\n## ") {
		head, sql, _ := strings.Cut(block, "\n")
		entry, what, ok := strings.Cut(head, ": ")
		if !ok {
			continue
		}
		entry, harmless := strings.CutSuffix(entry, "!")
		require.Contains(t, entryOf, entry, head)
		cases = append(cases, hostileCase{entryOf[entry], what, sql, harmless})
	}
	return cases
}

// victim is a target with something in it, and all that could be changed of it.
type victim struct {
	folder string
	l      database.Location
	state  func() string
}

// live are things of a target that an archive does not bring.
var live = map[database.Engine]string{
	database.Postgres: `CREATE TABLE live (id serial PRIMARY KEY, t text UNIQUE); INSERT INTO live (t) VALUES ('mine'); CREATE FUNCTION live_function(text) RETURNS text LANGUAGE sql IMMUTABLE AS 'SELECT $1'; CREATE TYPE live_type AS ENUM ('x');
		CREATE VIEW live_view AS SELECT * FROM live; CREATE MATERIALIZED VIEW live_mat AS SELECT * FROM live; CREATE PROCEDURE live_procedure() LANGUAGE sql AS 'DELETE FROM live'; CREATE TABLE a (b text)`,
	database.MariaDB: "CREATE TABLE live (id INT PRIMARY KEY, t TEXT) ENGINE=InnoDB; INSERT INTO live VALUES (1, 'mine'); CREATE SEQUENCE live_seq START WITH 77; CREATE VIEW live_view AS SELECT * FROM live; CREATE TABLE a (b text)",
}

// serverState asks a server, as its administrator, for what statements could have
// changed on it, of this database and of all that is shared.
var serverState = map[database.Engine]string{
	database.Postgres: `SET search_path=''; SELECT n.nspname, c.relname, c.relkind, c.relowner::regrole, c.relacl, c.reltablespace, obj_description(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname !~ '^pg_' AND n.nspname<>'information_schema' ORDER BY 1,2;
		SELECT * FROM public.live; SELECT last_value, is_called FROM public.live_id_seq; SELECT p.oid::regprocedure, prosecdef FROM pg_proc p WHERE oid>=16384 ORDER BY 1::text; SELECT typname FROM pg_type WHERE oid>=16384 AND typtype<>'c' AND typelem=0 ORDER BY 1;
		SELECT tgname FROM pg_trigger WHERE NOT tgisinternal; SELECT rulename FROM pg_rewrite WHERE rulename<>'_RETURN' AND ev_class>=16384; SELECT conname FROM pg_constraint WHERE oid>=16384 ORDER BY 1; SELECT evtname FROM pg_event_trigger; SELECT extname FROM pg_extension ORDER BY 1; SELECT oprname FROM pg_operator WHERE oid>=16384;
		SELECT castsource FROM pg_cast WHERE oid>=16384; SELECT pubname FROM pg_publication; SELECT srvname FROM pg_foreign_server; SELECT lanname FROM pg_language; SELECT collname FROM pg_collation WHERE oid>=16384;
		SELECT datname, datdba FROM pg_database WHERE datname !~ '^hovix_test' ORDER BY 1; SELECT setdatabase, setrole, setconfig FROM pg_db_role_setting; SELECT spcname FROM pg_tablespace; SELECT name, setting FROM pg_file_settings WHERE sourcefile ~ 'auto'; SELECT rolname, rolsuper FROM pg_roles WHERE rolname !~ '^hovix_test' ORDER BY 1;
		SELECT nspname, nspowner::regrole, nspacl FROM pg_namespace WHERE nspname !~ '^pg_(toast_)?temp' ORDER BY 1; SELECT count(*) FROM pg_largeobject_metadata`,
	database.MariaDB: "SHOW FULL TABLES; SELECT * FROM live; SELECT next_not_cached_value FROM live_seq; SHOW CREATE TABLE live; SHOW TRIGGERS; SHOW EVENTS; SELECT ROUTINE_SCHEMA, ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA NOT LIKE 'hovix%' OR ROUTINE_SCHEMA=DATABASE() ORDER BY 1,2;" +
		"SELECT SCHEMA_NAME, DEFAULT_CHARACTER_SET_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT LIKE 'hovix%' OR SCHEMA_NAME=DATABASE() ORDER BY 1; SELECT user, host, priv FROM mysql.global_priv WHERE user NOT LIKE 'hovix%' ORDER BY 1,2; SELECT * FROM mysql.func; SELECT * FROM mysql.servers; SELECT PLUGIN_NAME, PLUGIN_STATUS FROM information_schema.PLUGINS ORDER BY 1;" +
		"SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA IN ('mysql','sys') ORDER BY 1; SHOW GLOBAL VARIABLES WHERE Variable_name IN ('general_log','general_log_file','read_only','sql_mode','slow_query_log_file','secure_file_priv','local_infile')",
}

func newVictim(t *testing.T, engine string, asAdmin bool) *victim {
	l := engineFresh[engine](t)
	testenv.Client(t, l, []byte(live[l.Engine]))
	admin := l
	admin.User, admin.Password = "tester", testenv.Password
	if asAdmin {
		l = admin
	}
	v := &victim{liveFolder(t, l), l, nil}
	v.state = func() string {
		if l.Engine == database.Postgres {
			return testenv.Client(t, admin, []byte(serverState[l.Engine]))
		}
		cmd := exec.Command("mariadb", "--no-defaults", "-S", l.Socket, "-utester", "-p"+testenv.Password, l.Name)
		cmd.Stdin = strings.NewReader(serverState[l.Engine])
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	return v
}

// TestHostileStatements: what testdata/hostile holds is refused, or does nothing, and
// nothing of the server and the target is changed: whoever restores, the administrator of
// the server too.
func TestHostileStatements(t *testing.T) {
	for _, engine := range []string{"MariaDB", "PostgreSQL"} {
		for _, asAdmin := range []bool{false, true} {
			who := map[bool]string{false: "owner", true: "administrator"}[asAdmin]
			t.Run(engine+" as "+who, func(t *testing.T) {
				t.Parallel()
				source := engineFresh[engine](t)
				testenv.Client(t, source, []byte("CREATE TABLE a (b text); INSERT INTO a VALUES ('x'); CREATE VIEW v AS SELECT b FROM a"))
				dir := filepath.Join(t.TempDir(), "site")
				siteFile(t, dir, fmt.Sprintf("database = %q", source.String()), fmt.Sprintf("database-password = %q", source.Password))
				good := packed(t, dir)
				v := newVictim(t, engine, asAdmin)
				before, state := snapshot(t, v.folder), v.state()
				evil := filepath.Join(t.TempDir(), "evil")
				for _, c := range hostileCases(t, map[string]string{"MariaDB": "mariadb", "PostgreSQL": "postgres"}[engine]) {
					tryHostile(t, good, v.folder, evil, c)
					if now := v.state(); now != state {
						assert.Equal(t, state, now, c.what)
						state = now
					}
					assert.Equal(t, before, snapshot(t, v.folder), c.what)
				}
				assert.Equal(t, []string{"www"}, names(t, filepath.Dir(v.folder)))
			})
		}
	}
	t.Run("SQLite", func(t *testing.T) {
		dir := filepath.Join(t.TempDir(), "site")
		siteFile(t, dir, `database = "sqlite:a.sqlite"`)
		source := database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "a.sqlite")}
		testenv.Client(t, source, []byte("CREATE TABLE a (b TEXT); INSERT INTO a VALUES ('x'); CREATE VIEW v AS SELECT b FROM a;"))
		good := packed(t, dir)
		folder := filepath.Join(t.TempDir(), "www")
		siteFile(t, folder, `database = "sqlite:a.sqlite"`)
		before := snapshot(t, folder)
		evil := filepath.Join(t.TempDir(), "evil")
		for _, c := range hostileCases(t, "sqlite") {
			tryHostile(t, good, folder, evil, c)
			assert.Equal(t, before, snapshot(t, folder), c.what)
		}
	})
}

// tryHostile restores an archive with one of its entries replaced.
func tryHostile(t *testing.T, good, folder, evil string, c hostileCase) {
	t.Helper()
	done := false
	bad := reworked(t, good, func(name string, content []byte) []byte {
		if !strings.HasPrefix(name, "database/") || !strings.Contains(filepath.Base(name), c.entry) {
			return content
		}
		done = true
		return []byte(strings.ReplaceAll(c.sql, "{file}", evil))
	})
	require.True(t, done, "the archive has no entry %s", c.entry)
	run := testenv.Hovix(t, "restore", bad, folder, "--yes")
	if c.harmless {
		assert.Contains(t, []int{0, 3}, run.Status, "%s: %s%s", c.what, run.Out, run.Err)
	} else {
		assert.Equal(t, 1, run.Status, "%s: %s%s", c.what, run.Out, run.Err)
	}
	if run.Status != 1 {
		ok(t, testenv.Hovix(t, "undo", folder, "--yes"))
		ok(t, testenv.Hovix(t, "undo", folder, "--discard", "--yes"))
	}
	assert.NoFileExists(t, evil, c.what)
	require.NoError(t, os.Remove(bad))
}
