package sqltext

import (
	"fmt"
	"strings"
)

// DefaultSchema is the schema of PostgreSQL whose tables go by their names alone.
const DefaultSchema = "public"

// JoinName gives the name by which Hovix calls a relation of a schema: schema.name,
// name alone in the schema public. Parts with dots or quotes stand in quotes.
func JoinName(schema, name string) string {
	part := func(s string) string {
		if strings.ContainsAny(s, `."`) {
			return QuoteName(s, Postgres)
		}
		return s
	}
	if schema == DefaultSchema {
		return part(name)
	}
	return part(schema) + "." + part(name)
}

// SplitName is the opposite of JoinName.
func SplitName(joined string) (schema, name string) {
	schema, rest := cutPart(joined)
	if rest == "" {
		return DefaultSchema, schema
	}
	name, _ = cutPart(rest[1:])
	return schema, name
}

// cutPart takes one part of a joined name off its beginning.
func cutPart(s string) (part, rest string) {
	if strings.HasPrefix(s, `"`) {
		if n := quotedEnd([]byte(s), '"', false); n > 0 {
			return strings.ReplaceAll(s[1:n-1], `""`, `"`), s[n:]
		}
	}
	if i := strings.IndexByte(s, '.'); i >= 0 {
		return s[:i], s[i:]
	}
	return s, ""
}

// QuoteRelation quotes a name as JoinName gives it, for PostgreSQL.
func QuoteRelation(joined string) string {
	schema, name := SplitName(joined)
	return QuoteName(schema, Postgres) + "." + QuoteName(name, Postgres)
}

// relationOf reads schema.name from the token t on, joined, and gives the token
// behind it too.
func relationOf(l *Lexer, t Token) (joined string, next Token, err error) {
	first, err := nameOf(t, Postgres)
	if err != nil {
		return "", t, err
	}
	if next, err = l.Skip(); err != nil || string(next.Text) != "." {
		return JoinName(DefaultSchema, first), next, err
	}
	if t, err = l.Skip(); err != nil {
		return "", t, err
	}
	second, err := nameOf(t, Postgres)
	if err != nil {
		return "", t, err
	}
	next, err = l.Skip()
	return JoinName(first, second), next, err
}

// tableOf reads the name of a table in any dialect from the token t on, and
// gives the token behind it.
func tableOf(l *Lexer, t Token) (name string, next Token, err error) {
	if l.d == Postgres {
		return relationOf(l, t)
	}
	if name, err = nameOf(t, l.d); err != nil {
		return "", t, err
	}
	next, err = l.Skip()
	return name, next, err
}

// references are the types whose literals name something else.
var references = map[string]bool{"regclass": true, "regtype": true, "regproc": true, "regprocedure": true, "regconfig": true, "regdictionary": true}

// Requalify gives a statement of PostgreSQL in which each schema.name for which
// to knows another schema stands in that one. Texts stay as they are, but for
// those that are cast to the name of something ('public.s'::regclass).
func Requalify(stmt string, to func(schema, name string) (string, bool)) (string, error) {
	var b strings.Builder
	l := NewLexer([]byte(stmt), Postgres)
	copied := 0
	var tokens [3]Token // the last ones but space
	for {
		t, err := l.Skip()
		if err != nil {
			return "", fmt.Errorf("read %.60q: %w", stmt, err)
		}
		switch first, second := tokens[1], tokens[2]; {
		case string(second.Text) == "." && isName(t) && isName(first) && string(tokens[0].Text) != ".":
			schema, err1 := nameOf(first, Postgres)
			name, err2 := nameOf(t, Postgres)
			if err1 != nil || err2 != nil {
				break
			}
			if other, ok := to(schema, name); ok {
				b.WriteString(stmt[copied:first.At] + QuoteName(other, Postgres))
				copied = first.At + len(first.Text)
			}
		case t.Kind == Word && references[strings.ToLower(string(t.Text))] && string(first.Text)+string(second.Text) == "::" && tokens[0].Kind == String:
			text, err := Unquote(nil, tokens[0], Postgres)
			if err != nil {
				return "", err
			}
			inner, err := Requalify(string(text), to)
			if err == nil && inner != string(text) {
				b.WriteString(stmt[copied:tokens[0].At] + "'" + strings.ReplaceAll(inner, "'", "''") + "'")
				copied = tokens[0].At + len(tokens[0].Text)
			}
		}
		if t.Kind == End {
			b.WriteString(stmt[copied:])
			return b.String(), nil
		}
		tokens[0], tokens[1], tokens[2] = tokens[1], tokens[2], t
	}
}

func isName(t Token) bool { return t.Kind == Word || t.Kind == Name }
