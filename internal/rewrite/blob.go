package rewrite

import (
	"bytes"
	"encoding/base64"
	"unicode/utf8"
)

// blobs finds base64 (RFC 4648) that holds something old. Three bytes become
// four letters, so that a name has three spellings, one for each place at which
// it may begin; they are looked for in letters that could be base64.
type blobs struct {
	words [][]byte
	least int // letters of the shortest base64 text that is looked into
}

func (rw *Rewriter) addBlobs() {
	b := &blobs{least: 1 << 30}
	for _, s := range rw.seekers {
		var word string
		around := 0 // what stands there besides
		switch s := s.(type) {
		case *host:
			word, around = s.word, len("http://")
		case *root:
			word = string(s.word)
		case *literal:
			word = string(s.old)
		}
		for at := range 3 {
			if w := encodedInside(word, at); len(w) >= 6 && s.mentions() {
				b.words = append(b.words, w)
				b.least = min(b.least, (around+len(word))*4/3)
			}
		}
	}
	if len(b.words) > 0 {
		rw.seekers = append(rw.seekers, b)
	}
}

// encodedInside gives those letters of base64 that word alone decides where it
// begins at byte at of a group of three.
func encodedInside(word string, at int) []byte {
	b := append(make([]byte, at), word...)
	bits := 8 * len(b)
	whole := base64.RawStdEncoding.EncodeToString(b)
	return []byte(whole[(8*at+5)/6 : bits/6])
}

func (b *blobs) mentions() bool { return true }

const (
	blobUpper = 1 << iota
	blobOther
)

// blobLetter has the letters of base64, in both alphabets, and the backslash,
// which stands before slashes in JSON.
var blobLetter = func() (t [256]byte) {
	for c := range 256 {
		switch {
		case c >= 'A' && c <= 'Z':
			t[c] = blobUpper
		case isAlnum(byte(c)), c == '+', c == '/', c == '-', c == '_', c == '\\':
			t[c] = blobOther
		}
	}
	return t
}()

// next looks at every least-th byte: where one of the bytes before it is no
// letter of base64, nothing long enough begins before.
func (b *blobs) next(v []byte, from int) int {
	// Words, not pieces of one: a run begins at a boundary.
	for from > 0 && from < len(v) && blobLetter[v[from-1]] != 0 && blobLetter[v[from]] != 0 {
		from++
	}
	for i := from; i+b.least <= len(v); {
		k := i + b.least - 1
		for k >= i && blobLetter[v[k]] != 0 {
			k--
		}
		if k >= i {
			i = k + 1
			continue
		}
		end, kinds := i, byte(0)
		for end < len(v) && blobLetter[v[end]] != 0 {
			kinds |= blobLetter[v[end]]
			end++
		}
		if kinds&blobUpper != 0 && b.in(v[i:end]) {
			return i
		}
		i = end + 1
	}
	return -1
}

// in reports whether a run of letters holds a word. Base64 of a name is never
// without capitals.
func (b *blobs) in(run []byte) bool {
	for _, w := range b.words {
		if bytes.Contains(run, w) {
			return true
		}
	}
	return false
}

func (b *blobs) matchAt(rw *Rewriter, v []byte, at, floor int, s scope) (m match, ok bool) {
	end := at
	for end < len(v) && blobLetter[v[end]] != 0 {
		end++
	}
	m = match{to: end}
	if at < floor {
		return m, false
	}
	for end < len(v) && v[end] == '=' && end < m.to+2 {
		end++
	}
	dec, ok := decodeBlob(v[at:end])
	if !ok || !utf8.Valid(dec.content) || end < len(v) && v[end] == '%' {
		return match{to: m.to}, false
	}
	if at > 0 && v[at-1] == '.' || end < len(v) && v[end] == '.' && end+1 < len(v) && blobLetter[v[end+1]] != 0 {
		if rw.Mentions(dec.content) {
			s.t.leftover(Signed, v, at, min(end, at+60), "")
		}
		return match{to: m.to}, false
	}
	out, changed := rw.value(nil, dec.content, s.in(FormBase64))
	if !changed {
		return match{to: m.to}, false
	}
	return match{from: at, to: end, out: dec.encode(out), form: FormBase64}, true
}

// blob is decoded base64 and the manner in which it was written.
type blob struct {
	content []byte
	enc     *base64.Encoding
	slash   []byte // backslashes before slashes
}

// decodeBlob decodes text that comes back byte for byte when it is encoded again.
func decodeBlob(text []byte) (b blob, ok bool) {
	plain := text
	if i := bytes.IndexByte(text, '\\'); i >= 0 {
		n := i
		for n < len(text) && text[n] == '\\' {
			n++
		}
		b.slash = text[i:n]
		plain = bytes.ReplaceAll(text, append(bytes.Clone(b.slash), '/'), []byte("/"))
	}
	for _, b.enc = range [...]*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding} {
		var err error
		if b.content, err = b.enc.AppendDecode(nil, plain); err == nil && bytes.Equal(b.encode(b.content), text) {
			return b, true
		}
	}
	return b, false
}

func (b *blob) encode(content []byte) []byte {
	out := b.enc.AppendEncode(nil, content)
	if b.slash != nil {
		out = bytes.ReplaceAll(out, []byte("/"), append(bytes.Clone(b.slash), '/'))
	}
	return out
}
