package sqltext

import (
	"errors"
	"fmt"
	"regexp"
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
		if d == MySQL {
			switch second {
			case "function", "procedure":
				return ShapeRoutine, errors.Join(checkObject(stmt, d), checkLoadable(stmt))
			case "event":
				return ShapeEvent, checkObject(stmt, d)
			case "sequence":
				return ShapeSequence, nil // it is read in full by who takes it
			}
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
		case t.Kind == Word && slices.Contains([]string{"table", "index", "unique", "view", "trigger", "virtual", "function", "procedure", "event", "sequence", "user", "database", "schema", "server", "temporary", "temp"}, word):
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

// checkLoadable refuses a function that is a program of the server's machine:
// CREATE FUNCTION name RETURNS … SONAME 'file'.
func checkLoadable(stmt []byte) error {
	if hasWord(string(stmt), MySQL, "SONAME") {
		return fmt.Errorf("%w: a function in a library: %.60q", ErrRefused, stmt)
	}
	return nil
}

// IsProcedure reports whether a statement of MariaDB makes a procedure.
func IsProcedure(stmt []byte) bool {
	_, second, err := headWords(stmt, MySQL)
	return err == nil && second == "procedure"
}

// sequenceDefinition is what SHOW CREATE SEQUENCE gives.
var sequenceDefinition = regexp.MustCompile("(?i)^CREATE SEQUENCE `(?:[^`]|``)+`((?:\\s+(?:start with|minvalue|maxvalue|increment by|cache|nocache|nocycle|cycle|no minvalue|no maxvalue|engine=\\w+|restart|-?\\d+))*)\\s*$")

// CutSequence gives the options of a CREATE SEQUENCE statement of MariaDB.
func CutSequence(stmt string) (options string, ok bool) {
	m := sequenceDefinition.FindStringSubmatch(stmt)
	if m == nil {
		return "", false
	}
	return m[1], true
}

// sequencePosition is how a sequence is set to its place.
var sequencePosition = regexp.MustCompile("^DO SETVAL\\(`(?:[^`]|``)+`, -?\\d+, 0\\)$")

// IsPosition reports whether a statement of MariaDB sets a sequence to its place.
func IsPosition(stmt []byte) bool { return sequencePosition.Match(stmt) }

// modeSetting is how the SQL mode of what follows is set.
var modeSetting = regexp.MustCompile(`^SET sql_mode='([A-Z0-9_,]*)'$`)

// ModeOf gives the SQL mode that a statement sets.
func ModeOf(stmt []byte) (mode string, ok bool) {
	m := modeSetting.FindSubmatch(stmt)
	if m == nil {
		return "", false
	}
	return string(m[1]), true
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
		case d == MySQL && t.Kind == String && t.Text[0] == '"': // made in a mode in which names stand so
			return strings.ReplaceAll(strings.Trim(string(t.Text), `"`), `""`, `"`), nil
		default:
			name, _, err := tableOf(l, t)
			return name, err
		}
	}
}
