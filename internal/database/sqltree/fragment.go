package sqltree

import (
	"strings"

	"hovix/internal/database/sqltext"
)

// ReferenceKind is a kind of thing that a statement refers to by name.
type ReferenceKind int

// The kinds of references.
const (
	Relation  ReferenceKind = iota + 1 // a table, view, sequence or index
	Function                           // one that is not on the list of harmless ones
	TypeName                           // a type, domain or collation that the server does not have by itself
	Operator                           // an operator, or a class of operators, with a schema
	Extension                          // an extension of PostgreSQL
	Mention                            // what may be the name of something in stored code, or of a column
)

// Reference is the name of something outside of the statement. Schema is empty
// where the engine has none.
type Reference struct {
	Kind         ReferenceKind
	Schema, Name string
}

// Joined gives the name as [sqltext.JoinName] does.
func (r Reference) Joined() string {
	if r.Schema == "" {
		return r.Name
	}
	return sqltext.JoinName(r.Schema, r.Name)
}

// Renamer gives the name under which something stands at the moment. nil leaves all
// names as they are.
type Renamer func(Reference) Reference

// node is an element of a fragment.
type node struct {
	kind  nodeKind
	ref   ReferenceKind // of a reference
	glued bool          // no space stands before it
	text  string        // as it is written; the name of an ident or reference
	of    string        // schema of a reference
	value string        // of a text: what it means
	lead  string        // what stands before the text in the same node: COMMENT=
}

type nodeKind uint8

const (
	plain    nodeKind = iota // a key word, operator, number or literal, encoded already
	ident                    // a name within the statement: of a column, key or alias
	external                 // a reference
	named                    // a text that names a relation: 'schema.name'
)

// mapTexts gives the fragment with other texts in the place of those that change changes.
func (f fragment) mapTexts(d sqltext.Dialect, change func(text string) (string, bool)) (out fragment, changed bool) {
	out = f
	for i, n := range f {
		if n.kind != plain || n.value == "" {
			continue
		}
		text, other := change(n.value)
		if !other {
			continue
		}
		if !changed {
			out, changed = append(fragment(nil), f...), true
		}
		out[i].text, out[i].value = n.lead+encode(text, d), text
	}
	return out, changed
}

// MapTexts puts other texts in the place of those in the statement that change changes, but
// not in the body of stored code.
func (s *Statement) MapTexts(change func(text string) (string, bool)) {
	s.parts, _ = s.parts.mapTexts(s.d, change)
}

// MapTexts does the same in a definition: in defaults, comments, checks, labels, expressions.
// Bounds of ranges by which rows are parted stay, for their order would change.
func (t *Table) MapTexts(change func(text string) (string, bool)) {
	for i := range t.Items {
		it := &t.Items[i]
		if parts, changed := it.parts.mapTexts(t.d, change); changed {
			it.parts, it.Text = parts, parts.text(t.d, nil)
		}
	}
	if t.hasRanges() {
		return
	}
	if tail, changed := t.tail.mapTexts(t.d, change); changed {
		t.tail, t.Tail = tail, tail.text(t.d, nil)
	}
}

// hasRanges reports whether rows are parted by ranges of values.
func (t *Table) hasRanges() bool {
	for i, n := range t.tail {
		if n.kind == plain && (n.text == "VALUES LESS THAN" || n.text == "FROM" && i > 0 && t.tail[i-1].text == "VALUES") {
			return true
		}
	}
	return false
}

// fragment is a piece of a statement that has been read.
type fragment []node

// references lists what a fragment refers to.
func (f fragment) references() (list []Reference) {
	for _, n := range f {
		if n.kind == external || n.kind == named {
			list = append(list, Reference{n.ref, n.of, n.text})
		}
	}
	return list
}

// write appends the fragment to b as text.
func (f fragment) write(b *strings.Builder, d sqltext.Dialect, name Renamer) {
	for i, n := range f {
		if b.Len() > 0 && !n.glued && (i == 0 || !opens(f[i-1])) && !closes(n) {
			b.WriteByte(' ')
		}
		switch n.kind {
		case plain:
			b.WriteString(n.text)
		case ident:
			b.WriteString(sqltext.QuoteName(n.text, d))
		default:
			r := Reference{n.ref, n.of, n.text}
			if name != nil {
				r = name(r)
			}
			text := quoteReference(r, d)
			if n.kind == named {
				text = encode(text, d)
			}
			b.WriteString(text)
		}
	}
}

// opens reports whether nothing stands between n and what follows.
func opens(n node) bool {
	return n.kind == plain && (n.text == "(" || n.text == "[" || n.text == "." || n.text == "::")
}

// closes reports whether nothing stands between what precedes and n.
func closes(n node) bool {
	return n.kind == plain && (n.text == ")" || n.text == "]" || n.text == "." || n.text == "," || n.text == ";" || n.text == "::" || n.text == "[")
}

// text gives the fragment as text.
func (f fragment) text(d sqltext.Dialect, name Renamer) string {
	var b strings.Builder
	f.write(&b, d, name)
	return b.String()
}

// quoteReference writes the name of something with its schema.
func quoteReference(r Reference, d sqltext.Dialect) string {
	last := sqltext.QuoteName(r.Name, d)
	if r.Kind == Operator && isOperator(r.Name) {
		last = r.Name
	}
	if r.Schema == "" {
		return last
	}
	return sqltext.QuoteName(r.Schema, d) + "." + last
}

// isOperator reports whether a name is made of the characters of operators.
func isOperator(s string) bool {
	return s != "" && strings.Trim(s, operatorBytes) == "" && !strings.Contains(s, "--") && !strings.Contains(s, "/*")
}

// operatorBytes are what PostgreSQL makes operators of (its manual, Lexical Structure).
const operatorBytes = "+-*/<>=~!@#%^&|`?"

// encode gives a text as a literal of the dialect. Sessions that it is for know
// backslashes in MariaDB and MySQL, and not elsewhere.
func encode(s string, d sqltext.Dialect) string {
	if d == sqltext.MySQL {
		lit := sqltext.AppendMySQLString(nil, []byte(s), false)
		return strings.TrimPrefix(string(lit), "_binary")
	}
	if strings.IndexByte(s, 0) >= 0 {
		refuse("a text with a NUL byte in a definition")
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}
