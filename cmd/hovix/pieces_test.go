package main_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

func mariaDump(t *testing.T, l database.Location, options ...string) []byte {
	t.Helper()
	return testenv.Program(t, "mariadb-dump", nil, append([]string{"--no-defaults", "-S", l.Socket, "-utester", "-p" + l.Password, "--single-transaction", "--routines", "--triggers", "--events"}, append(options, l.Name)...)...)
}

func write(t *testing.T, path string, content []byte) string {
	t.Helper()
	require.NoError(t, os.WriteFile(path, content, 0o600))
	return path
}

// TestPiecesOfWordPress: a dump and two tar files, made with mariadb-dump and tar,
// become an archive and then a site that works, at another base path.
func TestPiecesOfWordPress(t *testing.T) {
	folder, l := testenv.WordPress(t, "http://harbour.example", "harb_")
	testenv.Exec(t, l, "INSERT INTO harb_comments (comment_post_ID, comment_author, comment_content, comment_approved) VALUES (1,'x','buy','spam')")
	dir := t.TempDir()
	dump := write(t, filepath.Join(dir, "harbour.sql"), mariaDump(t, l))
	testenv.Program(t, "gzip", nil, dump)
	files, uploads := filepath.Join(dir, "site.tar.gz"), filepath.Join(dir, "uploads.tar.bz2")
	testenv.Program(t, "tar", nil, "-C", filepath.Dir(folder), "--exclude=wp-content/uploads", "-czf", files, filepath.Base(folder))
	testenv.Program(t, "tar", nil, "-C", filepath.Join(folder, "wp-content"), "-cjf", uploads, "uploads")
	live, piecewise := packed(t, folder), filepath.Join(dir, "pieces.tar.zst")
	run := ok(t, testenv.Hovix(t, "pack", "--files", files, "--dump", dump+".gz", "--uploads", uploads, "--origin", folder, "-o", piecewise))
	assert.Contains(t, run.Out, "without secrets")
	left, err := filepath.Glob(filepath.Join(dir, ".hovix*"))
	require.NoError(t, err)
	assert.Empty(t, left, "what was unpacked is gone")
	list := func(file string) string { // all but the manifest, which tells when it was made
		lines := strings.Split(ok(t, testenv.Hovix(t, "inspect", file, "--list")).Out, "\n")
		sort.Strings(lines)
		return strings.Join(withoutLines(lines, "hovix/", "RESTORE.txt", " database/"), "\n")
	}
	assert.Equal(t, list(live), list(piecewise), "the same files as of the live site, to the byte")
	var places []database.Location
	for _, file := range []string{live, piecewise} {
		places = append(places, testenv.MariaDB(t))
		target, place := places[len(places)-1], filepath.Join(dir, "same")
		run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--stored-code", "--links-out", file, place, "--database", target.String())
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
		require.NoError(t, os.RemoveAll(place))
	}
	sameContent(t, content(t, places[0]), content(t, places[1]))
	port, target, root := testenv.FreePort(t), testenv.MariaDB(t), t.TempDir()
	address := fmt.Sprintf("http://pier.example:%d/museum2", port)
	run = testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--links-out", piecewise, filepath.Join(root, "museum2"), "--url", address, "--database", target.String())
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	testenv.ServePHP(t, root, port, "/museum2")
	useWordPress(t, port, address, "harbour.example", "an edit in a site of pieces")

	assert.Contains(t, ok(t, testenv.Hovix(t, "pack", "--files", files, "--dump", dump+".gz", "--without", "spam", "-o", filepath.Join(dir, "less.tar.zst"))).Out, "spam in table harb_comments", "conditions hold for dumps too")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--files", uploads, "--dump", dump + ".gz"}, "no site is here: " + uploads},
		{[]string{"--files", files, "--dump", files}, "no SQL dump"},
		{[]string{"--files", dump + ".gz"}, "neither a tar file (plain, gzip, zstd, bzip2) nor a zip file"},
		{[]string{"--files", filepath.Join(dir, "site.tar.g")}, "did you mean " + files},
		{[]string{"--files", files, "--dump", filepath.Join(dir, "harbour.sql")}, "did you mean " + dump + ".gz"},
		{[]string{"--dump", dump + ".gz"}, "name its files too, with --files"},
		{[]string{folder, "--files", files}, "keep one of them"},
	} {
		run := testenv.Hovix(t, append(append([]string{"pack"}, c.args...), "-o", filepath.Join(dir, "no.tar.zst"))...)
		assert.NotZero(t, run.Status)
		assert.Contains(t, run.Err, c.want)
	}
}

// restorePieces packs a dump beside a folder and restores it.
func restorePieces(t *testing.T, folder, dump string, target database.Location, more ...string) testenv.Run {
	t.Helper()
	file := filepath.Join(t.TempDir(), "pieces.tar.zst")
	run := testenv.Hovix(t, append([]string{"pack", folder, "--dump", dump, "-o", file}, more...)...)
	require.Contains(t, []int{0, 3}, run.Status, run.Err)
	ok(t, testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, "restore", "--stored-code", "--links-out", file, filepath.Join(t.TempDir(), "new"), "--database", target.String()))
	return run
}

// TestPiecesOfMariaDB: what a dump makes of a database is what the server's own
// client makes of it, whatever the options of the dump program.
func TestPiecesOfMariaDB(t *testing.T) {
	source := testenv.MariaDB(t)
	fillHard(t, source)
	for _, o := range hardRest {
		if !strings.Contains(o, "VERSIONING") && !strings.Contains(o, "counted") { // such dumps the server's own client cannot load
			testenv.ExecAs(t, source, o)
		}
	}
	folder := filepath.Join(t.TempDir(), "site")
	mariaSite(t, folder, source)
	for name, options := range map[string][]string{
		"as it comes":    nil,
		"single inserts": {"--skip-extended-insert", "--insert-ignore"},
		"hexadecimal":    {"--hex-blob", "--replace", "--ignore-table=" + source.Name + ".hard", "--ignore-table=" + source.Name + ".a_view", "--ignore-table=" + source.Name + ".z_view"},
		"with columns":   {"--complete-insert", "--skip-comments", "--compact", "--tz-utc"},
		"latin1":         {"--default-character-set=latin1", "--ignore-table=" + source.Name + ".hard", "--ignore-table=" + source.Name + ".a_view", "--ignore-table=" + source.Name + ".z_view"},
	} {
		t.Run(name, func(t *testing.T) {
			text := mariaDump(t, source, options...)
			if strings.Contains(name, "columns") { // which says nothing of itself
				text = append([]byte("SET NAMES utf8mb4;\nSET time_zone='+00:00';\nSET foreign_key_checks=0;\nSET sql_mode='NO_AUTO_VALUE_ON_ZERO';\n"), text...)
			}
			oracle, target := testenv.MariaDB(t), testenv.MariaDB(t)
			testenv.Client(t, oracle, bytes.ReplaceAll(text, []byte("DEFINER=`"+source.User+"`@`localhost`"), nil))
			restorePieces(t, folder, write(t, filepath.Join(t.TempDir(), "dump.sql"), text), target)
			sameContent(t, content(t, oracle), content(t, target))
		})
	}
	t.Run("written out and taken again", func(t *testing.T) {
		file, dir := filepath.Join(t.TempDir(), "a.tar.zst"), t.TempDir()
		ok(t, testenv.Hovix(t, "pack", folder, "-o", file))
		ok(t, testenv.Hovix(t, "inspect", file, "--extract", dir))
		assert.Equal(t, []string{"database.sql", "files.tar"}, names(t, dir))
		assert.Contains(t, testenv.Hovix(t, "inspect", file, "--extract", dir).Err, "choose a folder that holds none of the pieces")
		oracle, target := testenv.MariaDB(t), testenv.MariaDB(t)
		text, err := os.ReadFile(filepath.Join(dir, "database.sql"))
		require.NoError(t, err)
		testenv.Client(t, oracle, text)
		restorePieces(t, filepath.Join(dir, "files.tar"), filepath.Join(dir, "database.sql"), target)
		want := content(t, source)
		sameContent(t, want, content(t, oracle))
		sameContent(t, want, content(t, target))
	})
}

func TestPiecesOfPostgres(t *testing.T) {
	source := testenv.Postgres(t)
	hard, err := os.ReadFile("testdata/hard-postgres.sql")
	require.NoError(t, err)
	testenv.Client(t, source, hard)
	want := catalog(t, source)
	folder := filepath.Join(t.TempDir(), "site")
	postgresSite(t, folder, source)
	for name, options := range map[string][]string{"as it comes": nil, "bare": {"--no-owner", "--no-privileges", "--no-comments"}} {
		t.Run(name, func(t *testing.T) {
			text := testenv.Program(t, "pg_dump", nil, append(testenv.PostgresArgs(source), options...)...)
			target := testenv.Postgres(t)
			restorePieces(t, folder, write(t, filepath.Join(t.TempDir(), "dump.sql"), text), target)
			if name == "bare" {
				assert.Equal(t, withoutLines(want, "comment|", " column"), withoutLines(catalog(t, target), "comment|", " column"))
				return
			}
			assert.Equal(t, want, catalog(t, target))
		})
	}
	t.Run("written out and taken again", func(t *testing.T) {
		file, dir := filepath.Join(t.TempDir(), "a.tar.zst"), t.TempDir()
		ok(t, testenv.Hovix(t, "pack", folder, "-o", file))
		ok(t, testenv.Hovix(t, "inspect", file, "--extract", dir))
		target := testenv.Postgres(t)
		restorePieces(t, filepath.Join(dir, "files.tar"), filepath.Join(dir, "database.sql"), target)
		assert.Equal(t, want, catalog(t, target))
	})
}

func TestPiecesOfSQLite(t *testing.T) {
	source := database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "a.sqlite")}
	testenv.Client(t, source, []byte(strings.ReplaceAll(hardSQLite, "CAST(x'610062' AS TEXT)", "'nul'")))
	folder := filepath.Join(t.TempDir(), "site")
	siteFile(t, folder, `name = "Hard"`, `database = "sqlite:data.sqlite"`)
	write(t, filepath.Join(folder, "data.sqlite"), []byte("not looked at"))
	dump := write(t, filepath.Join(t.TempDir(), "dump.sql"), []byte(testenv.Client(t, source, []byte(".dump"))))
	file := filepath.Join(t.TempDir(), "pieces.tar.zst")
	ok(t, testenv.Hovix(t, "pack", folder, "--dump", dump, "-o", file))
	target := filepath.Join(t.TempDir(), "new")
	ok(t, testenv.Hovix(t, "restore", "--stored-code", "--links-out", file, target))
	assert.Equal(t, sqliteContent(t, source.Path), sqliteContent(t, filepath.Join(target, "data.sqlite")))
}
