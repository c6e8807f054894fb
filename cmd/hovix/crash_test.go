package main_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/rewrite"
	"hovix/internal/testenv"
)

// stand is a target with a site on it, and an archive of another that is to
// replace it.
type stand struct {
	folder, file string
	l            database.Location // zero: SQLite in the folder
	env          []string
	before       string // of the site, as state gives it
	after        string
	mount        bool // the folder is a mount point
}

// engineStands are the databases of stands by name.
var engineStands = map[string]func(testing.TB) database.Location{
	"SQLite": func(testing.TB) database.Location { return database.Location{} },
	"SQLite beside the folder": func(t testing.TB) database.Location {
		return database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "beside.sqlite")}
	},
	"MariaDB": testenv.MariaDB, "PostgreSQL": testenv.Postgres,
	"SQLite in a mount point": func(testing.TB) database.Location { return database.Location{Path: mountPoint} },
}

// mountPoint says that a stand's folder is one, with its database in it.
const mountPoint = "mount point"

func newStand(t *testing.T, fresh func(testing.TB) database.Location) *stand {
	t.Helper()
	old, err := rewrite.ParseAddress("https://old.example")
	require.NoError(t, err)
	s := &stand{folder: filepath.Join(t.TempDir(), "www"), l: fresh(t)}
	if s.l.Path == mountPoint {
		s.folder, s.l, s.mount = smallDisk(t, "200m"), database.Location{}, true
	}
	s.env = []string{"HOVIX_DATABASE_PASSWORD=" + s.l.Password}
	_, err = demo.Build(t.Context(), s.folder, old, s.l)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.folder, "only-here.txt"), []byte("of the old site"), 0o644))
	if s.l.Engine != "" {
		testenv.Client(t, s.l, []byte("UPDATE page SET title='Old title'; CREATE TABLE old_only (x INT); CREATE VIEW old_view AS SELECT title FROM page;"))
	}
	from := s.l
	if from.Engine != "" && from.Engine != database.SQLite {
		from = fresh(t)
	} else {
		from = database.Location{}
	}
	source := museum(t, from)
	s.file = packed(t, source)
	s.before = s.state(t)
	s.ok(t, s.restore()...)
	s.after = s.state(t)
	require.NotEqual(t, s.before, s.after)
	s.reset(t)
	return s
}

func (s *stand) restore() []string {
	return []string{"restore", s.file, s.folder, "--url", "https://new.example", "--yes"}
}

// ok runs hovix, which has to succeed.
func (s *stand) ok(t *testing.T, args ...string) testenv.Run {
	t.Helper()
	run := testenv.HovixIn(t, "", s.env, args...)
	require.Contains(t, []int{0, 3}, run.Status, "%v: %s", args, run.Err)
	return run
}

// database is where the site's tables are.
func (s *stand) database() database.Location {
	if s.l.Engine == "" {
		return database.Location{Engine: database.SQLite, Path: filepath.Join(s.folder, "data/museum.sqlite")}
	}
	return s.l
}

var definers = regexp.MustCompile("DEFINER=`[^`]*`@`[^`]*` ")

// state describes the site: the content of all files, and of all tables with what
// belongs to them.
func (s *stand) state(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	files := snapshot(t, s.folder)
	for rel := range files {
		if top, _, _ := strings.Cut(rel, "/"); annex.IsName(top) {
			delete(files, rel)
		}
	}
	var rels []string
	for rel := range files {
		rels = append(rels, rel)
	}
	slices.Sort(rels)
	for _, rel := range rels {
		if strings.HasPrefix(rel, "data/museum.sqlite") || rel == "data" {
			continue
		}
		line := files[rel]
		if fields := strings.Fields(line); fields[0] != "->" { // not the time
			line = fields[0] + " " + strings.Join(fields[min(2, len(fields)):], "")
		}
		fmt.Fprintln(&b, rel, line)
	}
	l := s.database()
	switch l.Engine {
	case database.SQLite:
		b.WriteString(testenv.Client(t, l, []byte("SELECT sql FROM sqlite_schema ORDER BY name; SELECT * FROM page; SELECT * FROM news; SELECT count(*) FROM vessel;")))
	case database.MariaDB:
		tables := strings.Fields(testenv.Client(t, l, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT LIKE '\_hovix%' ORDER BY TABLE_NAME;`)))
		var look strings.Builder
		for _, table := range tables {
			look.WriteString("SHOW CREATE TABLE `" + table + "`; CHECKSUM TABLE `" + table + "` EXTENDED; ")
		}
		look.WriteString("SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY 1;")
		b.WriteString(definers.ReplaceAllString(testenv.Client(t, l, []byte(look.String())), "")) // of who made it last
	default:
		b.WriteString(testenv.Client(t, l, []byte(`SELECT c.relname, c.relkind, c.relowner FROM pg_class c WHERE c.relnamespace='public'::regnamespace ORDER BY 1;
			SELECT tablename || md5(query_to_xml(format('SELECT t FROM public.%I t ORDER BY t::text', tablename), true, false, '')::text) FROM pg_tables WHERE schemaname='public' ORDER BY 1;
			SELECT conrelid::regclass, conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE connamespace='public'::regnamespace ORDER BY 1, 2; SELECT viewname, definition FROM pg_views WHERE schemaname='public' ORDER BY 1;`)))
	}
	return b.String()
}

// left lists what Hovix has beside the site: in the annex, in the folder above,
// in the database.
func (s *stand) left(t *testing.T) (out []string) {
	t.Helper()
	for _, name := range names(t, filepath.Dir(s.folder)) {
		if name != filepath.Base(s.folder) && name != "."+filepath.Base(s.folder)+".hovix" {
			out = append(out, name)
		}
	}
	if an := annex.Of(s.folder); exists(an.Dir) {
		for _, name := range names(t, an.Dir) {
			out = append(out, "annex/"+name)
		}
	}
	switch l := s.database(); l.Engine {
	case database.SQLite:
		for _, name := range glob(filepath.Dir(l.Path), "*hovix-*") {
			out = append(out, "database/"+filepath.Base(name))
		}
	case database.MariaDB:
		out = append(out, strings.Fields(testenv.Client(t, l, []byte(`SELECT TABLE_NAME AS '' FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME LIKE '\_hovix%' ORDER BY TABLE_NAME;`)))...)
	default:
		out = append(out, strings.Fields(testenv.Client(t, l, []byte(`SELECT nspname FROM pg_namespace WHERE nspname LIKE '\_hovix%'`)))...)
	}
	return out
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// kept checks that nothing is left beside the site but undo points.
func (s *stand) kept(t *testing.T) {
	t.Helper()
	for _, name := range s.left(t) {
		point := strings.HasPrefix(name, "annex/0") && exists(filepath.Join(annex.Of(s.folder).Dir, strings.TrimPrefix(name, "annex/"), "point.json"))
		assert.True(t, point || strings.Contains(name, "_hovix_before_") || strings.Contains(name, "hovix-before-"), "left behind: %s", name)
	}
}

// reset brings the old site back by undo, and removes all that is kept.
func (s *stand) reset(t *testing.T) {
	t.Helper()
	for range 4 {
		if s.state(t) == s.before {
			break
		}
		s.ok(t, "undo", s.folder, "--yes")
	}
	same(t, s.before, s.state(t), "undo brings the old site back")
	s.ok(t, "undo", s.folder, "--discard", "--yes")
	require.Empty(t, s.left(t), "nothing is kept any more")
}

// killed starts a restore, kills it after a while, and waits until whoever may
// go on with it is done. It reports whether the restore was still at work.
func (s *stand) killed(t *testing.T, after time.Duration, args ...string) bool {
	t.Helper()
	cmd := exec.Command(testenv.Binary(t), args...)
	cmd.Env = append(os.Environ(), s.env...)
	require.NoError(t, cmd.Start())
	time.Sleep(after)
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	s.settled(t)
	return cmd.ProcessState.ExitCode() == -1
}

func (s *stand) settled(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool { return !annex.IsBusy(s.folder) }, 20*time.Second, 2*time.Millisecond, "the lock is free again")
}

// same compares two states and shows the first lines that differ.
func same(t *testing.T, want, got, when string) {
	t.Helper()
	if want == got {
		return
	}
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	var diff []string
	for _, l := range w {
		if !slices.Contains(g, l) {
			diff = append(diff, "- "+l[:min(len(l), 160)])
		}
	}
	for _, l := range g {
		if !slices.Contains(w, l) {
			diff = append(diff, "+ "+l[:min(len(l), 160)])
		}
	}
	require.FailNow(t, "another state than expected", "%s\n%s", when, strings.Join(diff[:min(len(diff), 12)], "\n"))
}

// whole checks that the site is the old one or the new one.
func (s *stand) whole(t *testing.T, when string) (isNew bool) {
	t.Helper()
	switch got := s.state(t); got {
	case s.before:
	case s.after:
		isNew = true
	default:
		same(t, s.before, got, when+": the site is neither the old nor the new one (compared with the old)")
	}
	return isNew
}

// TestKilledAtRandom kills restores with SIGKILL at random moments. After each
// the site is wholly the old or wholly the new one; the next run ends with the
// new one, and leaves nothing but the undo point. HOVIX_CRASHES says how often.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	times := 8
	if n, err := strconv.Atoi(os.Getenv("HOVIX_CRASHES")); err == nil {
		times = n
	}
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStand(t, fresh)
			timed := func() (run testenv.Run, took time.Duration) {
				begin := time.Now()
				run = s.ok(t, s.restore()...)
				return run, time.Since(begin)
			}
			_, full := timed()
			s.reset(t)
			old, taken, late := 0, 0, 0
			for i := 0; i < times && late < 5*times+20; {
				after := time.Duration(rand.Int64N(int64(full)))
				if !s.killed(t, after, s.restore()...) { // the machine is faster than it was
					late++
					_, full = timed()
					s.reset(t)
					continue
				}
				i++
				when := fmt.Sprintf("kill %d after %v", i, after)
				if !s.whole(t, when) {
					old++
				}
				var run testenv.Run
				run, full = timed()
				if strings.Contains(run.Out+run.Err, "interrupted") {
					taken++
				}
				same(t, s.after, s.state(t), when)
				s.kept(t)
				s.reset(t)
			}
			t.Logf("%d kills: the old site %d times, the new one %d times; %d times the next run found an interrupted one (%d times the restore was through before)", times, old, times-old, taken, late)
		})
	}
}

// TestKilledAtEachStep kills a restore, and then an undo, at every step that its
// journal knows. Where no other process can finish the switch, the site may be
// mixed between the two exchanges, until the next run.
func TestKilledAtEachStep(t *testing.T) {
	t.Parallel()
	staging := []string{"journal", "note", "note:2", "filled:2", "staged", "sealed"}
	switching := []string{"note:3", "note:4", "note:5", "switching", "database", "tables", "folders", "complete", "point", "handed-over",
		"database@go-on", "tables@go-on", "folders@go-on", "complete@go-on", "point@go-on"}
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStand(t, fresh)
			for _, point := range staging {
				s.step(t, "restore", point, false)
			}
			points := switching
			if s.mount {
				points = append([]string{"moved", "moved:3", "moved@go-on"}, points...)
			}
			for _, point := range points {
				for _, command := range []string{"restore", "undo"} {
					s.step(t, command, point, false)
					if !strings.Contains(point, "@") && !strings.HasPrefix(point, "note") {
						s.step(t, command, point, true)
					}
				}
			}
		})
	}
}

// step kills one command at one point.
func (s *stand) step(t *testing.T, command, point string, alone bool) {
	t.Helper()
	args := s.restore()
	want, other := s.after, s.before
	if command == "undo" {
		s.ok(t, args...)
		args = []string{"undo", s.folder, "--yes"}
		want, other = other, want
	}
	when := fmt.Sprintf("%s killed at %s, alone %v", command, point, alone)
	env := append([]string{"HOVIX_FAULT=" + point}, s.env...)
	if alone {
		env = append(env, "HOVIX_FAULT_ALONE=1")
	}
	run := testenv.HovixIn(t, "", env, args...)
	s.settled(t)
	died := run.Status == -1
	switch {
	case !died && s.l.Engine == "" && (!s.mount || strings.HasPrefix(point, "database") || strings.HasPrefix(point, "moved")) && (alone || strings.Contains(point, "@") || point == "handed-over"): // one exchange needs no second process
	case strings.Contains(point, "@"):
		require.Contains(t, []int{0, 3}, run.Status, "%s: the first process goes on: %s", when, run.Err)
	}
	inside := s.inSwitch(t)
	if s.l.Engine == "" && !s.mount || !inside { // else nobody was left to finish the switch
		if got := s.state(t); got != want {
			same(t, other, got, when)
		}
	}
	if point == "handed-over" && died {
		same(t, want, s.state(t), when+": the second process finishes")
	}
	if died && (inside || s.state(t) != want) {
		s.ok(t, args...)
	} else if died { // what the lock was made of may be there still
		s.ok(t, "undo", s.folder, "--discard", "--older-than", "1h", "--yes")
	}
	same(t, want, s.state(t), when)
	s.kept(t)
	s.reset(t)
}

// inSwitch reports whether a run has left a switch that it had begun.
func (s *stand) inSwitch(t *testing.T) bool {
	t.Helper()
	var j struct{ Step string }
	an, err := annex.Look(s.folder)
	if errors.Is(err, fs.ErrNotExist) {
		return false
	}
	require.NoError(t, err)
	defer an.Close()
	err = an.Read("journal.json", &j)
	if errors.Is(err, fs.ErrNotExist) {
		return false
	}
	require.NoError(t, err)
	return j.Step != "staging"
}

// TestUndoGoesBackAndForth follows a target through two restores: undo goes back
// one at a time, redo forth, and what is discarded is gone.
func TestUndoGoesBackAndForth(t *testing.T) {
	t.Parallel()
	for name, fresh := range engineStands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newStand(t, fresh)
			state := func() string { return s.state(t) }
			undo := func(args ...string) testenv.Run {
				return s.ok(t, append([]string{"undo", s.folder, "--yes"}, args...)...)
			}
			s.ok(t, s.restore()...)
			second := s.restore()
			second[4] = "https://third.example"
			s.ok(t, second...)
			third := state()
			require.NotEqual(t, s.after, third)

			undo()
			same(t, s.after, state(), "")
			undo()
			same(t, s.before, state(), "two restores back")
			run := testenv.HovixIn(t, "", s.env, "undo", s.folder, "--yes")
			assert.Equal(t, 1, run.Status)
			assert.Contains(t, run.Err, "nothing to put back")
			undo("--redo")
			same(t, s.after, state(), "")
			undo("--redo")
			same(t, third, state(), "")
			run = testenv.HovixIn(t, "", s.env, "undo", s.folder, "--yes", "--redo")
			assert.Equal(t, 1, run.Status)

			undo()
			s.ok(t, second...) // what was undone is forgotten by a new restore
			same(t, third, state(), "")
			run = testenv.HovixIn(t, "", s.env, "undo", s.folder, "--yes", "--redo")
			assert.Equal(t, 1, run.Status, "there is nothing to redo")
			s.kept(t)

			plan := testenv.HovixIn(t, "", s.env, "undo", s.folder, "--plan", "--json")
			var doc struct{ Points []struct{ ID string } }
			require.NoError(t, json.Unmarshal([]byte(plan.Out), &doc), plan.Out)
			assert.Len(t, doc.Points, 2)
			ok(t, testenv.HovixIn(t, "", s.env, "undo", s.folder, "--discard", "--older-than", "1h", "--yes"))
			assert.NotEmpty(t, s.left(t), "nothing is that old")
			ok(t, testenv.HovixIn(t, "", s.env, "undo", s.folder, "--discard", "--yes"))
			assert.Empty(t, s.left(t))
			same(t, third, state(), "")
		})
	}
}

// TestTwoRunsExcludeEachOther: while one run is at a target another is refused.
func TestTwoRunsExcludeEachOther(t *testing.T) {
	s := newStand(t, engineStands["SQLite"])
	lock, err := annex.Take(s.folder, "restore")
	require.NoError(t, err)
	for _, args := range [][]string{s.restore(), {"undo", s.folder, "--yes"}, {"rewrite", s.folder, "--map", "https://old.example=https://x.example", "--yes"}} {
		run := testenv.Hovix(t, args...)
		assert.Equal(t, 1, run.Status)
		assert.Contains(t, run.Err, "another run of Hovix is at work on "+s.folder+": hovix restore, process "+strconv.Itoa(os.Getpid()))
	}
	require.NoError(t, lock.Release())
	require.Empty(t, s.left(t))
	// What a process leaves that died with the lock is no lock.
	require.NoError(t, os.Mkdir(lock.Dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(lock.Dir, "lock"), []byte(`{"pid":1,"command":"restore"}`), 0o600))
	s.ok(t, s.restore()...)
	same(t, s.after, s.state(t), "")
}
