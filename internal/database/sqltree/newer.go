package sqltree

import (
	"fmt"
	"slices"
)

// ForMariaDB gives a definition of MySQL 8 the form that MariaDB has for what it means, and
// tells what has none and is left out: keys over expressions, and conditions that are not
// enforced. ignored says that the server has keys that it does not use, as from 10.6; one
// that has not is given keys that it does use. (Reference manuals: MySQL 8.0, CREATE TABLE and CREATE INDEX; MariaDB, CREATE
// TABLE, Ignored Indexes.)
func (t *Table) ForMariaDB(ignored bool) (left []string) {
	left = t.OnlyMySQL()
	t.Items = slices.DeleteFunc(t.Items, func(it Item) bool { return it.onlyMySQL() != "" })
	for i := range t.Items {
		it := &t.Items[i]
		it.parts = it.forMariaDB(ignored)
		it.Text = it.parts.text(t.d, nil)
	}
	return left
}

// OnlyMySQL names what of a definition of MySQL 8 MariaDB has nothing for.
func (t *Table) OnlyMySQL() (list []string) {
	for _, it := range t.Items {
		if what := it.onlyMySQL(); what != "" {
			list = append(list, fmt.Sprintf(what, it.Name, t.Name))
		}
	}
	return list
}

// onlyMySQL is a form that says of what kind a line is that MariaDB has nothing for, with
// the names of it and its table; empty if it has.
func (it *Item) onlyMySQL() string {
	switch {
	case (it.Kind == PlainKey || it.Kind == UniqueKey) && it.overExpression():
		return "the key %s of %s, which is over an expression"
	case it.Kind == OtherItem && it.ends("NOT", "ENFORCED"):
		return "the condition %s of %s, which is not enforced"
	}
	return ""
}

// ends reports whether a line ends with key words.
func (it *Item) ends(words ...string) bool {
	at := len(it.parts) - len(words)
	if at < 0 {
		return false
	}
	for i, w := range words {
		if n := it.parts[at+i]; n.kind != plain || n.text != w {
			return false
		}
	}
	return true
}

// overExpression reports whether a part of a key is an expression, which stands in
// parentheses of its own.
func (it *Item) overExpression() bool {
	depth := 0
	for i, n := range it.parts {
		if n.kind != plain {
			continue
		}
		switch n.text {
		case "(":
			if depth == 1 && it.parts[i-1].kind == plain && (it.parts[i-1].text == "(" || it.parts[i-1].text == ",") {
				return true
			}
			depth++
		case ")":
			depth--
		}
	}
	return false
}

// forMariaDB gives the line in the words of MariaDB.
func (it *Item) forMariaDB(ignored bool) (out fragment) {
	key := it.Kind == PlainKey || it.Kind == UniqueKey
	var system fragment
	depth := 0
	for i, n := range it.parts {
		word := ""
		if n.kind == plain && n.value == "" {
			word = n.text
		}
		switch word {
		case "(":
			depth++
		case ")":
			depth--
		}
		switch {
		case depth > 0:
		case key && word == "INVISIBLE" && ignored:
			n.text = "IGNORED"
		case key && word == "INVISIBLE":
			continue
		case word == "VISIBLE", word == "ENFORCED" && (i == 0 || it.parts[i-1].text != "NOT"):
			continue
		case it.Kind == Column && word == "SRID" && i+1 < len(it.parts):
			system = fragment{{text: "REF_SYSTEM_ID ="}, it.parts[i+1]}
			continue
		case it.Kind == Column && i > 0 && it.parts[i-1].kind == plain && it.parts[i-1].text == "SRID":
			continue
		}
		out = append(out, n)
	}
	if system != nil { // it belongs to the type, which follows the name
		out = slices.Insert(out, 2, system...)
	}
	return out
}
