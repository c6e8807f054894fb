package main_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// The sites here are stand-ins: settings as the software's public documentation
// describes them, and the few tables that Hovix looks at, with their columns.

// writeTree writes files below a folder.
func writeTree(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for rel, content := range files {
		p := filepath.Join(dir, filepath.FromSlash(rel))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(content), 0o640))
	}
}

// standIn is a site of a kind with its settings, as they are read by PHP.
type standIn struct {
	kind, secrets string // secrets: words that may not leave the machine
	files         func(l database.Location) map[string]string
	sql           func(l database.Location) string
	settings      string // the settings file
	tell          string // PHP that tells the settings as name=value lines
	want          func(l database.Location, folder string) []string
	survey        []string
	emptied       string // a table whose rows stay behind
}

func hostOf(l database.Location) string {
	if l.Engine == database.Postgres {
		return l.Socket
	}
	return l.Host
}

var drupalStandIn = standIn{
	kind: "drupal", secrets: "salt-of-the-old-site",
	files: func(l database.Location) map[string]string {
		driver := "mysql"
		if l.Engine == database.Postgres {
			driver = "pgsql"
		}
		return map[string]string{
			"hovix.toml":                           "kind = \"drupal\"\naddress = \"http://old.example\"\n",
			"composer.json":                        "{}",
			"web/index.php":                        "<?php",
			"web/core/lib/Drupal.php":              "<?php\nnamespace { class Drupal {\n  const VERSION = '10.2.3';\n  const CORE_COMPATIBILITY = '8.x';\n} }",
			"web/sites/default/files/a.txt":        "upload",
			"web/sites/default/files/css/x.css":    "cache",
			"web/sites/default/settings.local.php": "<?php\n$settings['hash_salt'] = 'salt-of-the-old-site';\n$config['system.logging']['error_level'] = 'hide';\n",
			"web/sites/default/settings.php": fmt.Sprintf("<?php\n// The password was '%s' for long.\n$databases = [];\n$settings['update_free_access'] = FALSE;\n$settings['trusted_host_patterns'] = ['^old\\.example$'];\n$settings['file_public_path'] = 'sites/default/files';\n"+
				"$databases['default']['default'] = array (\n  'database' => '%s',\n  'username' => '%s',\n  'password' => '%s', // secret\n  'prefix' => 'dr_',\n  'host' => '%s',\n  'port' => '%d',\n  'driver' => '%s',\n  'namespace' => 'Drupal\\\\%s\\\\Driver\\\\Database\\\\%s',\n);\n"+
				"if (file_exists($app_root . '/' . $site_path . '/settings.other.php')) {\n  include $app_root . '/' . $site_path . '/settings.other.php';\n}\nif (file_exists(__DIR__ . '/settings.local.php')) {\n  include __DIR__ . '/settings.local.php';\n}\n",
				l.Password, l.Name, l.User, l.Password, hostOf(l), l.Port, driver, driver, driver),
		}
	},
	sql: func(l database.Location) string {
		blob := map[database.Engine]string{database.MariaDB: "LONGBLOB", database.Postgres: "BYTEA", database.SQLite: "BLOB"}[l.Engine]
		return `CREATE TABLE dr_config (name VARCHAR(255) PRIMARY KEY, data ` + blob + `); INSERT INTO dr_config VALUES ('system.site', 'a:2:{s:4:"name";s:12:"Harbour Club";s:4:"mail";s:1:"x";}');
			CREATE TABLE dr_users_field_data (uid INT PRIMARY KEY, name VARCHAR(60), mail VARCHAR(254), status INT); INSERT INTO dr_users_field_data VALUES (0,'','',0),(1,'keeper','keeper@mail.example',1),(2,'guest','g@mail.example',1),(3,'second','s@mail.example',1);
			CREATE TABLE dr_user__roles (entity_id INT, roles_target_id VARCHAR(255)); INSERT INTO dr_user__roles VALUES (3,'administrator');
			CREATE TABLE dr_node__body (entity_id INT PRIMARY KEY, body_value TEXT); INSERT INTO dr_node__body VALUES (1,'<a href="http://old.example/a">x</a>');
			CREATE TABLE dr_cache_render (cid VARCHAR(100) PRIMARY KEY, data TEXT); INSERT INTO dr_cache_render VALUES ('x','http://old.example/cached');`
	},
	settings: "web/sites/default/settings.php",
	tell:     `$app_root = '/none'; $site_path = 'none'; include $argv[1]; $d = $databases['default']['default']; foreach (['database','username','password','host','port','prefix'] as $k) echo "$k=$d[$k]\n"; echo "salt=", strlen($settings['hash_salt']), "\n";`,
	want: func(l database.Location, _ string) []string {
		return []string{"database=" + l.Name, "username=" + l.User, "password=" + l.Password, "host=" + hostOf(l), "port=" + strconv.Itoa(l.Port), "prefix=dr_", "salt=52"}
	},
	survey:  []string{"Harbour Club", "drupal 10.2.3", "http://old.example", "keeper <keeper@mail.example>", "second", "rows of table dr_cache_render", "web/sites/default/files/css"},
	emptied: "dr_cache_render",
}

var joomlaStandIn = standIn{
	kind: "joomla", secrets: "joomla-secret-16",
	files: func(l database.Location) map[string]string {
		kind, host := "mysqli", net.JoinHostPort(l.Host, strconv.Itoa(l.Port))
		if l.Engine == database.Postgres {
			kind, host = "pgsql", fmt.Sprintf("127.0.0.1:%d", l.Port)
		}
		return map[string]string{
			"index.php": "<?php", "administrator/index.php": "<?php", "administrator/cache/x.php": "cache", "tmp/t": "tmp", "images/a.jpg": "upload", "backup.zip": "left lying around", "images/offered.zip": "a download",
			"libraries/src/Version.php": "<?php\nnamespace Joomla\\CMS;\nfinal class Version\n{\n    public const PRODUCT = 'Joomla!';\n    public const MAJOR_VERSION = 5;\n    public const MINOR_VERSION = 1;\n    public const PATCH_VERSION = 2;\n    public function getLongVersion() { return self::PRODUCT . ' x'; }\n}",
			"configuration.php":         fmt.Sprintf("<?php\nclass JConfig {\n\tpublic $offline = false;\n\tpublic $sitename = 'Pilots\\' Union';\n\tpublic $dbtype = '%s';\n\tpublic $host = '%s';\n\tpublic $user = '%s';\n\tpublic $password = '%s';\n\tpublic $db = '%s';\n\tpublic $dbprefix = 'j1_';\n\tpublic $live_site = 'http://old.example';\n\tpublic $secret = 'joomla-secret-16';\n\tpublic $smtppass = '';\n\tpublic $log_path = '@ROOT@/administrator/logs';\n\tpublic $tmp_path = '@ROOT@/tmp';\n}\n", kind, host, l.User, l.Password, l.Name),
		}
	},
	sql: func(database.Location) string {
		return `CREATE TABLE j1_extensions (extension_id INT PRIMARY KEY); CREATE TABLE j1_session (session_id VARCHAR(100) PRIMARY KEY, data TEXT); INSERT INTO j1_session VALUES ('x','http://old.example');
			CREATE TABLE j1_users (id INT PRIMARY KEY, name VARCHAR(400), username VARCHAR(150), email VARCHAR(100), block INT); INSERT INTO j1_users VALUES (1,'Head Keeper','keeper','keeper@mail.example',0),(2,'Guest','guest','g@mail.example',0);
			CREATE TABLE j1_user_usergroup_map (user_id INT, group_id INT); INSERT INTO j1_user_usergroup_map VALUES (1,8),(2,2);
			CREATE TABLE j1_content (id INT PRIMARY KEY, introtext TEXT, state INT); INSERT INTO j1_content VALUES (1,'<img src="http://old.example/images/a.jpg">',1),(2,'gone',-2);`
	},
	settings: "configuration.php",
	tell:     `include $argv[1]; $c = new JConfig; foreach (['db','user','password','host','dbprefix','live_site','tmp_path'] as $k) echo "$k=", $c->$k, "\n"; echo "secret=", strlen($c->secret), "\n";`,
	want: func(l database.Location, folder string) []string {
		host := l.Socket
		switch l.Engine {
		case database.MariaDB:
			host = "localhost:" + l.Socket
		case database.Postgres:
			host = fmt.Sprintf("127.0.0.1:%d", l.Port)
		}
		return []string{"db=" + l.Name, "user=" + l.User, "password=" + l.Password, "host=" + host, "dbprefix=j1_", "live_site=https://new.example/club", "tmp_path=" + folder + "/tmp", "secret=16"}
	},
	survey:  []string{"Pilots' Union", "joomla 5.1.2", "http://old.example", "keeper <keeper@mail.example>", "rows of table j1_session", "backup.zip", "administrator/cache"},
	emptied: "j1_session",
}

var mediawikiStandIn = standIn{
	kind: "mediawiki", secrets: "wiki-secret-key",
	files: func(l database.Location) map[string]string {
		database_ := fmt.Sprintf("$wgDBtype = \"mysql\";\n$wgDBserver = \"%s\";\n$wgDBname = \"%s\";\n$wgDBuser = \"%s\";\n$wgDBpassword = \"%s\";\n", net.JoinHostPort(l.Host, strconv.Itoa(l.Port)), l.Name, l.User, l.Password)
		switch l.Engine {
		case database.Postgres:
			database_ = fmt.Sprintf("$wgDBtype = \"postgres\";\n$wgDBserver = \"%s\";\n$wgDBport = \"%d\";\n$wgDBname = \"%s\";\n$wgDBuser = \"%s\";\n$wgDBpassword = \"%s\";\n$wgDBmwschema = \"public\";\n", l.Socket, l.Port, l.Name, l.User, l.Password)
		case database.SQLite:
			database_ = "$wgDBtype = \"sqlite\";\n$wgDBname = \"wiki\";\n$wgSQLiteDataDir = \"@ROOT@/data\";\n"
		}
		return map[string]string{
			"index.php": "<?php", "includes/Defines.php": "<?php\ndefine( 'MW_VERSION', '1.41.0' );\n", "images/a.png": "upload", "images/thumb/a.png": "thumb", "cache/x": "cache",
			"LocalSettings.php": "<?php\nif ( !defined( 'MEDIAWIKI' ) ) {\n\texit;\n}\n$wgSitename = \"Tide Tables\";\n$wgScriptPath = \"/wiki\";\n$wgArticlePath = \"/wiki/index.php/$1\";\n$wgServer = \"http://old.example\";\n$wgResourceBasePath = $wgScriptPath;\n" + database_ +
				"$wgDBprefix = \"mw_\";\n$wgSecretKey = \"wiki-secret-key-0123456789\";\n$wgUpgradeKey = \"wiki-secret-key-up\";\nwfLoadSkin( 'Vector' );\n",
		}
	},
	sql: func(l database.Location) string {
		users := "mw_user"
		if l.Engine == database.Postgres {
			users = "mw_mwuser"
		}
		return `CREATE TABLE mw_page (page_id INT PRIMARY KEY); CREATE TABLE mw_objectcache (keyname VARCHAR(100) PRIMARY KEY, value TEXT); INSERT INTO mw_objectcache VALUES ('x','http://old.example/wiki');
			CREATE TABLE ` + users + ` (user_id INT PRIMARY KEY, user_name VARCHAR(255), user_real_name VARCHAR(255), user_email VARCHAR(255)); INSERT INTO ` + users + ` VALUES (1,'Keeper','Head Keeper','keeper@mail.example'),(2,'Guest','','');
			CREATE TABLE mw_user_groups (ug_user INT, ug_group VARCHAR(255)); INSERT INTO mw_user_groups VALUES (1,'sysop'),(1,'bureaucrat'),(2,'user');
			CREATE TABLE mw_text (old_id INT PRIMARY KEY, old_text TEXT, old_flags VARCHAR(255)); INSERT INTO mw_text VALUES (1,'See [http://old.example/wiki/index.php/A A].','utf-8');`
	},
	settings: "LocalSettings.php",
	tell:     `define('MEDIAWIKI', 1); function wfLoadSkin($x) {} include $argv[1]; foreach (['wgDBname','wgDBprefix','wgServer','wgScriptPath','wgArticlePath','wgResourceBasePath'] as $k) echo "$k=", $$k, "\n"; foreach (['wgDBuser','wgDBpassword','wgDBserver','wgDBport','wgSQLiteDataDir'] as $k) if (isset($$k)) echo "$k=", $$k, "\n"; echo "key=", strlen($wgSecretKey), "\n";`,
	want: func(l database.Location, folder string) []string {
		out := []string{"wgDBname=" + l.Name, "wgDBprefix=mw_", "wgServer=https://new.example", "wgScriptPath=/club", "wgArticlePath=/club/index.php/$1", "wgResourceBasePath=/club"}
		switch l.Engine {
		case database.SQLite:
			out[0] = "wgDBname=wiki"
			out = append(out, "wgSQLiteDataDir="+folder+"/data")
		case database.Postgres:
			out = append(out, "wgDBuser="+l.User, "wgDBpassword="+l.Password, "wgDBserver="+l.Socket, "wgDBport="+strconv.Itoa(l.Port))
		default:
			out = append(out, "wgDBuser="+l.User, "wgDBpassword="+l.Password, "wgDBserver=localhost:"+l.Socket)
		}
		return append(out, "key=78")
	},
	survey:  []string{"Tide Tables", "mediawiki 1.41.0", "http://old.example/wiki", "Keeper <keeper@mail.example>", "rows of table mw_objectcache", "images/thumb"},
	emptied: "mw_objectcache",
}

// TestStandIns: each kind is recognised, surveyed, packed without its secrets and
// restored to another folder, database and address; PHP reads its new settings.
func TestStandIns(t *testing.T) {
	sqlite := func(testing.TB) database.Location { return database.Location{Engine: database.SQLite} }
	for _, s := range []standIn{drupalStandIn, joomlaStandIn, mediawikiStandIn} {
		engines := map[string]func(testing.TB) database.Location{"MariaDB": testenv.MariaDB, "PostgreSQL": testenv.Postgres}
		if s.kind == "mediawiki" {
			engines["SQLite"] = sqlite
		}
		for name, fresh := range engines {
			t.Run(s.kind+" on "+name, func(t *testing.T) { s.check(t, fresh) })
		}
	}
}

func (s *standIn) check(t *testing.T, fresh func(testing.TB) database.Location) {
	l := fresh(t)
	dir := filepath.Join(t.TempDir(), "old")
	files := s.files(l)
	for rel, content := range files {
		files[rel] = strings.ReplaceAll(content, "@ROOT@", dir)
	}
	writeTree(t, dir, files)
	if l.Engine == database.SQLite {
		l.Path = filepath.Join(dir, "data/wiki.sqlite")
		require.NoError(t, os.Mkdir(filepath.Dir(l.Path), 0o755))
	}
	testenv.Client(t, l, []byte(s.sql(l)))
	before := snapshot(t, dir)
	survey := ok(t, testenv.Hovix(t, "survey", dir))
	for _, want := range s.survey {
		assert.Contains(t, survey.Out, want)
	}
	assert.NotContains(t, survey.Out, "guest")
	file := packed(t, dir)
	assert.Equal(t, before, snapshot(t, dir))
	raw := testenv.Program(t, "zstd", nil, "-dc", file)
	for _, secret := range []string{testenv.Password, s.secrets, "http://old.example/cached"} {
		assert.NotContains(t, string(raw), secret)
	}

	target, folder := fresh(t), filepath.Join(t.TempDir(), "new")
	args := []string{"restore", file, folder, "--url", "https://new.example/club"}
	if target.Engine != database.SQLite {
		reached := target
		if s.kind == "joomla" && target.Engine == database.Postgres { // its settings have no place for a socket's port
			reached.Host, reached.Socket = "127.0.0.1", ""
		}
		args = append(args, "--database", reached.String())
	} else {
		target.Path = filepath.Join(folder, "data/wiki.sqlite")
	}
	run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, args...)
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	assert.Contains(t, strings.ToLower(run.Out), "keeper <keeper@mail.example>")
	told := strings.Split(strings.TrimSpace(string(testenv.PHP(t, s.tell, nil, filepath.Join(folder, s.settings)))), "\n")
	assert.ElementsMatch(t, s.want(target, folder), told)
	count := strings.TrimSpace(testenv.Client(t, target, []byte("SELECT COUNT(*) FROM "+s.emptied+";")))
	assert.Equal(t, "0", strings.TrimPrefix(count, "COUNT(*)\n"), "what fills by itself is there, and empty")
	again := testenv.Hovix(t, "survey", folder)
	assert.Zero(t, again.Status, again.Err)
	assert.NotContains(t, again.Out, "old.example")
}

// TestSectionsAndWhatIsLeftOut: words, patterns and tables that stay behind, and
// a section alone.
func TestSectionsAndWhatIsLeftOut(t *testing.T) {
	folder, l := testenv.WordPress(t, "http://harbour.example:8123", "harb_")
	testenv.Exec(t, l, `UPDATE harb_comments SET comment_approved='spam' LIMIT 1; INSERT INTO harb_options (option_name, option_value) VALUES ('_transient_x','http://harbour.example:8123/temporary'),('_transient_timeout_x','1');
		INSERT INTO harb_posts (post_type, post_status, post_content, post_title, post_excerpt, to_ping, pinged, post_content_filtered) VALUES ('revision','inherit','an old revision','','','','',''),('post','trash','thrown away','','','','','')`)
	count := func(l database.Location, where string) string {
		return strings.TrimPrefix(strings.TrimSpace(testenv.Client(t, l, []byte("SELECT COUNT(*) FROM "+where+";"))), "COUNT(*)\n")
	}
	require.Equal(t, "1", count(l, "harb_comments WHERE comment_approved='spam'"))
	file := filepath.Join(t.TempDir(), "less.tar.zst")
	run := ok(t, testenv.Hovix(t, "pack", folder, "-o", file, "--without", "spam", "--without", "revisions", "--without", "trash", "--without", "wp-content/uploads/2026", "--without", "*.txt", "--without", "table:harb_links"))
	for _, want := range []string{"spam in table harb_comments", "revisions in table harb_posts", "trash in table harb_posts", "temporary records in table harb_options", "wp-content/uploads/2026", "wp-includes/ID3/readme.txt", "rows of table harb_links"} {
		assert.Contains(t, run.Out, want)
	}
	target, restored := testenv.MariaDB(t), filepath.Join(t.TempDir(), "new")
	env := []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}
	run = testenv.HovixIn(t, "", env, "restore", "--links-out", file, restored, "--url", "http://pier.example", "--database", target.String())
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	assert.Contains(t, run.Out, "routing rules are made anew at the first visit")
	for _, gone := range []string{"harb_comments WHERE comment_approved='spam'", "harb_posts WHERE post_type='revision' OR post_status='trash'", "harb_options WHERE option_name LIKE '%transient%' OR option_name='rewrite_rules'", "harb_links"} {
		assert.Equal(t, "0", count(target, gone), gone)
	}
	assert.Equal(t, count(l, "harb_posts WHERE post_type<>'revision' AND post_status<>'trash'"), count(target, "harb_posts"))
	assert.NoDirExists(t, filepath.Join(restored, "wp-content/uploads/2026"))
	assert.NoFileExists(t, filepath.Join(restored, "wp-includes/ID3/readme.txt"))

	section := filepath.Join(t.TempDir(), "section.tar.zst")
	ok(t, testenv.Hovix(t, "pack", folder, "-o", section, "--only", "wp-content/uploads", "--only", "table:harb_comment*"))
	listing := ok(t, testenv.Hovix(t, "inspect", section, "--list")).Out
	assert.Contains(t, listing, "files/wp-content/uploads/2026")
	assert.Contains(t, listing, "harb_comments")
	for _, not := range []string{"files/index.php", "harb_posts", "settings/"} {
		assert.NotContains(t, listing, not)
	}
	over := testenv.HovixIn(t, "", env, "restore", "--links-out", section, restored, "--url", "http://pier.example", "--yes")
	assert.Equal(t, 1, over.Status)
	assert.Contains(t, over.Err, "holds a section of a site")
	for args, want := range map[string]string{"--without=revsions": "did you mean revisions?", "--only=wp-contnet": "did you mean wp-content?", "--without=a[": "cannot be read"} {
		bad := testenv.Hovix(t, "pack", folder, "-o", filepath.Join(t.TempDir(), "x"), args)
		assert.Equal(t, 2, bad.Status)
		assert.Contains(t, bad.Err, want)
	}
}
