package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// An expression is not parsed by precedence: its elements are taken over in their
// order, each one a literal, a name, an operator, a key word or a call that is
// known, and parentheses nest. So it means what it meant, and can hold nothing else.

// expression takes over an expression up to a comma, a closing parenthesis, the end,
// or one of the words.
func (p *parser) expression(end ...string) {
	start := len(p.out)
	for {
		t := p.peek(0)
		if t.Kind == sqltext.End || t.Kind == sqltext.Punct && strings.IndexByte(",)];", t.Text[0]) >= 0 || len(p.out) > start && p.ends(end) {
			break
		}
		p.element()
	}
	if len(p.out) == start {
		p.unexpected("an expression")
	}
}

// ends reports whether one of the words comes next, and not as a function.
func (p *parser) ends(words []string) bool {
	return p.oneOf(words...) && !(p.oneOf("LEFT", "RIGHT") && string(p.peek(1).Text) == "(")
}

// expressions takes over a list of expressions with commas between.
func (p *parser) expressions(end ...string) {
	for p.expression(end...); p.keep(","); p.expression(end...) {
	}
}

// element takes over one element of an expression.
func (p *parser) element() {
	t := p.peek(0)
	switch t.Kind {
	case sqltext.Word:
		p.word(t)
	case sqltext.Name:
		p.chain()
	case sqltext.Punct:
		switch {
		case t.Text[0] == '(':
			p.group()
		case t.Text[0] == '[' && p.d == sqltext.Postgres:
			p.subscript()
		case t.Text[0] == '.' && p.d == sqltext.Postgres: // (row).field
			p.want(".")
			if !p.keep("*") {
				p.ident()
			}
		default:
			p.operator()
		}
	default:
		if !p.literal() {
			p.unexpected("an expression")
		}
	}
}

// group takes over what stands in parentheses: a query, or expressions.
func (p *parser) group() {
	defer p.down()()
	query := p.groupIsQuery()
	p.want("(")
	switch {
	case query:
		p.query()
	case !p.is(")"):
		p.expressions()
	}
	p.want(")")
}

// subscript takes over [i] or [from:to].
func (p *parser) subscript() {
	defer p.down()()
	p.want("[")
	for !p.is("]") {
		if p.peek(0).Kind == sqltext.End {
			p.unexpected("]")
		}
		if !p.keep(":") && !p.keep(",") {
			p.element()
		}
	}
	p.want("]")
}

// with lets further key words stand while f reads.
func (p *parser) with(words map[string]bool, f func()) {
	before := p.extra
	p.extra = words
	f()
	p.extra = before
}

// word takes over a bare word: a key word, a call, a literal with its type or
// charset before it, or a name.
func (p *parser) word(t sqltext.Token) {
	w := strings.ToLower(string(t.Text))
	next := p.peek(1)
	switch {
	case p.d == sqltext.MySQL && w[0] == '_' && (next.Kind == sqltext.String || next.Kind == sqltext.Bytes):
		p.introduced(w)
	case p.d == sqltext.MySQL && w == "n" && next.Kind == sqltext.String, p.d == sqltext.Postgres && w == "n" && next.Kind == sqltext.String && next.At == t.At+1:
		p.i++
		p.literal()
	case p.special(w):
	case next.Kind == sqltext.Punct && next.Text[0] == '(' && !callWords[p.d][w] && (!p.extra[w] || functions[p.d][w]):
		p.chain()
	case next.Kind == sqltext.Punct && next.Text[0] == '.':
		p.chain()
	case words[p.d][w] || p.extra[w] || p.code:
		p.i++
		p.emit(strings.ToUpper(w))
	case reserved[w], next.Kind == sqltext.Punct && next.Text[0] == '(': // as a name it would be called
		refuse("the word %s does not belong there", strings.ToUpper(w))
	default:
		p.ident()
	}
}

// introduced takes over a literal of MariaDB with its charset before it.
func (p *parser) introduced(w string) {
	if !plainWord(w[1:]) {
		refuse("the charset %s", w)
	}
	p.i++
	p.emit(w)
	if t := p.peek(0); t.Kind == sqltext.String {
		p.i++
		p.out = append(p.out, node{text: encode(p.unquote(t), p.d), glued: true, value: p.unquote(t)})
		return
	}
	p.literal()
}

func plainWord(s string) bool {
	return s != "" && strings.Trim(strings.ToLower(s), "abcdefghijklmnopqrstuvwxyz0123456789_") == ""
}

// special takes over what has a form of its own, or reports that w has not.
func (p *parser) special(w string) bool {
	switch w {
	case "cast", "try_cast":
		if p.peek(1).Kind != sqltext.Punct || string(p.peek(1).Text) != "(" {
			return false
		}
		p.cast()
	case "convert":
		if p.d != sqltext.MySQL || !p.is("convert", "(") {
			return false
		}
		p.convert()
	case "collate":
		p.want("COLLATE")
		p.collation()
	case "is":
		p.want("IS")
		p.keep("NOT")
		if p.d == sqltext.Postgres && p.keepOne("NFC NORMALIZED", "NFD NORMALIZED", "NFKC NORMALIZED", "NFKD NORMALIZED", "NORMALIZED", "DOCUMENT") {
			return true
		}
		p.keep("DISTINCT", "FROM")
	case "at":
		if p.d != sqltext.Postgres {
			return false
		}
		return p.keep("AT", "TIME", "ZONE")
	case "operator":
		if !p.is("operator", "(") {
			return false
		}
		p.qualifiedOperator()
	case "within":
		return p.keep("WITHIN", "GROUP") && p.window()
	case "filter", "over":
		switch {
		case p.is(w, "("):
			p.want(strings.ToUpper(w))
			return p.window()
		case w == "over":
			p.want("OVER")
			p.ident()
			return true
		}
		return false
	case "match":
		if p.d != sqltext.MySQL {
			return false
		}
		p.against()
	case "interval":
		return p.interval()
	case "in":
		p.want("IN")
		if p.d == sqltext.SQLite && !p.is("(") { // x IN table
			p.tableOrCTE()
		}
	case "next", "previous":
		if p.d != sqltext.MySQL || !p.is(w, "value", "for") {
			return false
		}
		p.i++
		p.emit(strings.ToUpper(w), "VALUE", "FOR")
		p.i += 2
		p.relation()
	default:
		return false
	}
	return true
}

// window takes over what stands behind OVER, FILTER and WITHIN GROUP.
func (p *parser) window() bool {
	p.with(windowWords, p.group)
	return true
}

// cast takes over CAST(x AS type).
func (p *parser) cast() {
	defer p.down()()
	p.want("CAST")
	p.glue("(")
	p.pass("(")
	p.expression("AS")
	p.want("AS")
	p.typeName()
	p.want(")")
}

// convert takes over CONVERT(x USING charset) and CONVERT(x, type).
func (p *parser) convert() {
	defer p.down()()
	p.want("CONVERT")
	p.glue("(")
	p.pass("(")
	p.expression("USING")
	if p.keep(",") {
		p.typeName()
	} else {
		p.want("USING")
		p.bareName("a charset")
	}
	p.want(")")
}

// bareName takes over the name of a charset or collation of MariaDB.
func (p *parser) bareName(what string) {
	t := p.peek(0)
	s := string(t.Text)
	if t.Kind == sqltext.String || t.Kind == sqltext.Name {
		b, err := sqltext.Unquote(nil, t, p.d)
		if err != nil {
			panic(refusal{err})
		}
		s = string(b)
	} else if t.Kind != sqltext.Word {
		p.unexpected(what)
	}
	if !plainWord(s) {
		refuse("%q is no name of %s", brief(s), what)
	}
	p.i++
	p.emit(s)
}

// collation takes over the name of a collation.
func (p *parser) collation() {
	if p.d != sqltext.Postgres {
		if p.d == sqltext.SQLite {
			p.ident()
		} else {
			p.bareName("a collation")
		}
		return
	}
	schema, name := p.qualified()
	if schema == "" || schema == "pg_catalog" {
		p.emit(`pg_catalog.` + sqltext.QuoteName(name, p.d))
		return
	}
	p.refer(Reference{TypeName, schema, name})
}

// qualifiedOperator takes over OPERATOR(schema.+).
func (p *parser) qualifiedOperator() {
	p.want("OPERATOR")
	p.glue("(")
	p.pass("(")
	schema := "pg_catalog"
	if p.peek(0).Kind != sqltext.Punct {
		schema = p.name()
		p.pass(".")
	}
	name := ""
	for t := p.peek(0); t.Kind == sqltext.Punct && strings.IndexByte(operatorBytes, t.Text[0]) >= 0; t = p.peek(0) {
		name += string(t.Text)
		p.i++
	}
	if !isOperator(name) {
		p.unexpected("an operator")
	}
	if schema == "pg_catalog" {
		p.emit("pg_catalog." + name)
	} else {
		p.refer(Reference{Operator, schema, name})
	}
	p.want(")")
}

// against takes over MATCH (a, b) AGAINST (x IN BOOLEAN MODE).
func (p *parser) against() {
	p.want("MATCH")
	p.group()
	p.want("AGAINST", "(")
	defer p.down()()
	p.expression("IN", "WITH")
	p.keepOne("IN BOOLEAN MODE", "IN NATURAL LANGUAGE MODE WITH QUERY EXPANSION", "IN NATURAL LANGUAGE MODE", "WITH QUERY EXPANSION")
	p.want(")")
}

// interval takes over INTERVAL 1 DAY, INTERVAL '1 day' and the function of MariaDB.
func (p *parser) interval() bool {
	if p.d == sqltext.MySQL && p.is("interval", "(") { // a function, or an expression with a unit
		p.want("INTERVAL")
		p.group()
		p.unit()
		return true
	}
	switch next := p.peek(1); {
	case p.d == sqltext.SQLite, p.d == sqltext.Postgres && next.Kind != sqltext.String:
		return false
	}
	p.want("INTERVAL")
	if p.d == sqltext.MySQL {
		for !p.unit() {
			if p.peek(0).Kind == sqltext.End {
				p.unexpected("a unit of time")
			}
			p.element()
		}
	}
	return true
}

// unit takes over a unit of time of MariaDB.
func (p *parser) unit() bool {
	t := p.peek(0)
	if t.Kind != sqltext.Word || !units[strings.ToLower(string(t.Text))] {
		return false
	}
	p.i++
	p.emit(strings.ToUpper(string(t.Text)))
	return true
}

// operator takes over a sign, or several that belong together.
func (p *parser) operator() {
	longest, run := 3, ""
	if p.d == sqltext.Postgres {
		longest = 64 // NAMEDATALEN, by which the names of operators are shorter
	}
	for n := 0; n < longest; n++ {
		t := p.peek(n)
		if t.Kind != sqltext.Punct || strings.IndexByte(operatorBytes+":", t.Text[0]) < 0 || n > 0 && p.peek(n-1).At+1 != t.At {
			break
		}
		run += string(t.Text)
	}
	if p.d == sqltext.Postgres && strings.HasPrefix(run, "::") {
		p.i += 2
		p.emit("::")
		p.typeName()
		return
	}
	if p.d == sqltext.Postgres {
		if op, _, _ := strings.Cut(run, ":"); isOperator(op) {
			p.i += len(op)
			p.emit(op)
			return
		}
	}
	for n := min(len(run), 3); n > 0; n-- {
		if slices.Contains(operators, run[:n]) && p.d != sqltext.Postgres {
			p.i += n
			p.emit(run[:n])
			return
		}
	}
	p.unexpected("an expression")
}

// operators are those of MariaDB, MySQL and SQLite. Assignments are not among them.
var operators = []string{"<=>", "->>", "->", "||", "&&", "<<", ">>", "<=", ">=", "<>", "!=", "==", "=", "<", ">", "+", "-", "*", "/", "%", "&", "|", "^", "~", "!"}

// chain takes over names with dots between, or the call of a function.
func (p *parser) chain() {
	t := p.peek(0)
	first := p.name()
	if p.is(".") && p.peek(1).Kind != sqltext.Punct && p.peek(2).Kind == sqltext.Punct && string(p.peek(2).Text) == "(" {
		p.i++
		p.call(first, p.name())
		return
	}
	if p.is("(") {
		if t.Kind == sqltext.Name && p.d == sqltext.MySQL { // its own functions are never in quotes
			p.refer(Reference{Function, "", first})
			p.glue("(")
			p.pass("(")
			p.arguments("")
			p.want(")")
			return
		}
		p.call("", first)
		return
	}
	if p.d == sqltext.Postgres && p.is(".") && t.Kind == sqltext.Word && p.typed(first) {
		return
	}
	p.out = append(p.out, node{kind: ident, text: first})
	for p.keep(".") {
		if p.keep("*") {
			return
		}
		p.ident()
	}
}

// typed takes over pg_catalog.type '…', and reports whether it is that.
func (p *parser) typed(schema string) bool {
	if schema != "pg_catalog" || p.peek(2).Kind != sqltext.String {
		return false
	}
	p.i++
	p.emit("pg_catalog." + sqltext.QuoteName(p.name(), p.d))
	return true
}

// call takes over the call of a function.
func (p *parser) call(schema, name string) {
	defer p.down()()
	lower := name
	if p.d != sqltext.Postgres {
		lower = strings.ToLower(name)
	}
	switch {
	case p.d == sqltext.Postgres && (schema == "" || schema == "pg_catalog") && lower == "nextval" && p.position():
		return
	case p.d == sqltext.MySQL && schema == "" && (lower == "nextval" || lower == "lastval"):
		p.emit(lower)
		p.glue("(")
		p.pass("(")
		p.relation()
		p.want(")")
		return
	case (schema == "" || schema == "pg_catalog" && p.d == sqltext.Postgres) && functions[p.d][lower]:
		text := lower
		if p.d == sqltext.Postgres && !syntax[lower] {
			text = `pg_catalog."` + lower + `"`
		}
		p.emit(text)
	case p.d == sqltext.SQLite, p.d == sqltext.MySQL && schema != "", schema == "pg_catalog", schema == "information_schema":
		refuse("a call of the function %s, which is not on the list of harmless ones", name)
	default:
		if schema == "" && p.d == sqltext.Postgres {
			schema = sqltext.DefaultSchema
		}
		p.refer(Reference{Function, schema, name})
	}
	p.glue("(")
	p.pass("(")
	p.arguments(lower)
	p.want(")")
}

// arguments takes over what stands between the parentheses of a call.
func (p *parser) arguments(name string) {
	if p.is(")") {
		return
	}
	if p.keep("*") {
		return
	}
	p.with(argumentWords(name), func() {
		if p.startsQuery() {
			p.query()
		}
		for !p.is(")") {
			switch t := p.peek(0); {
			case t.Kind == sqltext.End:
				p.unexpected(")")
			case p.d == sqltext.Postgres && p.keep("=", ">"), p.keep(","):
			case p.is("using") && p.d == sqltext.MySQL && name == "char":
				p.want("USING")
				p.bareName("a charset")
			default:
				p.element()
			}
		}
	})
}

// position takes over nextval('schema.sequence'::regclass).
func (p *parser) position() bool {
	if !p.is("(") || p.peek(1).Kind != sqltext.String {
		return false
	}
	p.pass("(")
	p.emit(`pg_catalog."nextval"`)
	p.glue("(")
	p.relationText()
	if p.skip(":", ":") {
		p.skip("pg_catalog", ".")
		p.pass("regclass")
		p.emit("::", "pg_catalog.regclass")
	}
	p.want(")")
	return true
}

// relationText takes over a text that names a relation.
func (p *parser) relationText() Reference {
	t := p.peek(0)
	inner := newParser([]byte(p.stringValue()), p.d)
	r := inner.relationName()
	if inner.peek(0).Kind != sqltext.End {
		refuse("%q does not name a relation", brief(string(t.Text)))
	}
	p.out = append(p.out, node{kind: named, ref: Relation, of: r.Schema, text: r.Name})
	return r
}
