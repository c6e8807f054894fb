package sqltree

import (
	"hovix/internal/database/sqltext"
)

// sqliteItem reads a column or constraint of SQLite (its documentation, CREATE TABLE).
func (p *parser) sqliteItem(it *Item) {
	if p.oneOf("CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN") {
		p.sqliteConstraint(it)
		return
	}
	it.Kind = Column
	it.Name = p.ident()
	at := len(p.out)
	p.sqliteType()
	if len(p.out) > at {
		it.Type = lowerASCII(p.out[at].text)
	}
	for {
		if p.keep("CONSTRAINT") {
			p.ident()
		}
		switch {
		case p.keep("PRIMARY", "KEY"):
			p.keepOne("ASC", "DESC")
			p.conflict()
			if p.keep("AUTOINCREMENT") {
				it.Auto = true
			}
		case p.keepOne("NOT NULL", "NULL", "UNIQUE"):
			p.conflict()
		case p.keep("CHECK"):
			p.group()
			p.conflict()
		case p.keep("DEFAULT"):
			p.sqliteDefault()
		case p.keep("COLLATE"):
			p.ident()
		case p.is("REFERENCES"):
			p.references()
		case p.keepOne("GENERATED ALWAYS AS", "AS"):
			it.Generated = true
			p.group()
			p.keepOne("STORED", "VIRTUAL")
		case p.keepOne("NOT DEFERRABLE", "DEFERRABLE"):
			p.keepOne("INITIALLY DEFERRED", "INITIALLY IMMEDIATE")
		default:
			return
		}
	}
}

// conflict takes over what is done where a constraint does not hold.
func (p *parser) conflict() {
	if p.keep("ON", "CONFLICT") && !p.keepOne("ROLLBACK", "ABORT", "FAIL", "IGNORE", "REPLACE") {
		p.unexpected("what to do")
	}
}

// sqliteDefault takes over a default: a literal, a word, or an expression in
// parentheses. A name in double quotes is a text here.
func (p *parser) sqliteDefault() {
	switch t := p.peek(0); {
	case p.is("("):
		p.group()
	case t.Kind == sqltext.Name:
		p.emit(encode(p.name(), p.d))
	case p.keep("-"), p.keep("+"):
		if !p.literal() {
			p.unexpected("a number")
		}
	case p.keepOne("NULL", "TRUE", "FALSE", "CURRENT_TIMESTAMP", "CURRENT_DATE", "CURRENT_TIME"):
	case t.Kind == sqltext.Word: // SQLite takes any word for a text
		p.emit(encode(p.name(), p.d))
	case !p.literal():
		p.unexpected("a default")
	}
}

func (p *parser) sqliteConstraint(it *Item) {
	if p.keep("CONSTRAINT") {
		it.Name = p.ident()
	}
	switch {
	case p.keep("PRIMARY", "KEY"):
		it.Kind = PrimaryKey
		p.sqliteColumns(it)
	case p.keep("UNIQUE"):
		it.Kind = UniqueKey
		p.sqliteColumns(it)
	case p.keep("CHECK"):
		it.Kind = OtherItem
		p.group()
		p.conflict()
	case p.keep("FOREIGN", "KEY"):
		it.Kind = ForeignKey
		it.Columns = p.names()
		p.references()
	default:
		p.unexpected("a constraint")
	}
}

func (p *parser) sqliteColumns(it *Item) {
	p.want("(")
	for {
		at := len(p.out)
		p.with(orderWords, func() { p.expression() })
		if n := p.out[at]; n.kind == ident {
			it.Columns = append(it.Columns, n.text)
		}
		if p.keep("AUTOINCREMENT") {
			it.Auto = true
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
	p.conflict()
}

// references takes over what a foreign key points to, in all dialects.
func (p *parser) references() {
	p.want("REFERENCES")
	p.relation()
	if p.is("(") {
		p.names()
	}
	for {
		switch {
		case p.keepOne("ON DELETE", "ON UPDATE"):
			if !p.keepOne("SET NULL", "SET DEFAULT", "CASCADE", "RESTRICT", "NO ACTION") {
				p.unexpected("an action")
			}
			if p.d == sqltext.Postgres && p.is("(") {
				p.names()
			}
		case p.keepOne("MATCH FULL", "MATCH SIMPLE", "MATCH PARTIAL"):
		case p.d == sqltext.MySQL:
			return
		case p.keepOne("NOT DEFERRABLE", "DEFERRABLE", "INITIALLY DEFERRED", "INITIALLY IMMEDIATE"):
		default:
			return
		}
	}
}

func (p *parser) sqliteOptions() {
	for p.keepOne("WITHOUT ROWID", "STRICT") {
		p.keep(",")
	}
}

// sqliteStatement reads a statement of SQLite.
func (p *parser) sqliteStatement(s *Statement) {
	switch {
	case p.is("CREATE", "INDEX"), p.is("CREATE", "UNIQUE", "INDEX"):
		p.sqliteIndex(s)
	case p.is("CREATE", "VIEW"):
		s.Shape = ShapeView
		p.want("CREATE", "VIEW")
		p.skip("IF", "NOT", "EXISTS")
		s.Name = p.relation().Name
		if p.is("(") {
			p.names()
		}
		p.want("AS")
		p.query()
	case p.is("CREATE", "TRIGGER"):
		p.sqliteTrigger(s)
	default:
		refuse("a statement of unknown kind")
	}
}

func (p *parser) sqliteIndex(s *Statement) {
	s.Shape = ShapeKey
	p.want("CREATE")
	p.keep("UNIQUE")
	p.want("INDEX")
	p.skip("IF", "NOT", "EXISTS")
	_, s.Name = p.qualified()
	p.out = append(p.out, node{kind: ident, text: s.Name})
	p.want("ON")
	s.Table = p.relation().Name
	p.want("(")
	p.with(orderWords, func() { p.expressions() })
	p.want(")")
	if p.keep("WHERE") {
		p.expression()
	}
}

func (p *parser) sqliteTrigger(s *Statement) {
	s.Shape = ShapeTrigger
	p.want("CREATE", "TRIGGER")
	p.skip("IF", "NOT", "EXISTS")
	_, s.Name = p.qualified()
	p.out = append(p.out, node{kind: ident, text: s.Name})
	p.keepOne("BEFORE", "AFTER", "INSTEAD OF")
	if !p.keepOne("DELETE", "INSERT", "UPDATE") {
		p.unexpected("an event")
	}
	if p.keep("OF") {
		for p.ident(); p.keep(","); p.ident() {
		}
	}
	p.want("ON")
	s.Table = p.relation().Name
	p.keep("FOR", "EACH", "ROW")
	p.code = true
	if p.keep("WHEN") {
		p.expression("BEGIN")
	}
	p.want("BEGIN")
	if last := p.toks[len(p.toks)-1]; !last.Is("END") {
		refuse("a trigger that does not end with END")
	}
	p.tokens()
}
