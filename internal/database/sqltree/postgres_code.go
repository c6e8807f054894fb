package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// trigger reads CREATE TRIGGER.
func (p *parser) trigger(s *Statement) {
	s.Shape = ShapeTrigger
	p.keep("CONSTRAINT")
	p.want("TRIGGER")
	s.Name = p.ident()
	if !p.keepOne("BEFORE", "AFTER", "INSTEAD OF") {
		p.unexpected("a moment")
	}
	for {
		if !p.keepOne("INSERT", "DELETE", "TRUNCATE", "UPDATE") {
			p.unexpected("an event")
		}
		if p.keep("OF") {
			for p.ident(); p.keep(","); p.ident() {
			}
		}
		if !p.keep("OR") {
			break
		}
	}
	p.want("ON")
	s.Table = p.relation().Joined()
	if p.keep("FROM") {
		p.relation()
	}
	for p.keepOne("NOT DEFERRABLE", "DEFERRABLE", "INITIALLY DEFERRED", "INITIALLY IMMEDIATE") {
	}
	if p.keep("REFERENCING") {
		for p.keepOne("OLD TABLE AS", "NEW TABLE AS", "OLD TABLE", "NEW TABLE") {
			p.ident()
		}
	}
	p.keepOne("FOR EACH ROW", "FOR EACH STATEMENT", "FOR ROW", "FOR STATEMENT")
	if p.keep("WHEN") {
		p.group()
	}
	if !p.keepOne("EXECUTE FUNCTION", "EXECUTE PROCEDURE") {
		p.unexpected("EXECUTE FUNCTION")
	}
	p.triggerFunction()
}

// triggerFunctions are those that PostgreSQL has for triggers of sites.
var triggerFunctions = set(`suppress_redundant_updates_trigger tsvector_update_trigger tsvector_update_trigger_column`)

func (p *parser) triggerFunction() {
	schema, name := p.qualified()
	switch {
	case (schema == "" || schema == "pg_catalog") && triggerFunctions[name]:
		p.emit("pg_catalog." + sqltext.QuoteName(name, p.d))
	case schema == "pg_catalog":
		refuse("the function %s", name)
	default:
		if schema == "" {
			schema = sqltext.DefaultSchema
		}
		p.refer(Reference{Function, schema, name})
	}
	p.pass("(")
	p.glue("(")
	for !p.is(")") {
		if !p.literal() {
			p.ident()
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// rule reads CREATE RULE.
func (p *parser) rule(s *Statement) {
	s.Shape = ShapeTrigger
	s.Name = p.ident()
	p.want("AS")
	p.want("ON")
	if !p.keepOne("INSERT", "UPDATE", "DELETE") { // ON SELECT makes a table a view
		p.unexpected("an event")
	}
	p.want("TO")
	s.Table = p.relation().Joined()
	p.code = true
	if p.keep("WHERE") {
		p.expression("DO")
	}
	p.want("DO")
	p.tokens()
}

// languages are those of PostgreSQL whose routines cannot reach beyond it.
var languages = []string{"sql", "plpgsql"}

// routine reads CREATE FUNCTION and CREATE PROCEDURE.
func (p *parser) routine(s *Statement) {
	s.Shape = ShapeRoutine
	s.Procedure = p.keep("PROCEDURE")
	if !s.Procedure {
		p.want("FUNCTION")
	}
	s.Name = p.relation().Joined()
	p.routineArguments(true)
	if p.keep("RETURNS") {
		p.returns()
	}
	language, body := "", false
	for p.peek(0).Kind != sqltext.End {
		switch {
		case p.skip("LANGUAGE"):
			if p.peek(0).Kind == sqltext.String {
				language = p.stringValue()
			} else {
				language = p.name()
			}
			if !slices.Contains(languages, language) {
				refuse("a routine in the language %s", brief(language))
			}
			p.emit("LANGUAGE", language)
		case p.keepOne("IMMUTABLE", "STABLE", "VOLATILE", "NOT LEAKPROOF", "LEAKPROOF", "CALLED ON NULL INPUT", "RETURNS NULL ON NULL INPUT", "STRICT", "WINDOW",
			"EXTERNAL SECURITY INVOKER", "EXTERNAL SECURITY DEFINER", "SECURITY INVOKER", "SECURITY DEFINER", "PARALLEL UNSAFE", "PARALLEL RESTRICTED", "PARALLEL SAFE"):
		case p.keepOne("COST", "ROWS"):
			if !p.literal() {
				p.unexpected("a number")
			}
		case p.keep("SET"):
			p.routineSetting()
		case p.keep("AS"):
			body = true
			checkCode(p.text(), p.d)
			if p.is(",") {
				refuse("a function in a library")
			}
		case p.keep("RETURN"):
			body = true
			p.code = true
			p.expression()
		case p.keep("BEGIN", "ATOMIC"):
			body = true
			p.code = true
			if last := p.toks[len(p.toks)-1]; !last.Is("END") {
				refuse("a routine that does not end with END")
			}
			p.tokens()
		default:
			p.unexpected("an attribute of a routine")
		}
	}
	if language == "" {
		p.sqlLanguage()
	}
	if !body {
		refuse("a routine without a body")
	}
}

// sqlLanguage says which language a body that is no text is in.
func (p *parser) sqlLanguage() {
	at := slices.IndexFunc(p.out, func(n node) bool { return n.kind == plain && (n.text == "BEGIN" || n.text == "RETURN") })
	if at < 0 {
		refuse("a routine that does not say its language")
	}
	p.out = slices.Insert(p.out, at, node{text: "LANGUAGE"}, node{text: "sql"})
}

// routineSetting takes over SET parameter TO value, but for who is acting.
func (p *parser) routineSetting() {
	name := p.name()
	if p.skip(".") {
		name += "." + p.name()
	}
	if lower := strings.ToLower(name); lower == "role" || lower == "session_authorization" || !plainWord(strings.ReplaceAll(name, ".", "_")) {
		refuse("a routine that sets %s", brief(name))
	}
	p.emit(name)
	if p.keep("FROM", "CURRENT") {
		return
	}
	if !p.skip("=") {
		p.pass("TO")
	}
	p.emit("TO")
	for {
		p.keep("-")
		if t := p.peek(0); t.Kind == sqltext.Word || t.Kind == sqltext.Name {
			p.emit(encode(p.name(), p.d))
		} else if !p.literal() {
			p.unexpected("a value")
		}
		if !p.keep(",") {
			return
		}
	}
}

// routineArguments takes over the arguments of a routine in parentheses, with their names and
// modes, and with their defaults where it is made.
func (p *parser) routineArguments(made bool) {
	p.pass("(")
	p.glue("(")
	for !p.is(")") {
		p.keepOne("VARIADIC", "INOUT", "IN", "OUT")
		if !p.startsType() {
			p.ident()
		}
		p.typeName()
		if made && (p.keep("DEFAULT") || p.skip("=")) {
			if p.out[len(p.out)-1].text != "DEFAULT" {
				p.emit("DEFAULT")
			}
			p.wrapped()
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// startsType reports whether a type comes next, and not the name of a parameter
// before one.
func (p *parser) startsType() bool { return p.startsTypeAt(0) }

func (p *parser) startsTypeAt(n int) bool {
	t, next := p.peek(n), p.peek(n+1)
	if t.Kind != sqltext.Word && t.Kind != sqltext.Name {
		return false
	}
	if t.Kind == sqltext.Word {
		for _, name := range standardTypes {
			if words := strings.Fields(name); len(words) > 1 && t.Is(words[0]) && next.Is(words[1]) {
				return true
			}
		}
		if t.Is("time") || t.Is("timestamp") {
			return !(next.Kind == sqltext.Word && !next.Is("with") && !next.Is("without") && !next.Is("default"))
		}
		if t.Is("interval") {
			return next.Kind != sqltext.Word || units[strings.ToLower(string(next.Text))] || next.Is("default")
		}
	}
	return next.Kind != sqltext.Word && next.Kind != sqltext.Name || next.Is("DEFAULT") || next.Is("ARRAY")
}

// returns takes over what a function gives.
func (p *parser) returns() {
	if p.keep("TABLE") {
		p.columnTypes()
		return
	}
	p.keep("SETOF")
	p.typeName()
}
