package main_test

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// TestPrefixes: an archive whose tables have another prefix than those of the fresh
// installation that it is restored onto. The installation's own tables and accounts go into
// the undo point; or the restored tables get its prefix, or a third one, with all that is
// named by it: roles, rights, views, settings.
func TestPrefixes(t *testing.T) {
	t.Parallel()
	source, l := testenv.WordPress(t, "http://harbour.example:8123", "harb_")
	testenv.Exec(t, l, `CREATE VIEW harb_titles AS SELECT ID, post_title FROM harb_posts; CREATE TABLE harb_more (id INT PRIMARY KEY, post BIGINT UNSIGNED, KEY (post), FOREIGN KEY (post) REFERENCES harb_posts(ID)); INSERT INTO harb_more SELECT ID, ID FROM harb_posts;
		CREATE TRIGGER counted AFTER INSERT ON harb_more FOR EACH ROW UPDATE harb_options SET option_value=option_value+1 WHERE option_name='counted'; CREATE TRIGGER plain BEFORE INSERT ON harb_more FOR EACH ROW SET NEW.post=NEW.id;`)
	file := packed(t, source)
	target, to := testenv.WordPress(t, "http://fresh.example:8124", "wp_")
	testenv.Exec(t, to, "CREATE TABLE wp_own (a INT); INSERT INTO wp_own VALUES (7); INSERT INTO wp_users (user_login, user_pass, user_nicename, user_email, user_url, user_activation_key, display_name) VALUES ('fresh-admin','x','f','f@fresh.example','','','Fresh')")
	tables := func() []string {
		return strings.Fields(testenv.Client(t, to, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT LIKE '\_hovix%' ORDER BY 1;`)))
	}
	before := tables()
	from := strings.Fields(testenv.Client(t, l, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() ORDER BY 1;`)))
	renamed := func(prefix string) (out []string) {
		for _, name := range from {
			out = append(out, prefix+strings.TrimPrefix(name, "harb_"))
		}
		return out
	}
	roles := func() string {
		return string(testenv.PHP(t, `$_SERVER['HTTP_HOST']='new.example'; define('WP_USE_THEMES', false); require $argv[1].'/wp-load.php';
			echo implode(',', array_map(fn($u) => $u->user_login, get_users(['role' => 'administrator']))), ' ', user_can(get_users(['role' => 'administrator'])[0] ?? 0, 'manage_options') ? 'may' : 'may not', ' ', count(wp_roles()->roles);`, nil, target))
	}
	login := func(name, password string) string {
		return strings.TrimSpace(string(testenv.PHP(t, `$_SERVER['HTTP_HOST']='new.example'; define('WP_USE_THEMES', false); require $argv[1].'/wp-load.php';
			echo wp_authenticate($argv[2], $argv[3]) instanceof WP_User ? 'yes' : 'no';`, nil, target, name, password)))
	}
	for _, c := range []struct {
		name, option, prefix string
		want                 []string
	}{
		{"the archive's", "archive", "harb_", append(renamed("harb_"), "wp_own")},
		{"the target's", "keep", "wp_", append(renamed("wp_"), "wp_own")},
	} {
		t.Run(c.name, func(t *testing.T) {
			args := []string{"restore", file, target, "--url", "https://new.example", "--stored-code", "--links-out", "--prefix", c.option}
			plan := testenv.Hovix(t, append(args, "--plan")...)
			assert.Contains(t, plan.Out, "table wp_users, ")
			if c.prefix != "wp_" {
				assert.Contains(t, plan.Out, "Tables of the site at the target stay, for the archive has none like them: wp_own")
			}
			run := testenv.Hovix(t, append(args, "--yes", "--new-password", "keeper")...)
			require.Contains(t, []int{0, 3}, run.Status, run.Err)
			made := regexp.MustCompile(`of keeper is now (\w{26})`).FindStringSubmatch(run.Out)
			require.NotNil(t, made, run.Out)
			assert.Equal(t, "yes", login("keeper", made[1]))
			given := testenv.HovixIn(t, "", []string{"HOVIX_NEW_PASSWORD=it's \"mine\" ñ"}, "password", target, "keeper")
			require.Zero(t, given.Status, given.Err)
			assert.NotContains(t, given.Out, "mine")
			assert.Equal(t, "yes", login("keeper", "it's \"mine\" ñ"))
			assert.Equal(t, "no", login("keeper", made[1]))
			wrong := testenv.Hovix(t, "password", target, "keper")
			assert.Equal(t, 1, wrong.Status)
			assert.Contains(t, wrong.Err, "the site has no account keper; did you mean keeper?")
			assert.ElementsMatch(t, c.want, tables())
			if c.prefix != "harb_" {
				assert.Contains(t, run.Out, "trigger counted is not there: its text names harb_options")
			}
			assert.Equal(t, "keeper may 5", strings.TrimSpace(roles()))
			p := c.prefix
			got := testenv.Client(t, to, []byte("SELECT COUNT(*)>0, (SELECT COUNT(*) FROM "+p+"titles)=(SELECT COUNT(*) FROM "+p+"posts) FROM "+p+"more; SELECT REFERENCED_TABLE_NAME FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA=DATABASE() AND TABLE_NAME='"+p+"more';"))
			assert.Contains(t, got, "1\t1")
			assert.Contains(t, got, p+"posts")
			ok(t, testenv.Hovix(t, "undo", target, "--yes"))
			assert.Equal(t, before, tables())
			assert.Contains(t, testenv.Client(t, to, []byte("SELECT user_login FROM wp_users;")), "fresh-admin")
			if c.option == "archive" {
				ok(t, testenv.Hovix(t, "undo", target, "--redo", "--yes"))
				assert.ElementsMatch(t, c.want, tables())
				ok(t, testenv.Hovix(t, "undo", target, "--yes"))
			}
			ok(t, testenv.Hovix(t, "undo", target, "--discard", "--yes"))
			assert.Empty(t, strings.TrimSpace(testenv.Client(t, to, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME LIKE '\_hovix%';`))))
		})
	}
	for option, says := range map[string]string{"keep": "has no settings of the same kind of site", "a b": "cannot be one", strings.Repeat("x", 32): "longer than the 63 bytes"} {
		dir := filepath.Join(t.TempDir(), "empty")
		if option != "keep" {
			dir = target
		}
		if says == "longer than the 63 bytes" {
			testenv.Exec(t, l, "CREATE TABLE harb_"+strings.Repeat("y", 40)+" (a INT)")
			file = packed(t, source)
		}
		run := testenv.Hovix(t, "restore", file, dir, "--database", to.String(), "--links-out", "--stored-code", "--prefix", option, "--yes")
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, says)
	}
}

// TestPrefixesOfPostgres: tables get a prefix there too, and what refers to them follows.
func TestPrefixesOfPostgres(t *testing.T) {
	from, to := testenv.Postgres(t), testenv.Postgres(t)
	testenv.Client(t, from, []byte(`CREATE TABLE d_a (id serial PRIMARY KEY, b text UNIQUE); INSERT INTO d_a (b) VALUES ('x'),('y'); CREATE TABLE d_b (a int REFERENCES d_a(id)); INSERT INTO d_b VALUES (1); CREATE VIEW d_v AS SELECT b FROM d_a; CREATE TABLE other (x int);`))
	dir, target := filepath.Join(t.TempDir(), "site"), filepath.Join(t.TempDir(), "www")
	siteOf := func(dir string, l database.Location) {
		siteFile(t, dir, `database = "`+l.String()+`"`, `database-password = "`+l.Password+`"`)
	}
	siteOf(dir, from)
	siteOf(target, to)
	file := packed(t, dir)
	ok(t, testenv.Hovix(t, "restore", file, target, "--prefix", "e_", "--yes"))
	got := testenv.Client(t, to, []byte("SELECT relname FROM pg_class WHERE relnamespace='public'::regnamespace AND relkind IN ('r','S','v') ORDER BY 1; INSERT INTO e_d_a (b) VALUES ('z') RETURNING id; SELECT * FROM d_v;"))
	for _, want := range []string{"e_d_a", "d_a_id_seq", "e_d_b", "e_other", "3", "z"} {
		assert.Contains(t, got, want)
	}
	assert.NotContains(t, strings.Fields(got), "d_a")
}
