package rewrite

import (
	"errors"

	"hovix/internal/rewrite/serialized"
)

// maxNesting is how many encodings may lie one in another. Real values have
// two or three; the limit keeps a hostile one from exhausting the stack.
const maxNesting = 32

// Value rewrites the addresses in one value, such as a cell of a table. It
// returns v itself and false if nothing was to be changed, a new slice and
// true otherwise. Counts go to t.
func (rw *Rewriter) Value(v []byte, t *Tally) ([]byte, bool) {
	if !rw.Mentions(v) {
		return v, false
	}
	t.Values++
	out, changed := rw.value(v, t, 0, false)
	if !changed {
		return v, false
	}
	t.Changed++
	return out, true
}

// Keep counts the mentions in an identifier that must not change.
func (rw *Rewriter) Keep(v []byte, t *Tally) {
	if rw.Mentions(v) {
		t.Values++
		t.leftover(Kept, v, 0, min(len(v), 80), "")
	}
}

func (rw *Rewriter) value(v []byte, t *Tally, depth int, nested bool) ([]byte, bool) {
	if depth > maxNesting {
		t.leftover(TooDeep, v, 0, 40, "")
		return v, false
	}
	if serialized.Looks(v) {
		out, changed, err := serialized.Rewrite(nil, v, func(s []byte) ([]byte, bool) {
			if !rw.Mentions(s) {
				return s, false
			}
			return rw.value(s, t, depth+1, true)
		})
		var syntax *serialized.SyntaxError
		if errors.As(err, &syntax) {
			if !plausible(v) {
				return rw.text(nil, v, t, nested)
			}
			t.leftover(Broken, v, 0, min(len(v), 60), syntax.Error())
			return v, false
		}
		return out, changed
	}
	if holdsEscapedSerialized(v) {
		return rw.json(v, t, depth, nested)
	}
	return rw.text(nil, v, t, nested)
}

// plausible reports whether a value that does not parse was nevertheless meant
// to be serialized, rather than prose that happens to begin with "a:1".
func plausible(v []byte) bool {
	head := v[:min(len(v), 40)]
	i := 2
	for i < len(head) && head[i] >= '0' && head[i] <= '9' {
		i++
	}
	if i+1 >= len(head) || head[i] != ':' {
		return false
	}
	return head[i+1] == '{' || head[i+1] == '"'
}
