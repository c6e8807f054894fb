package sqlfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

func postgresInfo(head []byte) database.Info {
	return database.Info{Engine: database.Postgres, Product: "PostgreSQL", Charset: "UTF8", Version: versionOf(head, `(?m)^-- (?:Dumped from database version|Server version:) ([0-9.]+)`)}
}

// postgresIndex finds what is where in a dump of PostgreSQL.
type postgresIndex struct {
	r           *reader
	partitioned map[string]bool
}

// passed are the beginnings of statements that say who owns what, or that the
// program needs for itself.
var passed = []string{"SET ", "SELECT PG_CATALOG.SET_CONFIG", "GRANT ", "REVOKE ", "ALTER DEFAULT PRIVILEGES", "CREATE SCHEMA PUBLIC", "COMMENT ON EXTENSION", "COMMENT ON SCHEMA PUBLIC", "DROP ", "BEGIN", "COMMIT", "ALTER SCHEMA ", "CREATE DATABASE", "ALTER DATABASE"}

func (ix *postgresIndex) take(st sqltext.Statement, s *sqltext.Splitter) error {
	text := st.Text
	if bytes.HasPrefix(text, []byte(`\`)) { // a command for the client, which ends with its line
		for bytes.HasPrefix(text, []byte(`\`)) || bytes.HasPrefix(text, []byte("--")) {
			_, rest, _ := bytes.Cut(text, []byte("\n"))
			text = bytes.TrimLeft(rest, " \t\r\n")
		}
	}
	if len(text) == 0 {
		return nil
	}
	upper := strings.ToUpper(strings.Join(strings.Fields(string(text[:min(len(text), 200)])), " "))
	if slices.ContainsFunc(passed, func(p string) bool { return strings.HasPrefix(upper, p) }) {
		return nil
	}
	switch {
	case strings.HasPrefix(upper, "COPY "):
		return ix.copy(text, s)
	case strings.HasPrefix(upper, "INSERT "):
		return fmt.Errorf("%w: its rows stand in INSERT statements; make the dump with COPY, as the dump program does unless told otherwise", sqltext.ErrRefused)
	case strings.HasPrefix(upper, "UPDATE "), strings.HasPrefix(upper, "DELETE "), strings.HasPrefix(upper, "TRUNCATE "):
		return fmt.Errorf("%w: it changes rows by %.60q; a dump holds tables and their rows alone", sqltext.ErrRefused, text)
	case strings.HasPrefix(upper, "ALTER ") && strings.Contains(upper, " OWNER TO "), strings.HasPrefix(upper, "ALTER INDEX "):
		return nil // keys of partitions are attached when those of the whole are made
	}
	shape, err := sqltext.ShapeOf(text, sqltext.Postgres)
	if err != nil {
		ix.r.notCarried = append(ix.r.notCarried, fmt.Sprintf("the statement %.60q", text))
		return nil
	}
	return ix.shaped(shape, text, upper)
}

func (ix *postgresIndex) shaped(shape sqltext.Shape, text []byte, upper string) error {
	switch {
	case shape == sqltext.ShapeTable:
		def, err := sqltext.ParseCreateTable(text, sqltext.Postgres)
		if err != nil {
			return err
		}
		ix.r.addTable(def)
		if strings.Contains(strings.ToUpper(def.Tail), "PARTITION BY") {
			ix.partition(def.Name)
		}
		return nil
	case shape == sqltext.ShapePosition:
		if _, err := sqltext.ParsePosition(text); err != nil {
			return err
		}
		fmt.Fprintf(&ix.r.positions, "%s;\n", text)
		return nil
	case strings.HasPrefix(upper, "ALTER TABLE"):
		return ix.alter(text)
	case shape == sqltext.ShapeIndex:
		return ix.key(indexedTable(text), text)
	}
	return ix.object(shape, text)
}

func (ix *postgresIndex) partition(name string) {
	if ix.partitioned == nil {
		ix.partitioned = map[string]bool{}
	}
	ix.partitioned[name] = true
}

// copy notes where the rows of a COPY are.
func (ix *postgresIndex) copy(head []byte, s *sqltext.Splitter) error {
	head = bytes.TrimSuffix(head, []byte(";"))
	ins, err := sqltext.ParseInsert(append(bytes.Clone(head), ";\n\\."...), sqltext.Postgres)
	if err != nil {
		return err
	}
	t, err := ix.r.find(ins.Table)
	if err != nil {
		return err
	}
	e := extent{from: -1, columns: ins.Columns}
	for {
		_, at, err := s.Line()
		if e.from < 0 {
			e.from = at
		}
		if errors.Is(err, io.EOF) {
			e.to = at
			break
		}
		if err != nil {
			return fmt.Errorf("the rows of %s: %w", ins.Table, err)
		}
	}
	if e.to > e.from {
		t.extents = append(t.extents, e)
	}
	return nil
}

// copyRows gives the lines of a COPY.
func copyRows(s *sqltext.Splitter, columns []string, yield func(columns []string, row []byte) error) error {
	for {
		line, _, err := s.Line()
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := yield(columns, line); err != nil {
			return err
		}
	}
}

// alter makes defaults and identities part of definitions; keys are made when the
// rows are there, foreign ones when all tables are.
func (ix *postgresIndex) alter(text []byte) error {
	name, actions, err := sqltext.Alterations(text, sqltext.Postgres)
	if err != nil {
		return err
	}
	action := strings.ToUpper(actions[0])
	switch {
	case len(actions) == 1 && strings.HasPrefix(action, "ADD CONSTRAINT") && !strings.Contains(action, "FOREIGN KEY"):
		return ix.key(name, text)
	case len(actions) == 1 && strings.HasPrefix(action, "ALTER COLUMN") && (strings.Contains(action, " SET DEFAULT ") || strings.Contains(action, " ADD GENERATED ")):
		t, err := ix.r.find(name)
		if err != nil {
			return err
		}
		return t.def.Alter(actions[0])
	}
	ix.r.addObject(database.Object{Kind: database.Other, SQL: string(text)})
	return nil
}

// key takes what makes a key of a relation. That of a partitioned table makes
// those of its partitions, which it takes over where they are there.
func (ix *postgresIndex) key(name string, text []byte) error {
	t := ix.r.tables[name]
	switch {
	case ix.partitioned[name]:
		whole := strings.Replace(strings.Replace(string(text), " ON ONLY ", " ON ", 1), "ALTER TABLE ONLY ", "ALTER TABLE ", 1)
		ix.r.addObject(database.Object{Kind: database.Other, SQL: whole})
	case t == nil: // of a materialized view
		ix.r.addObject(database.Object{Kind: database.Other, SQL: string(text)})
	default:
		t.keys = append(t.keys, string(text))
	}
	return nil
}

// indexedTable gives the table of CREATE INDEX.
func indexedTable(text []byte) string {
	l := sqltext.NewLexer(text, sqltext.Postgres)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == sqltext.End {
			return ""
		}
		if t.Is("ON") {
			name, err := sqltext.RelationAt(l)
			if err != nil {
				return ""
			}
			return name
		}
	}
}

// kinds of the objects that statements make.
var postgresKinds = map[sqltext.Shape]database.ObjectKind{sqltext.ShapeView: database.View, sqltext.ShapeTrigger: database.Trigger, sqltext.ShapeRoutine: database.Routine,
	sqltext.ShapeSequence: database.Sequence, sqltext.ShapeType: database.Type, sqltext.ShapeOther: database.Other}

// object takes anything else: what tables may need is made before them.
func (ix *postgresIndex) object(shape sqltext.Shape, text []byte) error {
	kind, ok := postgresKinds[shape]
	if !ok {
		return fmt.Errorf("%w: %.60q", sqltext.ErrRefused, text)
	}
	o := database.Object{Kind: kind, SQL: string(text)}
	o.Name, _ = sqltext.ObjectName(text, sqltext.Postgres) // what completes others may have none
	word := firstWord(bytes.TrimLeft(text[len("CREATE"):], " "))
	switch {
	case firstWord(text) != "CREATE":
	case kind == database.Sequence, kind == database.Type, word == "SCHEMA", word == "EXTENSION":
		o.Early = true
	case kind == database.Routine:
		o.Early = !ix.mentionsTable(text)
	}
	if kind == database.Routine {
		ix.r.objects = append(ix.r.objects, o) // several may share a name
		return nil
	}
	ix.r.addObject(o)
	return nil
}

// mentionsTable reports whether a routine needs a table to be there: its body, if
// that is a text, does not.
func (ix *postgresIndex) mentionsTable(text []byte) bool {
	l := sqltext.NewLexer(text, sqltext.Postgres)
	var schema, dot string
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == sqltext.End {
			return false
		}
		name := string(t.Text)
		if t.Kind == sqltext.Name {
			name = strings.ReplaceAll(strings.Trim(name, `"`), `""`, `"`)
		}
		if dot == "." && ix.r.tables[sqltext.JoinName(schema, name)] != nil {
			return true
		}
		if name != "." {
			schema = name
		}
		dot = name
	}
}

func (ix *postgresIndex) end() error {
	if len(ix.r.order) == 0 {
		return fmt.Errorf("%w: it makes no table", sqltext.ErrRefused)
	}
	return nil
}
