package sqltext

import (
	"fmt"
	"slices"
	"strings"
)

// Shape is what kind of statement a statement is.
type Shape int

// The shapes that a restore knows. Everything else is refused.
const (
	ShapeNone     Shape = iota // does nothing to data: SET, BEGIN, COMMIT, LOCK TABLES, PRAGMA …
	ShapeTable                 // CREATE TABLE
	ShapeInsert                // INSERT INTO … VALUES, COPY … FROM stdin
	ShapeIndex                 // CREATE INDEX, ALTER TABLE … ADD CONSTRAINT
	ShapeView                  // CREATE VIEW, CREATE MATERIALIZED VIEW
	ShapeTrigger               // CREATE TRIGGER, CREATE RULE
	ShapeRoutine               // CREATE FUNCTION, CREATE PROCEDURE
	ShapeEvent                 // CREATE EVENT
	ShapeSequence              // CREATE SEQUENCE
	ShapeType                  // CREATE TYPE, CREATE DOMAIN
	ShapePosition              // SELECT pg_catalog.setval('…', 12, true)
	ShapeOther                 // what completes others: COMMENT ON, ALTER SEQUENCE … OWNED BY …
)

// ShapeOf judges a statement by its words. An unknown one gives an error
// wrapping ErrRefused.
func ShapeOf(stmt []byte, d Dialect) (Shape, error) {
	if d == Postgres {
		return postgresShape(stmt)
	}
	first, second, err := headWords(stmt, d)
	if err != nil {
		return 0, err
	}
	switch first {
	case "insert":
		return ShapeInsert, nil
	case "create":
		switch second {
		case "table":
			return ShapeTable, nil
		case "index", "unique":
			return ShapeIndex, checkObject(stmt, d)
		case "view":
			return ShapeView, checkObject(stmt, d)
		case "trigger":
			return ShapeTrigger, checkObject(stmt, d)
		}
	case "set", "begin", "commit", "start", "lock", "unlock", "pragma":
		return ShapeNone, nil
	}
	return 0, fmt.Errorf("%w: a statement of unknown kind: %.60q", ErrRefused, stmt)
}

// headWords gives the first word and the one that says what is created.
func headWords(stmt []byte, d Dialect) (first, second string, err error) {
	l := NewLexer(stmt, d)
	for n := 0; n < 40; n++ {
		t, err := l.Skip()
		if err != nil {
			return "", "", err
		}
		word := strings.ToLower(string(t.Text))
		switch {
		case t.Kind == End:
			return first, second, nil
		case first == "":
			if first = word; first != "create" {
				return first, "", nil
			}
		case t.Kind == Word && slices.Contains([]string{"table", "index", "unique", "view", "trigger", "virtual", "function", "procedure", "event", "user", "database", "schema", "server", "temporary", "temp"}, word):
			return first, word, nil
		}
	}
	return first, second, nil
}

// checkObject refuses an object that reads or writes files or holds hidden text.
func checkObject(stmt []byte, d Dialect) error {
	l := NewLexer(stmt, d)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return err
		}
		word := strings.ToLower(string(t.Text))
		if t.Kind == Conditional || t.Kind == Word && slices.Contains([]string{"load_file", "outfile", "dumpfile", "load_extension", "readfile", "writefile", "attach", "sys_exec", "sys_eval"}, word) {
			return fmt.Errorf("%w: %.40s in %.60q", ErrRefused, word, stmt)
		}
	}
}

// objectWords stand before the name of what a statement makes.
var objectWords = []string{"view", "trigger", "function", "procedure", "event", "sequence", "type", "domain", "rule", "statistics", "table", "index", "schema", "extension"}

// ObjectName gives the name that a CREATE VIEW, CREATE TRIGGER or the like
// makes: the first name behind that word.
func ObjectName(stmt []byte, d Dialect) (string, error) {
	l := NewLexer(stmt, d)
	found := false
	for {
		t, err := l.Skip()
		if err != nil {
			return "", err
		}
		switch {
		case t.Kind == End:
			return "", fmt.Errorf("%w: no name in %.60q", ErrRefused, stmt)
		case !found:
			found = t.Kind == Word && slices.Contains(objectWords, strings.ToLower(string(t.Text)))
		case t.Is("IF"), t.Is("NOT"), t.Is("EXISTS"), t.Is("ONLY"):
		default:
			name, _, err := tableOf(l, t)
			return name, err
		}
	}
}
