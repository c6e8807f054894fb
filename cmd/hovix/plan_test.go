package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/testenv"
)

// planned runs a restore and its plan, which both have to fail for the reason given,
// soon, and without a trace on the target.
func planned(t *testing.T, want string, env []string, folder string, args ...string) {
	t.Helper()
	parent := filepath.Dir(folder)
	before := snapshot(t, parent)
	for _, more := range []string{"--plan", "--yes"} {
		begin := time.Now()
		run := testenv.HovixIn(t, "", env, append(append([]string{"restore"}, args...), more)...)
		took := time.Since(begin)
		assert.Equal(t, 1, run.Status, run.Out)
		assert.Contains(t, run.Err, want)
		assert.Less(t, took, 5*time.Second, "it is told soon")
		if more == "--plan" {
			assert.Contains(t, run.Out, "✗ ", "the plan shows it among the checks")
			assert.Equal(t, 1, strings.Count(run.Out, "✗"), "one thing is wrong: %s", run.Out)
		}
		assert.Equal(t, before, snapshot(t, parent), "nothing is touched")
	}
}

// TestPlansThatFail: what stands in the way of a restore is found before anything is
// done, and the one thing that is wrong is named.
func TestPlansThatFail(t *testing.T) {
	maria := testenv.MariaDB(t)
	testenv.ExecAs(t, maria, "CREATE TABLE a (b VARCHAR(20)); INSERT INTO a VALUES ('http://old.example'); CREATE TRIGGER tr BEFORE INSERT ON a FOR EACH ROW SET NEW.b=1; CREATE FUNCTION f() RETURNS INT RETURN 1")
	dir := filepath.Join(t.TempDir(), "site")
	mariaSite(t, dir, maria, `address = "http://old.example"`)
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "way-out")))
	file := packed(t, dir)
	fresh := func(t *testing.T) (folder string, l database.Location, env []string) {
		l = testenv.MariaDB(t)
		return filepath.Join(t.TempDir(), "new"), l, []string{"HOVIX_DATABASE_PASSWORD=" + l.Password}
	}
	trusted := []string{"--stored-code", "--links-out"}
	t.Run("password", func(t *testing.T) {
		folder, l, _ := fresh(t)
		planned(t, "refuses this user and password", []string{"HOVIX_DATABASE_PASSWORD=wrong"}, folder, append(trusted, file, folder, "--database", l.String())...)
	})
	t.Run("right", func(t *testing.T) {
		folder, l, env := fresh(t)
		testenv.Exec(t, l, "REVOKE INDEX ON "+l.Name+".* FROM "+l.User+"@localhost; REVOKE INDEX ON "+l.Name+".* FROM "+l.User+"@'%'")
		planned(t, "the user lacks the rights INDEX", env, folder, append(trusted, file, folder, "--database", l.String())...)
	})
	t.Run("collation", func(t *testing.T) {
		folder, l, env := fresh(t)
		bad := reworked(t, file, func(_ string, content []byte) []byte {
			return bytes.Replace(content, []byte(`"collations": [`), []byte(`"collations": [ "klingon_ci",`), 1)
		})
		planned(t, "neither the collation klingon_ci nor one like it", env, folder, append(trusted, bad, folder, "--database", l.String())...)
	})
	t.Run("code in the database", func(t *testing.T) {
		folder, l, env := fresh(t)
		planned(t, "code that the database runs by itself, with the rights of who restores it: routine f, trigger tr", env, folder, "--links-out", file, folder, "--database", l.String())
		run := testenv.HovixIn(t, "", env, "restore", "--links-out", "--without", "stored-code", file, folder, "--database", l.String())
		require.Contains(t, []int{0, 3}, run.Status, run.Err)
		assert.Equal(t, "\n", testenv.Client(t, l, []byte("SELECT TRIGGER_NAME AS '' FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() UNION SELECT ''"))[:1])
	})
	t.Run("links", func(t *testing.T) {
		folder, l, env := fresh(t)
		planned(t, "symbolic links of the archive lead out of the site: way-out → /etc", env, folder, "--stored-code", file, folder, "--database", l.String())
	})
	t.Run("disk", func(t *testing.T) {
		folder := filepath.Join(smallDisk(t, "1m"), "new")
		large := filepath.Join(t.TempDir(), "large")
		siteFile(t, large, `name = "large"`)
		require.NoError(t, os.WriteFile(filepath.Join(large, "x.bin"), make([]byte, 8<<20), 0o644))
		planned(t, "the new site needs 8.4 MB beside the target", nil, folder, packed(t, large), folder)
	})
	t.Run("packet", func(t *testing.T) {
		server := testenv.OwnMariaDB(t, t.TempDir(), "--max-allowed-packet=512K")
		folder := filepath.Join(t.TempDir(), "new")
		planned(t, "the server takes statements of 512 kB at most", []string{"HOVIX_DATABASE_PASSWORD=" + testenv.Password}, folder, append(trusted, file, folder, "--database", server.Location.String())...)
	})
	t.Run("a word that means nothing", func(t *testing.T) {
		folder, l, env := fresh(t)
		for word, want := range map[string]string{"datbase": "did you mean database?", "table:b": "the archive has no table b", "no/such/path": "the archive has nothing of the name no/such/path"} {
			run := testenv.HovixIn(t, "", env, append(append([]string{"restore"}, trusted...), file, folder, "--database", l.String(), "--only", word)...)
			assert.Equal(t, 1, run.Status)
			assert.Contains(t, run.Err, want)
		}
	})
}

// TestPlanTells: a plan says what is brought, replaced and kept, and how much is
// rewritten.
func TestPlanTells(t *testing.T) {
	s := newStand(t, engineStands["MariaDB"])
	run := s.ok(t, append(s.restore(), "--plan", "--json")...)
	var plan struct {
		Parts    []string
		Estimate struct {
			Values int
			Exact  bool
		}
		ReplacedFiles, KeptFiles struct{ Count int }
		ReplacedTables           []struct{ Name string }
		Checks                   []struct{ What, Failed string }
	}
	require.NoError(t, json.Unmarshal([]byte(run.Out), &plan))
	assert.Equal(t, []string{"database", "uploads", "code", "settings"}, plan.Parts)
	assert.Equal(t, 88, plan.Estimate.Values, "as many as the restore then rewrites")
	assert.True(t, plan.Estimate.Exact)
	assert.Len(t, plan.ReplacedTables, 7)
	assert.Equal(t, 70, plan.ReplacedFiles.Count)
	var checks []string
	for _, c := range plan.Checks {
		checks = append(checks, c.What)
		assert.Empty(t, c.Failed)
	}
	assert.Subset(t, checks, []string{"room for files", "database", "rights", "statement size", "collations", "room for tables"})
}

// TestChosen restores parts, tables and folders: the target keeps the rest.
func TestChosen(t *testing.T) {
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStand(t, fresh)
			require.NoError(t, os.MkdirAll(filepath.Join(s.folder, ".well-known"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(s.folder, ".well-known/proof"), []byte("mine"), 0o644))
			require.NoError(t, os.MkdirAll(filepath.Join(s.folder, "empty/hollow"), 0o711))
			s.before = s.state(t)
			lines := func(state string) []string { return strings.Split(state, "\n") }
			isFile := func(line string) bool { return strings.Contains(line, " -rw") || strings.Contains(line, " drwx") }
			files := func(state string) (out []string) {
				for _, l := range lines(state) {
					if isFile(l) {
						out = append(out, l)
					}
				}
				return out
			}
			rest := func(state string) (out []string) {
				for _, l := range lines(state) {
					if !isFile(l) {
						out = append(out, l)
					}
				}
				return out
			}

			s.ok(t, append(s.restore(), "--only", "uploads")...)
			got := s.state(t)
			assert.Equal(t, rest(s.before), rest(got), "the database stays")
			assert.Contains(t, strings.Join(files(got), "\n"), "only-here.txt", "so does the code")
			assert.Contains(t, strings.Join(files(got), "\n"), "empty/hollow drwx--x--x", "and a folder without anything in it")
			s.reset(t)

			s.ok(t, append(s.restore(), "--only", "database")...)
			got = s.state(t)
			assert.Equal(t, files(s.before), files(got), "all files stay")
			assert.NotEqual(t, rest(s.before), rest(got))
			s.reset(t)

			s.ok(t, append(s.restore(), "--without", "database", "--keep", "only-*.txt")...)
			got = s.state(t)
			assert.Equal(t, rest(s.before), rest(got), "the database stays")
			text := strings.Join(files(got), "\n")
			assert.Contains(t, text, "only-here.txt", "kept")
			assert.Contains(t, text, ".well-known/proof", "what proves who owns the name is kept always")
			assert.NotContains(t, text, "cache/page-0.html", "the rest of the old site is gone")
			s.reset(t)

			s.ok(t, append(s.restore(), "--only", "uploads/2024")...)
			text = strings.Join(files(s.state(t)), "\n")
			assert.Contains(t, text, "only-here.txt")
			s.reset(t)
			if !strings.HasPrefix(name, "SQLite") {
				s.ok(t, append(s.restore(), "--only", "table:news")...)
				assert.Contains(t, testenv.Client(t, s.l, []byte("SELECT title FROM page")), "Old title", "other tables stay")
				assert.NotContains(t, testenv.Client(t, s.l, []byte("SELECT body FROM news")), "old.example")
				s.reset(t)
			}
		})
	}
}

// TestReadersSeeNoGap polls a large site all through a restore and an undo: there are
// old pages, then new ones, and no error in between; the switch is short.
func TestReadersSeeNoGap(t *testing.T) {
	count := 1500
	if n, err := strconv.Atoi(os.Getenv("HOVIX_SITE_FILES")); err == nil {
		count = n
	}
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			folder, l := filepath.Join(t.TempDir(), "www"), fresh(t)
			env := []string{"HOVIX_DATABASE_PASSWORD=" + l.Password}
			buildLarge(t, folder, "https://old.example", l, count)
			from := database.Location{}
			if l.Engine == database.MariaDB || l.Engine == database.Postgres {
				from = fresh(t)
			}
			source := filepath.Join(t.TempDir(), "source")
			buildLarge(t, source, "https://source.example", from, count)
			file := packed(t, source)
			for _, args := range [][]string{{"restore", file, folder, "--url", "https://new.example", "--yes", "--json"}, {"undo", folder, "--yes", "--json"}} {
				stop := make(chan struct{})
				result := make(chan []string)
				go func() { result <- poll(folder, stop) }()
				time.Sleep(200 * time.Millisecond)
				run := testenv.HovixIn(t, "", env, args...)
				require.Contains(t, []int{0, 3}, run.Status, run.Err)
				time.Sleep(100 * time.Millisecond)
				close(stop)
				seen := <-result
				var doc struct{ Switch time.Duration }
				require.NoError(t, json.Unmarshal([]byte(run.Out), &doc))
				// A page that is being made at the moment of the switch asks for old rows, then
				// for new ones.
				pages := slices.DeleteFunc(slices.Clone(seen), func(s string) bool { return strings.HasPrefix(s, "mixed") })
				runs := slices.Compact(slices.Clone(pages))
				t.Logf("%s: the switch took %v; %d readings: %v, %d made while it was done", args[0], doc.Switch, len(seen), runs, len(seen)-len(pages))
				assert.LessOrEqual(t, len(seen)-len(pages), 2)
				assert.Len(t, runs, 2, "one kind of page, then the other: %v", runs)
				for _, r := range runs {
					assert.Contains(t, []string{"old", "new"}, r)
				}
				assert.Less(t, doc.Switch, 5*time.Second)
			}
		})
	}
}

// buildLarge builds the museum with many more files and a hundred more tables.
func buildLarge(t *testing.T, folder, address string, l database.Location, count int) {
	t.Helper()
	_, err := demo.Build(t.Context(), folder, parse(t, address), l)
	require.NoError(t, err)
	manyFiles(t, folder, count, 200)
	if l.IsZero() {
		l = database.Location{Engine: database.SQLite, Path: filepath.Join(folder, "data/museum.sqlite")}
	}
	var sql strings.Builder
	for i := range 100 {
		fmt.Fprintf(&sql, "CREATE TABLE extra%03d (id INT PRIMARY KEY, v VARCHAR(100)); INSERT INTO extra%03d VALUES (1,'%s/x');\n", i, i, address)
	}
	testenv.Client(t, l, []byte(sql.String()))
}

// poll reads the front page and another one as visitors do, each time opening the
// site anew as PHP does, and says what it saw.
func poll(folder string, stop chan struct{}) (seen []string) {
	for {
		select {
		case <-stop:
			return seen
		default:
		}
		for _, page := range []string{"/", "/about"} {
			seen = append(seen, look(folder, page))
		}
	}
}

func look(folder, page string) string {
	s, err := demo.NewServer(folder)
	if err != nil {
		return "error: " + err.Error()
	}
	defer s.Close()
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest(http.MethodGet, page, nil))
	body := w.Body.String()
	isOld, isNew := strings.Contains(body, "https://old.example"), strings.Contains(body, "https://new.example")
	switch {
	case w.Code != http.StatusOK:
		return fmt.Sprintf("error: %s has status %d: %.200s", page, w.Code, body)
	case isOld && !isNew:
		return "old"
	case isNew && !isOld:
		return "new"
	}
	return "mixed " + page
}
