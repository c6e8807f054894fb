package sqltext

import (
	"fmt"
	"slices"
	"strings"
)

// Alterations reads ALTER TABLE: the table's name (PostgreSQL: as JoinName gives
// it) and what is done to it, one thing each.
func Alterations(stmt []byte, d Dialect) (table string, actions []string, err error) {
	l := NewLexer(stmt, d)
	t, err := l.Skip()
	for err == nil && (t.Is("ALTER") || t.Is("TABLE") || t.Is("ONLY") || t.Is("IF") || t.Is("EXISTS") || t.Is("IGNORE")) {
		t, err = l.Skip()
	}
	if err != nil {
		return "", nil, err
	}
	if table, t, err = tableOf(l, t); err != nil {
		return "", nil, err
	}
	depth, from := 0, t.At
	for ; t.Kind != End; t, err = l.Skip() {
		if err != nil {
			return "", nil, err
		}
		switch string(t.Text) {
		case "(":
			depth++
		case ")":
			depth--
		case ",":
			if depth == 0 {
				actions = append(actions, strings.TrimSpace(string(stmt[from:t.At])))
				from = l.pos
			}
		}
	}
	return table, append(actions, strings.TrimSpace(strings.TrimRight(string(stmt[from:]), "; \t\r\n"))), nil
}

// Alter makes a change that ALTER TABLE makes part of the definition: a key, a
// constraint, a column's automatic number, default or identity. Anything else
// gives an error wrapping ErrRefused.
func (c *CreateTable) Alter(action string) error {
	words := strings.Fields(strings.ToUpper(action))
	is := func(w ...string) bool { return len(words) > len(w) && slices.Equal(words[:len(w)], w) }
	cut := func(n int) string { // what stands behind the first n words
		rest := action
		for range n {
			rest = strings.TrimLeft(rest, " \t\r\n")
			rest = rest[strings.IndexAny(rest+" ", " \t\r\n"):]
		}
		return strings.TrimSpace(rest)
	}
	switch {
	case len(words) < 2 && !strings.HasPrefix(strings.Join(words, ""), "AUTO_INCREMENT"):
	case c.d == Postgres:
		if is("ALTER", "COLUMN") {
			return c.alterColumn(cut(2))
		}
	case is("ADD") && !is("ADD", "COLUMN"):
		it, err := parseItem(cut(1), c.d)
		if err != nil {
			return err
		}
		if it.Kind != Column {
			c.Items = append(c.Items, it)
			return nil
		}
	case is("MODIFY"):
		behind := 1
		if words[1] == "COLUMN" {
			behind = 2
		}
		it, err := parseItem(cut(behind), c.d)
		if err != nil {
			return err
		}
		for i := range c.Items {
			if c.Items[i].Kind == Column && c.Items[i].Name == it.Name {
				c.Items[i] = it
				return nil
			}
		}
	case strings.HasPrefix(words[0], "AUTO_INCREMENT"):
		c.Tail += " " + action
		return nil
	}
	return fmt.Errorf("%w: a change of table %s that is not part of a dump: %.60q", ErrRefused, c.Name, action)
}

// alterColumn takes name SET DEFAULT … and name ADD GENERATED … of PostgreSQL.
func (c *CreateTable) alterColumn(rest string) error {
	l := NewLexer([]byte(rest), c.d)
	t, err := l.Skip()
	if err != nil {
		return err
	}
	name, err := nameOf(t, c.d)
	if err != nil {
		return err
	}
	verb, err := l.Skip()
	if err != nil {
		return err
	}
	what := strings.TrimSpace(rest[l.pos:])
	upper := strings.ToUpper(what)
	if verb.Is("SET") && strings.HasPrefix(upper, "DEFAULT ") || verb.Is("ADD") && strings.HasPrefix(upper, "GENERATED ") {
		for i := range c.Items {
			if c.Items[i].Kind == Column && c.Items[i].Name == name {
				c.Items[i].Text += " " + what
				return nil
			}
		}
	}
	return fmt.Errorf("%w: a change of column %s of table %s that is not part of a dump: %.60q", ErrRefused, name, c.Name, rest)
}
