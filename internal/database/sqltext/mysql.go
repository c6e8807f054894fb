package sqltext

import (
	"bytes"
	"slices"
	"strings"
)

// Conditionless gives a statement of MariaDB or MySQL with what stands in
// comments that these servers execute, /*!50001 … */, in their place, as the
// dump programs write around views, triggers and events. Parentheses that follow
// the first one are left as they are: what a definition holds the server judges.
func Conditionless(stmt []byte) []byte {
	if !bytes.Contains(stmt, []byte("/*!")) && !bytes.Contains(stmt, []byte("/*M!")) {
		return stmt
	}
	var out []byte
	l := NewLexer(stmt, MySQL)
	copied := 0
	for {
		t, err := l.Next()
		if err != nil || t.Kind == End || t.Kind == Punct && t.Text[0] == '(' {
			return bytes.TrimSpace(append(out, stmt[copied:]...))
		}
		if t.Kind == Conditional {
			out = append(out, stmt[copied:t.At]...)
			if body := ConditionalBody(t.Text); !strings.HasPrefix(body, `\`) { // a command for MariaDB's client
				out = append(append(out, body...), ' ')
			}
			copied = l.pos
		}
	}
}

// definerEnds are the words behind which no DEFINER stands.
var definerEnds = []string{"VIEW", "TRIGGER", "FUNCTION", "PROCEDURE", "EVENT"}

// WithoutDefiner removes DEFINER=user@host from a statement of MariaDB: the user of the source does not
// exist on the target, and whoever restores becomes the definer.
func WithoutDefiner(sql string) string {
	l := NewLexer([]byte(sql), MySQL)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End || slices.ContainsFunc(definerEnds, t.Is) {
			return sql
		}
		if !t.Is("DEFINER") {
			continue
		}
		from, to := t.At, 0
		if t, err = l.Skip(); err != nil || string(t.Text) != "=" { // SQL SECURITY DEFINER
			return sql
		}
		for range 3 { // `user` @ `host`
			if t, err = l.Skip(); err != nil {
				return sql
			}
			to = t.At + len(t.Text)
		}
		return sql[:from] + strings.TrimLeft(sql[to:], " ")
	}
}

// ConditionalBody gives what a server executes of a Conditional token, /*!50100 … */.
func ConditionalBody(comment []byte) string {
	head := conditionalHead(comment)
	return string(comment[head : len(comment)-len("*/")])
}

// WithoutQualifier gives a statement of MariaDB or MySQL without the quoted name of a
// database before what lies in it.
func WithoutQualifier(def, database string) string {
	own := QuoteName(database, MySQL) + "."
	if database == "" || !strings.Contains(def, own) {
		return def
	}
	var b strings.Builder
	l := NewLexer([]byte(def), MySQL)
	copied := 0
	for {
		t, err := l.Next()
		if err != nil || t.Kind == End {
			return b.String() + def[copied:]
		}
		if t.Kind == Name && strings.HasPrefix(def[t.At:], own) {
			b.WriteString(def[copied:t.At])
			copied = t.At + len(own)
		}
	}
}
