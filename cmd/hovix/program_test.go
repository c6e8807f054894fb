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

// TestProgramsOfPHP: settings of a program of one's own are named by their keys, leave
// without their secrets, and lead to the new database, as PHP itself reads them.
func TestProgramsOfPHP(t *testing.T) {
	const secret = "topsecret-mail-4711"
	for name, c := range map[string]struct {
		file, settings, login, more, read string
	}{
		"constants": {"inc/config.php", `<?php // define('DB_NAME', 'nobody');
define('DB_HOST', '%[1]s'); define("DB_PORT", %[2]d); define('DB_NAME', '%[3]s');
const DB_USER = '%[4]s'; define('DB_PASS', '%[5]s'); define('HOME', 'http://old.example/app'); define('SMTP_PASS', '` + secret + `');`,
			`host = "DB_HOST"
port = "DB_PORT"
name = "DB_NAME"
user = "DB_USER"
password = "DB_PASS"
address = "HOME"
secrets = ["SMTP_PASS"]`, "", `require 'inc/config.php'; echo json_encode([DB_HOST, (int)DB_PORT, DB_NAME, DB_USER, DB_PASS, HOME, SMTP_PASS]);`},
		"a returned array": {"config.php", `<?php
return ['db' => ['host' => '%[1]s:%[2]d', 'name' => '%[3]s', 'user' => '%[4]s', 'password' => '%[5]s'], # comment
  'url' => "http://old.example/app", 'mail' => array('password' => '` + secret + `')];`,
			`host = "db.host"
name = "db.name"
user = "db.user"
password = "db.password"
address = "url"
secrets = ["mail.password"]`, "", `$c = require 'config.php'; $h = explode(':', $c['db']['host']); echo json_encode([$h[0], (int)$h[1], $c['db']['name'], $c['db']['user'], $c['db']['password'], $c['url'], $c['mail']['password']]);`},
		"an object, and another file": {"config.php", `<?php
unset($CFG); global $CFG; $CFG = new stdClass();
$CFG->dbhost = '%[1]s'; $CFG->dbport = '%[2]d'; $CFG->dbname = '%[3]s'; $CFG->dbuser = '%[4]s'; $CFG->dbpass = '%[5]s'; $CFG->wwwroot = 'http://old.example/app';`,
			`host = "$CFG.dbhost"
port = "$CFG.dbport"
name = "$CFG.dbname"
user = "$CFG.dbuser"
password = "$CFG.dbpass"
address = "$CFG.wwwroot"`, `[[settings]]
file = "mail.ini"
secrets = ["smtp.password"]`, `require 'config.php'; $m = parse_ini_file('mail.ini', true); echo json_encode([$CFG->dbhost, (int)$CFG->dbport, $CFG->dbname, $CFG->dbuser, $CFG->dbpass, $CFG->wwwroot, $m['smtp']['password']]);`},
	} {
		t.Run(name, func(t *testing.T) {
			from, to := testenv.MariaDB(t), testenv.MariaDB(t)
			testenv.Client(t, from, []byte("CREATE TABLE a (b TEXT); INSERT INTO a VALUES ('http://old.example/app/x');"))
			dir := filepath.Join(t.TempDir(), "site")
			writeTree(t, dir, map[string]string{
				c.file:      fmt.Sprintf(c.settings, "127.0.0.1", from.Port, from.Name, from.User, from.Password),
				"mail.ini":  "[smtp]\nuser = x\npassword = \"" + secret + "\"\n; " + from.Password + "\n",
				"index.php": "<?php echo 1;"})
			siteFile(t, dir, `name = "Program"`, c.more, "[login]", `file = "`+c.file+`"`, `engine = "mariadb"`, c.login)
			if c.more == "" {
				require.NoError(t, os.Remove(filepath.Join(dir, "mail.ini")))
			}
			read := func(dir string) string {
				return string(testenv.PHP(t, "chdir('"+dir+"'); "+c.read, nil))
			}
			assert.Equal(t, fmt.Sprintf(`["127.0.0.1",%d,"%s","%s","%s","http:\/\/old.example\/app","%s"]`, from.Port, from.Name, from.User, from.Password, secret), read(dir))
			file := packed(t, dir)
			out, _ := unpackWithTar(t, file)
			for rel := range snapshot(t, out) {
				if content, err := os.ReadFile(filepath.Join(out, rel)); err == nil {
					assert.NotContains(t, string(content), secret, rel)
					assert.NotContains(t, string(content), from.Password, rel)
				}
			}
			target := filepath.Join(t.TempDir(), "copy")
			address := to.String()
			run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + to.Password}, "restore", file, target, "--url", "https://new.example", "--database", strings.Replace(address, "?socket="+to.Socket, "", 1))
			require.Equal(t, 0, run.Status, run.Err)
			got := read(target)
			assert.True(t, strings.HasPrefix(got, fmt.Sprintf(`["127.0.0.1",%d,"%s","%s","%s","https:\/\/new.example",`, to.Port, to.Name, to.User, to.Password)), got)
			assert.NotContains(t, got, secret)
			assert.Contains(t, testenv.Client(t, to, []byte("SELECT b FROM a;")), "https://new.example/x")
			survey := testenv.Hovix(t, "survey", target)
			assert.Contains(t, survey.Out, to.Name)
			// With its secrets it keeps them.
			ok(t, testenv.Hovix(t, "pack", dir, "--with-secrets", "-o", filepath.Join(t.TempDir(), "secrets.tar.zst")))
		})
	}
}

// TestSettingsOfTheOldSite: settings that would lead a copy to the database of the site it
// was made of are found, at packing and before the switch.
func TestSettingsOfTheOldSite(t *testing.T) {
	from, to := testenv.MariaDB(t), testenv.MariaDB(t)
	testenv.Client(t, from, []byte("CREATE TABLE a (b TEXT);"))
	dir := filepath.Join(t.TempDir(), "site")
	writeTree(t, dir, map[string]string{"db.php": "<?php /* '" + from.Name + "' */ $db = new PDO('mysql:host=127.0.0.1;dbname=" + from.Name + "', '" + from.User + "', '" + from.Password + "');", "conf/site.ini": "title = " + from.Name + "\n"})
	mariaSite(t, dir, from, `settings = ["conf/site.ini"]`)
	file := filepath.Join(t.TempDir(), "site.tar.zst")
	run := testenv.Hovix(t, "pack", dir, "-o", file)
	assert.Equal(t, 3, run.Status)
	assert.Contains(t, run.Out, "db.php: it holds the password of the database")

	mariaSite(t, dir, from, `settings = ["conf/site.ini", "db.php"]`)
	run = testenv.Hovix(t, "pack", dir, "-o", file, "--yes")
	require.Zero(t, run.Status, run.Out)
	target := filepath.Join(t.TempDir(), "copy")
	restore := []string{"restore", file, target, "--yes", "--database", to.String()}
	env := []string{"HOVIX_DATABASE_PASSWORD=" + to.Password}
	run = testenv.HovixIn(t, "", env, restore...)
	assert.Equal(t, 1, run.Status)
	assert.Contains(t, run.Err, "db.php names the database "+from.Name)
	assert.NotContains(t, run.Err, "site.ini", "a title of the same name is no database")
	assert.NoDirExists(t, target)
	run = testenv.HovixIn(t, "", env, append(restore, "--old-settings")...)
	assert.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "! db.php names the database "+from.Name)

	// An archive of code alone must not bring the target to use a file outside of it.
	outside := filepath.Join(t.TempDir(), "others.sqlite")
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: outside}, []byte("CREATE TABLE secret (a);"))
	plain := filepath.Join(t.TempDir(), "plain")
	writeTree(t, plain, map[string]string{"index.html": "x"})
	siteFile(t, plain, `name = "Plain"`, `database = "sqlite:`+outside+`"`)
	file = filepath.Join(t.TempDir(), "plain.tar.zst")
	ok(t, testenv.Hovix(t, "pack", plain, "--parts", "code,settings", "-o", file))
	run = testenv.Hovix(t, "restore", file, filepath.Join(t.TempDir(), "new"), "--yes")
	assert.Equal(t, 1, run.Status)
	assert.Contains(t, run.Err, "they name the database sqlite:"+outside)
}
