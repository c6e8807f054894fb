package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// postgresItem reads a column or check of a definition of PostgreSQL. Keys are
// statements of their own (the PostgreSQL manual, CREATE TABLE).
func (p *parser) postgresItem(it *Item) {
	if p.keep("CONSTRAINT") {
		it.Name = p.ident()
		it.Kind = OtherItem
		p.check()
		return
	}
	if p.is("CHECK", "(") {
		it.Kind = OtherItem
		p.check()
		return
	}
	if p.oneOf("PRIMARY", "UNIQUE", "FOREIGN", "EXCLUDE", "LIKE") && p.peek(0).Kind == sqltext.Word && !p.startsTypeAt(1) {
		refuse("a key in the definition")
	}
	it.Kind = Column
	it.Name = p.ident()
	at := len(p.out)
	p.typeName()
	it.Type = lowerASCII(p.out[at].text)
	p.columnRest(it)
}

// check takes over CHECK (expression).
func (p *parser) check() {
	if p.keep("NOT", "NULL") { // with a name, and the column
		p.ident()
	} else {
		p.want("CHECK")
		p.group()
	}
	p.keepOne("NO INHERIT")
	p.keepOne("NOT VALID")
}

// columnRest takes over what follows the type of a column.
func (p *parser) columnRest(it *Item) {
	for {
		switch {
		case p.is("COLLATE"):
			p.special("collate")
		case p.keepOne("STORAGE PLAIN", "STORAGE EXTERNAL", "STORAGE EXTENDED", "STORAGE MAIN", "COMPRESSION pglz", "COMPRESSION lz4", "NOT NULL", "NULL"):
		case p.keep("CONSTRAINT"):
			p.ident()
		case p.is("CHECK"):
			p.check()
		case p.keep("DEFAULT"):
			p.wrapped("NOT", "NULL", "CONSTRAINT", "CHECK", "GENERATED", "COLLATE", "DEFAULT")
		case p.keep("GENERATED", "ALWAYS", "AS", "IDENTITY"), p.keep("GENERATED", "BY", "DEFAULT", "AS", "IDENTITY"):
			it.Auto = true
			p.identity()
		case p.keep("GENERATED", "ALWAYS", "AS"):
			it.Generated = true
			p.group()
			p.keepOne("STORED", "VIRTUAL")
		default:
			return
		}
	}
}

// wrapped takes over an expression in parentheses of its own.
func (p *parser) wrapped(end ...string) {
	if p.is("(") && (!p.groupIsQuery() || p.is("(", "(")) { // it has them already
		after := p.peek(p.closing(p.i) - p.i + 1)
		if after.Kind == sqltext.End || after.Kind == sqltext.Punct && strings.IndexByte(",)", after.Text[0]) >= 0 || slices.ContainsFunc(end, after.Is) {
			p.group()
			return
		}
	}
	p.emit("(")
	p.expression(end...)
	p.emit(")")
}

// identity takes over the options of an identity column's sequence.
func (p *parser) identity() {
	if !p.keep("(") {
		return
	}
	if p.keep("SEQUENCE", "NAME") {
		p.relation()
	}
	p.sequenceOptions()
	p.want(")")
}

// postgresOptions takes over what follows the columns of a table.
func (p *parser) postgresOptions(t *Table) {
	if p.keep("INHERITS") {
		p.want("(")
		for p.relation(); p.keep(","); p.relation() {
		}
		p.want(")")
	}
	if p.keep("PARTITION", "BY") {
		t.Partitioned = true
		if !p.keepOne("RANGE", "LIST", "HASH") {
			p.unexpected("a way to cut")
		}
		p.indexElements()
	}
	p.skip("USING", "heap")
	p.storage()
}

// storage takes over WITH (option=value, …).
func (p *parser) storage() {
	if !p.is("WITH", "(") {
		return
	}
	p.want("WITH", "(")
	for {
		name := p.name()
		if p.skip(".") {
			name += "." + p.name()
		}
		if !plainWord(strings.ReplaceAll(name, ".", "_")) {
			refuse("the option %s", brief(name))
		}
		p.emit(name)
		if p.keep("=") {
			sign := ""
			if p.skip("-") {
				sign = "-"
			}
			switch t := p.peek(0); t.Kind {
			case sqltext.String:
				p.text()
			case sqltext.Number, sqltext.Word:
				p.i++
				p.emit(encode(sign+string(t.Text), p.d))
			default:
				p.unexpected("a value")
			}
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// indexElements takes over the columns and expressions of a key, and the operators of
// an exclusion.
func (p *parser) indexElements() {
	p.want("(")
	for {
		switch t := p.peek(0); {
		case p.is("("):
			p.group()
		case p.callsFunction():
			p.element()
		case t.Kind == sqltext.Word && syntax[strings.ToLower(string(t.Text))]:
			p.element()
		default:
			p.ident()
		}
		if p.is("COLLATE") {
			p.special("collate")
		}
		if t := p.peek(0); t.Kind == sqltext.Name || t.Kind == sqltext.Word && !p.oneOf("ASC", "DESC", "NULLS", "WITH") {
			p.operatorClass()
		}
		p.keepOne("ASC", "DESC")
		p.keepOne("NULLS FIRST", "NULLS LAST")
		if p.keep("WITH") {
			if p.is("OPERATOR") {
				p.qualifiedOperator()
			} else {
				p.operator()
			}
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// operatorClass takes over the name of a class of operators, with its options.
func (p *parser) operatorClass() {
	schema, name := p.qualified()
	if schema == "" || schema == "pg_catalog" {
		p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
	} else {
		p.refer(Reference{Operator, schema, name})
	}
	if p.is("(") {
		p.pass("(")
		p.glue("(")
		for {
			p.ident()
			p.want("=")
			if !p.literal() {
				p.unexpected("a value")
			}
			if !p.keep(",") {
				break
			}
		}
		p.want(")")
	}
}

// postgresStatement reads a statement of PostgreSQL.
func (p *parser) postgresStatement(s *Statement) {
	switch {
	case p.is("SELECT"):
		p.setval(s)
	case p.is("ALTER", "TABLE"):
		p.alterTable(s)
	case p.keep("ALTER", "TEXT", "SEARCH", "CONFIGURATION"):
		p.searchMapping(s)
	case p.is("ALTER", "SEQUENCE"):
		s.Shape = ShapeOther
		p.want("ALTER", "SEQUENCE")
		s.Table = p.relation().Joined()
		p.want("OWNED", "BY")
		p.column()
	case p.is("COMMENT", "ON"):
		p.comment(s)
	case p.is("REFRESH"):
		s.Shape = ShapeOther
		p.want("REFRESH", "MATERIALIZED", "VIEW")
		s.Table = p.relation().Joined()
	case p.keep("CREATE"):
		p.skip("OR", "REPLACE")
		p.create(s)
	default:
		refuse("a statement of unknown kind")
	}
}

// create reads what stands behind CREATE.
func (p *parser) create(s *Statement) {
	switch {
	case p.is("INDEX"), p.is("UNIQUE", "INDEX"):
		p.index(s)
	case p.is("VIEW"), p.is("MATERIALIZED", "VIEW"):
		p.view(s)
	case p.keep("SEQUENCE"), p.keep("UNLOGGED", "SEQUENCE"):
		s.Shape = ShapeSequence
		p.skip("IF", "NOT", "EXISTS")
		s.Name = p.relation().Joined()
		p.sequenceOptions()
	case p.keep("TYPE"):
		s.Shape = ShapeType
		s.Name = p.relation().Joined()
		p.typeBody(s)
	case p.keep("DOMAIN"):
		s.Shape = ShapeType
		s.Name = p.relation().Joined()
		p.skip("AS")
		p.emit("AS")
		p.typeName()
		p.columnRest(&Item{})
	case p.keep("COLLATION"):
		s.Shape = ShapeType
		s.Name = p.relation().Joined()
		p.plainOptions("provider", "locale", "lc_collate", "lc_ctype", "deterministic", "rules")
	case p.keep("TEXT", "SEARCH", "DICTIONARY"):
		s.Shape = ShapeType
		s.Name = p.relation().Joined()
		p.searchDictionary()
	case p.keep("TEXT", "SEARCH", "CONFIGURATION"):
		s.Shape = ShapeType
		s.Name = p.relation().Joined()
		p.want("(", "PARSER", "=")
		if schema, name := p.qualified(); schema != "" && schema != "pg_catalog" || name != "default" {
			refuse("the parser %s of text search", brief(name))
		}
		p.emit(`pg_catalog."default"`)
		p.want(")")
	case p.keep("AGGREGATE"):
		p.aggregate(s)
	case p.keep("STATISTICS"):
		p.statistics(s)
	case p.keep("SCHEMA"):
		s.Shape = ShapeSchema
		p.skip("IF", "NOT", "EXISTS")
		if s.Name = p.ident(); hidden(s.Name, p.d) {
			refuse("the schema %s", s.Name)
		}
	case p.keep("EXTENSION"):
		s.Shape = ShapeExtension
		p.skip("IF", "NOT", "EXISTS")
		s.Name = p.name()
		p.refer(Reference{Kind: Extension, Name: s.Name})
		p.skip("WITH")
		if p.keep("SCHEMA") {
			p.ident()
		}
	case p.is("TRIGGER"), p.is("CONSTRAINT", "TRIGGER"):
		p.trigger(s)
	case p.keep("RULE"):
		p.rule(s)
	case p.is("FUNCTION"), p.is("PROCEDURE"):
		p.routine(s)
	default:
		refuse("a statement of unknown kind")
	}
}

// column takes over relation.column.
func (p *parser) column() {
	parts := []string{p.name()}
	for p.skip(".") {
		parts = append(parts, p.name())
	}
	n := len(parts)
	if n < 2 || n > 3 {
		p.unexpected("a column")
	}
	schema := sqltext.DefaultSchema
	if n == 3 {
		schema = parts[0]
	}
	if hidden(schema, p.d) {
		refuse("%s.%s does not belong to the site", schema, parts[n-2])
	}
	p.refer(Reference{Relation, schema, parts[n-2]})
	p.emit(".")
	p.out = append(p.out, node{kind: ident, text: parts[n-1]})
}

func (p *parser) index(s *Statement) {
	s.Shape = ShapeKey
	p.keep("UNIQUE")
	p.want("INDEX")
	p.skip("IF", "NOT", "EXISTS")
	name := p.ident()
	p.want("ON")
	p.keep("ONLY")
	table := p.relation()
	s.Table, s.Name = table.Joined(), sqltext.JoinName(table.Schema, name)
	if p.keep("USING") {
		p.ident()
	}
	p.indexElements()
	if p.keep("INCLUDE") {
		p.names()
	}
	p.keepOne("NULLS NOT DISTINCT", "NULLS DISTINCT")
	p.storage()
	if p.keep("WHERE") {
		p.wrapped()
	}
}

func (p *parser) view(s *Statement) {
	s.Shape = ShapeView
	materialized := p.keep("MATERIALIZED")
	p.want("VIEW")
	p.skip("IF", "NOT", "EXISTS")
	s.Name = p.relation().Joined()
	if p.is("(") {
		p.names()
	}
	p.skip("USING", "heap")
	p.storage()
	p.want("AS")
	p.query()
	if materialized {
		p.keepOne("WITH NO DATA", "WITH DATA")
	} else {
		p.keepOne("WITH CASCADED CHECK OPTION", "WITH LOCAL CHECK OPTION", "WITH CHECK OPTION")
	}
}

// typeBody takes over what a type is made of. Functions that a server would call for
// it are not among it, but for the difference of a range.
func (p *parser) typeBody(s *Statement) {
	p.want("AS")
	switch {
	case p.keep("ENUM"):
		p.want("(")
		if !p.is(")") {
			for p.text(); p.keep(","); p.text() {
			}
		}
		p.want(")")
	case p.keep("RANGE"):
		s.Range = true
		p.want("(")
		for p.rangeOption(s); p.keep(","); p.rangeOption(s) {
		}
		p.want(")")
	case p.is("(", ")"):
		p.want("(", ")")
	default:
		p.columnTypes()
	}
}

func (p *parser) rangeOption(s *Statement) {
	switch {
	case p.keep("SUBTYPE", "="):
		p.typeName()
	case p.keep("SUBTYPE_OPCLASS", "="):
		p.operatorClass()
	case p.keep("COLLATION", "="):
		p.collation()
	case p.keep("SUBTYPE_DIFF", "="):
		schema, name := p.qualified()
		switch {
		case schema != "" && schema != "pg_catalog":
			p.refer(Reference{Function, schema, name})
		case differences[name]:
			p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
		default:
			refuse("the function %s", name)
		}
	case p.keep("MULTIRANGE_TYPE_NAME", "="):
		schema, name := p.qualified()
		if own, _ := sqltext.SplitName(s.Name); schema != own {
			refuse("a multirange in another schema than its range, %s", brief(schema))
		}
		p.emit(sqltext.QuoteName(schema, p.d) + "." + sqltext.QuoteName(name, p.d))
	default:
		p.unexpected("an option of a range")
	}
}

// differences are the functions that PostgreSQL has for the differences of ranges.
var differences = set(`float8mi float4mi int4mi int8mi int2mi numeric_sub int4range_subdiff int8range_subdiff numrange_subdiff daterange_subdiff tsrange_subdiff tstzrange_subdiff interval_mi`)

func (p *parser) statistics(s *Statement) {
	s.Shape = ShapeOther
	p.skip("IF", "NOT", "EXISTS")
	s.Name = p.relation().Joined()
	if p.is("(") {
		p.want("(")
		for {
			if !p.keepOne("ndistinct", "dependencies", "mcv") {
				p.unexpected("a kind of statistics")
			}
			if !p.keep(",") {
				break
			}
		}
		p.want(")")
	}
	p.want("ON")
	p.expressions("FROM")
	p.want("FROM")
	s.Table = p.relation().Joined()
}
