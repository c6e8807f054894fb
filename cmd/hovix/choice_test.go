package main_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// TestWhatMatchesNothing: a name or a pattern of which there is nothing is an error before
// anything is written, with the nearest name where one is near.
func TestWhatMatchesNothing(t *testing.T) {
	dir := talkative(t)
	file := packed(t, dir)
	target := filepath.Join(t.TempDir(), "www")
	ok(t, testenv.Hovix(t, "restore", file, target))
	dump := filepath.Join(t.TempDir(), "a.sql")
	require.NoError(t, os.WriteFile(dump, []byte("CREATE TABLE posts (v TEXT);\nINSERT INTO posts (v) VALUES ('http://old.example');\n"), 0o644))
	out := filepath.Join(t.TempDir(), "out")
	mapped := []string{"--map", "http://old.example=http://new.example"}
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"pack, table":            {[]string{"pack", dir, "-o", out, "--without", "table:aa"}, "the database has no table aa; did you mean a?"},
		"pack, tables":           {[]string{"pack", dir, "-o", out, "--without", "table:log_*"}, "the database has no table log_*"},
		"pack, section":          {[]string{"pack", dir, "-o", out, "--only", "table:nosuch"}, "the database has no table nosuch"},
		"pack, glob":             {[]string{"pack", dir, "-o", out, "--without", "up/*.jpg"}, `nothing in the site is of the pattern "up/*.jpg"`},
		"pack, glob in a list":   {[]string{"pack", dir, "-o", out, "--without", "up/*.txt,**/*.jpg"}, `nothing in the site is of the pattern "**/*.jpg"`},
		"restore, table":         {[]string{"restore", file, target, "--yes", "--without", "table:nosuch"}, "the archive has no table nosuch"},
		"restore, glob":          {[]string{"restore", file, target, "--yes", "--without", "up/*.jpg"}, "the archive has nothing of the name up/*.jpg"},
		"restore, keep":          {[]string{"restore", file, target, "--yes", "--keep", "local/*.php"}, "the target has nothing of the name local/*.php"},
		"rewrite a site, table":  {append([]string{"rewrite", dir, "--yes", "--table", "nosuch"}, mapped...), "there is nothing of the name nosuch"},
		"rewrite a site, column": {append([]string{"rewrite", dir, "--yes", "--column", "a.giud"}, mapped...), "there is nothing of the name a.giud; did you mean a.guid?"},
		"rewrite a site, except": {append([]string{"rewrite", dir, "--yes", "--except", "wp_*"}, mapped...), "there is nothing of the name wp_*"},
		"rewrite a site, files":  {append([]string{"rewrite", dir, "--yes", "--files", "*.css"}, mapped...), "there is nothing of the name *.css"},
		"rewrite a dump, table":  {append([]string{"rewrite", dump, "-o", out, "--table", "post"}, mapped...), "there is nothing of the name post; did you mean posts?"},
	} {
		t.Run(name, func(t *testing.T) {
			run := testenv.Hovix(t, c.args...)
			assert.Contains(t, []int{1, 2}, run.Status)
			assert.Contains(t, run.Err, c.says)
			assert.False(t, exists(out), "nothing is written")
		})
	}
	t.Run("lists", func(t *testing.T) {
		ok(t, testenv.Hovix(t, "pack", dir, "-o", out, "--without", "up/*.{txt,md},table:a,index.html"))
		list := testenv.Hovix(t, "inspect", out, "--list").Out
		assert.NotContains(t, list, "up/a.txt")
		assert.NotContains(t, list, "index.html")
		assert.Contains(t, list, "config/site.json")
		require.NoError(t, os.WriteFile(filepath.Join(dir, "one,two"), []byte("x"), 0o644))
		assert.Contains(t, testenv.Hovix(t, "pack", dir, "-o", "-", "--without", "one,two").Err, `nothing of the name "one"`)
		ok(t, testenv.Hovix(t, "pack", dir, "-o", "-", "--without", `one\,two`))
	})
}
