package page

import (
	"encoding/hex"
	"fmt"
	"math/bits"
	"unicode"
	"unicode/utf8"
)

// bins is the number of samples in a fingerprint.
const bins = 32

// shingle is how many words in a row make one feature of a text.
const shingle = 3

// Fingerprint tells how much of their text two pages share: a sample of all runs of
// three words (one-permutation MinHash; Li, Owen, Zhang: One Permutation Hashing, 2012,
// eight bits kept of each). Empty: too little text.
type Fingerprint string

// ParseFingerprint reads a fingerprint as String writes it.
func ParseFingerprint(s string) (Fingerprint, error) {
	if s == "" {
		return "", nil
	}
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != bins {
		return "", fmt.Errorf("%q is no fingerprint: it has %d hexadecimal digits", s, 2*bins)
	}
	return Fingerprint(b), nil
}

// String gives it as hexadecimal digits.
func (f Fingerprint) String() string { return hex.EncodeToString([]byte(f)) }

// Similarity estimates the share of runs of three words that two texts have in common,
// from 0 to 1, with a standard error of at most 0.09. Without fingerprints it is 0.
func (f Fingerprint) Similarity(o Fingerprint) float64 {
	if len(f) != bins || len(o) != bins {
		return 0
	}
	same := 0
	for i := range bins {
		if f[i] == o[i] {
			same++
		}
	}
	const chance = 1.0 / 256 // that two samples are alike though their texts are not
	return max(0, (float64(same)/bins-chance)/(1-chance))
}

// sketch makes a fingerprint of a text that comes in pieces.
type sketch struct {
	words int
	last  [shingle]uint64
	mins  [bins]uint32
}

// add takes a piece of a text. A piece ends a word.
func (s *sketch) add(text []byte) {
	const seed, prime = 14695981039346656037, 1099511628211 // FNV-1a
	h, in := uint64(seed), false
	for i := 0; i < len(text); {
		c, n := rune(text[i]), 1
		if c >= utf8.RuneSelf {
			c, n = utf8.DecodeRune(text[i:])
		}
		i += n
		switch {
		case c < utf8.RuneSelf:
			if c >= 'A' && c <= 'Z' {
				c |= 0x20
			} else if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9') {
				if in {
					s.word(h)
					h, in = seed, false
				}
				continue
			}
		case unicode.IsLetter(c) || unicode.IsDigit(c) || unicode.IsMark(c):
			c = unicode.ToLower(c)
		default:
			if in {
				s.word(h)
				h, in = seed, false
			}
			continue
		}
		h = (h ^ uint64(c)) * prime
		in = true
		if c >= 0x2E80 && unicode.In(c, unicode.Han, unicode.Hiragana, unicode.Katakana) { // no spaces between words
			s.word(h)
			h, in = seed, false
		}
	}
	if in {
		s.word(h)
	}
}

func (s *sketch) word(h uint64) {
	s.words++
	s.last[0], s.last[1], s.last[2] = s.last[1], s.last[2], h
	if s.words < shingle {
		return
	}
	x := s.last[0]
	x = bits.RotateLeft64(x, 21)*0x9E3779B97F4A7C15 ^ s.last[1]
	x = bits.RotateLeft64(x, 21)*0x9E3779B97F4A7C15 ^ s.last[2]
	x ^= x >> 32
	x *= 0xD6E8FEB86659FD93
	x ^= x >> 32
	bin, v := x>>59, uint32(x)|1
	if old := s.mins[bin]; old == 0 || v < old {
		s.mins[bin] = v
	}
}

// fewest is how many words make a text that can be told from others.
const fewest = 12

// sum gives the fingerprint of what was added.
func (s *sketch) sum() Fingerprint {
	if s.words < fewest {
		return ""
	}
	out := make([]byte, bins)
	for i := range bins {
		// An empty bin takes what the next one holds, marked by the distance, so that
		// short texts stay comparable (Shrivastava, Li: Densifying One Permutation
		// Hashing, 2014).
		j := 0
		for s.mins[(i+j)%bins] == 0 {
			j++
		}
		v := s.mins[(i+j)%bins] + uint32(j)*0x9E3779B9
		v ^= v >> 15
		v *= 0x2C1B3C6D
		v ^= v >> 12
		out[i] = byte(v >> 8)
	}
	return Fingerprint(out)
}

// Text gives the number of words and the fingerprint of a piece of HTML, such as a body
// that is kept in a database.
func Text(fragment []byte) (int, Fingerprint) {
	p := Parse(fragment, "text/html; charset=utf-8")
	return p.Words, p.Fingerprint
}
