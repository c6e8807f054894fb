package main_test

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// useWordPress does on a served WordPress site what its visitors and its
// administrator do, and leaves a text in its first notice.
func useWordPress(t *testing.T, port int, address, notMentioned, text string) {
	t.Helper()
	v := newVisitor(t, port)
	front := v.get(address + "/")
	assert.NotContains(t, front, notMentioned)
	for n := 1; n <= 12; n++ {
		body := v.get(fmt.Sprintf("%s/2026/notice-%d/", address, n))
		assert.Contains(t, body, fmt.Sprintf("<title>Notice %d: ships", n))
		assert.NotContains(t, body, notMentioned)
		for _, m := range regexp.MustCompile(`src="([^"]+\.png)"`).FindAllStringSubmatch(body, -1) {
			assert.True(t, strings.HasPrefix(v.get(m[1]), "\x89PNG"), m[1])
		}
	}
	assert.Contains(t, v.get(address+"/contact/"), "pier 1")
	assert.Contains(t, v.get(address+"/?s=weather"), address+"/2026/notice-")
	v.get(address + "/wp-login.php")
	admin := v.post(address+"/wp-login.php", url.Values{"log": {"keeper"}, "pwd": {"lighthouse-1"}, "wp-submit": {"Log In"}, "redirect_to": {address + "/wp-admin/edit.php"}, "testcookie": {"1"}})
	assert.Contains(t, admin, "Notice 7", "the list of posts, behind the login")
	nonce := v.get(address + "/wp-admin/admin-ajax.php?action=rest-nonce")
	id := regexp.MustCompile(`id="post-(\d+)"`).FindStringSubmatch(v.get(address + "/wp-admin/edit.php?s=Notice+12&post_type=post"))
	require.NotNil(t, id)
	req, err := http.NewRequest(http.MethodPost, address+"/wp-json/wp/v2/posts/"+id[1], strings.NewReader(url.Values{"content": {"<p>" + text + "</p>"}}.Encode()))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("X-WP-Nonce", strings.TrimSpace(nonce))
	assert.Contains(t, v.read(v.http.Do(req)), text)
	assert.Contains(t, v.get(address+"/2026/notice-12/"), text, "the edit is there to stay")
}

// TestWordPressServed moves a real site to another folder, database, port and
// base path, and back to the root, and uses it after each move. Nothing is done
// by hand in between.
func TestWordPressServed(t *testing.T) {
	port := testenv.FreePort(t)
	address := fmt.Sprintf("http://harbour.example:%d", port)
	folder, _ := testenv.WordPress(t, address, "harb_")
	rules := "# BEGIN WordPress\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteRule . /index.php [L]\n</IfModule>\n# END WordPress\nRedirect 301 /old " + address + "/contact/\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".htaccess"), []byte(rules), 0o644))
	testenv.ServePHP(t, folder, port, "")
	text := "Text of the first place"
	useWordPress(t, port, address, "museum2", text)
	for i, base := range []string{"/museum2", ""} {
		file := packed(t, folder)
		newPort, target, root := testenv.FreePort(t), testenv.MariaDB(t), t.TempDir()
		newFolder, newAddress := filepath.Join(root, base), fmt.Sprintf("http://pier%d.example:%d%s", i, newPort, base)
		if base == "" {
			newFolder = filepath.Join(root, "www")
			root = newFolder
		}
		run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--links-out", file, newFolder, "--url", newAddress, "--database", target.String())
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
		moved, err := os.ReadFile(filepath.Join(newFolder, ".htaccess"))
		require.NoError(t, err)
		want := strings.NewReplacer("RewriteBase /\n", "RewriteBase "+base+"/\n", ". /index.php", ". "+base+"/index.php", "301 /old "+address, "301 "+base+"/old "+newAddress)
		if base != "" {
			assert.Equal(t, want.Replace(rules), string(moved))
		} else {
			assert.Equal(t, strings.ReplaceAll(rules, fmt.Sprintf("http://harbour.example:%d", port), newAddress), string(moved))
		}
		testenv.ServePHP(t, root, newPort, base)
		assert.Contains(t, newVisitor(t, newPort).get(newAddress+"/2026/notice-12/"), text, "the last edit came along")
		text = fmt.Sprintf("Text of place %d", i)
		useWordPress(t, newPort, newAddress, strings.TrimPrefix(address, "http://"), text)
		folder, address = newFolder, newAddress
	}
}

// useNetwork visits the members of a served network, and edits one of them.
func useNetwork(t *testing.T, port int, address, notMentioned, text string) {
	t.Helper()
	v := newVisitor(t, port)
	v.get(address + "/wp-login.php")
	assert.Contains(t, v.post(address+"/wp-login.php", url.Values{"log": {"keeper"}, "pwd": {"lighthouse-1"}, "wp-submit": {"Log In"}, "redirect_to": {address + "/wp-admin/network/sites.php"}, "testcookie": {"1"}}), strings.TrimPrefix(address, "http://")+"/sued", "the network's list of its sites")
	for path, title := range map[string]string{"nord": "Nordhafen", "sued": "Südhafen", "west": "Westhafen"} {
		member := address + "/" + path
		front := v.get(member + "/")
		assert.Contains(t, front, "<title>"+title)
		assert.NotContains(t, front, notMentioned)
		page := v.get(member + "/2026/opens/")
		assert.NotContains(t, page, notMentioned)
		file := regexp.MustCompile(`href="([^"]+\.png)"`).FindStringSubmatch(page)
		if assert.NotNil(t, file, page) {
			assert.Equal(t, "file of "+title, v.get(file[1]))
		}
		assert.Contains(t, v.get(member+"/wp-admin/edit.php"), "<title>Posts &lsaquo; "+title, "behind the login")
	}
	req, err := http.NewRequest(http.MethodPost, address+"/west/wp-json/wp/v2/posts/"+regexp.MustCompile(`id="post-(\d+)"`).FindStringSubmatch(v.get(address + "/west/wp-admin/edit.php?s=opens"))[1], strings.NewReader(url.Values{"title": {text}}.Encode()))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("X-WP-Nonce", strings.TrimSpace(v.get(address+"/west/wp-admin/admin-ajax.php?action=rest-nonce")))
	v.read(v.http.Do(req))
	assert.Contains(t, v.get(address+"/west/"), text)
}

// TestNetworkServed moves a network of four sites to another base path and back.
func TestNetworkServed(t *testing.T) {
	port := testenv.FreePort(t)
	address := "http://harbour.example" // members of a network cannot have a port
	folder, _ := testenv.WordPress(t, address, "harb_")
	testenv.WordPressNetwork(t, folder, address)
	testenv.ServePHP(t, folder, port, "")
	text := "A title of the first place"
	useNetwork(t, port, address, "museum2", text)
	survey := ok(t, testenv.Hovix(t, "survey", folder))
	assert.Contains(t, survey.Out, "a network of 4 sites")
	assert.Contains(t, survey.Out, address+"/west")
	for _, args := range [][]string{{"rewrite", folder, "--yes"}, {"pack", folder, "-o", filepath.Join(t.TempDir(), "x.tar.zst")}} {
		run := testenv.Hovix(t, append(args, "--map", address+"=https://pier.example")...)
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "restore it with --url https://pier.example")
	}
	for i, base := range []string{"/museum2", ""} {
		file := packed(t, folder)
		newPort, target, root := testenv.FreePort(t), testenv.MariaDB(t), t.TempDir()
		newFolder, newAddress := filepath.Join(root, base), fmt.Sprintf("http://pier%d.example%s", i, base)
		if base == "" {
			newFolder = filepath.Join(root, "www")
			root = newFolder
		}
		run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--links-out", file, newFolder, "--url", newAddress, "--database", target.String())
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
		assert.NotContains(t, run.Out, "harb_blogs.domain", "what is set by itself is no leftover")
		assert.NotContains(t, run.Out, "DOMAIN_CURRENT_SITE")
		testenv.ServePHP(t, root, newPort, base)
		assert.Equal(t, "guid\nhttp://harbour.example/west/2026/opens/\n", testenv.Client(t, target, []byte("SELECT guid FROM harb_4_posts WHERE post_name='opens';")), "what feed readers know it by stays")
		assert.Contains(t, newVisitor(t, newPort).get(newAddress+"/west/"), text, "the last edit came along")
		text = fmt.Sprintf("A title of place %d", i)
		useNetwork(t, newPort, newAddress, strings.TrimPrefix(address, "http://"), text)
		folder, address = newFolder, newAddress
	}
}
