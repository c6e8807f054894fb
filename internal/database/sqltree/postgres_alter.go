package sqltree

import (
	"hovix/internal/database/sqltext"
)

func (p *parser) alterTable(s *Statement) {
	s.Shape = ShapeOther
	p.want("ALTER", "TABLE")
	p.keep("ONLY")
	table := p.relation()
	s.Table = table.Joined()
	switch {
	case p.keep("ADD", "CONSTRAINT"):
		s.Shape = ShapeKey
		s.Name = sqltext.JoinName(table.Schema, p.ident())
		p.constraint()
	case p.keep("ATTACH", "PARTITION"):
		s.Part = p.relation().Joined()
		p.bound()
	case p.keep("INHERIT"):
		p.relation()
	case p.keep("REPLICA", "IDENTITY"):
		if p.keep("USING", "INDEX") {
			p.ident()
		} else if !p.keepOne("FULL", "NOTHING", "DEFAULT") {
			p.unexpected("a replica identity")
		}
	case p.keep("CLUSTER", "ON"):
		p.ident()
	case p.keepOne("ENABLE ALWAYS TRIGGER", "ENABLE REPLICA TRIGGER", "ENABLE TRIGGER", "DISABLE TRIGGER"):
		if p.oneOf("ALL", "USER") {
			p.unexpected("the name of a trigger")
		}
		p.ident()
	case p.keepOne("ENABLE ROW LEVEL SECURITY", "FORCE ROW LEVEL SECURITY"):
	case p.keep("ALTER", "COLUMN"):
		p.ident()
		p.columnSetting()
	default:
		p.unexpected("a change of a table")
	}
}

func (p *parser) columnSetting() {
	p.want("SET")
	switch {
	case p.keepOne("STORAGE PLAIN", "STORAGE EXTERNAL", "STORAGE EXTENDED", "STORAGE MAIN", "COMPRESSION pglz", "COMPRESSION lz4"):
	case p.keep("STATISTICS"):
		p.number()
	case p.is("("):
		p.want("(")
		for {
			if !p.keepOne("n_distinct", "n_distinct_inherited") {
				p.unexpected("an option of a column")
			}
			p.want("=")
			p.keep("-")
			p.literal()
			if !p.keep(",") {
				break
			}
		}
		p.want(")")
	default:
		p.unexpected("a setting of a column")
	}
}

// constraint takes over a key or check.
func (p *parser) constraint() {
	switch {
	case p.keepOne("PRIMARY KEY", "UNIQUE NULLS NOT DISTINCT", "UNIQUE"):
		p.names()
		if p.keep("INCLUDE") {
			p.names()
		}
		p.storage()
	case p.keep("EXCLUDE"):
		if p.keep("USING") {
			p.ident()
		}
		p.indexElements()
		if p.keep("INCLUDE") {
			p.names()
		}
		p.storage()
		if p.keep("WHERE") {
			p.group()
		}
	case p.keep("CHECK"):
		p.group()
	case p.keep("FOREIGN", "KEY"):
		p.names()
		p.references()
	default:
		p.unexpected("a constraint")
	}
	for p.keepOne("NOT DEFERRABLE", "DEFERRABLE", "INITIALLY DEFERRED", "INITIALLY IMMEDIATE", "NOT VALID", "NO INHERIT") {
	}
}

// bound takes over the bounds of a partition.
func (p *parser) bound() {
	values := func() { p.with(set("minvalue maxvalue"), p.group) }
	switch {
	case p.keep("DEFAULT"):
	case p.keep("FOR", "VALUES", "IN"):
		values()
	case p.keep("FOR", "VALUES", "FROM"):
		values()
		p.want("TO")
		values()
	case p.keep("FOR", "VALUES", "WITH"):
		p.want("(", "modulus")
		p.number()
		p.want(",", "remainder")
		p.number()
		p.want(")")
	default:
		p.unexpected("the bounds of a partition")
	}
}

// comment reads COMMENT ON, of what belongs to tables, types and routines.
func (p *parser) comment(s *Statement) {
	s.Shape = ShapeOther
	p.want("COMMENT", "ON")
	switch {
	case p.keepOne("TABLE", "MATERIALIZED VIEW", "VIEW", "INDEX", "SEQUENCE", "TYPE", "DOMAIN", "STATISTICS"):
		s.Table = p.relation().Joined()
	case p.keep("COLUMN"):
		p.column()
		n := p.out[len(p.out)-3]
		s.Table = sqltext.JoinName(n.of, n.text)
	case p.keepOne("CONSTRAINT", "TRIGGER", "RULE"):
		p.ident()
		p.want("ON")
		p.keep("DOMAIN")
		s.Table = p.relation().Joined()
	case p.keepOne("FUNCTION", "PROCEDURE", "ROUTINE"):
		p.relation()
		p.routineArguments(false)
	default:
		p.unexpected("what a comment is for")
	}
	p.want("IS")
	if !p.keep("NULL") {
		p.text()
	}
}

// setval reads SELECT pg_catalog.setval('schema.name', value, called).
func (p *parser) setval(s *Statement) {
	s.Shape = ShapePosition
	p.want("SELECT")
	p.skip("pg_catalog", ".")
	p.pass("setval")
	p.emit("pg_catalog.setval")
	p.glue("(")
	p.pass("(")
	s.Name = p.relationText().Joined()
	if p.skip(":", ":") {
		p.skip("pg_catalog", ".")
		p.pass("regclass")
	}
	p.want(",")
	p.number()
	s.Value, s.Called = p.out[len(p.out)-1].text, true
	if p.keep(",") {
		if s.Called = p.keep("TRUE"); !s.Called {
			p.want("FALSE")
		}
	}
	p.want(")")
}
