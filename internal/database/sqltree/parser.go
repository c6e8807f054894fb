package sqltree

import (
	"regexp"
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// parser reads the tokens of one statement and builds a fragment of them.
type parser struct {
	d      sqltext.Dialect
	toks   []sqltext.Token
	i      int
	out    fragment
	depth  int
	ctes   []string        // names of WITH that are in scope
	extra  map[string]bool // key words that are allowed where the parser is, besides the usual ones
	pairs  map[int]int     // parentheses that close others, by their places
	broken error           // why there are no further tokens
	code   bool            // it is in stored code, where other words may stand
}

// newParser cuts a statement into tokens, without space and comments. What MariaDB
// and MySQL execute of a comment stands in its place.
func newParser(stmt []byte, d sqltext.Dialect) *parser {
	if len(stmt) > maxText {
		refuse("a definition of %d bytes; at most %d make sense", len(stmt), maxText)
	}
	p := &parser{d: d}
	p.broken = p.scan(stmt, false)
	for n := len(p.toks); n > 0 && string(p.toks[n-1].Text) == ";"; n-- {
		p.toks = p.toks[:n-1]
	}
	return p
}

// scan appends the tokens of a text up to what cannot be read, which is refused when it
// is come to: stored code of MariaDB is not read to its end.
func (p *parser) scan(text []byte, inside bool) (err error) {
	defer catch(&err)
	l := sqltext.NewLexer(text, p.d)
	end := -1 // where the last token ended if it was a number
	for {
		t, err := l.Skip()
		switch {
		case err != nil:
			refuse("%v in %q", err, brief(string(text)))
		case t.Kind == sqltext.End:
			return nil
		case t.Kind == sqltext.Conditional && inside:
			refuse("a comment that is executed within another: %q", brief(string(t.Text)))
		case t.Kind == sqltext.Conditional:
			if err := p.scan([]byte(sqltext.ConditionalBody(t.Text)), true); err != nil {
				return err
			}
			continue
		case t.At == end && (t.Kind == sqltext.Word || t.Kind == sqltext.Bytes):
			refuse("a number with letters behind it: %q", brief(string(text[max(0, t.At-8):])))
		case t.Kind == sqltext.Punct && (t.Text[0] < ' ' || t.Text[0] >= 0x7f):
			refuse("the byte 0x%02x in %q", t.Text[0], brief(string(text)))
		}
		if end = -1; t.Kind == sqltext.Number {
			end = t.At + len(t.Text)
		}
		if len(p.toks) == maxTokens {
			refuse("a definition of more than %d words and signs", maxTokens)
		}
		p.toks = append(p.toks, t)
	}
}

// peek gives the token that is n behind the next one.
func (p *parser) peek(n int) sqltext.Token {
	if p.i+n < len(p.toks) {
		return p.toks[p.i+n]
	}
	if p.broken != nil {
		panic(refusal{p.broken})
	}
	return sqltext.Token{Kind: sqltext.End}
}

// is reports whether the next tokens are the given words or signs.
func (p *parser) is(words ...string) bool {
	for n, w := range words {
		t := p.peek(n)
		if t.Kind == sqltext.Word && !strings.EqualFold(string(t.Text), w) || t.Kind == sqltext.Punct && string(t.Text) != w || t.Kind != sqltext.Word && t.Kind != sqltext.Punct {
			return false
		}
	}
	return true
}

// oneOf reports whether the next token is one of the words.
func (p *parser) oneOf(words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return p.is(w) })
}

// skip passes over the words or signs, if they come next.
func (p *parser) skip(words ...string) bool {
	if !p.is(words...) {
		return false
	}
	p.i += len(words)
	return true
}

// keep takes the words or signs over, if they come next.
func (p *parser) keep(words ...string) bool {
	if !p.skip(words...) {
		return false
	}
	p.emit(words...)
	return true
}

// keepOne takes over the one of several phrases that comes next.
func (p *parser) keepOne(phrases ...string) bool {
	return slices.ContainsFunc(phrases, func(s string) bool { return p.keep(strings.Fields(s)...) })
}

// want is keep for what must come next.
func (p *parser) want(words ...string) {
	if !p.keep(words...) {
		p.unexpected(strings.Join(words, " "))
	}
}

// pass is skip for what must come next.
func (p *parser) pass(words ...string) {
	if !p.skip(words...) {
		p.unexpected(strings.Join(words, " "))
	}
}

// unexpected refuses the next token.
func (p *parser) unexpected(wanted string) {
	t := p.peek(0)
	if t.Kind == sqltext.End {
		refuse("the statement ends where %s belongs", wanted)
	}
	refuse("%q stands where %s belongs", brief(string(t.Text)), wanted)
}

// end insists that nothing follows.
func (p *parser) end() {
	if t := p.peek(0); t.Kind == sqltext.Punct && t.Text[0] == ';' {
		refuse("a second statement")
	} else if t.Kind != sqltext.End {
		p.unexpected("its end")
	}
}

// emit appends words and signs as they are.
func (p *parser) emit(words ...string) {
	for _, w := range words {
		p.out = append(p.out, node{text: w})
	}
}

// glue appends a sign without a space before it.
func (p *parser) glue(sign string) { p.out = append(p.out, node{text: sign, glued: true}) }

// down guards against nesting that no server would follow.
func (p *parser) down() func() {
	if p.depth++; p.depth > maxDepth {
		refuse("parentheses are nested more than %d deep", maxDepth)
	}
	return func() { p.depth-- }
}

// name reads a name, in PostgreSQL in the letter case that the server gives it.
func (p *parser) name() string {
	t := p.peek(0)
	switch t.Kind {
	case sqltext.Name:
		b, err := sqltext.Unquote(nil, t, p.d)
		if err != nil {
			refuse("the name %.60q cannot be read", t.Text)
		}
		p.i++
		return p.checkName(string(b))
	case sqltext.String:
		if p.d == sqltext.SQLite { // which takes it for a name where only a name can stand
			p.i++
			return p.checkName(p.unquote(t))
		}
	case sqltext.Word:
		if t.Text[0] == '@' || t.Text[0] == '$' {
			refuse("a variable, %.60q", t.Text)
		}
		if p.d == sqltext.Postgres && strings.EqualFold(string(t.Text), "u") && string(p.peek(1).Text) == "&" && p.peek(1).At == t.At+1 {
			refuse("a name or text in escapes")
		}
		p.i++
		if p.d == sqltext.Postgres {
			return p.checkName(lowerASCII(string(t.Text)))
		}
		return p.checkName(string(t.Text))
	}
	p.unexpected("a name")
	return ""
}

func (p *parser) checkName(s string) string {
	if s == "" || strings.IndexByte(s, 0) >= 0 || len(s) > 1000 {
		refuse("the name %.60q", s)
	}
	return s
}

// lowerASCII folds a name as PostgreSQL does.
func lowerASCII(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

// ident takes over a name, and gives it.
func (p *parser) ident() string {
	n := p.name()
	p.out = append(p.out, node{kind: ident, text: n})
	return n
}

// refer appends a reference.
func (p *parser) refer(r Reference) {
	p.out = append(p.out, node{kind: external, ref: r.Kind, of: r.Schema, text: r.Name})
}

// hidden are schemas that are the servers' own.
func hidden(schema string, d sqltext.Dialect) bool {
	switch d {
	case sqltext.Postgres:
		return strings.HasPrefix(schema, "pg_") || schema == "information_schema"
	case sqltext.SQLite:
		return true
	}
	return schema != ""
}

// qualified reads a name that may have a schema before it.
func (p *parser) qualified() (schema, name string) {
	name = p.name()
	if p.skip(".") {
		schema, name = name, p.name()
	}
	if p.d == sqltext.SQLite && strings.EqualFold(schema, "main") {
		schema = ""
	}
	return schema, name
}

// relationName reads the name of a relation of the site.
func (p *parser) relationName() Reference {
	schema, name := p.qualified()
	if schema == "" && p.d == sqltext.Postgres {
		schema = sqltext.DefaultSchema
	}
	if schema != "" && hidden(schema, p.d) {
		refuse("%s.%s does not belong to the site", schema, name)
	}
	if p.d == sqltext.SQLite && strings.HasPrefix(strings.ToLower(name), "sqlite_") {
		refuse("%s does not belong to the site", name)
	}
	return Reference{Relation, schema, name}
}

// relation takes over the name of a relation of the site, and gives it.
func (p *parser) relation() Reference {
	r := p.relationName()
	p.refer(r)
	return r
}

// names takes over a list of names in parentheses, and gives it.
func (p *parser) names() (list []string) {
	p.want("(")
	for {
		list = append(list, p.ident())
		if !p.keep(",") {
			p.want(")")
			return list
		}
	}
}

// unquote gives what a String token means.
func (p *parser) unquote(t sqltext.Token) string {
	b, err := sqltext.Unquote(nil, t, p.d)
	if err != nil {
		panic(refusal{err})
	}
	return string(b)
}

// stringValue reads a text.
func (p *parser) stringValue() string {
	t := p.peek(0)
	if t.Kind != sqltext.String {
		p.unexpected("a text")
	}
	p.i++
	return p.unquote(t)
}

// text takes over a text.
func (p *parser) text() string {
	s := p.stringValue()
	p.emit(encode(s, p.d))
	p.out[len(p.out)-1].value = s
	return s
}

var (
	decimal  = regexp.MustCompile(`^(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?$`)
	integer  = regexp.MustCompile(`^\d+$`)
	digits16 = regexp.MustCompile(`^[0-9a-fA-F]*$`)
	digits2  = regexp.MustCompile(`^[01]*$`)
)

// number takes over a whole number with a sign before it perhaps.
func (p *parser) number() {
	sign := ""
	if p.skip("-") {
		sign = "-"
	} else {
		p.skip("+")
	}
	t := p.peek(0)
	if t.Kind != sqltext.Number || !integer.Match(t.Text) {
		p.unexpected("a number")
	}
	p.i++
	p.emit(sign + string(t.Text))
}

// literal takes over a text, number or string of bytes; ok is false if none is next.
func (p *parser) literal() (ok bool) {
	t := p.peek(0)
	switch t.Kind {
	case sqltext.String:
		if p.d == sqltext.Postgres && p.searchName() {
			return true
		}
		p.text()
		return true
	case sqltext.Number:
		if !decimal.Match(t.Text) {
			refuse("%q is no number", brief(string(t.Text)))
		}
		p.emit(string(t.Text))
	case sqltext.Bytes:
		p.bytes(t)
	default:
		return false
	}
	p.i++
	return true
}

// bytes takes over x'…', b'…' and 0x….
func (p *parser) bytes(t sqltext.Token) {
	digits, valid := string(t.Text[2:]), digits16
	if t.Text[1] == '\'' {
		digits = string(t.Text[2 : len(t.Text)-1])
	}
	letter := t.Text[0] | 0x20
	if letter == 'b' {
		valid = digits2
	} else if letter = 'x'; len(digits)%2 != 0 {
		if t.Text[1] == '\'' && p.d != sqltext.Postgres {
			refuse("an odd number of digits in %q", brief(string(t.Text)))
		}
	}
	if !valid.MatchString(digits) {
		refuse("%q is no string of digits", brief(string(t.Text)))
	}
	if p.d == sqltext.MySQL && t.Text[0] == '0' { // as a number, it means another value than x'…'
		p.emit("0x" + digits)
		return
	}
	p.emit(string(letter) + "'" + digits + "'")
}
