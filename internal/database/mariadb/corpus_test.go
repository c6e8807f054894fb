package mariadb

import (
	"bufio"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// command matches lines of the server's test language that are no SQL.
var command = regexp.MustCompile(`(?i)^\s*(#|--|let\b|eval\b|if\s*\(|while\s*\(|}|connect|disconnect|source\b|send\b|reap\b|error\b|exec\b|inc\b|dec\b|die\b|echo\b|perl\b|sorted_result|replace_|remove_file|write_file|append_file|cat_file|query_|vertical|horizontal|sleep|sync_|save_|wait_|shutdown|skip\b|real_sleep|result|file_exists|copy_file|chmod|mkdir|rmdir|enable_|disable_|character_set|start_timer|end_timer|lowercase|change_user|ping|reset_connection|optimizer|list_files|move_file|diff_files|assert|system\b|require\b)`)

// serverStatements gives the statements of the server's own test suite that begin with
// one of the words, each once.
func serverStatements(t *testing.T, first *regexp.Regexp) (list []string) {
	t.Helper()
	dir := testenv.ServerTests(t)
	seen := map[string]bool{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !slices.Contains([]string{".test", ".inc"}, filepath.Ext(path)) {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		var stmt strings.Builder
		delimiter := ";"
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			line := lines.Text()
			if rest, ok := strings.CutPrefix(strings.ToLower(strings.TrimSpace(line)), "delimiter "); ok && stmt.Len() == 0 {
				if delimiter = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(rest), delimiter)); delimiter == "" {
					delimiter = ";"
				}
				continue
			}
			if stmt.Len() == 0 && (command.MatchString(line) || strings.TrimSpace(line) == "") {
				continue
			}
			stmt.WriteString(line + "\n")
			if text, ok := strings.CutSuffix(strings.TrimSpace(line), delimiter); ok {
				_ = text
				s := strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(stmt.String()), delimiter))
				stmt.Reset()
				if first.MatchString(s) && !seen[s] && len(s) < 20000 {
					seen[s] = true
					list = append(list, s)
				}
			}
		}
		return nil
	}))
	slices.Sort(list)
	if os.Getenv("HOVIX_CORPUS") == "" { // a tenth of them
		list = slices.DeleteFunc(list, func(s string) bool { return len(s)%10 != 3 })
	}
	return list
}

// TestStatementsOfTheServersTests takes the statements with which the server's own test
// suite makes things. What the gate makes of one is one statement to the server, of the
// kind that the gate saw, and makes one thing of the name that the gate saw.
func TestStatementsOfTheServersTests(t *testing.T) {
	l := testenv.MariaDB(t)
	ctx := t.Context()
	db, err := connect(ctx, l, stageVars()) // as a stage does
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE t1 (a INT, b INT, c INT)")
	require.NoError(t, err)
	things := func() map[string]thing {
		rows, err := stringRows(db.QueryContext(ctx, `SELECT LOWER(TABLE_TYPE), TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE()
			UNION ALL SELECT LOWER(ROUTINE_TYPE), ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE()
			UNION ALL SELECT 'trigger', TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() UNION ALL SELECT 'event', EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA=DATABASE()`))
		require.NoError(t, err)
		m := map[string]thing{}
		for _, r := range rows {
			m[r[0]+" "+r[1]] = thing{r[0], r[1]}
		}
		return m
	}
	wanted := map[sqltree.Shape][]string{sqltree.ShapeTable: {"base table", "system versioned"}, sqltree.ShapeView: {"view"}, sqltree.ShapeSequence: {"sequence"}, sqltree.ShapeTrigger: {"trigger"},
		sqltree.ShapeRoutine: {"function", "procedure"}, sqltree.ShapeEvent: {"event"}}
	before := things()
	let, refused, made := 0, 0, 0
	why := map[string]int{}
	for _, s := range serverStatements(t, regexp.MustCompile(`(?i)^(/\*!|create)`)) {
		one, err := sqltree.Parse([]byte(s), sqltext.MySQL)
		text, name := "", ""
		if err == nil && one.Shape == sqltree.ShapeTable {
			var def *sqltree.Table
			if def, err = sqltree.ParseTable([]byte(s), sqltext.MySQL); err == nil {
				text, name = def.SQL(nil), def.Name
			}
		} else if err == nil {
			text, name = one.SQL(nil), one.Name
		}
		if err == nil && text == "" {
			continue // it concerns a client's session
		}
		if err != nil {
			refused++
			_, reason, _ := strings.Cut(err.Error(), "refused SQL: ")
			reason, _, _ = strings.Cut(reason, " (in ")
			why[reason]++
			continue
		}
		let++
		_, err = db.Exec(text)
		var my *mysql.MySQLError
		if errors.As(err, &my) {
			if my.Number == 1064 && one.Shape != sqltree.ShapeTrigger && one.Shape != sqltree.ShapeRoutine && one.Shape != sqltree.ShapeEvent {
				_, original := db.Exec(s)
				if !errors.As(original, &my) || my.Number != 1064 {
					assert.Fail(t, "the server reads it otherwise", "%s\n%s\n%v\n%v", s, text, err, original)
				}
				if original == nil {
					clearAll(t, things, before, db.Exec)
				}
			}
			continue
		}
		require.NoError(t, err)
		made++
		var fresh []string
		for k, it := range things() {
			if before[k].name == "" {
				fresh = append(fresh, k)
				if !slices.Contains(wanted[one.Shape], it.kind) || !strings.EqualFold(it.name, name) {
					assert.Fail(t, "another thing was made", "%s: %s, not %v %s", s, k, wanted[one.Shape], name)
				}
			}
		}
		if len(fresh) != 1 {
			assert.LessOrEqual(t, len(fresh), 1, s)
		}
		clearAll(t, things, before, db.Exec)
	}
	t.Logf("%d let through, %d of them made, %d refused", let, made, refused)
	if os.Getenv("HOVIX_CORPUS") != "" {
		for reason, n := range why {
			t.Logf("%5d refused: %s", n, reason)
		}
	}
	assert.Greater(t, made, let/3, "most can be made")
}

// thing is what stands in a database.
type thing struct{ kind, name string }

// clearAll removes what was made.
func clearAll[R any](t *testing.T, things func() map[string]thing, before map[string]thing, exec func(string, ...any) (R, error)) {
	t.Helper()
	for k, it := range things() {
		if before[k].name != "" {
			continue
		}
		word := strings.ToUpper(it.kind)
		if it.kind == "base table" || it.kind == "system versioned" {
			word = "TABLE"
		}
		_, err := exec("DROP " + word + " " + quote(it.name))
		require.NoError(t, err)
	}
}
