package rewrite

import (
	"bytes"
	"strings"
)

// finder searches a word in lower case, letter case ignored. It jumps from one
// occurrence of a rare byte of the word to the next, which costs a fraction of
// a look at every byte: host names hold a full stop, and text holds few.
type finder struct {
	word   string
	anchor int  // place of the rare byte in word
	letter bool // the rare byte is a letter and has two cases
}

func newFinder(word string) finder {
	f := finder{word: word}
	if f.anchor = strings.IndexAny(word, ".:-0123456789"); f.anchor < 0 {
		f.anchor, f.letter = max(0, strings.IndexAny(word, "jkqvwxyz")), true
	}
	return f
}

// next gives the place of the next occurrence in v at or after from, or -1.
func (f *finder) next(v []byte, from int) int {
	for i := from + f.anchor; i < len(v); i++ {
		n := f.rare(v[i:])
		if n < 0 {
			return -1
		}
		i += n
		start := i - f.anchor
		if start+len(f.word) <= len(v) && equalFold(v[start:start+len(f.word)], f.word) {
			return start
		}
	}
	return -1
}

// rare gives the place of the next rare byte in v.
func (f *finder) rare(v []byte) int {
	if !f.letter {
		return bytes.IndexByte(v, f.word[f.anchor])
	}
	for i, c := range v {
		if toLower(c) == f.word[f.anchor] {
			return i
		}
	}
	return -1
}

// equalFold compares b with a word in lower case, ASCII letter case ignored.
func equalFold(b []byte, lower string) bool {
	if len(b) != len(lower) {
		return false
	}
	for i := range len(lower) {
		if toLower(b[i]) != lower[i] {
			return false
		}
	}
	return true
}

func toLower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func isAlnum(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
