package postgres

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// tags are the words with which the server says what a statement of a shape has done.
var tags = map[sqltree.Shape]*regexp.Regexp{
	sqltree.ShapeTable:     regexp.MustCompile(`^CREATE TABLE$`),
	sqltree.ShapeKey:       regexp.MustCompile(`^(CREATE INDEX|ALTER TABLE)$`),
	sqltree.ShapeView:      regexp.MustCompile(`^CREATE (MATERIALIZED )?VIEW$`),
	sqltree.ShapeTrigger:   regexp.MustCompile(`^CREATE (TRIGGER|RULE)$`),
	sqltree.ShapeRoutine:   regexp.MustCompile(`^CREATE (FUNCTION|PROCEDURE)$`),
	sqltree.ShapeSequence:  regexp.MustCompile(`^CREATE SEQUENCE$`),
	sqltree.ShapeType:      regexp.MustCompile(`^CREATE (TYPE|DOMAIN)$`),
	sqltree.ShapePosition:  regexp.MustCompile(`^SELECT 1$`),
	sqltree.ShapeSchema:    regexp.MustCompile(`^CREATE SCHEMA$`),
	sqltree.ShapeExtension: regexp.MustCompile(`^CREATE EXTENSION$`),
	sqltree.ShapeOther:     regexp.MustCompile(`^(COMMENT|ALTER (SEQUENCE|TABLE|TYPE|DOMAIN|INDEX|VIEW|MATERIALIZED VIEW|FUNCTION))$`),
}

// TestStatementsOfExtensions takes the statements of the scripts by which the server's own
// extensions are made. What is cut out as one statement is one to the server, and what is
// made of it is one of the kind that was seen.
func TestStatementsOfExtensions(t *testing.T) {
	scripts, err := filepath.Glob("/usr/share/postgresql/*/extension/*.sql")
	require.NoError(t, err)
	if len(scripts) == 0 {
		t.Skip("LEFT OUT: the scripts of PostgreSQL's extensions are not installed")
	}
	ctx := t.Context()
	l := testenv.Postgres(t)
	l.User = "tester" // who may make functions in C
	con, err := connect(ctx, l)
	require.NoError(t, err)
	defer con.Close(ctx)
	run := func(text string) (string, error) { // in the extended protocol: one statement
		tag, err := con.ExecParams(ctx, text, nil, nil, nil, nil).Close()
		return tag.String(), err
	}
	must := func(text string) {
		_, err := run(text)
		require.NoError(t, err, "%s", text)
	}
	cut, let, made := 0, 0, 0
	for _, name := range scripts {
		content, err := os.ReadFile(name)
		require.NoError(t, err)
		content = regexp.MustCompile(`(?m)^\\.*$`).ReplaceAll(content, nil)
		content = bytes.ReplaceAll(bytes.ReplaceAll(content, []byte("MODULE_PATHNAME"), []byte("$libdir/plpgsql")), []byte("@extschema@"), []byte("public"))
		must("BEGIN")
		for s := sqltext.SplitBytes(content, sqltext.Postgres); ; {
			stmt, err := s.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err, name)
			cut++
			text := string(stmt.Text)
			if one, err := sqltree.Parse(stmt.Text, sqltext.Postgres); err == nil {
				anew := one.SQL(nil)
				if one.Shape == sqltree.ShapeTable {
					if def, err := sqltree.ParseTable(stmt.Text, sqltext.Postgres); err == nil {
						anew = def.SQL(nil)
					}
				}
				if anew != "" {
					let++
					must("SAVEPOINT a")
					tag, err := run(anew)
					mustBeOne(t, anew, err)
					if err == nil {
						made++
						assert.Regexp(t, tags[one.Shape], tag, "%s\n%s", text, anew)
					}
					must("ROLLBACK TO a")
				}
			}
			must("SAVEPOINT b")
			if _, err := run(text); err != nil {
				mustBeOne(t, text, err)
				must("ROLLBACK TO b")
			}
		}
		must("ROLLBACK")
	}
	t.Logf("%d statements of %d scripts, %d let through, %d of them made", cut, len(scripts), let, made)
	assert.GreaterOrEqual(t, made, 10, "some can be made")
}

// mustBeOne insists that the server found one statement in a text.
func mustBeOne(t *testing.T, text string, err error) {
	t.Helper()
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		assert.False(t, strings.Contains(pg.Message, "multiple commands"), "%s", text)
		assert.False(t, strings.Contains(pg.Message, "unterminated"), "%s", text)
	}
}
