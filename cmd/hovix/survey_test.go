package main_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"hovix/internal/testenv"
)

// TestSurveyOfWhatIsWrong: what a look at a folder says when it is not what it
// should be: one useful text, and the right status.
func TestSurveyOfWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	config := func(text string) map[string]string {
		return map[string]string{"wp-config.php": text, "wp-includes/version.php": "<?php $wp_version = '6.1';"}
	}
	in := func(folder string, files map[string]string) map[string]string {
		out := map[string]string{}
		for rel, content := range files {
			out[folder+"/"+rel] = content
		}
		return out
	}
	full := "<?php define('DB_NAME','n'); define('DB_USER','u'); define('DB_PASSWORD','secret-pw'); define('DB_HOST','no-such-host.invalid');"
	for name, files := range map[string]map[string]string{
		"empty": {"../empty/x/.keep": ""}, "two": {"a/hovix.toml": "name='a'", "b/hovix.toml": "name='b'", "c/readme": ""}, "one below": {"site/hovix.toml": "name='a'"}, "nothing": {"index.html": "x"},
		"broken": config("<?php\ndefine('DB_NAME', 'x"), "computed": config("<?php define('DB_NAME', vault('x'));"), "no host": config(full), "bad file": {"hovix.toml": "name = \n"}, "within": in(".", config(full)),
	} {
		writeTree(t, filepath.Join(dir, name), files)
	}
	writeTree(t, filepath.Join(dir, "within"), in("blog", config(full)))
	for _, c := range []struct {
		name   string
		status int
		want   []string
	}{
		{"empty/x/..", 1, []string{"no site is here"}},
		{"two", 1, []string{"there are 2 in it, each to be named by its own folder: a, b"}},
		{"one below", 1, []string{"there is one in " + filepath.Join(dir, "one below", "site")}},
		{"nothing", 1, []string{"holds neither hovix.toml nor the settings", "write a short hovix.toml"}},
		{"broken", 1, []string{"site of the kind wordpress", "wp-config.php, line 2: a string has no end"}},
		{"computed", 1, []string{"DB_NAME needs a call of vault(), which Hovix does not make; name the database with --database"}},
		{"no host", 1, []string{"wordpress 6.1", "cannot reach the database server", `"no-such-host.invalid" is unknown here`}},
		{"bad file", 1, []string{"hovix.toml, line 1"}},
		{"within", 1, []string{"Another site lies in blog"}},
		{"nowhere", 1, []string{"there is no folder"}},
	} {
		run := testenv.Hovix(t, "survey", filepath.Join(dir, c.name))
		assert.Equal(t, c.status, run.Status, c.name)
		text := strings.Join(strings.Fields(run.Out+run.Err), " ")
		for _, w := range c.want {
			assert.Contains(t, text, w, c.name)
		}
		assert.NotContains(t, text, "goroutine", c.name)
		assert.NotContains(t, text, "secret-pw", c.name)
	}
}

// TestSurveyWithoutRights: databases that may not be opened, or not be read.
func TestSurveyWithoutRights(t *testing.T) {
	maria, pg := testenv.MariaDB(t), testenv.Postgres(t)
	testenv.Exec(t, maria, "CREATE TABLE t (a INT); REVOKE ALL ON "+maria.Name+".* FROM "+maria.User+"@localhost, "+maria.User+"@'%'")
	admin := pg
	admin.User = "tester"
	testenv.Client(t, admin, []byte("CREATE TABLE secret (a int)"))
	for name, c := range map[string]struct {
		url  string
		want []string
	}{
		"MariaDB, no right":       {maria.String(), []string{"cannot open the database", "may not use the database"}},
		"PostgreSQL, wrong name":  {strings.Replace(pg.String(), pg.Name+"?", pg.Name+"x?", 1), []string{"cannot open the database", "the server has no database"}},
		"PostgreSQL, wrong user":  {strings.Replace(pg.String(), "//"+pg.User, "//nobody", 1), []string{"cannot log in to the server", "refuses this user and password"}},
		"PostgreSQL, wrong port":  {"postgres://u@127.0.0.1:1/n", []string{"cannot reach the database server", "Nothing answers at 127.0.0.1:1"}},
		"PostgreSQL, wrong place": {"postgres://u@/n?socket=/no/such", []string{"cannot reach the database server", "No server listens on the socket /no/such/.s.PGSQL.5432"}},
	} {
		dir := filepath.Join(t.TempDir(), "site")
		siteFile(t, dir, `database = "`+c.url+`"`, `database-password = "`+testenv.Password+`"`)
		run := testenv.Hovix(t, "survey", dir)
		assert.Equal(t, 1, run.Status, name)
		for _, w := range c.want {
			assert.Contains(t, run.Err, w, name)
		}
		assert.NotContains(t, run.Out+run.Err, testenv.Password, name)
	}
	dir := filepath.Join(t.TempDir(), "site")
	postgresSite(t, dir, pg)
	run := testenv.Hovix(t, "pack", dir, "-o", filepath.Join(t.TempDir(), "x.tar.zst"))
	assert.Equal(t, 1, run.Status)
	assert.Contains(t, run.Err, "read secret: permission denied for table secret")
}
