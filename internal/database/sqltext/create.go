package sqltext

import (
	"errors"
	"fmt"
	"slices"
	"strings"
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
	Text    string   // as it stands
	Auto    bool     // an AUTO_INCREMENT column
}

// CreateTable is a table's definition, CREATE TABLE name (items) tail.
type CreateTable struct {
	Name  string
	Items []Item
	Tail  string // the options after the parenthesis
	Text  string // the whole statement as it stands
	verb  string
	d     Dialect
}

// engines are the storage engines that keep their rows in the database itself.
// Others read files or other servers, which a restore must never do.
var engines = []string{"innodb", "myisam", "aria", "memory", "heap", "archive", "rocksdb", "ndbcluster"}

// forbidden are words that reach beyond the table that is being defined.
var forbidden = []string{"select", "directory", "connection", "union", "load_file", "outfile", "dumpfile", "insert_method", "into"}

// ParseCreateTable reads a CREATE TABLE statement. One that does more than to
// define a table gives an error wrapping ErrRefused.
func ParseCreateTable(stmt []byte, d Dialect) (*CreateTable, error) {
	l := NewLexer(stmt, d)
	c := &CreateTable{Text: string(stmt), d: d, verb: "CREATE TABLE"}
	for _, w := range []string{"CREATE", "TABLE"} {
		t, err := l.Skip()
		if d == Postgres && w == "TABLE" && t.Is("UNLOGGED") {
			c.verb = "CREATE UNLOGGED TABLE"
			t, err = l.Skip()
		}
		if err != nil || !t.Is(w) {
			return nil, fmt.Errorf("%w: CREATE TABLE was expected, not %.60q", ErrRefused, stmt)
		}
	}
	t, err := l.Skip()
	if err == nil && t.Is("IF") {
		_, _ = l.Skip()
		_, _ = l.Skip()
		t, err = l.Skip()
	}
	if err != nil {
		return nil, err
	}
	if c.Name, t, err = tableOf(l, t); err != nil {
		return nil, err
	}
	if string(t.Text) != "(" {
		return nil, fmt.Errorf("%w: the definition of %s has no list of columns", ErrRefused, c.Name)
	}
	if err := c.items(l); err != nil {
		return nil, fmt.Errorf("definition of %s: %w", c.Name, err)
	}
	c.Tail = strings.TrimSpace(strings.TrimRight(string(stmt[l.pos:]), "; \t\r\n"))
	if err := c.check(); err != nil {
		return nil, fmt.Errorf("definition of %s: %w", c.Name, err)
	}
	return c, nil
}

// items reads the lines up to the parenthesis that closes the definition.
func (c *CreateTable) items(l *Lexer) error {
	depth, start := 0, l.pos
	for {
		t, err := l.Skip()
		if err != nil {
			return err
		}
		if t.Kind == End {
			return fmt.Errorf("%w: it has no end", ErrRefused)
		}
		if t.Kind != Punct {
			continue
		}
		switch b := t.Text[0]; {
		case b == '(':
			depth++
		case (b == ')' || b == ',') && depth == 0:
			item, err := parseItem(string(l.text[start:t.At]), c.d)
			if err != nil {
				return err
			}
			c.Items = append(c.Items, item)
			start = l.pos
			if b == ')' {
				return nil
			}
		case b == ')':
			depth--
		case b == ';':
			return fmt.Errorf("%w: a second statement", ErrRefused)
		}
	}
}

func parseItem(text string, d Dialect) (Item, error) {
	it := Item{Text: strings.TrimSpace(text)}
	l := NewLexer([]byte(it.Text), d)
	t, err := l.Skip()
	if err != nil {
		return it, err
	}
	if t.Is("CONSTRAINT") {
		if t, err = l.Skip(); err != nil {
			return it, err
		}
		if t.Kind == Name || d == Postgres && t.Kind == Word {
			it.Name, _ = nameOf(t, d)
			if t, err = l.Skip(); err != nil {
				return it, err
			}
		}
	}
	switch {
	case t.Is("PRIMARY"):
		it.Kind = PrimaryKey
	case t.Is("UNIQUE"):
		it.Kind = UniqueKey
	case t.Is("KEY"), t.Is("INDEX"), t.Is("FULLTEXT"), t.Is("SPATIAL"):
		it.Kind = PlainKey
	case t.Is("FOREIGN"):
		it.Kind = ForeignKey
	case t.Is("CHECK"), t.Is("PERIOD"), t.Kind == End:
		it.Kind = OtherItem
		return it, nil
	default:
		it.Kind = Column
		it.Name, err = nameOf(t, d)
		it.Auto = hasWord(it.Text, d, "AUTO_INCREMENT")
		return it, err
	}
	if d == Postgres { // whose keys are statements of their own
		return it, fmt.Errorf("%w: a key in the definition: %.60q", ErrRefused, text)
	}
	return it, it.keyColumns(l, d)
}

// keyColumns reads the name of a key and its columns: KEY `name` (`a`(10),`b`).
func (it *Item) keyColumns(l *Lexer, d Dialect) error {
	depth := 0
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return err
		}
		switch {
		case t.Kind == Punct && t.Text[0] == '(':
			depth++
		case t.Kind == Punct && t.Text[0] == ')':
			if depth--; depth == 0 {
				return nil
			}
		case t.Kind == Name && depth == 0:
			it.Name, _ = nameOf(t, d)
		case t.Kind == Name && depth == 1:
			name, _ := nameOf(t, d)
			it.Columns = append(it.Columns, name)
		}
	}
}

func hasWord(text string, d Dialect, word string) bool {
	l := NewLexer([]byte(text), d)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return false
		}
		if t.Is(word) {
			return true
		}
	}
}

// check refuses what a definition may not hold.
func (c *CreateTable) check() error {
	for _, it := range c.Items {
		if err := checkWords(it.Text, c.d); err != nil {
			return err
		}
	}
	return checkWords(c.Tail, c.d)
}

func checkWords(text string, d Dialect) error {
	l := NewLexer([]byte(text), d)
	engine := false
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return err
		}
		word := strings.ToLower(string(t.Text))
		if d == Postgres {
			if err := errors.Join(checkCall(t), checkHidden([]byte(text), t)); err != nil {
				return err
			}
		}
		switch {
		case t.Kind == Punct && word == ";":
			return fmt.Errorf("%w: a second statement", ErrRefused)
		case t.Kind == Conditional:
			if err := checkWords(conditionalBody(word), d); err != nil {
				return err
			}
		case t.Kind == Word && slices.Contains(forbidden, word):
			return fmt.Errorf("%w: the word %s does not belong there", ErrRefused, strings.ToUpper(word))
		case t.Kind == Word && engine:
			if engine = false; !slices.Contains(engines, word) {
				return fmt.Errorf("%w: storage engine %s", ErrRefused, word)
			}
		case t.Kind == Word && word == "engine" && d == MySQL:
			engine = true
		}
	}
}

// conditionalBody gives what a server executes of /*!50100 … */.
func conditionalBody(comment string) string {
	body := strings.TrimSuffix(strings.TrimPrefix(comment, "/*"), "*/")
	body = strings.TrimPrefix(strings.TrimLeft(body, "mM"), "!")
	return strings.TrimLeft(body, "0123456789")
}

// Render gives the statement under another, already quoted, name, with the
// items for which keep returns true.
func (c *CreateTable) Render(quoted string, keep func(Item) bool) string {
	var lines []string
	for _, it := range c.Items {
		if keep(it) {
			lines = append(lines, "  "+it.Text)
		}
	}
	return c.verb + " " + quoted + " (\n" + strings.Join(lines, ",\n") + "\n) " + c.Tail
}

// Columns gives the names of the columns in order.
func (c *CreateTable) Columns() (names []string) {
	for _, it := range c.Items {
		if it.Kind == Column {
			names = append(names, it.Name)
		}
	}
	return names
}

// AutoColumn gives the name of the AUTO_INCREMENT column, if there is one.
func (c *CreateTable) AutoColumn() string {
	for _, it := range c.Items {
		if it.Auto {
			return it.Name
		}
	}
	return ""
}

// Type gives the first word of a column's type, in small letters.
func (it Item) Type(d Dialect) string {
	l := NewLexer([]byte(it.Text), d)
	_, err := l.Skip()
	t, err2 := l.Skip()
	if err != nil || err2 != nil || it.Kind != Column {
		return ""
	}
	return strings.ToLower(string(t.Text))
}

// Sequences gives the names, as JoinName gives them, of the sequences that a
// definition for PostgreSQL makes for its identity columns.
func (c *CreateTable) Sequences() (names []string) {
	for _, it := range c.Items {
		l := NewLexer([]byte(it.Text), Postgres)
		before := false
		for {
			t, err := l.Skip()
			if err != nil || t.Kind == End {
				break
			}
			if before && t.Is("NAME") {
				if t, err = l.Skip(); err == nil {
					if name, _, err := relationOf(l, t); err == nil {
						names = append(names, name)
					}
				}
			}
			before = t.Is("SEQUENCE")
		}
	}
	return names
}

// KeyName gives the name, as JoinName gives it, of the key that CREATE INDEX or
// ALTER TABLE … ADD CONSTRAINT makes: it lies in the schema of its table. "" for
// any other statement.
func KeyName(stmt []byte) string {
	l := NewLexer(stmt, Postgres)
	key, table := "", ""
	t, err := l.Skip()
	for range 16 {
		if err != nil || t.Kind == End {
			break
		}
		word := strings.ToLower(string(t.Text))
		t, err = l.Skip()
		switch {
		case err != nil:
		case word == "index", word == "constraint" && table != "":
			key, _ = nameOf(t, Postgres)
		case word == "table" || word == "on" && key != "":
			if t.Is("ONLY") {
				t, err = l.Skip()
			}
			if err == nil {
				table, t, _ = relationOf(l, t)
			}
		}
		if key != "" && table != "" {
			schema, _ := SplitName(table)
			return JoinName(schema, key)
		}
	}
	return ""
}
