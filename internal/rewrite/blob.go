package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"math/bits"
	"strings"
	"unicode/utf8"
)

// blobs finds base64 (RFC 4648) that holds something old. Three bytes become
// four letters, so that a name has three spellings, one for each place at which
// it may begin; they are looked for in letters that could be base64.
type blobs struct {
	rw    *Rewriter
	words [][]byte
	least int // letters of the shortest base64 text that is looked into
}

func (rw *Rewriter) addBlobs() {
	b := &blobs{rw: rw, least: 1 << 30}
	for _, s := range rw.seekers {
		var word string
		around := 0 // what stands there besides
		switch s := s.(type) {
		case *host:
			word, around = s.word, len("http://")
		case *root:
			word = s.word
			around = len(strings.Join(s.words, "/")) - len(word)
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

// lastLow gives the place of the last of eight bytes that is a space, a quote, or
// another one below the letters of base64, all eight at once; -1 if none is.
func lastLow(b []byte) int {
	const each = 0x0101010101010101
	x := binary.LittleEndian.Uint64(b)
	// The high bit of each byte: whether its other bits reach '+', or it is set itself.
	high := (x&(0x7f*each) + (0x80-'+')*each) | x
	return 7 - bits.LeadingZeros64(^high&(0x80*each))/8
}

// next looks at every least-th byte: where one of the bytes before it is no
// letter of base64, nothing long enough begins before.
func (b *blobs) next(v []byte, from int) int {
	// Words, not pieces of one: a run begins at a boundary.
	for from > 0 && from < len(v) && blobLetter[v[from-1]] != 0 && blobLetter[v[from]] != 0 && v[from] != '\\' && v[from-1] != '\\' {
		from++
	}
	for i := from; i+b.least <= len(v); {
		k := i + b.least - 1
		if n := k - 7; n >= i {
			if low := lastLow(v[n : n+8]); low >= 0 {
				i = n + low + 1
				continue
			}
		}
		for k >= i && blobLetter[v[k]] != 0 {
			k--
		}
		if k >= i {
			i = k + 1
			continue
		}
		end, upper := runEnd(v, i)
		if upper && end-i >= b.least && b.in(v[i:end]) {
			return i
		}
		if i = end; i < len(v) && v[i] == '\\' {
			i = escapeEnd(v, i)
		}
	}
	return -1
}

// runEnd gives the end of the letters of base64 that begin at v[i:], and
// whether capitals are among them. A backslash belongs to them before a slash
// only; any other is an escape.
func runEnd(v []byte, i int) (end int, upper bool) {
	kinds := byte(0)
	for end = i; end < len(v) && blobLetter[v[end]] != 0; end++ {
		if v[end] != '\\' {
			kinds |= blobLetter[v[end]]
			continue
		}
		k := end
		for k < len(v) && v[k] == '\\' {
			k++
		}
		if k >= len(v) || v[k] != '/' {
			break
		}
		end = k
	}
	return end, kinds&blobUpper != 0
}

// escapeEnd gives the end of an escape that begins with the backslash at v[i].
func escapeEnd(v []byte, i int) int {
	for i < len(v) && v[i] == '\\' {
		i++
	}
	if i < len(v) && bytes.IndexByte([]byte("ntrbfv"), v[i]) >= 0 {
		i++
	}
	return i
}

// in reports whether a run of letters holds a word, at once or in base64 again.
func (b *blobs) in(run []byte) bool {
	for _, w := range b.words {
		if bytes.Contains(run, w) {
			return true
		}
	}
	if !beginsText(run) {
		return false
	}
	dec, ok := decodeBlob(run)
	if !ok { // the padding is not among the letters
		dec, ok = decodeBlob(append(bytes.Clone(run), "=="[:(4-len(run)%4)%4%3]...))
	}
	return ok && b.next(dec.content, 0) >= 0
}

// beginsText reports whether a run decodes to something that begins like text.
// Paths and names of letters do not.
func beginsText(run []byte) bool {
	const letters = 32
	if len(run) < letters {
		return false
	}
	var head [letters]byte
	n, err := base64.StdEncoding.Decode(head[:], run[:letters])
	if err != nil {
		if n, err = base64.URLEncoding.Decode(head[:], run[:letters]); err != nil {
			return false
		}
	}
	for i := 0; i < n; {
		r, size := utf8.DecodeRune(head[i:n])
		if r == utf8.RuneError && n-i >= utf8.UTFMax || r < ' ' && r != '\n' && r != '\t' && r != '\r' && r != 0 {
			return false
		}
		i += size
	}
	return true
}

func (b *blobs) matchAt(rw *Rewriter, v []byte, at, floor int, s scope) (m match, ok bool) {
	end, _ := runEnd(v, at)
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
	s = s.in(FormBase64)
	s.bytes = true
	out, changed := rw.value(nil, dec.content, s)
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
