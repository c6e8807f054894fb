package sqltree

import (
	"fmt"
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// ItemKind is the kind of one line in a table's definition.
type ItemKind int

// The kinds of lines.
const (
	Column ItemKind = iota
	PrimaryKey
	UniqueKey
	PlainKey // KEY, FULLTEXT KEY, SPATIAL KEY
	ForeignKey
	OtherItem // CHECK, PERIOD …
)

// Item is one line of a table's definition.
type Item struct {
	Kind    ItemKind
	Name    string   // of the column, key or constraint; empty if it has none
	Columns []string // a key's own columns, by name
	Type    string   // of a column, its first word in small letters
	Text    string   // the line, written anew
	Auto    bool     // an AUTO_INCREMENT column
	// Generated says that the column has a value that is computed, so that rows do not
	// give it one.
	Generated bool
	// Charset is that of a column of texts of MariaDB; empty: that of the table.
	Charset string
	parts   fragment
}

// Table is a table's definition, CREATE TABLE name (items) tail.
type Table struct {
	Name  string // as [sqltext.JoinName] gives it
	Items []Item
	Tail  string // the options behind the parenthesis, written anew
	// Engine is the storage engine that the options name, in small letters.
	Engine string
	// Charset is that of texts for which nothing else is said, in small letters.
	Charset string
	// Module is that of a virtual table of SQLite; Content is the table, or view, whose
	// texts it is an index of, HasRows says that it has texts of its own.
	Module, Content string
	HasRows         bool
	// Partitioned says that rows lie in partitions; those of PostgreSQL are tables of
	// their own.
	Partitioned bool

	d    sqltext.Dialect
	ref  Reference
	verb string
	tail fragment
}

// IsBytes reports whether a column of MariaDB holds bytes without a charset. In other
// engines the values themselves tell.
func (it *Item) IsBytes() bool {
	return it.Kind == Column && (strings.HasSuffix(it.Type, "blob") || strings.HasSuffix(it.Type, "binary"))
}

// ParseTable reads a CREATE TABLE statement. One that does more than to define a
// table, or holds what the grammar does not know, gives an error that wraps
// [sqltext.ErrRefused] and names it.
func ParseTable(stmt []byte, d sqltext.Dialect) (t *Table, err error) {
	defer func() {
		if err != nil && t != nil && t.Name != "" {
			err = fmt.Errorf("definition of %s: %w", t.Name, err)
		}
		if err != nil {
			t = nil
		}
	}()
	defer catch(&err)
	t = &Table{d: d, verb: "CREATE TABLE"}
	p := newParser(stmt, d)
	p.pass("CREATE")
	if d == sqltext.Postgres && p.skip("UNLOGGED") {
		t.verb = "CREATE UNLOGGED TABLE"
	}
	virtual := d == sqltext.SQLite && p.skip("VIRTUAL")
	p.pass("TABLE")
	p.skip("IF", "NOT", "EXISTS")
	t.ref = p.relationName()
	t.Name = t.ref.Joined()
	if virtual {
		p.virtualTable(t)
		p.end()
		return t, nil
	}
	if !p.skip("(") {
		refuse("the definition of %s has no list of columns", t.Name)
	}
	for !p.is(")") || len(t.Items) > 0 {
		t.Items = append(t.Items, p.item1())
		if !p.skip(",") {
			break
		}
	}
	p.pass(")")
	p.out = nil
	switch d {
	case sqltext.MySQL:
		p.mysqlOptions(t)
	case sqltext.Postgres:
		p.postgresOptions(t)
	default:
		p.sqliteOptions()
	}
	p.end()
	t.tail = p.out
	t.Tail = t.tail.text(d, nil)
	return t, nil
}

// item1 reads one line of a definition.
func (p *parser) item1() (it Item) {
	p.out = nil
	switch p.d {
	case sqltext.MySQL:
		p.mysqlItem(&it)
	case sqltext.Postgres:
		p.postgresItem(&it)
	default:
		p.sqliteItem(&it)
	}
	it.parts = p.out
	it.Text = it.parts.text(p.d, nil)
	return it
}

// TableName gives the name of the table that a CREATE TABLE statement defines, whatever the
// rest of it is; ok is false if the statement is none.
func TableName(stmt []byte, d sqltext.Dialect) (name string, ok bool) {
	var err error
	func() {
		defer catch(&err)
		p := newParser(stmt, d)
		p.pass("CREATE")
		p.skip("UNLOGGED")
		p.skip("VIRTUAL")
		p.pass("TABLE")
		p.skip("IF", "NOT", "EXISTS")
		name = p.relationName().Joined()
	}()
	return name, err == nil
}

// ParseItem reads one line of a definition alone, such as a foreign key.
func ParseItem(text string, d sqltext.Dialect) (it Item, err error) {
	defer catch(&err)
	p := newParser([]byte(text), d)
	it = p.item1()
	p.end()
	return it, nil
}

// References lists what the definition refers to, besides the table itself.
func (t *Table) References() (list []Reference) {
	for _, it := range t.Items {
		list = append(list, it.parts.references()...)
	}
	return append(list, t.tail.references()...)
}

// References lists what a line refers to.
func (it Item) References() []Reference { return it.parts.references() }

// SQL gives the statement with the names that name gives to the table and what it
// refers to.
func (t *Table) SQL(name Renamer) string {
	r := t.ref
	if name != nil {
		r = name(r)
	}
	return t.render(quoteReference(r, t.d), func(Item) bool { return true }, name)
}

// Render gives the statement under another, already quoted, name, with the items for
// which keep returns true.
func (t *Table) Render(quoted string, keep func(Item) bool) string {
	return t.render(quoted, keep, nil)
}

func (t *Table) render(quoted string, keep func(Item) bool, name Renamer) string {
	var b strings.Builder
	b.WriteString(t.verb + " " + quoted + " (")
	if t.Module != "" {
		var items []string
		for _, it := range t.Items {
			items = append(items, it.Text)
		}
		return t.verb + " " + quoted + " USING " + t.Module + "(" + strings.Join(items, ", ") + ")"
	}
	first := true
	for _, it := range t.Items {
		if !keep(it) {
			continue
		}
		if !first {
			b.WriteString(",")
		}
		first = false
		b.WriteString("\n  " + it.parts.text(t.d, name))
	}
	b.WriteString("\n)")
	if len(t.tail) > 0 {
		b.WriteString(" " + t.tail.text(t.d, name))
	}
	return b.String()
}

// ItemSQL gives a line with the names that name gives.
func (t *Table) ItemSQL(it Item, name Renamer) string { return it.parts.text(t.d, name) }

// Columns gives the names of the columns in order.
func (t *Table) Columns() (names []string) {
	for _, it := range t.Items {
		if it.Kind == Column {
			names = append(names, it.Name)
		}
	}
	return names
}

// AutoColumn gives the name of the AUTO_INCREMENT column, if there is one.
func (t *Table) AutoColumn() string {
	for _, it := range t.Items {
		if it.Auto {
			return it.Name
		}
	}
	return ""
}

// Sequences gives the names, as [sqltext.JoinName] gives them, of the sequences that
// a definition for PostgreSQL makes for its identity columns.
func (t *Table) Sequences() (names []string) {
	for _, it := range t.Items {
		for i, n := range it.parts {
			if i > 1 && n.kind == external && it.parts[i-1].text == "NAME" && it.parts[i-2].text == "SEQUENCE" {
				names = append(names, Reference{n.ref, n.of, n.text}.Joined())
			}
		}
	}
	return names
}

// Alter makes a change that ALTER TABLE makes part of the definition: a key, a
// constraint, a column's automatic number, default or identity. Anything else gives
// an error that wraps [sqltext.ErrRefused].
func (t *Table) Alter(action string) error {
	bad := func() error {
		return fmt.Errorf("%w: a change of table %s that is not part of a dump: %s", sqltext.ErrRefused, t.Name, brief(action))
	}
	words := strings.Fields(action)
	rest := func(n int) string { // what stands behind the first n words
		s := action
		for range n {
			s = strings.TrimLeft(s, " \t\r\n")
			s = s[strings.IndexAny(s+" ", " \t\r\n"):]
		}
		return strings.TrimSpace(s)
	}
	is := func(ws ...string) bool {
		return len(words) > len(ws) && slices.EqualFunc(words[:len(ws)], ws, strings.EqualFold)
	}
	replace := func(it Item) error {
		i := slices.IndexFunc(t.Items, func(o Item) bool { return o.Kind == Column && o.Name == it.Name })
		if i < 0 || it.Kind != Column {
			return bad()
		}
		t.Items[i] = it
		return nil
	}
	switch {
	case t.d == sqltext.Postgres && is("ALTER", "COLUMN"):
		return t.alterColumn(rest(2), replace, bad)
	case t.d != sqltext.MySQL:
	case is("ADD") && !is("ADD", "COLUMN"):
		it, err := ParseItem(rest(1), t.d)
		if err != nil {
			return err
		}
		if it.Kind == Column {
			return bad()
		}
		t.Items = append(t.Items, it)
		return nil
	case is("MODIFY"):
		n := 1
		if is("MODIFY", "COLUMN") {
			n = 2
		}
		it, err := ParseItem(rest(n), t.d)
		if err != nil {
			return err
		}
		return replace(it)
	case len(words) > 0 && strings.HasPrefix(strings.ToUpper(words[0]), "AUTO_INCREMENT"):
		other, err := ParseTable([]byte("CREATE TABLE t (a int) "+t.Tail+" "+action), t.d)
		if err != nil {
			return err
		}
		t.tail, t.Tail = other.tail, other.Tail
		return nil
	}
	return bad()
}

// alterColumn takes name SET DEFAULT … and name ADD GENERATED … of PostgreSQL.
func (t *Table) alterColumn(action string, replace func(Item) error, bad func() error) (err error) {
	defer catch(&err)
	p := newParser([]byte(action), t.d)
	name := p.name()
	set := p.skip("SET") && p.is("DEFAULT")
	if !set && !(p.skip("ADD") && p.is("GENERATED")) {
		return bad()
	}
	for _, it := range t.Items {
		if it.Kind == Column && it.Name == name {
			at := p.peek(0).At
			changed, err := ParseItem(it.Text+" "+action[at:], t.d)
			if err != nil {
				return err
			}
			return replace(changed)
		}
	}
	return bad()
}
