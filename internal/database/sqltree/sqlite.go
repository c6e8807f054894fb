package sqltree

import (
	"regexp"
	"strings"

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

// searchOptions are the options of a full-text index that say how it is kept, not what is
// run (SQLite's documentation, FTS5 Extension).
var searchOptions = set(`tokenize prefix content content_rowid columnsize detail`)

// tokenizers are those that SQLite has by itself, with their options.
var tokenizers = regexp.MustCompile(`^(?:(?:porter|unicode61|ascii|trigram|remove_diacritics|categories|tokenchars|separators|case_sensitive|[0-2]|'[^']{0,60}'|"[^"]{0,60}"|[LMNPSZC][a-z*]?)\s*)*$`)

// virtualTable reads USING module (arguments): a full-text index or a tree of ranges.
func (p *parser) virtualTable(t *Table) {
	t.verb, t.HasRows = "CREATE VIRTUAL TABLE", true
	p.want("USING")
	t.Module = strings.ToLower(p.name())
	if t.Module != "fts5" && t.Module != "rtree" && t.Module != "rtree_i32" {
		refuse("a virtual table of the module %s", brief(t.Module))
	}
	p.want("(")
	for {
		p.out = nil
		t.Items = append(t.Items, p.virtualItem(t))
		if !p.keep(",") {
			break
		}
	}
	p.out = nil
	p.want(")")
}

// virtualItem reads one argument: a column, or an option with its value.
func (p *parser) virtualItem(t *Table) (it Item) {
	if t.Module == "fts5" && string(p.peek(1).Text) == "=" {
		name := strings.ToLower(p.name())
		if !searchOptions[name] {
			refuse("the option %s of a full-text index", brief(name))
		}
		p.pass("=")
		var value string
		switch v := p.peek(0); v.Kind {
		case sqltext.String:
			value = p.stringValue()
		default:
			value = p.numberOrName()
		}
		switch name {
		case "content":
			t.Content, t.HasRows = value, false
		case "tokenize":
			if !tokenizers.MatchString(value) {
				refuse("the tokenizer %q", brief(value))
			}
		}
		it.Kind = OtherItem
		p.emit(name + "=" + encode(value, p.d))
	} else {
		it.Kind = Column
		if plus := p.skip("+"); plus { // of a tree: a column that is no range
			it.Name = p.name()
			p.emit("+" + sqltext.QuoteName(it.Name, p.d))
		} else {
			it.Name = p.ident()
		}
		if t.Module == "fts5" {
			p.keep("UNINDEXED")
		} else if p.peek(0).Kind == sqltext.Word {
			p.sqliteType()
		}
	}
	it.parts = p.out
	it.Text = it.parts.text(p.d, nil)
	return it
}

// numberOrName reads a word, name or number as it stands.
func (p *parser) numberOrName() string {
	if t := p.peek(0); t.Kind == sqltext.Number {
		p.i++
		return string(t.Text)
	}
	return p.name()
}

// rebuild reads INSERT INTO name(name) VALUES('rebuild'), by which a full-text index is made
// of what it is an index of; it reports whether stmt is that.
func (s *Statement) rebuild(stmt []byte) bool {
	m := rebuilding.FindSubmatch(stmt)
	if m == nil || string(m[1]) != string(m[2]) {
		return false
	}
	s.Shape, s.Table = ShapeOther, strings.ReplaceAll(string(m[1]), `""`, `"`)
	name := sqltext.QuoteName(s.Table, sqltext.SQLite)
	s.parts = fragment{{text: "INSERT INTO " + name + "(" + name + ") VALUES('rebuild')"}}
	return true
}

var rebuilding = regexp.MustCompile(`^\s*INSERT INTO "((?:[^"]|"")+)"\("((?:[^"]|"")+)"\) VALUES\('rebuild'\)\s*;?\s*$`)

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
