// Package sqltree reads the statements that define a site's database into trees,
// and writes them out anew. No byte of what it reads is passed on: names are quoted
// and literals encoded here, comments are gone, and an expression is rebuilt element
// by element from operators, key words and functions that are known to be harmless.
// What is not in its grammar is refused by name, with an error that wraps
// [sqltext.ErrRefused].
//
// [ParseTable] reads CREATE TABLE, [Parse] every other statement that an archive or
// a dump may hold: keys, views, sequences, types, comments, and stored code. A tree
// knows what it refers to ([Statement.References]), so that whoever runs it can
// insist that nothing but what was staged is touched, and is written with whatever
// names its relations have meanwhile ([Statement.SQL]).
//
// The package takes and gives text; it never talks to a database.
package sqltree

import (
	"fmt"
	"strings"

	"hovix/internal/database/sqltext"
)

// maxText bounds a definition, in bytes. The longest of honest sites have some
// thousands of columns.
const maxText = 32 << 20

// maxTokens bounds a definition in words and signs, of which each takes room.
const maxTokens = 500_000

// maxDepth bounds how deep parentheses and subqueries may nest.
const maxDepth = 200

// refusal is what the parser panics with; it does not leave the package.
type refusal struct{ error }

// catch turns a refusal into an error.
func catch(err *error) {
	switch r := recover().(type) {
	case nil:
	case refusal:
		*err = r.error
	default:
		panic(r)
	}
}

// refuse stops a parser with an error that wraps sqltext.ErrRefused.
func refuse(format string, args ...any) {
	panic(refusal{fmt.Errorf("%w: "+format, append([]any{sqltext.ErrRefused}, args...)...)})
}

// brief gives the beginning of a text for messages.
func brief(text string) string {
	text = strings.Join(strings.Fields(text[:min(len(text), 200)]), " ")
	if r := []rune(text); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return text
}
