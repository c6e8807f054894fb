package sqlfile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
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
	if strings.HasPrefix(upper, "ALTER TABLE ") {
		if taken, err := ix.alterColumn(text); taken || err != nil {
			return err
		}
	}
	one, err := sqltree.Parse(text, sqltext.Postgres)
	if err != nil {
		ix.r.notCarried = append(ix.r.notCarried, err.Error())
		return nil
	}
	return ix.shaped(one, text)
}

func (ix *postgresIndex) shaped(one *sqltree.Statement, text []byte) error {
	switch one.Shape {
	case sqltree.ShapeTable:
		def, err := sqltree.ParseTable(text, sqltext.Postgres)
		if err != nil {
			return err
		}
		ix.r.addTable(def)
		if def.Partitioned {
			ix.partition(def.Name)
		}
		return nil
	case sqltree.ShapePosition:
		fmt.Fprintf(&ix.r.positions, "%s;\n", one.SQL(nil))
		return nil
	case sqltree.ShapeKey:
		if !strings.Contains(one.SQL(nil), " FOREIGN KEY ") {
			return ix.key(one)
		}
	}
	return ix.object(one)
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

// alterColumn makes defaults and identities part of definitions.
func (ix *postgresIndex) alterColumn(text []byte) (taken bool, err error) {
	name, actions, err := sqltext.Alterations(text, sqltext.Postgres)
	if err != nil || len(actions) != 1 {
		return false, err
	}
	action := strings.ToUpper(actions[0])
	if !strings.HasPrefix(action, "ALTER COLUMN") || !strings.Contains(action, " SET DEFAULT ") && !strings.Contains(action, " ADD GENERATED ") {
		return false, nil
	}
	t, err := ix.r.find(name)
	if err != nil {
		return true, err
	}
	return true, t.def.Alter(actions[0])
}

// key takes what makes a key of a relation, when its rows are there. That of a
// partitioned table makes those of its partitions, which it takes over where they are
// there.
func (ix *postgresIndex) key(one *sqltree.Statement) error {
	t := ix.r.tables[one.Table]
	text := one.SQL(nil)
	switch {
	case ix.partitioned[one.Table]:
		whole := strings.Replace(strings.Replace(text, " ON ONLY ", " ON ", 1), "ALTER TABLE ONLY ", "ALTER TABLE ", 1)
		ix.r.addObject(database.Object{Kind: database.Other, SQL: whole})
	case t == nil: // of a materialized view
		ix.r.addObject(database.Object{Kind: database.Other, SQL: text})
	default:
		t.keys = append(t.keys, text)
	}
	return nil
}

// kinds of the objects that statements make.
var postgresKinds = map[sqltree.Shape]database.ObjectKind{sqltree.ShapeView: database.View, sqltree.ShapeTrigger: database.Trigger, sqltree.ShapeRoutine: database.Routine,
	sqltree.ShapeSequence: database.Sequence, sqltree.ShapeType: database.Type, sqltree.ShapeOther: database.Other, sqltree.ShapeKey: database.Other,
	sqltree.ShapeSchema: database.Other, sqltree.ShapeExtension: database.Other}

// object takes anything else: what tables may need is made before them.
func (ix *postgresIndex) object(one *sqltree.Statement) error {
	kind, ok := postgresKinds[one.Shape]
	if !ok {
		return nil // it concerns the client's session
	}
	o := database.Object{Kind: kind, Name: one.Name, SQL: one.SQL(nil)}
	switch one.Shape {
	case sqltree.ShapeSequence, sqltree.ShapeType, sqltree.ShapeSchema, sqltree.ShapeExtension:
		o.Early = true
	case sqltree.ShapeRoutine:
		o.Early = !ix.mentionsTable(one)
		ix.r.objects = append(ix.r.objects, o) // several may share a name
		return nil
	}
	ix.r.addObject(o)
	return nil
}

// mentionsTable reports whether a routine needs a table to be there: its body, if
// that is a text, does not.
func (ix *postgresIndex) mentionsTable(one *sqltree.Statement) bool {
	return slices.ContainsFunc(one.References(), func(r sqltree.Reference) bool { return ix.r.tables[r.Joined()] != nil })
}

// Harmless judges by the extensions that the dump makes, for there is no server to ask.
func (r *reader) Harmless(_ context.Context, ref sqltree.Reference) (bool, error) {
	for _, o := range r.objects {
		one, err := sqltree.Parse([]byte(o.SQL), r.d)
		if err != nil || one.Shape != sqltree.ShapeExtension {
			continue
		}
		if list, looked := sqltree.ExtensionFunctions[one.Name]; ref.Kind != sqltree.Function || !looked || list[ref.Name] {
			return true, nil
		}
	}
	return false, nil
}

func (ix *postgresIndex) end() error {
	if len(ix.r.order) == 0 {
		return fmt.Errorf("%w: it makes no table", sqltext.ErrRefused)
	}
	return nil
}
