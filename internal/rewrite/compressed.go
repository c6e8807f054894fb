package rewrite

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
)

// maxUnpacked bounds what a compressed value may unpack to, in bytes. One that
// holds more is not looked into, and is named.
const maxUnpacked = 64 << 20

// errUnpacksToMore says that a compressed value holds more than maxUnpacked bytes.
var errUnpacksToMore = errors.New("it unpacks to more than 64 MB and was not looked into")

// packed is a compressed value, unpacked, and the manner in which it was written.
type packed struct {
	content []byte
	name    string       // of the format
	header  *gzip.Header // of gzip (RFC 1952); nil: zlib (RFC 1950)
	level   int
	length  bool // the length stands before it, as COMPRESS() of MySQL has it
}

// looksCompressed reports whether v begins like gzip or zlib data, or like what
// COMPRESS() of MySQL gives.
func looksCompressed(v []byte) bool {
	return len(v) > 10 && (v[0] == 0x1f && v[1] == 0x8b && v[2] == 8 || isZlib(v) || len(v) > 14 && v[3] < 0x40 && isZlib(v[4:]))
}

// MayBeCompressed reports whether a value may be compressed data, by the beginning of
// the literal in which it stands in SQL text: quotes and escapes may stand between its first
// bytes.
func MayBeCompressed(literal []byte) bool {
	head := literal[:min(len(literal), 16)]
	return bytes.IndexByte(head, 0x8b) >= 0 || bytes.IndexByte(head, 'x') >= 0
}

// isZlib checks the two bytes at the beginning (RFC 1950, section 2.2), of which the
// second tells the level; a dictionary is not known.
func isZlib(v []byte) bool {
	return v[0] == 0x78 && (v[1] == 0x01 || v[1] == 0x5e || v[1] == 0x9c || v[1] == 0xda)
}

// unpack gives the content of a value that is compressed as a whole; ok is false
// for any other. The error is errUnpacksToMore.
func unpack(v []byte) (p packed, ok bool, err error) {
	if !looksCompressed(v) {
		return p, false, nil
	}
	in := bytes.NewReader(v)
	var r io.Reader
	if v[0] == 0x1f {
		z, err := gzip.NewReader(in)
		if err != nil {
			return p, false, nil
		}
		z.Multistream(false)
		p.name, p.header, p.level, r = "gzip data", &z.Header, map[byte]int{2: 9, 4: 1}[v[8]], z
	} else {
		if p.length = !isZlib(v); p.length {
			_, _ = in.Seek(4, io.SeekStart)
		}
		z, err := zlib.NewReader(in)
		if err != nil {
			return p, false, nil
		}
		p.name, p.level, r = "zlib data", map[byte]int{0x01: 1, 0x5e: 5, 0xda: 9}[v[zlibAt(p.length)+1]], z
	}
	if p.level == 0 {
		p.level = 6
	}
	p.content, err = io.ReadAll(io.LimitReader(r, maxUnpacked+1))
	switch {
	case err != nil:
		return p, false, nil
	case len(p.content) > maxUnpacked:
		return p, true, errUnpacksToMore
	}
	rest := v[len(v)-in.Len():]
	if !p.length {
		return p, len(rest) == 0, nil
	}
	// A point is put behind where the last byte would be a space.
	size := int(binary.LittleEndian.Uint32(v) & 0x3fffffff)
	return p, size == len(p.content) && (len(rest) == 0 || string(rest) == "."), nil
}

func zlibAt(length bool) int {
	if length {
		return 4
	}
	return 0
}

// pack compresses content as p was.
func (p *packed) pack(content []byte) ([]byte, error) {
	var out bytes.Buffer
	if p.length {
		_ = binary.Write(&out, binary.LittleEndian, uint32(len(content)))
	}
	var w io.WriteCloser
	var err error
	if p.header != nil {
		var z *gzip.Writer
		if z, err = gzip.NewWriterLevel(&out, p.level); err == nil {
			z.Header = *p.header
		}
		w = z
	} else {
		w, err = zlib.NewWriterLevel(&out, p.level)
	}
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(content); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if b := out.Bytes(); p.length && b[len(b)-1] == ' ' {
		out.WriteByte('.')
	}
	return out.Bytes(), nil
}

// compressed looks into a value that is compressed as a whole. ok is false if it
// is not.
func (rw *Rewriter) compressed(v []byte, t *Tally) (out []byte, changed, ok bool) {
	p, ok, err := unpack(v)
	if !ok {
		return v, false, false
	}
	if err != nil {
		t.Leave(Compressed, nil, err.Error())
		return v, false, true
	}
	if !rw.Mentions(p.content) {
		return v, false, true
	}
	at := rw.Places(p.content)(0)
	leave := func(reason Reason) ([]byte, bool, bool) {
		t.Values++
		t.leftover(reason, p.content, at, min(len(p.content), at+40), p.name)
		return v, false, true
	}
	if !rw.unpack {
		// What stays inside anyhow needs no decision.
		var inside Tally
		if _, would := rw.value(nil, p.content, scope{t: &inside, form: formAsFound}); !would && inside.Findings() == 0 {
			return v, false, true
		}
		return leave(Compressed)
	}
	t.Values++
	content, changed := rw.value(nil, p.content, scope{t: t, form: formAsFound})
	if !changed {
		return v, false, true
	}
	if out, err = p.pack(content); err != nil {
		return leave(Compressed)
	}
	t.Changed++
	return out, true, true
}
