package main_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/restore"
	"hovix/internal/testenv"
)

// wordy makes a site with addresses in all sorts of text files, at a base path.
func wordy(t *testing.T) (dir string, files map[string]string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `name = "Words"`, `address = "http://old.example/app"`, `database = "sqlite:a.sqlite"`, `uploads = ["up"]`, `settings = ["conf.ini", "local.php"]`)
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "a.sqlite")}, []byte("CREATE TABLE a (v TEXT); INSERT INTO a VALUES ('http://old.example/app/1');"))
	files = map[string]string{
		"up/generated/post-7.css": "a{background:url(http://old.example/app/up/x.png)}",
		"up/list.csv":             "1,http://old.example/app/a\n2,http://old.example/app/b\n",
		"js/app.js":               `var u="http:\/\/old.example\/app\/js";`,
		"js/data.json":            `{"u":"http://old.example/app"}`,
		"logo.svg":                `<svg><a href="http://old.example/app"/></svg>`,
		"up/photo.jpg":            "\xff\xd8\xff\x00 http://old.example/app/ \x00",
		"robots.txt":              "Sitemap: http://old.example/app/sitemap.xml\n",
		".user.ini":               "auto_prepend_file = " + dir + "/first.php\n",
		".htaccess":               "RewriteEngine On\nRewriteBase /app/\nRewriteRule ^x$ /app/y [L]\nRedirect 301 /app/old http://old.example/app/new\n",
		"conf.ini":                "cookie = .old.example\nmail = \"wordpress@old.example\"\nhost = \"old.example\"\ntitle = \"we are at old.example today\"\n",
		"local.php":               "<?php define('COOKIE_DOMAIN', '.old.example'); define( 'MAIN_HOST', \"www.old.example\" ); // the old.example site\n$x = ['old.example' => 1];\n",
	}
	writeTree(t, dir, files)
	return dir, files
}

// TestAddressesInTextFiles: a restore and a rewriting in place find the addresses in text
// files, change those in files that software has made and that are named, and do the same to
// what tells web servers and programs where the site is.
func TestAddressesInTextFiles(t *testing.T) {
	source, files := wordy(t)
	file := packed(t, source)
	moved := map[string]string{
		"up/generated/post-7.css": "a{background:url(https://new.example/up/x.png)}",
		"robots.txt":              "Sitemap: https://new.example/sitemap.xml\n",
		".htaccess":               "RewriteEngine On\nRewriteBase /\nRewriteRule ^x$ /y [L]\nRedirect 301 /old https://new.example/new\n",
		"conf.ini":                "cookie = .new.example\nmail = \"wordpress@old.example\"\nhost = \"new.example\"\ntitle = \"we are at old.example today\"\n",
		"local.php":               "<?php define('COOKIE_DOMAIN', '.new.example'); define( 'MAIN_HOST', \"new.example\" ); // the old.example site\n$x = ['new.example' => 1];\n",
	}
	named := map[string]string{
		"js/app.js":    `var u="https:\/\/new.example\/js";`,
		"js/data.json": `{"u":"https://new.example"}`,
		"up/list.csv":  "1,https://new.example/a\n2,https://new.example/b\n",
	}
	check := func(dir string, more map[string]string, how string) {
		t.Helper()
		for rel, content := range files {
			want := content
			if c, ok := moved[rel]; ok {
				want = c
			}
			if c, ok := more[rel]; ok {
				want = c
			}
			want = strings.ReplaceAll(want, source+"/first", dir+"/first")
			got, err := os.ReadFile(filepath.Join(dir, rel))
			require.NoError(t, err)
			assert.Equal(t, want, string(got), "%s: %s", how, rel)
		}
	}
	dir := filepath.Join(t.TempDir(), "restored")
	run := testenv.Hovix(t, "restore", file, dir, "--url", "https://new.example", "--plan", "--json")
	var plan restore.Plan
	require.NoError(t, json.Unmarshal([]byte(run.Out), &plan), run.Err)
	require.NotNil(t, plan.InFiles)
	assert.Equal(t, restore.InFiles{Addresses: 5, Exact: true, Examples: []string{"js/app.js", "js/data.json", "logo.svg"}}, *plan.InFiles)
	run = testenv.Hovix(t, "restore", file, dir, "--url", "https://new.example", "--plan")
	assert.Contains(t, run.Out, "5 old addresses in text files stay as they are, such as in js/app.js")
	run = testenv.Hovix(t, "restore", file, dir, "--url", "https://new.example")
	assert.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "5 addresses in text files")
	check(dir, nil, "restore")

	dir = filepath.Join(t.TempDir(), "named")
	run = testenv.Hovix(t, "restore", file, dir, "--url", "https://new.example", "--files", "*.js,*.json,up/**/*.csv")
	assert.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "1 address in a text file")
	check(dir, named, "restore --files")

	move := []string{"rewrite", source, "--map", "http://old.example/app=https://new.example", "--yes"}
	run = testenv.Hovix(t, append(move, "--plan")...)
	assert.Contains(t, run.Out, "5 addresses in text files")
	run = testenv.Hovix(t, move...)
	assert.Equal(t, 3, run.Status, run.Err)
	check(source, nil, "rewrite")
	run = testenv.Hovix(t, append(move, "--files", "*.js,*.json,up/**/*.csv")...)
	assert.Equal(t, 3, run.Status, run.Err)
	check(source, named, "rewrite --files")
}
