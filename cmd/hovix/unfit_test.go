package main_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// unfitTables have columns that are full: in characters, in bytes, in charsets of one byte
// and of several.
var unfitTables = map[database.Engine]string{
	database.MariaDB: `CREATE TABLE tight (id INT PRIMARY KEY, v VARCHAR(30), w TINYTEXT, l VARCHAR(24) CHARACTER SET latin1, u CHAR(30) CHARACTER SET utf16) CHARSET utf8mb4;
		INSERT INTO tight VALUES (1,'http://old.example/äöüäöüäöü!','http://old.example','http://old.example/é','http://old.example/1'),
			(7,'http://old.example/äöü','http://old.example/',REPEAT('x',24),'http://old.example/äöüäöüäöü!'), (8,'http://old.example/8',CONCAT('http://old.example/',REPEAT('é',118)),'','');`,
	database.Postgres: `CREATE TABLE tight (id int PRIMARY KEY, v varchar(30), c char(30)); INSERT INTO tight VALUES (1,'http://old.example/äöüäöüäöü!','http://old.example/1'), (7,'http://old.example/7','http://old.example/äöüäöüäöü!');`,
}

// TestUnfit: values that would grow beyond their columns are named with table, column, key
// and length, in the plan and by the restore, before anything is changed; or stay as they
// are where that is wanted, at restoring and at rewriting alike.
func TestUnfit(t *testing.T) {
	t.Parallel()
	wants := map[database.Engine][]string{
		database.MariaDB:  {"tight.v, id=1: 35 characters in place of at most 30", "tight.w, id=8: 261 bytes in place of at most 255", "tight.l, id=1: 26 characters in place of at most 24", "tight.u, id=7: 35 characters in place of at most 30"},
		database.Postgres: {"tight.v, id=1: 35 characters in place of at most 30", "tight.c, id=7: 35 characters in place of at most 30"},
	}
	for name, fresh := range engineFresh {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			from, to := fresh(t), fresh(t)
			testenv.Client(t, from, []byte(unfitTables[from.Engine]))
			dir, target := filepath.Join(t.TempDir(), "site"), filepath.Join(t.TempDir(), "www")
			lines := []string{`address = "http://old.example"`, fmt.Sprintf("database = %q", from.String()), fmt.Sprintf("database-password = %q", from.Password)}
			siteFile(t, dir, lines...)
			siteFile(t, target, lines[0], fmt.Sprintf("database = %q", to.String()), fmt.Sprintf("database-password = %q", to.Password))
			before := snapshot(t, target)
			file := packed(t, dir)
			args := []string{"restore", file, target, "--url", "https://longer.example/x"}
			want := wants[from.Engine]

			plan := testenv.Hovix(t, append(args, "--plan")...)
			assert.Contains(t, plan.Out, fmt.Sprintf("%d values would be longer than the column holds", len(want)))
			var doc struct {
				Unfit struct {
					Values   int
					Exact    bool
					Examples []string
				}
			}
			require.NoError(t, json.Unmarshal([]byte(testenv.Hovix(t, append(args, "--plan", "--json")...).Out), &doc))
			assert.Equal(t, len(want), doc.Unfit.Values)
			assert.True(t, doc.Unfit.Exact)
			assert.ElementsMatch(t, want, doc.Unfit.Examples)

			run := testenv.Hovix(t, append(args, "--yes", "--resume")...)
			require.Equal(t, 1, run.Status)
			for _, w := range want {
				assert.Contains(t, run.Err, w)
			}
			assert.Contains(t, run.Err, "--unfit keep-old")
			assert.Equal(t, before, snapshot(t, target))
			run = testenv.Hovix(t, append(args, "--yes", "--resume")...)
			assert.Equal(t, 1, run.Status, "what is staged already is not forgotten: %s", run.Out)

			run = testenv.Hovix(t, append(args, "--yes", "--resume", "--unfit", "keep-old")...)
			require.Equal(t, 3, run.Status, run.Err)
			kept := testenv.Client(t, to, []byte("SELECT v FROM tight ORDER BY id;"))
			assert.Contains(t, kept, "http://old.example/äöüäöüäöü!")
			assert.Contains(t, kept, "https://longer.example/x/")
			ok(t, testenv.Hovix(t, "undo", target, "--yes"))
			ok(t, testenv.Hovix(t, "undo", target, "--discard", "--yes"))
			run = testenv.Hovix(t, append(args, "--yes", "--unfit", "keep-old")...)
			require.Equal(t, 3, run.Status, run.Err)
			assert.Contains(t, run.Out, strings.Replace(want[0], ", ", ": ", 1)[len("tight.v: "):], "what stays is named")

			rewrite := []string{"rewrite", dir, "--map", "http://old.example=https://longer.example/x", "--yes"}
			run = testenv.Hovix(t, append(rewrite, "--unfit", "stop")...)
			require.Equal(t, 1, run.Status)
			assert.Contains(t, run.Err, want[0])
			run = testenv.Hovix(t, rewrite...)
			require.Equal(t, 3, run.Status, run.Err)
			same := "SELECT * FROM tight ORDER BY id;"
			assert.Equal(t, testenv.Client(t, to, []byte(same)), testenv.Client(t, from, []byte(same)), "both leave the same")
		})
	}
}
