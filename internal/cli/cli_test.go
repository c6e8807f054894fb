package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

var update = flag.Bool("update", false, "write the golden files anew")

// run calls the command line in this process.
func run(t *testing.T, args ...string) (status int, out, errOut string) {
	t.Helper()
	var o, e bytes.Buffer
	a := &app{in: strings.NewReader(""), out: &o, err: &e, log: discardLog()}
	status = a.run(t.Context(), args)
	return status, o.String(), e.String()
}

// testdata is absolute, for tests that change the folder.
var testdata = func() string {
	dir, err := filepath.Abs("testdata")
	if err != nil {
		panic(err)
	}
	return dir
}()

// golden compares text with a file in testdata.
func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join(testdata, name)
	if *update {
		require.NoError(t, os.MkdirAll(testdata, 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got, "run with -update if this is as it should be")
}

func TestHelp(t *testing.T) {
	for _, name := range []string{"", "survey", "pack", "inspect", "restore", "rewrite", "redirects", "redirects gather", "redirects pair", "redirects check", "redirects write", "redirects try", "demo"} {
		status, out, _ := run(t, strings.Fields(name+" --help")...)
		assert.Zero(t, status)
		golden(t, "help-"+strings.ReplaceAll(name, " ", "-")+".txt", out)
		for _, line := range strings.Split(out, "\n") {
			assert.LessOrEqual(t, len([]rune(line)), 120, line)
		}
	}
}

func TestVersionAndCompletion(t *testing.T) {
	status, out, _ := run(t, "--version")
	assert.Zero(t, status)
	assert.True(t, strings.HasPrefix(out, "hovix "+version), out)
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		status, out, _ := run(t, "completion", shell)
		assert.Zero(t, status)
		assert.Contains(t, out, "hovix")
	}
	for args, want := range map[string]string{"pack --compress": "balanced", "redirects write --for": "nginx", "pack --parts": "uploads", "restore --unfit": "keep-old", "restore --prefix": "keep", "rewrite --engine": "sqlite"} {
		_, out, _ := run(t, append(append([]string{"__complete"}, strings.Fields(args)...), "")...)
		assert.Contains(t, strings.Split(out, "\n"), want, args)
	}
	dir := filepath.Join(t.TempDir(), "man")
	status, _, _ = run(t, "man", dir)
	assert.Zero(t, status)
	page, err := os.ReadFile(filepath.Join(dir, "hovix-restore.1"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "HOVIX")
}

// TestOutputs keeps what people read: survey, pack, inspect, restore on the
// demo site, with what differs from run to run taken out.
func TestOutputs(t *testing.T) {
	work, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir := filepath.Join(work, "museum")
	_, err = demo.Build(t.Context(), dir, demo.OldAddress, database.Location{})
	require.NoError(t, err)
	t.Chdir(work)
	require.NoError(t, os.WriteFile("museum.sql", []byte("-- MariaDB dump\nCREATE TABLE `page` (`id` int, `body` text, `meta` text);\n"+
		`INSERT INTO `+"`page`"+` VALUES (1,'<a href=\"http://ferry.brackwater.example/visit\">Visit</a>, info@ferry.brackwater.example','a:1:{s:4:\"logo\";s:41:\"http://ferry.brackwater.example/logo.jpeg\";}'),`+
		`(2,'Once at ferry.brackwater.example','s:9:\"http://ferry.brackwater.example/l.jpeg\";');`+"\n"), 0o600))
	require.NoError(t, os.WriteFile("new.csv", []byte("path,title\n/visit,Plan your visit\n/boats,The collection\n/boats/curlew,Curlew\n/boats/marigold,Marigold\n/boats/osprey,Osprey\n/boats/samphire,Samphire\n/journal/engine-day,Engine day\n/about,About the museum\n/crew,The crew\n"), 0o600))
	require.NoError(t, os.WriteFile("bad.csv", []byte("from,to\n/collection,/boats\n/collection/,/Boats/\n/visit,/visit\n/a,/b\n/b,/collection\n/news/{year}/{name},/journal/{name}\n"), 0o600))
	steady := func(s string) string {
		s = regexp.MustCompile(`\d{5}-\d{8}-\d{6}-[0-9a-f]{8}`).ReplaceAllString(strings.ReplaceAll(s, work, "/WORK"), "POINT")
		s = replaceAll(s, `\d+ ms|\d+\.\d s\b`, "TIME")
		s = replaceAll(s, `\d+ [A-Z][a-z]+ 20\d\d, \d\d:\d\d( [A-Z]+)?`, "DATE")
		s = replaceAll(s, `SQLite \d+\.\d+\.\d+`, "SQLite X")
		s = replaceAll(s, `\d+(\.\d+)? [kMGT]?B\b`, "SIZE")
		s = replaceAll(s, ` +SIZE`, " SIZE")
		return replaceAll(s, `(ferry|harbour)-\d\d`, "picture")
	}
	for _, c := range []struct {
		name   string
		status int
		args   string
	}{
		{"survey", 0, "survey museum"},
		{"pack", 0, "pack museum -o m.tar.zst"},
		{"inspect", 0, "inspect m.tar.zst --check"},
		{"restore", 3, "restore m.tar.zst new --url https://brackwatermuseum.example"},
		{"restore-plan", 0, "restore m.tar.zst new --url https://brackwatermuseum.example:8443/sub --plan"},
		{"rewrite-plan", 3, "rewrite museum.sql --map http://ferry.brackwater.example=https://brackwatermuseum.example --plan"},
		{"rewrite", 0, "rewrite museum.sql --map http://ferry.brackwater.example=https://brackwatermuseum.example --column meta --repair -o new.sql"},
		{"rewrite-site-plan", 3, "rewrite museum --map http://ferry.brackwater.example=https://brackwatermuseum.example --files *.css --plan"},
		{"rewrite-site", 3, "rewrite museum --map http://ferry.brackwater.example=https://brackwatermuseum.example --except comment --yes"},
		{"rewrite-site-again", 3, "rewrite museum --map http://ferry.brackwater.example=https://brackwatermuseum.example --except comment --yes"},
		{"redirects-gather", 0, "redirects gather museum -o old.csv"},
		{"redirects-pair", 0, "redirects pair old.csv new.csv -o map.csv --patterns rules.csv --doubtful 5"},
		{"redirects-check", 3, "redirects check bad.csv --old old.csv --new new.csv --show 3"},
		{"redirects-fix", 3, "redirects check bad.csv --old old.csv --new new.csv --show 3 --fix -o good.csv"},
		{"redirects-write", 0, "redirects write rules.csv --for haproxy -o redirects.map"},
		{"redirects-try", 3, "redirects try bad.csv --url http://127.0.0.1:1 --show 2"},
	} {
		status, out, errOut := run(t, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, errOut)
		golden(t, c.name+".txt", steady(out))
	}
	status, out, _ := run(t, "inspect", "m.tar.zst", "--list")
	assert.Zero(t, status)
	assert.Contains(t, out, "  files/uploads/logo.png\n")
	assert.Equal(t, 96, strings.Count(out, "\n"))
}

func TestJSON(t *testing.T) {
	work := t.TempDir()
	dir := filepath.Join(work, "museum")
	_, err := demo.Build(t.Context(), dir, demo.OldAddress, database.Location{})
	require.NoError(t, err)
	file := filepath.Join(work, "m.tar.zst")
	document := func(want int, args ...string) map[string]any {
		status, out, errOut := run(t, append(args, "--json")...)
		require.Equal(t, want, status, errOut)
		var v map[string]any
		d := json.NewDecoder(strings.NewReader(out))
		require.NoError(t, d.Decode(&v), out)
		assert.False(t, d.More(), "one document")
		return v
	}
	survey := document(0, "survey", dir)
	assert.Equal(t, "http://ferry.brackwater.example", survey["address"])
	assert.Len(t, survey["tables"], 7)
	packed := document(0, "pack", dir, "-o", file)
	assert.EqualValues(t, 182, packed["summary"].(map[string]any)["rows"])
	inspected := document(0, "inspect", file, "--check")
	assert.Equal(t, true, inspected["checked"])
	plan := document(0, "restore", file, filepath.Join(work, "new"), "--url", "https://new.example", "--plan")
	assert.Equal(t, true, plan["create"])
	restored := document(3, "restore", file, filepath.Join(work, "new"), "--url", "https://new.example")
	assert.EqualValues(t, 400, restored["mentions"])
	assert.EqualValues(t, 22, restored["leftovers"].(map[string]any)["kept identifier"])
	assert.EqualValues(t, 108, restored["forms"].(map[string]any)["JSON-escaped"])
}

func TestLog(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, site.SiteFile), []byte("name = \"x\"\n"), 0o600))
	log := filepath.Join(t.TempDir(), "hovix.log")
	status, _, _ := run(t, "pack", dir, "-o", filepath.Join(t.TempDir(), "x"), "--log", log)
	assert.Zero(t, status)
	status, _, _ = run(t, "inspect", "/no/such/file", "--log", log)
	assert.Equal(t, 1, status)
	b, err := os.ReadFile(log)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	for _, l := range lines {
		assert.True(t, json.Valid([]byte(l)), l)
	}
	assert.Contains(t, string(b), `"msg":"packed"`)
	assert.Contains(t, lines[len(lines)-1], `"level":"ERROR"`)
	st, err := os.Stat(log)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, st.Mode().Perm())
}

func TestSmallWords(t *testing.T) {
	assert.Equal(t, "plain.txt", shellWord("plain.txt"))
	assert.Equal(t, `'it'\''s here'`, shellWord("it's here"))
	assert.Equal(t, "''", shellWord(""))
	assert.Equal(t, "harbour-office--nord.tar.zst", archiveName(&site.Site{Name: "Harbour Office: Nord"}))
	assert.Equal(t, "x.example.tar.zst", archiveName(&site.Site{Name: "y", Address: rewrite.Address{Scheme: "http", Host: "x.example"}}))
	assert.Equal(t, "a, b and 2 more", listOf([]string{"d", "c", "b", "a"}, 2))
	assert.Equal(t, "1 file", ui.Count(1, "file", "files"))
	assert.Equal(t, "12,345 files", ui.Count(12345, "file", "files"))
	assert.Equal(t, "abc…hijklm", ui.Short("abcdefghijklm", 10))
	assert.Equal(t, "short", ui.Short("short", 10))
	assert.Equal(t, `"a\nb"`, printable("a\nb"))
	var tally rewrite.Tally
	assert.Equal(t, "no mention of the old address was found", addressLine(&tally))
}

func TestPasswordsComeFromFilesAndTheEnvironment(t *testing.T) {
	a := &app{in: strings.NewReader(""), err: &bytes.Buffer{}}
	file := filepath.Join(t.TempDir(), "pw")
	require.NoError(t, os.WriteFile(file, []byte("from file\r\n"), 0o600))
	known := database.Location{Engine: database.MariaDB, Host: "h", User: "u", Password: "known", Name: "n"}
	for _, c := range []struct{ file, env, want string }{{file, "env", "from file"}, {"", "env", "env"}, {"", "", "known"}} {
		t.Setenv("HOVIX_DATABASE_PASSWORD", c.env)
		d := &databaseFlags{url: "mariadb://u@h/n", passwordFile: c.file}
		l, err := d.location(a, known)
		require.NoError(t, err)
		assert.Equal(t, c.want, l.Password)
	}
	d := &databaseFlags{url: "mariadb://other@h/n"}
	l, err := d.location(a, known)
	require.NoError(t, err)
	assert.Empty(t, l.Password, "another user's password is not tried")
	d.passwordFile = "/no/such/file"
	_, err = d.location(a, known)
	assert.ErrorContains(t, err, "read the database password")
}
