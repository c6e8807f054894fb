package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// Collations, text search and aggregates of PostgreSQL: they compute values and do nothing
// else (its manual, CREATE COLLATION, CREATE TEXT SEARCH DICTIONARY, CREATE AGGREGATE).

// plainOptions takes over (name = value, …) with the given names, whose values are words,
// texts or numbers.
func (p *parser) plainOptions(names ...string) {
	p.want("(")
	for {
		if !slices.ContainsFunc(names, func(n string) bool { return p.keep(strings.ToUpper(n)) }) {
			p.unexpected("an option")
		}
		p.want("=")
		p.optionValue()
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// optionValue takes over a word, text or number.
func (p *parser) optionValue() {
	if t := p.peek(0); t.Kind == sqltext.Word && plainWord(string(t.Text)) {
		p.i++
		p.emit(string(t.Text))
		return
	}
	if !p.literal() {
		p.unexpected("a value")
	}
}

// searchTemplates are those of dictionaries that PostgreSQL has by itself. The files that
// their options name lie in a folder of the server, and hold words.
var searchTemplates = set(`simple synonym thesaurus ispell snowball`)

func (p *parser) searchDictionary() {
	p.want("(", "TEMPLATE", "=")
	schema, name := p.qualified()
	if schema != "" && schema != "pg_catalog" || !searchTemplates[name] {
		refuse("a dictionary of the template %s", brief(name))
	}
	p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
	for p.keep(",") {
		option := p.name()
		if !plainWord(option) {
			refuse("the option %s of a dictionary", brief(option))
		}
		p.emit(option)
		p.want("=")
		if name == "thesaurus" && strings.EqualFold(option, "dictionary") {
			p.dictionaryText()
			continue
		}
		p.optionValue()
	}
	p.want(")")
}

// dictionaryText takes over a dictionary that is named by a word or text.
func (p *parser) dictionaryText() {
	if p.peek(0).Kind == sqltext.String {
		p.namedText()
		return
	}
	p.dictionary()
}

// dictionary takes over the name of a dictionary.
func (p *parser) dictionary() {
	schema, name := p.qualified()
	if schema == "" || schema == "pg_catalog" {
		p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
		return
	}
	p.refer(Reference{TypeName, schema, name})
}

// searchMapping reads ALTER TEXT SEARCH CONFIGURATION … ADD MAPPING FOR … WITH ….
func (p *parser) searchMapping(s *Statement) {
	s.Shape = ShapeOther
	p.relation()
	p.want("ADD", "MAPPING", "FOR")
	for p.ident(); p.keep(","); p.ident() {
	}
	p.want("WITH")
	for p.dictionary(); p.keep(","); p.dictionary() {
	}
}

// searchTypes are those whose values are names of what text search or comparing needs.
var searchTypes = set(`regconfig regdictionary regcollation`)

// searchName takes over 'schema.name'::regconfig, or of a dictionary or collation, and reports
// whether that is next.
func (p *parser) searchName() bool {
	at := 1
	switch {
	case string(p.peek(at).Text) == "::":
		at++
	case string(p.peek(at).Text) == ":" && string(p.peek(at+1).Text) == ":":
		at += 2
	default:
		return false
	}
	if p.peek(at).Is("pg_catalog") {
		at += 2
	}
	if t := p.peek(at); !searchTypes[strings.ToLower(strings.Trim(string(t.Text), `"`))] || t.Kind == sqltext.String {
		return false
	}
	p.namedText()
	return true
}

// namedText takes over a text that is the name of something: of the site if it has a schema
// of the site's, else of the server.
func (p *parser) namedText() {
	text := p.unquote(p.peek(0))
	inner := newParser([]byte(text), p.d)
	schema, name := inner.qualified()
	if inner.peek(0).Kind != sqltext.End {
		refuse("%q does not name anything", brief(text))
	}
	p.i++
	switch {
	case schema == "" || schema == "pg_catalog":
		p.emit(encode("pg_catalog."+sqltext.QuoteName(name, p.d), p.d))
	case hidden(schema, p.d):
		refuse("%s.%s does not belong to the site", schema, name)
	default:
		p.out = append(p.out, node{kind: named, ref: TypeName, of: schema, text: name})
	}
}

// aggregate reads CREATE AGGREGATE name (types) (options).
func (p *parser) aggregate(s *Statement) {
	s.Shape = ShapeType
	s.Name = p.relation().Joined()
	p.want("(")
	if !p.keep("*") {
		for p.typeName(); p.keep(","); p.typeName() {
		}
	}
	p.want(")", "(")
	for {
		switch {
		case p.aggregateOption("SFUNC", "FINALFUNC", "COMBINEFUNC", "SERIALFUNC", "DESERIALFUNC"):
			p.functionName()
		case p.aggregateOption("STYPE"):
			p.typeName()
		case p.aggregateOption("INITCOND", "SSPACE", "FINALFUNC_MODIFY", "PARALLEL"):
			p.optionValue()
		case p.keepOne("FINALFUNC_EXTRA"):
		default:
			p.unexpected("an option of an aggregate")
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

func (p *parser) aggregateOption(names ...string) bool {
	for _, n := range names {
		if p.is(n, "=") {
			p.keep(n)
			p.want("=")
			return true
		}
	}
	return false
}

// functionName takes over the name of a function that is called.
func (p *parser) functionName() {
	schema, name := p.qualified()
	switch {
	case schema == "", schema == "pg_catalog":
		if !functions[p.d][name] && !aggregateFunctions[name] {
			refuse("a call of the function %s, which is not on the list of harmless ones", brief(name))
		}
		p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
	default:
		p.refer(Reference{Function, schema, name})
	}
}

// aggregateFunctions are harmless functions of PostgreSQL of which aggregates are made, but
// which nobody calls.
var aggregateFunctions = set(`array_append array_cat textcat text_larger text_smaller int4pl int8pl float4pl float8pl numeric_add int4larger int4smaller int8larger int8smaller float8larger float8smaller
	numeric_larger numeric_smaller booland_statefunc boolor_statefunc int4mul int8mul float8mul numeric_mul jsonb_concat tsvector_concat bytea_larger bytea_smaller date_larger date_smaller
	timestamp_larger timestamp_smaller timestamptz_larger timestamptz_smaller bitand bitor int4and int4or int8and int8or interval_pl range_merge range_union array_agg_transfn array_agg_finalfn`)
