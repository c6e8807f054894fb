package sqltree

import (
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// engines are the storage engines that keep their rows in the database itself.
// Others read files or other servers, which a restore must never do.
var engines = []string{"innodb", "myisam", "aria", "memory", "heap", "archive", "csv", "rocksdb", "ndbcluster"}

// engine reads the name of a storage engine.
func (p *parser) engine() string {
	t := p.peek(0)
	var name string
	if t.Kind == sqltext.String {
		name = p.stringValue()
	} else {
		name = p.name()
	}
	if !slices.Contains(engines, strings.ToLower(name)) {
		refuse("storage engine %s", brief(name))
	}
	return name
}

// mysqlItem reads a line of a definition of MariaDB or MySQL (MariaDB's reference,
// CREATE TABLE).
func (p *parser) mysqlItem(it *Item) {
	if p.keep("CONSTRAINT") {
		if !p.oneOf("PRIMARY", "UNIQUE", "FOREIGN", "CHECK") {
			it.Name = p.ident()
		}
		if !p.oneOf("PRIMARY", "UNIQUE", "FOREIGN", "CHECK") {
			p.unexpected("a constraint")
		}
	}
	switch {
	case p.keep("PRIMARY", "KEY"):
		it.Kind = PrimaryKey
		p.mysqlKey(it)
	case p.keep("UNIQUE"):
		it.Kind = UniqueKey
		p.keepOne("KEY", "INDEX")
		p.mysqlKey(it)
	case p.keepOne("FULLTEXT", "SPATIAL"):
		it.Kind = PlainKey
		p.keepOne("KEY", "INDEX")
		p.mysqlKey(it)
	case p.keepOne("KEY", "INDEX"):
		it.Kind = PlainKey
		p.mysqlKey(it)
	case p.keep("FOREIGN", "KEY"):
		it.Kind = ForeignKey
		if !p.is("(") {
			name := p.ident()
			if it.Name == "" {
				it.Name = name
			}
		}
		it.Columns = p.names()
		p.references()
	case p.keep("CHECK"):
		it.Kind = OtherItem
		p.group()
		p.keepOne("NOT ENFORCED", "ENFORCED")
	case p.keep("PERIOD", "FOR"):
		it.Kind = OtherItem
		p.ident()
		p.names()
	default:
		p.mysqlColumn(it)
	}
}

// mysqlKey takes over the name of a key, its columns and options.
func (p *parser) mysqlKey(it *Item) {
	method := func() {
		if p.keep("USING") && !p.keepOne("BTREE", "HASH", "RTREE") {
			p.unexpected("a kind of key")
		}
	}
	if !p.is("(") && !p.is("USING") {
		it.Name = p.ident()
	}
	method()
	p.want("(")
	for {
		if p.is("(") { // a key over an expression
			p.group()
		} else {
			it.Columns = append(it.Columns, p.ident())
			p.modifiers()
		}
		p.keepOne("ASC", "DESC", "WITHOUT OVERLAPS")
		if !p.keep(",") {
			break
		}
	}
	p.want(")")
	for {
		switch {
		case p.is("USING"):
			method()
		case p.keep("COMMENT"):
			p.text()
		case p.keep("KEY_BLOCK_SIZE"):
			p.keep("=")
			p.number()
		case p.keepOne("INVISIBLE", "VISIBLE", "NOT IGNORED", "IGNORED", "CLUSTERING = YES", "CLUSTERING = NO"):
		case p.is("WITH", "PARSER", "ngram"), p.is("WITH", "PARSER") && strings.EqualFold(string(p.peek(2).Text), "`ngram`"):
			p.want("WITH", "PARSER")
			p.ident()
		default:
			return
		}
	}
}

// defaultEnds are the words that go on with a column behind its default.
var defaultEnds = []string{"NOT", "NULL", "ON", "AUTO_INCREMENT", "PRIMARY", "UNIQUE", "KEY", "COMMENT", "COLLATE", "CHECK", "INVISIBLE", "VISIBLE", "WITHOUT", "WITH", "GENERATED", "AS", "COLUMN_FORMAT", "STORAGE", "SRID", "REFERENCES"}

func (p *parser) mysqlColumn(it *Item) {
	it.Kind = Column
	if t := p.peek(0); t.Kind == sqltext.Word && reserved[strings.ToLower(string(t.Text))] {
		refuse("the word %s does not belong there", strings.ToUpper(string(t.Text)))
	}
	it.Name = p.ident()
	at := len(p.out)
	p.mysqlType()
	it.Type = p.out[at].text
	for p.mysqlAttribute(it) {
	}
	for i, n := range p.out[at:] {
		if i > 0 && (p.out[at+i-1].text == "SET" && p.out[at+i-2].text == "CHARACTER" || p.out[at+i-1].text == "CHARSET") {
			it.Charset = strings.ToLower(n.text)
		}
		if i > 0 && p.out[at+i-1].text == "COLLATE" && it.Charset == "" && p.depth == 0 {
			it.Charset, _, _ = strings.Cut(strings.ToLower(n.text), "_")
		}
	}
}

// mysqlAttribute takes over one attribute of a column.
func (p *parser) mysqlAttribute(it *Item) bool {
	switch {
	case p.keepOne("NOT NULL", "NULL", "PRIMARY KEY", "UNIQUE KEY", "UNIQUE", "KEY", "INVISIBLE", "VISIBLE", "WITHOUT SYSTEM VERSIONING", "WITH SYSTEM VERSIONING"):
	case p.keep("AUTO_INCREMENT"):
		it.Auto = true
	case p.keep("DEFAULT"):
		p.expression(defaultEnds...)
	case p.keep("ON", "UPDATE"):
		p.expression(defaultEnds...)
	case p.keep("COMMENT"):
		p.text()
	case p.keep("COLLATE"):
		p.bareName("a collation")
	case p.keep("CHARACTER", "SET"), p.keep("CHARSET"):
		p.bareName("a charset")
	case p.keepOne("GENERATED ALWAYS AS ROW START", "GENERATED ALWAYS AS ROW END"):
		it.Generated = true
	case p.keepOne("GENERATED ALWAYS AS", "AS"):
		it.Generated = true
		p.group()
		p.keepOne("VIRTUAL", "STORED", "PERSISTENT")
	case p.keep("CHECK"):
		p.group()
		p.keepOne("NOT ENFORCED", "ENFORCED")
	case p.keepOne("COLUMN_FORMAT FIXED", "COLUMN_FORMAT DYNAMIC", "COLUMN_FORMAT DEFAULT", "STORAGE DISK", "STORAGE MEMORY"):
	case p.keep("SRID"):
		p.number()
	case p.is("REFERENCES"):
		p.references()
	default:
		return false
	}
	return true
}

// numeric are the options of tables that have a number.
var numeric = set(`auto_increment max_rows min_rows avg_row_length checksum table_checksum page_checksum delay_key_write pack_keys stats_persistent stats_auto_recalc stats_sample_pages
	key_block_size transactional page_compressed page_compression_level encryption_key_id encrypted`)

// mysqlOptions takes over the options of a table.
func (p *parser) mysqlOptions(t *Table) {
	for p.peek(0).Kind != sqltext.End && !p.is("PARTITION", "BY") {
		p.skip(",")
		tok := p.peek(0)
		word := strings.ToLower(strings.Trim(string(tok.Text), "`"))
		switch {
		case p.skip("ENGINE"):
			p.skip("=")
			t.Engine = strings.ToLower(p.engine())
			p.emit("ENGINE=" + engineName(t.Engine))
		case p.is("DEFAULT", "CHARACTER", "SET"), p.is("DEFAULT", "CHARSET"), p.is("CHARACTER", "SET"), p.is("CHARSET"), p.is("DEFAULT", "COLLATE"), p.is("COLLATE"):
			p.mysqlCharset(t)
		case p.keep("COMMENT"):
			p.valued(func() { p.text() })
		case p.keep("ROW_FORMAT"):
			p.valued(func() {
				if !p.keepOne("DEFAULT", "DYNAMIC", "FIXED", "COMPRESSED", "REDUNDANT", "COMPACT", "PAGE") {
					p.unexpected("a format of rows")
				}
			})
		case (tok.Kind == sqltext.Word || tok.Kind == sqltext.Name) && numeric[word]:
			p.i++
			p.emit(strings.ToUpper(word))
			p.valued(p.mysqlNumber)
		case p.keep("WITH", "SYSTEM", "VERSIONING"):
		default:
			p.unexpected("an option of a table")
		}
	}
	if p.is("PARTITION", "BY") {
		t.Partitioned = true
		p.mysqlPartitions()
	}
}

// engineName gives the name of a storage engine as servers write it.
func engineName(lower string) string {
	for _, n := range []string{"InnoDB", "MyISAM", "Aria", "MEMORY", "ARCHIVE", "CSV", "ROCKSDB", "ndbcluster"} {
		if strings.EqualFold(n, lower) {
			return n
		}
	}
	return strings.ToUpper(lower)
}

func (p *parser) mysqlCharset(t *Table) {
	p.keep("DEFAULT")
	if p.keep("COLLATE") {
		name := p.valued(func() { p.bareName("a collation") })
		if t.Charset == "" {
			t.Charset, _, _ = strings.Cut(strings.ToLower(name), "_")
		}
		return
	}
	if p.skip("CHARACTER", "SET") || p.skip("CHARSET") {
		p.emit("CHARSET")
	}
	t.Charset = strings.ToLower(p.valued(func() { p.bareName("a charset") }))
}

// valued makes one element NAME=value of the name of an option, which was read last, and
// the value that f reads, and gives that.
func (p *parser) valued(f func()) string {
	p.skip("=")
	n := len(p.out)
	f()
	value := p.out[n:].text(p.d, nil)
	p.out[n-1].lead, p.out[n-1].value = p.out[n-1].text+"=", p.out[n].value
	p.out = p.out[:n]
	p.out[n-1].text += "=" + value
	return value
}

// mysqlNumber takes over the value of an option: a number, DEFAULT, or ON and the like,
// in quotes perhaps.
func (p *parser) mysqlNumber() {
	switch t := p.peek(0); {
	case t.Kind == sqltext.Number:
		p.number()
	case t.Kind == sqltext.String:
		if s := p.stringValue(); plainWord(s) {
			p.emit("'" + s + "'")
			return
		}
		refuse("the value %q of an option", brief(string(t.Text)))
	case !p.keepOne("DEFAULT", "YES", "NO", "ON", "OFF"):
		p.unexpected("a number")
	}
}

// mysqlPartitions takes over how a table is cut into partitions.
func (p *parser) mysqlPartitions() {
	p.want("PARTITION", "BY")
	p.mysqlPartitionKey()
	for {
		switch {
		case p.keepOne("PARTITIONS", "SUBPARTITIONS"):
			p.number()
			continue
		case p.keep("SUBPARTITION", "BY"):
			p.mysqlPartitionKey()
			continue
		}
		break
	}
	if !p.keep("(") {
		return
	}
	for p.mysqlPartition("PARTITION"); p.keep(","); p.mysqlPartition("PARTITION") {
	}
	p.want(")")
}

func (p *parser) mysqlPartitionKey() {
	p.keep("LINEAR")
	switch {
	case p.keepOne("RANGE COLUMNS", "LIST COLUMNS", "KEY"):
		if p.keep("ALGORITHM", "=") {
			p.number()
		}
		if p.is("(", ")") {
			p.want("(", ")")
			return
		}
		p.names()
	case p.keepOne("HASH", "RANGE", "LIST"):
		p.group()
	case p.keep("SYSTEM_TIME"):
		if p.is("INTERVAL") {
			p.interval()
			if p.keep("STARTS") {
				p.expression("AUTO", "LIMIT", "PARTITIONS")
			}
		}
		if p.keep("LIMIT") {
			p.number()
		}
		p.keep("AUTO")
	default:
		p.unexpected("a way to cut")
	}
}

func (p *parser) mysqlPartition(word string) {
	p.want(word)
	p.ident()
	if p.keepOne("VALUES LESS THAN", "VALUES IN") {
		if !p.keep("MAXVALUE") {
			p.with(set("maxvalue"), p.group)
		}
	}
	p.keepOne("HISTORY", "CURRENT")
	for {
		p.skip("STORAGE")
		switch {
		case p.skip("ENGINE"):
			p.skip("=")
			p.emit("ENGINE=" + engineName(strings.ToLower(p.engine())))
		case p.keep("COMMENT"):
			p.keep("=")
			p.text()
		case p.keepOne("MAX_ROWS", "MIN_ROWS"):
			p.keep("=")
			p.number()
		case p.is("(") && word == "PARTITION":
			p.want("(")
			for p.mysqlPartition("SUBPARTITION"); p.keep(","); p.mysqlPartition("SUBPARTITION") {
			}
			p.want(")")
		default:
			return
		}
	}
}

// mysqlStatement reads a statement of MariaDB or MySQL; stmt is its text, of which
// stored code keeps its body.
func (p *parser) mysqlStatement(s *Statement, stmt []byte) {
	if p.is("DO", "SETVAL") || p.is("SELECT", "SETVAL") {
		p.mysqlPosition(s)
		return
	}
	if !p.keep("CREATE") {
		refuse("a statement of unknown kind")
	}
	p.skip("OR", "REPLACE")
	if p.is("UNIQUE") || p.is("INDEX") {
		refuse("a key outside of the definition of its table")
	}
	for p.mysqlRights(s) {
	}
	switch {
	case p.keep("VIEW"):
		s.Shape = ShapeView
		s.Name = p.relation().Name
		if p.is("(") {
			p.names()
		}
		p.want("AS")
		p.query()
		p.keepOne("WITH CASCADED CHECK OPTION", "WITH LOCAL CHECK OPTION", "WITH CHECK OPTION")
	case p.keep("SEQUENCE"):
		s.Shape = ShapeSequence
		p.skip("IF", "NOT", "EXISTS")
		s.Name = p.relation().Name
		p.sequenceOptions()
	case p.keep("TRIGGER"):
		s.Shape = ShapeTrigger
		p.codeName(s)
		if !p.keepOne("BEFORE", "AFTER") || !p.keepOne("INSERT", "UPDATE", "DELETE") {
			p.unexpected("an event")
		}
		p.want("ON")
		s.Table = p.relation().Name
		p.want("FOR", "EACH", "ROW")
		p.rest(s, stmt)
	case p.keepOne("AGGREGATE FUNCTION", "FUNCTION", "PROCEDURE"):
		s.Shape = ShapeRoutine
		s.Procedure = p.out[len(p.out)-1].text == "PROCEDURE"
		p.codeName(s)
		if !p.is("(") { // RETURNS … SONAME: a library of the server's machine
			refuse("a function in a library")
		}
		p.rest(s, stmt)
	case p.keep("EVENT"):
		s.Shape = ShapeEvent
		p.codeName(s)
		p.want("ON", "SCHEDULE")
		p.rest(s, stmt)
	default:
		refuse("a statement of unknown kind")
	}
}

// mysqlRights takes over what stands between CREATE and what is made.
func (p *parser) mysqlRights(s *Statement) bool {
	switch {
	case p.skip("DEFINER", "="):
		s.Definer = p.account()
	case p.skip("ALGORITHM", "="):
		p.emit("ALGORITHM=")
		if !p.keepOne("UNDEFINED", "MERGE", "TEMPTABLE") {
			p.unexpected("a way to carry out a view")
		}
	case p.keepOne("SQL SECURITY DEFINER", "SQL SECURITY INVOKER"):
	default:
		return false
	}
	return true
}

// account reads user@host, each in quotes of any kind perhaps.
func (p *parser) account() *Account {
	part := func() string {
		t := p.peek(0)
		p.i++
		switch t.Kind {
		case sqltext.String:
			return p.unquote(t)
		case sqltext.Name:
			p.i--
			return p.name()
		case sqltext.Word:
			return string(t.Text)
		}
		refuse("an account was expected, not %q", brief(string(t.Text)))
		return ""
	}
	if p.skip("CURRENT_USER") {
		p.skip("(", ")")
		return nil
	}
	user := part()
	if bare, host, ok := strings.Cut(user, "@"); ok && p.toks[p.i-1].Kind == sqltext.Word { // user@host in one word
		if host == "" {
			host = part()
		}
		return &Account{bare, host}
	}
	a := &Account{user, "%"}
	if t := p.peek(0); t.Kind == sqltext.Word && t.Text[0] == '@' {
		p.i++
		if a.Host = string(t.Text[1:]); a.Host == "" {
			a.Host = part()
		}
	}
	return a
}

// codeName takes over the name of stored code, which may stand in double quotes where
// it was made in a mode for that.
func (p *parser) codeName(s *Statement) {
	p.skip("IF", "NOT", "EXISTS")
	if t := p.peek(0); t.Kind == sqltext.String && t.Text[0] == '"' {
		s.Name = strings.ReplaceAll(strings.Trim(string(t.Text), `"`), `""`, `"`)
		p.i++
		p.out = append(p.out, node{kind: ident, text: p.checkName(s.Name)})
		return
	}
	var schema string
	if schema, s.Name = p.qualified(); schema != "" {
		refuse("%s.%s does not belong to the site", schema, s.Name)
	}
	p.out = append(p.out, node{kind: ident, text: s.Name})
}

// rest keeps what follows as it is: the server takes one statement, and its head says
// what it makes.
func (p *parser) rest(s *Statement, stmt []byte) {
	for _, t := range p.toks[:p.i] {
		if t.Kind == sqltext.Conditional {
			refuse("a comment that is executed")
		}
	}
	t := p.peek(0)
	if t.Kind == sqltext.End || t.At >= len(stmt) {
		refuse("code without a body")
	}
	s.body = strings.TrimRight(string(stmt[t.At:]), "; \t\r\n")
	checkCode(s.body, p.d)
}

// mysqlPosition reads DO SETVAL(`name`, n, 0).
func (p *parser) mysqlPosition(s *Statement) {
	s.Shape = ShapePosition
	p.i++
	p.emit("DO")
	p.want("SETVAL")
	p.glue("(")
	p.pass("(")
	s.Name = p.relation().Name
	p.want(",")
	p.number()
	s.Value = p.out[len(p.out)-1].text
	p.want(",")
	p.number()
	p.want(")")
}
