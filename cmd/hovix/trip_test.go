package main_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/testenv"
)

// museum builds the demo site in a new folder, without the guided run.
func museum(t *testing.T, l database.Location) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "museum")
	_, err := demo.Build(t.Context(), dir, demo.OldAddress, l)
	require.NoError(t, err)
	return dir
}

// packed packs a site and gives the archive.
func packed(t *testing.T, dir string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "site.tar.zst")
	ok(t, testenv.Hovix(t, "pack", dir, "-o", file))
	return file
}

// TestDemo is the guided run: it compares every page, picture and link itself
// and fails if one is wrong.
func TestDemo(t *testing.T) {
	check := func(t *testing.T, args ...string) {
		run := ok(t, testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + testenv.Password}, append([]string{"demo", "--json"}, args...)...))
		var doc struct {
			Comparison demo.Comparison
			Built      demo.Built
		}
		require.NoError(t, json.Unmarshal([]byte(run.Out), &doc))
		assert.True(t, doc.Comparison.Good(), "%+v", doc.Comparison)
		assert.GreaterOrEqual(t, doc.Built.Pages+doc.Built.News, 40)
		assert.Equal(t, doc.Built.Pages+doc.Built.News+1, doc.Comparison.Pages, "every page is visited, and the list of news")
		assert.Equal(t, 60, doc.Built.Pictures)
		assert.Equal(t, 63, doc.Comparison.Pictures, "every picture, the logo, the style and the document")
		assert.Positive(t, doc.Built.Spam)
		assert.Greater(t, doc.Comparison.Links, 500)
	}
	t.Run("SQLite", func(t *testing.T) {
		dir := filepath.Join(t.TempDir(), "x")
		check(t, dir)
		assert.ElementsMatch(t, []string{"old", "new", "museum.tar.zst", "redesigned", "old.csv", "new.csv", "map.csv", "rules.csv", "redirects.conf", ".new.hovix", ".redesigned.hovix"}, names(t, dir), "nothing else is left behind but undo points")
	})
	t.Run("MariaDB", func(t *testing.T) {
		old, new := testenv.MariaDB(t), testenv.MariaDB(t)
		check(t, filepath.Join(t.TempDir(), "x"), "--database", old.String(), "--new-database", new.String())
	})
	t.Run("people's text", func(t *testing.T) {
		run := ok(t, testenv.Hovix(t, "demo", filepath.Join(t.TempDir(), "x")))
		for _, want := range []string{"The Brackwater Ferry Museum has moved", "✓ Every page, picture and link of the new site answers", "✓ No page leads to the old address", "22 kept identifiers", "hovix survey old"} {
			assert.Contains(t, run.Out, want)
		}
		assert.LessOrEqual(t, strings.Count(run.Out, "\n"), 40, "one screen")
		assert.NotContains(t, run.Out, "\x1b[", "no colour without a terminal")
	})
}

// TestPipe streams an archive from pack to restore through a plain pipe, with
// no place on disk for a copy of it.
func TestPipe(t *testing.T) {
	dir := museum(t, database.Location{})
	before := snapshot(t, dir)
	target := filepath.Join(t.TempDir(), "new")
	bin := testenv.Binary(t)
	nowhere := filepath.Join(t.TempDir(), "tmp")
	require.NoError(t, os.Mkdir(nowhere, 0o755))
	cmd := exec.Command("bash", "-o", "pipefail", "-c", fmt.Sprintf("%q pack %q -o - | %q restore - %q --url https://brackwatermuseum.example --yes", bin, dir, bin, target))
	cmd.Env = append(os.Environ(), "TMPDIR="+nowhere)
	out, err := cmd.CombinedOutput()
	require.Equal(t, 3, cmd.ProcessState.ExitCode(), "a bare host name is left to look at: %v\n%s", err, out)
	assert.Empty(t, names(t, nowhere))
	assert.Equal(t, before, snapshot(t, dir), "the source is as it was")
	got := snapshot(t, target)
	for rel, line := range before {
		switch {
		case strings.HasPrefix(rel, "cache"), strings.HasPrefix(rel, "data"), rel == "hovix.toml", rel == ".":
			continue
		}
		assert.Equal(t, line, got[rel], rel)
	}
	assert.NotContains(t, got, "cache/page-0.html", "a cache is not carried")
	site, err := os.ReadFile(filepath.Join(target, "hovix.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(site), `address = "https://brackwatermuseum.example"`)
	assert.Contains(t, string(site), "# feed readers know the news by these", "comments stay")
}

// TestRestoreOverASite replaces a site, keeps the old one, and puts it back.
func TestRestoreOverASite(t *testing.T) {
	file := packed(t, museum(t, database.Location{}))
	parent := t.TempDir()
	target := filepath.Join(parent, "www")
	siteFile(t, target, `name = "Old one"`, `database = "sqlite:data/other.sqlite"`)
	require.NoError(t, os.MkdirAll(filepath.Join(target, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(target, "index.html"), []byte("old"), 0o644))
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(target, "data/other.sqlite")}, []byte("CREATE TABLE notes (a); INSERT INTO notes VALUES (1),(2);"))
	before := snapshot(t, parent)

	refused := testenv.Hovix(t, "restore", file, target, "--url", "https://new.example")
	assert.Equal(t, 1, refused.Status)
	for _, want := range []string{"3 files", "table notes, 2 rows", "--yes", "nothing was changed"} {
		assert.Contains(t, refused.Err, want)
	}
	assert.Equal(t, before, snapshot(t, parent), "a refusal changes nothing and leaves nothing")

	plan := ok(t, testenv.Hovix(t, "restore", file, target, "--url", "https://new.example", "--plan"))
	assert.Contains(t, plan.Out, "http://ferry.brackwater.example → https://new.example")
	assert.Equal(t, before, snapshot(t, parent), "a plan changes nothing")

	run := testenv.Hovix(t, "restore", file, target, "--url", "https://new.example", "--yes")
	require.Equal(t, 3, run.Status, run.Err)
	assert.FileExists(t, filepath.Join(target, "data/other.sqlite"), "the target's settings say where its database is")
	assert.NoFileExists(t, filepath.Join(target, "index.html"))
	kept := regexp.MustCompile(`What was replaced \([^)]*\) is kept in (\S+)`).FindStringSubmatch(run.Out)
	require.NotNil(t, kept, run.Out)
	note, err := os.ReadFile(filepath.Join(kept[1], "PUT-BACK.txt"))
	require.NoError(t, err)
	var commands []string
	for _, line := range strings.Split(string(note), "\n") {
		if strings.HasPrefix(line, "    mv ") {
			commands = append(commands, line)
		}
	}
	out, err := exec.Command("sh", "-ec", strings.Join(commands, "\n")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	after := snapshot(t, parent)
	for rel, line := range before {
		if rel != "." {
			assert.Equal(t, line, after[rel], rel)
		}
	}
}

// at asks a server on this machine for an address whose name exists nowhere.
func at(t *testing.T, port int, address string) (int, string) {
	t.Helper()
	client := &http.Client{Timeout: 60 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
		}}}
	res, err := client.Get(address)
	require.NoError(t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(body)
}

// optionsProgram lists all options and metadata of a WordPress database that
// PHP can unserialize, as structure: keys, types and strings, with the site's
// own address taken out.
const optionsProgram = `
[, $name, $socket, $address, $folder] = $argv;
$db = new mysqli('localhost', 'tester', 'test-password', $name, 0, $socket);
$db->set_charset('utf8mb4');
$out = [];
function neutral($v, $a, $f) {
  if (is_array($v)) { $r = []; foreach ($v as $k => $x) $r[$k] = neutral($x, $a, $f); return $r; }
  if (is_object($v)) { return [get_class($v), neutral((array) $v, $a, $f)]; }
  if (!is_string($v)) return gettype($v) . ':' . var_export($v, true);
  if (($u = @unserialize($v, ['allowed_classes' => ['stdClass']])) !== false) return ['serialized', neutral($u, $a, $f)];
  if (strlen($v) > 1 && ($v[0] == '{' || $v[0] == '[') && ($j = json_decode($v, true)) !== null) return ['json', neutral($j, $a, $f)];
  $host = substr($a, strpos($a, '//'));
  return str_replace([$a, rawurlencode($a), str_replace('/', '\\/', $a), $host, $f], ['{site}', '{SITE}', '{s\\ite}', '{host}', '{root}'], $v); }
foreach (["SELECT CONCAT('o:', option_name) k, option_value v FROM harb_options WHERE option_name<>'rewrite_rules' AND option_name NOT LIKE '%transient%'", "SELECT CONCAT('m:', meta_id) k, meta_value v FROM harb_postmeta", "SELECT CONCAT('u:', umeta_id) k, meta_value v FROM harb_usermeta", "SELECT CONCAT('p:', ID) k, post_content v FROM harb_posts", "SELECT CONCAT('c:', comment_ID) k, comment_content v FROM harb_comments"] as $q)
  foreach ($db->query($q) as $row) $out[$row['k']] = neutral($row['v'], $address, $folder);
ksort($out);
echo json_encode($out, JSON_PRETTY_PRINT | JSON_PARTIAL_OUTPUT_ON_ERROR);`

func TestWordPress(t *testing.T) {
	port := testenv.FreePort(t)
	oldAddress, newAddress := "http://harbour.example:8123", fmt.Sprintf("http://pier.example:%d", port)
	old, source := testenv.WordPress(t, oldAddress, "harb_")
	survey := ok(t, testenv.Hovix(t, "survey", old))
	for _, want := range []string{"Harbour Office “Nord”", "wordpress 6.", oldAddress, "keeper <keeper@harbour.example>", "harb_posts"} {
		assert.Contains(t, survey.Out, want)
	}
	file := packed(t, old)
	raw, err := exec.Command("zstd", "-dc", file).Output()
	require.NoError(t, err)
	for _, secret := range []string{testenv.Password, "secret-key-two", "secret-salt-four"} {
		assert.False(t, bytes.Contains(raw, []byte(secret)), "%s is in the archive", secret)
	}
	target := testenv.MariaDB(t)
	folder := filepath.Join(t.TempDir(), "new site")
	log := filepath.Join(t.TempDir(), "hovix.log")
	ok(t, testenv.Hovix(t, "pack", old, "-o", filepath.Join(t.TempDir(), "again.tar.zst"), "--log", log))
	run := ok(t, testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--links-out", file, folder, "--url", newAddress, "--database", target.String(), "--log", log))
	logged, err := os.ReadFile(log)
	require.NoError(t, err)
	assert.Contains(t, string(logged), "restored")
	for _, secret := range []string{testenv.Password, "secret-key-two", "secret-salt-four"} {
		assert.NotContains(t, string(logged)+run.Out+run.Err, secret)
	}
	assert.Contains(t, run.Out, "Log in as    keeper <keeper@harbour.example>")
	assert.Contains(t, run.Out, "kept identifiers")

	// What PHP can read has the same structure, addresses apart.
	before := testenv.PHP(t, optionsProgram, nil, source.Name, source.Socket, oldAddress, old)
	after := testenv.PHP(t, optionsProgram, nil, target.Name, target.Socket, newAddress, folder)
	require.Greater(t, bytes.Count(before, []byte(`"serialized"`)), 20)
	require.Greater(t, bytes.Count(before, []byte("{site}")), 50)
	assert.Equal(t, string(before), string(after))

	serves(t, folder, port, newAddress)

	secrets := filepath.Join(t.TempDir(), "secrets.tar.zst")
	run = ok(t, testenv.Hovix(t, "pack", old, "--with-secrets", "-o", secrets))
	assert.Contains(t, run.Out, "keep it as safe as the site itself")
	raw, err = exec.Command("zstd", "-dc", secrets).Output()
	require.NoError(t, err)
	assert.True(t, bytes.Contains(raw, []byte(testenv.Password)))
	target, folder = testenv.MariaDB(t), filepath.Join(t.TempDir(), "another")
	ok(t, testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--links-out", secrets, folder, "--url", newAddress, "--database", target.String()))
	settings, err := os.ReadFile(filepath.Join(folder, "wp-config.php"))
	require.NoError(t, err)
	assert.Contains(t, string(settings), "secret-key-two", "who is logged in stays so")
	assert.Contains(t, string(settings), target.User, "the login of the database is the target's")
}

// serves lets PHP serve a WordPress folder, and visits it: nothing leads to the
// old address.
func serves(t *testing.T, folder string, port int, newAddress string) {
	t.Helper()
	testenv.ServePHP(t, folder, port, "")
	status, front := at(t, port, newAddress+"/")
	require.Equal(t, 200, status, front)
	seen := map[string]bool{}
	pages, images := []string{newAddress + "/"}, 0
	for _, m := range regexp.MustCompile(`(?:href|src)=["']([^"']+)["']|(http://pier\S+\.png) \d+w`).FindAllStringSubmatch(front, -1) {
		u := m[1] + m[2]
		if !strings.HasPrefix(u, newAddress) || seen[u] {
			continue
		}
		seen[u] = true
		status, body := at(t, port, strings.ReplaceAll(u, "&#038;", "&"))
		assert.Contains(t, []int{200, 301, 405}, status, u)
		if strings.HasSuffix(u, ".png") {
			images++
			assert.Equal(t, 200, status, u)
			assert.True(t, strings.HasPrefix(body, "\x89PNG"), u)
		} else if strings.Contains(u, "/2026/notice-") || strings.Contains(u, "/contact/") {
			pages = append(pages, u)
			assert.Equal(t, 200, status, u)
			assert.NotContains(t, body, "harbour.example:8123", u)
			assert.NotContains(t, strings.ReplaceAll(body, "keeper@harbour.example", ""), "//harbour.example", u)
		}
	}
	assert.GreaterOrEqual(t, len(pages), 10, "posts and pages by their pretty addresses")
	assert.GreaterOrEqual(t, images, 6, "images in several sizes")
	assert.NotContains(t, front, "harbour.example")
	for _, want := range []string{`class="custom-logo"`, "schemeless", "Contact</a>", "//pier.example"} {
		assert.Contains(t, front, want)
	}
	status, _ = at(t, port, newAddress+"/no-such-page/")
	assert.Equal(t, 404, status)
}
