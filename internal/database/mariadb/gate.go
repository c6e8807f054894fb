package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// What is staged may refer to what is staged with it, and to nothing else: not to
// tables that are live, not to other databases, not to functions that a server has
// loaded.

// isSequence reports whether the stage brings a sequence; callers hold s.mu.
func (s *stage) isSequence(name string) bool {
	if slices.Contains(s.made, name) {
		return true
	}
	t := s.tables[name]
	return t != nil && t.sequence
}

// checkTable looks at what a definition refers to, but for foreign keys.
func (s *stage) checkTable(def *sqltree.Table) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	foreign := map[sqltree.Reference]bool{}
	for _, it := range def.Items {
		if it.Kind == sqltree.ForeignKey {
			for _, r := range it.References() {
				foreign[r] = true
			}
		}
	}
	for _, r := range def.References() {
		if foreign[r] || r.Kind == sqltree.Relation && s.isSequence(r.Name) {
			continue
		}
		return fmt.Errorf("%w: the definition of %s refers to %s, which the archive does not bring", sqltext.ErrRefused, def.Name, r.Name)
	}
	return nil
}

// checkForeign looks at what foreign keys point to.
func (s *stage) checkForeign() error {
	for _, name := range s.order {
		for _, it := range s.tables[name].foreign {
			for _, r := range it.References() {
				if s.tables[r.Name] == nil && !slices.ContainsFunc(s.opts.Names, func(n string) bool { return strings.EqualFold(n, r.Name) }) {
					return fmt.Errorf("%w: the foreign key %s of %s points to %s, which the archive does not bring", sqltext.ErrRefused, it.Name, name, r.Name)
				}
			}
		}
	}
	return nil
}

// checkObject reads an object and looks at what it refers to.
func (s *stage) checkObject(o database.Object) (*sqltree.Statement, error) {
	one, err := sqltree.Parse([]byte(o.SQL), sqltext.MySQL)
	if err != nil {
		return nil, fmt.Errorf("make %s %s: %w", o.Kind, o.Name, err)
	}
	if one.IsCode() && !s.opts.StoredCode {
		return nil, fmt.Errorf("%w: make %s %s: nobody agreed to code for the database", sqltext.ErrRefused, o.Kind, o.Name)
	}
	for _, r := range one.References() {
		if r.Name == one.Name && r.Kind == sqltree.Relation || s.brings(r) {
			continue
		}
		return nil, fmt.Errorf("%w: the %s %s refers to %s, which the archive does not bring", sqltext.ErrRefused, o.Kind, o.Name, r.Name)
	}
	return one, nil
}

// brings reports whether the stage holds what is referred to.
func (s *stage) brings(r sqltree.Reference) bool {
	if r.Schema != "" {
		return false
	}
	same := func(n string) bool { return strings.EqualFold(n, r.Name) }
	if r.Kind == sqltree.Relation && (slices.ContainsFunc(s.order, same) || slices.ContainsFunc(s.made, same)) {
		return true
	}
	return slices.ContainsFunc(s.objects, func(o database.Object) bool {
		return same(o.Name) && (r.Kind == sqltree.Relation && o.Kind == database.View || r.Kind == sqltree.Function && o.Kind == database.Routine)
	})
}

// rebuilt gives the statement that makes something again from how it is kept: read
// once more, so that nothing else can stand there.
func rebuilt(o database.Attached) (plain, defined string, err error) {
	one, err := sqltree.Parse([]byte(o.SQL), sqltext.MySQL)
	if err != nil {
		return "", "", err
	}
	if kindOf(one) != o.Kind || one.Name != o.Name {
		return "", "", fmt.Errorf("%w: %s %s stands where %s %s belongs", sqltext.ErrRefused, kindOf(one), one.Name, o.Kind, o.Name)
	}
	return one.SQL(nil), one.DefinedSQL(nil), nil
}

// kindOf gives the kind of what a statement makes.
func kindOf(one *sqltree.Statement) database.ObjectKind {
	switch one.Shape {
	case sqltree.ShapeView:
		return database.View
	case sqltree.ShapeTrigger:
		return database.Trigger
	case sqltree.ShapeEvent:
		return database.Event
	case sqltree.ShapePosition:
		return database.Position
	case sqltree.ShapeRoutine:
		if one.Procedure {
			return database.Procedure
		}
		return database.Routine
	}
	return database.Other
}
