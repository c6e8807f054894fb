package phpconf

import (
	"bytes"
	"fmt"
)

type tokenKind int

const (
	tWord   tokenKind = iota // name, keyword
	tVar                     // $name
	tString                  // '…' or "…"
	tNumber
	tOther // a single byte, or a heredoc, which is no value that is read here
)

type token struct {
	kind     tokenKind
	from, to int
}

func (t token) text(src []byte) string { return string(src[t.from:t.to]) }

// tokens cuts PHP source into tokens, without space and comments and without
// what stands outside of <?php … ?>.
func tokens(src []byte) ([]token, error) {
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
		if n := heredoc(rest); n > 0 {
			return tOther, n, false, nil
		}
		return tOther, 3, false, nil
	case c == '$' && len(rest) > 1 && isName(rest[1]):
		return tVar, 1 + nameLength(rest[1:]), false, nil
	case c >= '0' && c <= '9':
		n := 1
		for n < len(rest) && (isName(rest[n]) || rest[n] == '.') {
			n++
		}
		return tNumber, n, false, nil
	case isName(c), c == '\\':
		return tWord, 1 + nameLength(rest[1:]), false, nil
	}
	return tOther, 1, false, nil
}

func open(src []byte, i int, what string) error {
	return fmt.Errorf("line %d: a %s has no end", 1+bytes.Count(src[:i], []byte("\n")), what)
}

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

// heredoc gives the length of <<<NAME … NAME, 0 if it is none.
func heredoc(b []byte) int {
	i := 3
	for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
		i++
	}
	quoted := i < len(b) && (b[i] == '\'' || b[i] == '"')
	if quoted {
		i++
	}
	n := nameLength(b[i:])
	if n == 0 {
		return 0
	}
	name := b[i : i+n]
	for at := i + n; ; {
		nl := bytes.IndexByte(b[at:], '\n')
		if nl < 0 {
			return 0
		}
		at += nl + 1
		line := bytes.TrimLeft(b[at:], " \t")
		if bytes.HasPrefix(line, name) && (len(line) == n || !isName(line[n])) {
			return len(b) - len(line) + n
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
