package rewrite

import "bytes"

// literal is a text to be replaced, or a new one to be kept, byte for byte.
type literal struct {
	old, to []byte
	keep    bool
	words   bool
}

func (l *literal) mentions() bool { return !l.keep }

func (l *literal) next(v []byte, from int) int {
	// A new text may hold the old one further behind: candidates begin where it
	// begins.
	for from <= len(v) {
		n := bytes.Index(v[from:], l.old)
		if n < 0 {
			return -1
		}
		at := from + n
		if !l.words || l.alone(v, at) {
			return at
		}
		from = at + 1
	}
	return -1
}

// alone reports whether no letter or digit stands beside the text.
func (l *literal) alone(v []byte, at int) bool {
	letter := func(c byte) bool { return isAlnum(c) || c == '_' || c >= 0x80 }
	end := at + len(l.old)
	return (at == 0 || !letter(v[at-1]) || !letter(l.old[0])) && (end == len(v) || !letter(v[end]) || !letter(l.old[len(l.old)-1]))
}

func (l *literal) matchAt(_ *Rewriter, _ []byte, at, floor int, _ scope) (match, bool) {
	if at < floor {
		return match{}, false
	}
	return match{from: at, to: at + len(l.old), out: l.to, form: FormText}, !l.keep
}

// Escaped reports whether a text that is looked for may look different inside of
// a literal of SQL: then every literal has to be decoded.
func Escaped(texts []TextMapping) bool {
	for _, t := range texts {
		for _, c := range t.Old {
			if c < ' ' || c == '\'' || c == '"' || c == '\\' {
				return true
			}
		}
	}
	return false
}
