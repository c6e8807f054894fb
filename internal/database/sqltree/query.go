package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// startsQuery reports whether a query comes next.
func (p *parser) startsQuery() bool {
	return p.oneOf("SELECT", "WITH") || p.is("VALUES", "(")
}

// groupIsQuery reports whether the parenthesis that comes next holds a query, and not
// an expression or a join that begins with one.
func (p *parser) groupIsQuery() bool {
	for n := 1; ; n++ {
		t := p.peek(n)
		switch {
		case t.Kind == sqltext.Word:
			return t.Is("SELECT") || t.Is("WITH") || t.Is("VALUES") && string(p.peek(n+1).Text) == "("
		case string(t.Text) != "(" || t.Kind != sqltext.Punct:
			return false
		}
		end := p.closing(p.i+n) - p.i
		switch next := p.peek(end + 1); {
		case next.Kind == sqltext.Punct && string(next.Text) == ")":
		case next.Kind == sqltext.Word && slices.ContainsFunc(queryWords, next.Is):
		default:
			return false
		}
	}
}

// queryWords go on with a query behind one in parentheses.
var queryWords = []string{"UNION", "EXCEPT", "INTERSECT", "ORDER", "LIMIT", "OFFSET", "FETCH"}

// closing gives the place of the parenthesis that closes the one at a place.
func (p *parser) closing(at int) int {
	if p.pairs == nil {
		p.pairs = map[int]int{}
		var open []int
		for i, t := range p.toks {
			switch {
			case t.Kind != sqltext.Punct:
			case t.Text[0] == '(':
				open = append(open, i)
			case t.Text[0] == ')' && len(open) > 0:
				p.pairs[open[len(open)-1]] = i
				open = open[:len(open)-1]
			}
		}
	}
	if end, ok := p.pairs[at]; ok {
		return end
	}
	refuse("a parenthesis is not closed")
	return 0
}

// query takes over a query: SELECT and what may join several, without anything that
// writes, locks or leaves the database.
func (p *parser) query() {
	defer p.down()()
	scope, extra := len(p.ctes), p.extra
	p.extra = nil
	defer func() { p.ctes, p.extra = p.ctes[:scope], extra }()
	if p.is("with") {
		p.commonTables()
	}
	for p.term(); p.keepOne("UNION ALL", "UNION DISTINCT", "UNION", "EXCEPT ALL", "EXCEPT DISTINCT", "EXCEPT", "INTERSECT ALL", "INTERSECT DISTINCT", "INTERSECT"); p.term() {
	}
	p.tail()
}

// tail takes over what orders and cuts the rows of a query.
func (p *parser) tail() {
	if p.keep("ORDER", "BY") {
		p.order(clauses...)
	}
	for {
		switch {
		case p.keep("LIMIT"):
			if !p.keep("ALL") {
				p.expressions(clauses...)
			}
		case p.keep("OFFSET"):
			p.expression(append([]string{"ROW", "ROWS"}, clauses...)...)
			p.keepOne("ROWS", "ROW")
		case p.keep("FETCH"):
			if !p.keepOne("FIRST", "NEXT") {
				p.unexpected("FIRST")
			}
			p.expression("ROW", "ROWS")
			p.keepOne("ROWS", "ROW")
			if !p.keepOne("ONLY", "WITH TIES") {
				p.unexpected("ONLY")
			}
		default:
			return
		}
	}
}

// order takes over a list of expressions with directions.
func (p *parser) order(end ...string) {
	p.with(orderWords, func() { p.expressions(end...) })
}

// commonTables takes over WITH name AS (query), ….
func (p *parser) commonTables() {
	p.want("WITH")
	recursive := p.keep("RECURSIVE")
	for {
		name := p.ident()
		if strings.HasPrefix(strings.ToLower(name), "pg_") {
			refuse("the name %s in WITH", name)
		}
		if recursive {
			p.ctes = append(p.ctes, name)
		}
		if p.is("(") {
			p.names()
		}
		p.want("AS")
		p.keepOne("NOT MATERIALIZED", "MATERIALIZED")
		p.want("(")
		p.query()
		p.want(")")
		if !recursive {
			p.ctes = append(p.ctes, name)
		}
		for p.is("search") || p.is("cycle") {
			p.cycle()
		}
		if !p.keep(",") {
			return
		}
	}
}

// cycle takes over SEARCH and CYCLE of PostgreSQL, and CYCLE … RESTRICT of MariaDB.
func (p *parser) cycle() {
	list := func() {
		for p.ident(); p.keep(","); p.ident() {
		}
	}
	if p.keepOne("SEARCH DEPTH FIRST BY", "SEARCH BREADTH FIRST BY") {
		list()
		p.want("SET")
		p.ident()
		return
	}
	p.want("CYCLE")
	list()
	if p.keep("RESTRICT") {
		return
	}
	p.want("SET")
	p.ident()
	if p.keep("TO") {
		p.expression("DEFAULT")
		p.want("DEFAULT")
		p.expression("USING")
	}
	p.want("USING")
	p.ident()
}

// term takes over one SELECT, VALUES, or query in parentheses.
func (p *parser) term() {
	switch {
	case p.is("("):
		p.want("(")
		p.query()
		p.want(")")
	case p.keep("VALUES"):
		for p.group(); p.keep(","); p.group() {
		}
	default:
		p.selection()
	}
}

// clauses are the words that end what stands before them in a SELECT.
var clauses = []string{"FROM", "WHERE", "GROUP", "HAVING", "WINDOW", "ORDER", "LIMIT", "OFFSET", "FETCH", "UNION", "EXCEPT", "INTERSECT", "INTO", "FOR", "LOCK", "PROCEDURE", "WITH"}

func (p *parser) selection() {
	p.want("SELECT")
	for p.keepOne("DISTINCT", "ALL", "STRAIGHT_JOIN", "SQL_SMALL_RESULT", "SQL_BIG_RESULT", "SQL_BUFFER_RESULT", "SQL_NO_CACHE", "SQL_CACHE", "HIGH_PRIORITY") {
		if p.d == sqltext.Postgres && p.keep("ON") {
			p.group()
		}
	}
	if !p.oneOf(clauses...) && p.peek(0).Kind != sqltext.End && !p.is(")") {
		for p.item(); p.keep(","); p.item() {
		}
	}
	if p.keep("FROM") {
		p.from()
	}
	if p.keep("WHERE") {
		p.expression(clauses...)
	}
	if p.keep("GROUP", "BY") {
		p.with(groupWords, func() { p.expressions(clauses...) })
		p.keep("WITH", "ROLLUP")
	}
	if p.keep("HAVING") {
		p.expression(clauses...)
	}
	if p.keep("WINDOW") {
		for {
			p.ident()
			p.want("AS")
			p.window()
			if !p.keep(",") {
				break
			}
		}
	}
}

// item takes over an expression that is selected, with its name.
func (p *parser) item() {
	p.expression(append([]string{"AS"}, clauses...)...)
	if p.keep("AS") {
		p.alias()
	}
}

// alias takes over the name that something gets. MariaDB and SQLite take a text too.
func (p *parser) alias() {
	if t := p.peek(0); t.Kind == sqltext.String && p.d != sqltext.Postgres {
		p.out = append(p.out, node{kind: ident, text: p.checkName(p.stringValue())})
		return
	}
	p.ident()
}

// from takes over the relations that a SELECT reads.
func (p *parser) from() {
	for p.joined(); p.keep(","); p.joined() {
	}
}

// joined takes over relations that are joined.
func (p *parser) joined() {
	p.source()
	for {
		p.keep("NATURAL")
		if !p.keepOne("JOIN", "INNER JOIN", "LEFT OUTER JOIN", "LEFT JOIN", "RIGHT OUTER JOIN", "RIGHT JOIN", "FULL OUTER JOIN", "FULL JOIN", "CROSS JOIN", "STRAIGHT_JOIN") {
			return
		}
		p.source()
		for {
			if p.keep("ON") {
				p.expression(joinEnds...)
			} else if p.keep("USING") {
				p.names()
				if p.d == sqltext.Postgres && p.keep("AS") {
					p.ident()
				}
			} else {
				break
			}
		}
	}
}

// joinWords begin a further join.
var joinWords = []string{"NATURAL", "JOIN", "INNER", "LEFT", "RIGHT", "FULL", "CROSS", "STRAIGHT_JOIN", "ON", "USING"}

// joinEnds end the condition of a join.
var joinEnds = append(slices.Clone(joinWords), clauses...)

// source takes over one relation, query or call of which rows are read.
func (p *parser) source() {
	defer p.down()()
	p.keepOne("LATERAL", "ONLY")
	switch {
	case p.is("rows", "from", "("):
		p.want("ROWS", "FROM", "(")
		for p.rowsFrom(); p.keep(","); p.rowsFrom() {
		}
		p.want(")")
		p.keep("WITH", "ORDINALITY")
	case p.is("(") && p.groupIsQuery():
		p.want("(")
		p.query()
		p.want(")")
	case p.is("("):
		p.want("(")
		p.from()
		p.want(")")
	case p.callsFunction():
		p.tableFunction()
		p.keep("WITH", "ORDINALITY")
	default:
		p.tableOrCTE()
		p.keep("*")
	}
	p.decoration()
}

// rowsFrom takes over one function of ROWS FROM.
func (p *parser) rowsFrom() {
	p.tableFunction()
	if p.keep("AS") {
		p.columnTypes()
	}
}

// callsFunction reports whether a call comes next.
func (p *parser) callsFunction() bool {
	n := 0
	if string(p.peek(1).Text) == "." {
		n = 2
	}
	k := p.peek(n).Kind
	return (k == sqltext.Word || k == sqltext.Name) && p.peek(n+1).Kind == sqltext.Punct && string(p.peek(n+1).Text) == "("
}

// tableFunction takes over a call that gives rows.
func (p *parser) tableFunction() {
	if t := p.peek(0); p.d == sqltext.SQLite && !slices.Contains([]string{"json_each", "json_tree"}, strings.ToLower(strings.Trim(string(t.Text), "\"`[]"))) {
		refuse("rows of the function %s", brief(string(t.Text)))
	} else if p.d == sqltext.MySQL {
		refuse("rows of the function %s", brief(string(t.Text)))
	}
	before := p.i
	if t := p.peek(0); t.Kind == sqltext.Word && syntax[strings.ToLower(string(t.Text))] && p.d == sqltext.Postgres {
		p.word(t)
	} else {
		p.chain()
	}
	if p.i == before {
		p.unexpected("a function")
	}
}

// decoration takes over the alias of a relation and what MariaDB and SQLite say of
// how to read it.
func (p *parser) decoration() {
	if p.d == sqltext.MySQL {
		if p.keep("FOR", "SYSTEM_TIME") {
			if !p.keep("ALL") {
				p.expression(append([]string{"AS"}, joinEnds...)...)
			}
		}
		if p.is("partition", "(") {
			p.want("PARTITION")
			p.names()
		}
	}
	switch t := p.peek(0); {
	case p.keep("AS"):
		if p.d == sqltext.Postgres && p.is("(") {
			p.columnTypes()
			return
		}
		p.alias()
		p.aliasColumns()
	case t.Kind == sqltext.Name, t.Kind == sqltext.Word && !p.oneOf(clauses...) && !p.oneOf(joinWords...) && !p.oneOf("SET", "TABLESAMPLE", "USE", "FORCE", "IGNORE", "INDEXED", "NOT"):
		p.ident()
		p.aliasColumns()
	}
	switch {
	case p.keepOne("INDEXED BY"):
		p.ident()
	case p.d == sqltext.SQLite:
		p.keep("NOT", "INDEXED")
	case p.d == sqltext.MySQL:
		for p.keepOne("USE INDEX", "FORCE INDEX", "IGNORE INDEX", "USE KEY", "FORCE KEY", "IGNORE KEY") {
			p.keepOne("FOR JOIN", "FOR ORDER BY", "FOR GROUP BY")
			if p.is("(", ")") {
				p.want("(", ")")
			} else {
				p.names()
			}
		}
	}
}

// aliasColumns takes over the names of columns behind an alias, with types perhaps.
func (p *parser) aliasColumns() {
	if !p.is("(") {
		return
	}
	if k := p.peek(2); p.d == sqltext.Postgres && (k.Kind == sqltext.Word || k.Kind == sqltext.Name) {
		p.columnTypes()
		return
	}
	p.names()
}

// columnTypes takes over (name type, …).
func (p *parser) columnTypes() {
	p.want("(")
	for {
		p.ident()
		p.typeName()
		if p.is("collate") {
			p.special("collate")
		}
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
}

// tableOrCTE takes over the name of a relation, or one that WITH has given.
func (p *parser) tableOrCTE() {
	t := p.peek(0)
	if (t.Kind == sqltext.Word || t.Kind == sqltext.Name) && string(p.peek(1).Text) != "." {
		at := p.i
		name := p.name()
		if p.d == sqltext.MySQL && t.Kind == sqltext.Word && strings.EqualFold(name, "dual") {
			p.emit("DUAL")
			return
		}
		if slices.ContainsFunc(p.ctes, func(c string) bool {
			return c == name || p.d != sqltext.Postgres && strings.EqualFold(c, name)
		}) {
			p.out = append(p.out, node{kind: ident, text: name})
			return
		}
		if t.Kind == sqltext.Word && reserved[strings.ToLower(name)] {
			refuse("the word %s does not belong there", strings.ToUpper(name))
		}
		p.i = at
	}
	p.relation()
}
