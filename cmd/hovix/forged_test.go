package main_test

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// forgery is what a case may lay its hands on.
type forgery struct {
	annex   string // the folder beside the target
	point   string // the undo point in it
	outside string // what is none of Hovix's business
}

// journal lays down a journal as an interrupted run leaves it, but for some fields.
func (f forgery) journal(t *testing.T, fields map[string]any) {
	j := map[string]any{
		"id": "0123abcd", "what": "restore", "step": "switching", "began": "2024-01-01T00:00:00Z",
		"point": "00002-20240101-000000-0123abcd", "folder": 1, "stamp": "240101_000000_abcd",
	}
	maps.Copy(j, fields)
	f.write(t, "journal.json", j)
}

func (f forgery) write(t *testing.T, name string, v any) {
	b, err := json.Marshal(v)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(f.annex, name), b, 0o600))
}

// alter changes fields of the undo point.
func (f forgery) alter(t *testing.T, fields map[string]any) {
	name := filepath.Join(f.point, "point.json")
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	var p map[string]any
	require.NoError(t, json.Unmarshal(b, &p))
	maps.Copy(p, fields)
	f.write(t, filepath.Join(filepath.Base(f.point), "point.json"), p)
}

// linked puts a link to something outside in the place of something.
func (f forgery) linked(t *testing.T, name, to string) {
	require.NoError(t, os.RemoveAll(name))
	require.NoError(t, os.Symlink(filepath.Join(f.outside, to), name))
}

// forgeries are what others may leave in the place of what Hovix keeps beside a target.
// Each ends every command that reads it with a reason that says what to do.
var forgeries = []struct {
	name, want string
	make       func(*testing.T, forgery)
	only       string // the command that reads it, if not each does
}{
	{"the folder is a link", "is a link.*move it away", func(t *testing.T, f forgery) { f.linked(t, f.annex, "annex") }, ""},
	{"the folder is open to all", "others may enter it.*chmod 700", func(t *testing.T, f forgery) { require.NoError(t, os.Chmod(f.annex, 0o777)) }, ""},
	{"the folder is open to a group", "others may enter it.*chmod 700", func(t *testing.T, f forgery) { require.NoError(t, os.Chmod(f.annex, 0o770)) }, ""},
	{"the folder is somebody's", "belongs to the user.*chown", func(t *testing.T, f forgery) { require.NoError(t, os.Chown(f.annex, 12001, 12001)) }, ""},
	{"the folder is a pipe", "it is no folder.*move it away", func(t *testing.T, f forgery) {
		require.NoError(t, os.RemoveAll(f.annex))
		require.NoError(t, syscall.Mkfifo(f.annex, 0o666))
	}, ""},
	{"the lock is a link", "lock", func(t *testing.T, f forgery) { f.linked(t, filepath.Join(f.annex, "lock"), "secret.txt") }, ""},
	{"the lock is a pipe", "lock", func(t *testing.T, f forgery) {
		require.NoError(t, syscall.Mkfifo(filepath.Join(f.annex, "lock"), 0o666))
	}, ""},
	{"the journal is a link", "journal", func(t *testing.T, f forgery) {
		f.linked(t, filepath.Join(f.annex, "journal.json"), "annex/journal.json")
	}, ""},
	{"the journal is a pipe", "journal", func(t *testing.T, f forgery) {
		require.NoError(t, syscall.Mkfifo(filepath.Join(f.annex, "journal.json"), 0o666))
	}, ""},
	{"the journal is empty", "journal", func(t *testing.T, f forgery) {
		require.NoError(t, os.WriteFile(filepath.Join(f.annex, "journal.json"), nil, 0o600))
	}, ""},
	{"the journal is of brackets", "journal", func(t *testing.T, f forgery) {
		require.NoError(t, os.WriteFile(filepath.Join(f.annex, "journal.json"), bytes.Repeat([]byte("["), 8<<20), 0o600))
	}, ""},
	{"the journal has no end", "journal", func(t *testing.T, f forgery) {
		require.NoError(t, os.WriteFile(filepath.Join(f.annex, "journal.json"), nil, 0o600))
		require.NoError(t, os.Truncate(filepath.Join(f.annex, "journal.json"), 300<<30))
	}, ""},
	{"a command of its own", "journal.*not as Hovix writes it.*move it away", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"what": "rewrite"}) }, ""},
	{"a step of its own", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"step": "done"}) }, ""},
	{"a point outside", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"point": "../../outside"}) }, ""},
	{"a point outside, absolute", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"point": f.outside}) }, ""},
	{"an id that is a path", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"id": "../../out"}) }, ""},
	{"a stamp that is SQL", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"stamp": "a; DROP TABLE page"}) }, ""},
	{"folders above that are not", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"parents": []string{f.outside}}) }, ""},
	{"a file in both folders that leads out", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"shared": "../outside/data.sqlite"}) }, ""},
	{"a database of others", "named by what is kept.*--database|finish it with hovix undo", func(t *testing.T, f forgery) {
		f.journal(t, map[string]any{"database": "sqlite:" + filepath.Join(f.outside, "data.sqlite"), "state": database.State{File: filepath.Join(f.outside, "data.sqlite.hovix-1")}})
	}, ""},
	{"a server of others", "named by what is kept.*--database|finish it with hovix undo", func(t *testing.T, f forgery) {
		f.journal(t, map[string]any{"database": "mariadb://root@evil.example/x", "state": database.State{Tables: map[string]string{"a": "_hovix_1"}}})
	}, ""},
	{"tables that stand under names of others", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) {
		f.journal(t, map[string]any{"database": "mariadb://root@evil.example/x", "state": database.State{Tables: map[string]string{"a": "users"}}})
	}, ""},
	{"statements instead of notes", "journal", func(t *testing.T, f forgery) {
		f.journal(t, map[string]any{"notes": []any{map[string]string{"kind": "statement", "name": "DROP TABLE page"}}})
	}, ""},
	{"undo statements of an older form", "journal", func(t *testing.T, f forgery) { f.journal(t, map[string]any{"notes": []any{"DROP TABLE page"}}) }, ""},
	{"a record of another point", "journal.*not as Hovix writes it", func(t *testing.T, f forgery) {
		f.journal(t, map[string]any{"record": map[string]any{"id": "../../outside"}})
	}, ""},
	{"a point's database is another's", "named by what is kept.*--database|nothing of it was done", func(t *testing.T, f forgery) {
		f.alter(t, map[string]any{"shared": "", "database": "sqlite:" + filepath.Join(f.outside, "data.sqlite"), "state": database.State{File: filepath.Join(f.outside, "data.sqlite.hovix-1")}})
	}, "undo"},
	{"a point's file leads out", "nothing of it was done", func(t *testing.T, f forgery) { f.alter(t, map[string]any{"shared": "../outside/data.sqlite"}) }, "undo"},
	{"a point's state is somebody's file", "nothing of it was done", func(t *testing.T, f forgery) {
		f.alter(t, map[string]any{"shared": "", "database": "sqlite:/x", "state": database.State{File: filepath.Join(f.outside, "data.sqlite")}})
	}, "undo"},
	{"a point's files are a link", "", func(t *testing.T, f forgery) { f.linked(t, filepath.Join(f.point, "files"), "") }, "undo"},
	{"a point is a link", "", func(t *testing.T, f forgery) { f.linked(t, f.point, "") }, "undo"},
}

// TestForgeries: whatever lies in the place of what Hovix keeps beside a target, nothing
// outside is read, written or removed by it, the site stays as it is, and the reason says
// what to do.
func TestForgeries(t *testing.T) {
	t.Parallel()
	base := t.TempDir()
	target := filepath.Join(base, "www")
	f := forgery{annex: filepath.Join(base, ".www.hovix"), outside: filepath.Join(base, "outside")}
	source := museum(t, database.Location{})
	archive := packed(t, source)
	restore := []string{"restore", archive, target, "--url", "https://new.example", "--yes"}
	for range 2 {
		run := testenv.Hovix(t, restore...)
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
	}
	require.NoError(t, os.Mkdir(f.outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(f.outside, "secret.txt"), []byte("top secret"), 0o600))
	testenv.Program(t, "sqlite3", []byte("CREATE TABLE page (title TEXT);"), filepath.Join(f.outside, "data.sqlite"))
	require.NoError(t, os.CopyFS(filepath.Join(f.outside, "files"), os.DirFS(source)))
	at := forgery{annex: filepath.Join(f.outside, "annex")}
	require.NoError(t, os.Mkdir(at.annex, 0o700))
	at.journal(t, nil)
	for _, name := range names(t, f.annex) {
		if strings.HasPrefix(name, "0") {
			f.point = filepath.Join(f.annex, name)
		}
	}
	require.NotEmpty(t, f.point)
	kept := filepath.Join(t.TempDir(), "kept")
	testenv.Program(t, "cp", nil, "-a", f.annex, kept)
	outside, site := snapshot(t, f.outside), snapshot(t, target)
	for _, c := range forgeries {
		if c.name == "the folder is somebody's" && os.Geteuid() != 0 {
			t.Log("LEFT OUT: a folder of another user can be made by root only")
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			c.make(t, f)
			for _, args := range [][]string{
				restore, {"undo", target, "--yes"}, {"undo", target, "--discard", "--yes"},
				{"rewrite", target, "--map", "https://new.example=https://newer.example", "--yes"},
			} {
				if c.only != "" && args[0] != c.only {
					continue
				}
				cmd := exec.Command(testenv.Binary(t), args...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				require.NoError(t, cmd.Start())
				stop := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
				err := cmd.Wait()
				require.True(t, stop.Stop(), "%v hangs", args)
				if args[len(args)-2] != "--discard" || c.only == "" { // a strange point may be thrown away
					assert.Error(t, err, "%v: %s", args, &out)
					assert.Regexp(t, "(?s)"+c.want, strings.Join(strings.Fields(out.String()), " "), "%v", args)
					assert.True(t, maps.Equal(site, snapshot(t, target)), "%v changed the site", args)
				}
				assert.NotContains(t, out.String(), "top secret")
				assert.True(t, maps.Equal(outside, snapshot(t, f.outside)), "%v changed what lies outside", args)
			}
			require.NoError(t, os.RemoveAll(f.annex))
			testenv.Program(t, "cp", nil, "-a", kept, f.annex)
		})
	}
	run := testenv.Hovix(t, "undo", target, "--yes")
	assert.Zero(t, run.Status, "what is Hovix's own is believed: %s", run.Err)
}
