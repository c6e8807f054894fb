package phpconf

import (
	"bytes"
	"fmt"
	"slices"
)

type tokenKind int

const (
	tWord   tokenKind = iota // name, keyword
	tVar                     // $name
	tString                  // '…' or "…"
	tHeredoc
	tNumber
	tOther // an operator or another single byte
	tEnd   // behind the last token
)

type token struct {
	kind     tokenKind
	from, to int
}

func (t token) text(src []byte) string { return string(src[t.from:t.to]) }

// operators of more than one byte, longest first.
var operators = []string{"===", "!==", "<=>", "**=", "...", "??=", "<<=", ">>=", "?->", "==", "!=", "<>", "<=", ">=", "&&", "||", "??", "->", "=>", "::", ".=", "+=", "-=", "*=", "/=", "%=", "|=", "&=", "^=", "++", "--", "**", "<<", ">>"}

// tokens cuts PHP source into tokens, without space and comments and without
// what stands outside of <?php … ?>. The end of PHP ends a statement.
func tokens(src []byte) ([]token, error) {
	if len(src) > maxSource {
		return nil, fmt.Errorf("it is larger than %d MB: %w", maxSource>>20, ErrTooMuch)
	}
	var out []token
	for i := 0; i < len(src); {
		open := bytes.Index(src[i:], []byte("<?php"))
		if open < 0 {
			break
		}
		i += open + len("<?php")
		for i < len(src) && !bytes.HasPrefix(src[i:], []byte("?>")) {
			kind, n, skip, err := next(src, i)
			if err != nil {
				return nil, err
			}
			if !skip {
				out = append(out, token{kind, i, i + n})
			}
			i += n
		}
		if i < len(src) {
			out = append(out, token{tOther, i, i + 2})
		}
	}
	return out, nil
}

// next gives the token at src[i:]; skip is set for space and comments.
func next(src []byte, i int) (kind tokenKind, n int, skip bool, err error) {
	rest := src[i:]
	has := func(p string) bool { return bytes.HasPrefix(rest, []byte(p)) }
	switch c := rest[0]; {
	case c <= ' ':
		return 0, 1, true, nil
	case has("//"), c == '#' && !has("#["):
		return 0, lineComment(rest), true, nil
	case has("/*"):
		end := bytes.Index(rest[2:], []byte("*/"))
		if end < 0 {
			return 0, 0, false, open(src, i, "comment")
		}
		return 0, end + 4, true, nil
	case c == '\'', c == '"', c == '`':
		for j := 1; j < len(rest); j++ {
			if rest[j] == '\\' {
				j++
			} else if rest[j] == c {
				return tString, j + 1, false, nil
			}
		}
		return 0, 0, false, open(src, i, "string")
	case has("<<<"):
		switch name, _, _, _, n := heredocParts(rest); {
		case n > 0:
			return tHeredoc, n, false, nil
		case name != nil:
			return 0, 0, false, open(src, i, "heredoc")
		}
		return tOther, 3, false, nil
	case c == '$' && len(rest) > 1 && isName(rest[1]):
		return tVar, 1 + nameLength(rest[1:]), false, nil
	case c >= '0' && c <= '9', c == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
		n := 1
		for n < len(rest) && (isName(rest[n]) && rest[n] != '\\' || rest[n] == '.') {
			n++
		}
		return tNumber, n, false, nil
	case isName(c):
		return tWord, 1 + nameLength(rest[1:]), false, nil
	}
	if at := slices.IndexFunc(operators, has); at >= 0 {
		return tOther, len(operators[at]), false, nil
	}
	return tOther, 1, false, nil
}

func open(src []byte, i int, what string) error {
	return fmt.Errorf("line %d: a %s has no end", line(src, i), what)
}

func line(src []byte, at int) int { return 1 + bytes.Count(src[:at], []byte("\n")) }

// lineComment ends at the line's end or at ?>.
func lineComment(b []byte) int {
	n := bytes.IndexByte(b, '\n')
	if n < 0 {
		n = len(b)
	}
	if e := bytes.Index(b[:n], []byte("?>")); e >= 0 {
		return e
	}
	return n
}

// heredocParts finds the name of <<<NAME … NAME, where its text begins, where
// the line of its end begins, and how long all is: 0 if it has no end, and no name if it
// is none.
func heredocParts(b []byte) (name []byte, quoted bool, body, last, length int) {
	i := 3
	for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
		i++
	}
	if quoted = i < len(b) && b[i] == '\''; quoted || i < len(b) && b[i] == '"' {
		i++
	}
	n := nameLength(b[i:])
	if n == 0 {
		return nil, false, 0, 0, 0
	}
	name = b[i : i+n]
	for at := i + n; ; {
		nl := bytes.IndexByte(b[at:], '\n')
		if nl < 0 {
			return name, false, 0, 0, 0
		}
		at += nl + 1
		if body == 0 {
			body = at
		}
		rest := bytes.TrimLeft(b[at:], " \t")
		if bytes.HasPrefix(rest, name) && (len(rest) == n || !isName(rest[n])) {
			return name, quoted, body, at, len(b) - len(rest) + n
		}
	}
}

func isName(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 || c == '\\'
}

func nameLength(b []byte) int {
	for i, c := range b {
		if !isName(c) {
			return i
		}
	}
	return len(b)
}
