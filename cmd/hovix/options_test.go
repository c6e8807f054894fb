package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// talkative makes a small site whose one table mentions several addresses.
func talkative(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "site")
	siteFile(t, dir, `name = "Talk"`, `address = "http://old.example"`, `aliases = ["http://alias.example"]`, `database = "sqlite:a.sqlite"`,
		`uploads = ["up"]`, `keep = ["a.guid"]`, `settings = ["config/site.json"]`)
	for rel, content := range map[string]string{"config/site.json": `{"home":"http:\/\/old.example\/x","mail":"me@old.example"}`, "up/a.txt": "http://old.example/in-a-file", "index.html": "<a href='http://old.example/'>"} {
		p := filepath.Join(dir, rel)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(content), 0o644))
	}
	testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "a.sqlite")}, []byte(`
		CREATE TABLE a (id INTEGER PRIMARY KEY, v TEXT, guid TEXT);
		INSERT INTO a VALUES (1, 'http://old.example/1 http://www.old.example/2', 'http://old.example/?p=1'),
		 (2, 'http://alias.example/3 http://mirror.example/4 http://shop.example/5', 'http://old.example/?p=2'),
		 (3, 'we are at old.example', NULL), (4, x'687474703a2f2f6f6c642e6578616d706c652f36', 'blob');`))
	return dir
}

func values(t *testing.T, folder string) string {
	t.Helper()
	return testenv.Client(t, database.Location{Engine: database.SQLite, Path: filepath.Join(folder, "a.sqlite")}, []byte("SELECT id, v, guid, typeof(v) FROM a;"))
}

func TestMappingsOfARestore(t *testing.T) {
	file := packed(t, talkative(t))
	work := t.TempDir()
	plain := filepath.Join(work, "plain")
	run := testenv.Hovix(t, "restore", file, plain, "--url", "https://new.example")
	assert.Equal(t, 3, run.Status, run.Err)
	assert.Equal(t, "1|https://new.example/1 https://new.example/2|http://old.example/?p=1|text\n"+
		"2|https://new.example/3 http://mirror.example/4 http://shop.example/5|http://old.example/?p=2|text\n"+
		"3|we are at old.example||text\n4|https://new.example/6|blob|blob\n", values(t, plain))
	config, err := os.ReadFile(filepath.Join(plain, "config/site.json"))
	require.NoError(t, err)
	assert.Equal(t, `{"home":"https:\/\/new.example\/x","mail":"me@old.example"}`, string(config), "further settings files are rewritten")
	text, err := os.ReadFile(filepath.Join(plain, "up/a.txt"))
	require.NoError(t, err)
	assert.Equal(t, "http://old.example/in-a-file", string(text), "uploads are not")

	more := filepath.Join(work, "more")
	run = testenv.Hovix(t, "restore", file, more, "--url", "https://new.example", "--alias", "http://mirror.example", "--map", "http://shop.example=https://new.example/shop", "--bare-hosts", "--files", "*.html,up/*.txt")
	assert.Equal(t, 0, run.Status, "nothing is left to look at: %s", run.Out)
	assert.Contains(t, values(t, more), "2|https://new.example/3 https://new.example/4 https://new.example/shop/5|")
	assert.Contains(t, values(t, more), "3|we are at new.example|")

	same := filepath.Join(work, "same")
	ok(t, testenv.Hovix(t, "restore", file, same))
	assert.Contains(t, values(t, same), "1|http://old.example/1 http://www.old.example/2|", "without --url the address stays")
}

// TestThereAndBackAgain moves a site to a base path and back: what it was is
// what it is.
func TestThereAndBackAgain(t *testing.T) {
	source := talkative(t)
	before := values(t, source)
	work := t.TempDir()
	there, back := filepath.Join(work, "there"), filepath.Join(work, "back")
	testenv.Hovix(t, "restore", packed(t, source), there, "--url", "http://new.example/museum2")
	assert.Contains(t, values(t, there), "http://new.example/museum2/1 http://new.example/museum2/2")
	testenv.Hovix(t, "restore", packed(t, there), back, "--url", "http://old.example")
	assert.Equal(t, strings.NewReplacer("http://www.old.example", "http://old.example", "http://alias.example", "http://old.example").Replace(before), values(t, back))
}

func TestChosenPartsAndOverwriting(t *testing.T) {
	dir := talkative(t)
	file := filepath.Join(t.TempDir(), "x.tar.zst")
	ok(t, testenv.Hovix(t, "pack", dir, "-o", file, "--parts", "uploads,database", "--compress", "small"))
	out, err := exec.Command("tar", "--zstd", "-tf", file).Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "files/up/a.txt")
	assert.Contains(t, string(out), "database/t00001-a.0-table.sql")
	assert.NotContains(t, string(out), "index.html")
	assert.NotContains(t, string(out), "settings/")
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, st.Mode().Perm(), "an archive is its owner's")
	ok(t, testenv.Hovix(t, "pack", dir, "-o", file, "--yes"))
	out, err = exec.Command("tar", "--zstd", "-tf", file).Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "settings/hovix.toml")
	assert.Equal(t, []string{"x.tar.zst"}, names(t, filepath.Dir(file)))

	before := snapshot(t, dir)
	run := testenv.Hovix(t, "pack", dir, "-o", "-", "--json")
	assert.Zero(t, run.Status)
	assert.True(t, strings.HasPrefix(run.Out, "\x28\xb5\x2f\xfd"), "standard output holds the archive alone")
	assert.Equal(t, before, snapshot(t, dir))
}

// TestTextOnTheWay: what is changed on the way into an archive and what is changed
// on the way out of one comes to the same.
func TestTextOnTheWay(t *testing.T) {
	site, work := talkative(t), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(site, ".htaccess"), []byte("RewriteBase /\nRedirect 301 /a http://old.example/b\n"), 0o644))
	texts := []string{"--text", "mirror=spiegel", "--text", "we are=you're \"at", "--whole-words", "--map", "http://old.example=https://new.example/base"}
	early, late := filepath.Join(work, "early.tar.zst"), packed(t, site)
	run := testenv.Hovix(t, append([]string{"pack", site, "-o", early}, texts...)...)
	require.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "Packed Talk  https://new.example/base")
	assert.Contains(t, run.Out, "1 bare host name", "what is left over is said")
	one, two := filepath.Join(work, "one"), filepath.Join(work, "two")
	ok(t, testenv.Hovix(t, "restore", early, one))
	run = testenv.Hovix(t, append([]string{"restore", late, two, "--url", "https://new.example/base"}, texts[:5]...)...)
	require.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "“mirror” → “spiegel”")
	assert.Contains(t, values(t, one), "you're \"at at old.example")
	assert.Contains(t, values(t, one), "http://spiegel.example/4")
	assert.Equal(t, values(t, two), values(t, one))
	for _, name := range []string{".htaccess", "config/site.json"} {
		a, err := os.ReadFile(filepath.Join(one, name))
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(two, name))
		require.NoError(t, err)
		assert.Equal(t, string(b), string(a), name)
		assert.Contains(t, string(a), "base")
	}
	assert.Contains(t, testenv.Hovix(t, "pack", site, "-o", early, "--yes", "--map", "old.example").Err, "OLD=NEW")
}

// TestWideColumns: text of which each character takes two or four bytes is
// rewritten too.
func TestWideColumns(t *testing.T) {
	source, target := testenv.MariaDB(t), testenv.MariaDB(t)
	testenv.Client(t, source, []byte("SET NAMES utf8mb4; CREATE TABLE w (id INT PRIMARY KEY, a TEXT CHARACTER SET ucs2, b VARCHAR(60) CHARACTER SET utf16, c TEXT CHARACTER SET utf32); INSERT INTO w VALUES (1,'http://old.example/ä','http://old.example/🚢','see http://old.example.'),(2,NULL,'','x')"))
	site := filepath.Join(t.TempDir(), "site")
	mariaSite(t, site, source, `address = "http://old.example"`)
	file := packed(t, site)
	ok(t, testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", file, filepath.Join(t.TempDir(), "new"), "--url", "https://new.example", "--database", target.String()))
	assert.Equal(t, "id\ta\tb\tc\n1\thttps://new.example/ä\thttps://new.example/🚢\tsee https://new.example.\n2\tNULL\t\tx\n", testenv.Client(t, target, []byte("SET NAMES utf8mb4; SELECT * FROM w ORDER BY id")))
}

// TestOutputsStay: what a command is told to write into stays what it is: a link, a pipe, a
// device.
func TestOutputsStay(t *testing.T) {
	dir := t.TempDir()
	site, dump, table := filepath.Join(dir, "site"), filepath.Join(dir, "dump.sql"), filepath.Join(dir, "map.csv")
	siteFile(t, site, `address = "http://a.example"`, `kind = "plain"`)
	require.NoError(t, os.WriteFile(dump, []byte("INSERT INTO `a` VALUES ('http://a.example');\n"), 0o644))
	require.NoError(t, os.WriteFile(table, []byte("from,to\n/a,/b\n"), 0o644))
	for name, args := range map[string][]string{
		"pack":      {"pack", site, "--yes", "-o"},
		"rewrite":   {"rewrite", dump, "--map", "http://a.example=http://b.example", "--yes", "-o"},
		"redirects": {"redirects", "write", table, "--for", "nginx", "--yes", "-o"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			far, link, pipe, null := filepath.Join(dir, "far"), filepath.Join(dir, "link"), filepath.Join(dir, "pipe"), filepath.Join(dir, "null")
			require.NoError(t, os.WriteFile(far, []byte("old"), 0o644))
			require.NoError(t, os.Symlink("far", link))
			require.NoError(t, os.Symlink(os.DevNull, null))
			require.NoError(t, syscall.Mkfifo(pipe, 0o600))
			ok(t, testenv.Hovix(t, append(args, link)...))
			written, err := os.ReadFile(far)
			require.NoError(t, err)
			assert.NotEqual(t, "old", string(written))

			got := make(chan int, 1)
			go func() {
				b, _ := os.ReadFile(pipe)
				got <- len(b)
			}()
			ok(t, testenv.Hovix(t, append(args, pipe)...))
			assert.InDelta(t, len(written), <-got, 20) // the time of packing is in it
			ok(t, testenv.Hovix(t, append(args, null)...))
			st, err := os.Stat(os.DevNull)
			require.NoError(t, err)
			assert.NotZero(t, st.Mode()&os.ModeCharDevice)
			assert.Equal(t, []string{"far", "link", "null", "pipe"}, names(t, dir))
			for _, l := range []string{link, null} {
				_, err := os.Readlink(l)
				assert.NoError(t, err)
			}
			refused := testenv.Hovix(t, append(args, dir)...)
			assert.NotZero(t, refused.Status)
			assert.Contains(t, refused.Err, "is a folder")
		})
	}
}

// TestStaticNeedsFewFiles: a page for each address, more than a process may hold open.
func TestStaticNeedsFewFiles(t *testing.T) {
	dir := t.TempDir()
	table, out := filepath.Join(dir, "map.csv"), filepath.Join(dir, "out")
	rows := "from,to\n"
	for i := range 300 {
		rows += fmt.Sprintf("/a%d,/b%d\n", i, i)
	}
	require.NoError(t, os.WriteFile(table, []byte(rows), 0o644))
	said, err := exec.Command("sh", "-c", `ulimit -n 100; exec "$@"`, "sh", testenv.Binary(t), "redirects", "write", table, "--for", "static", "-o", out).CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Len(t, names(t, out), 300)
}
