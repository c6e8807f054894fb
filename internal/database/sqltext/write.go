package sqltext

import (
	"bytes"
	"encoding/hex"
	"unicode/utf8"
)

// What a byte needs in a MySQL string.
const (
	asIs = iota
	high // beyond ASCII: marks the string as binary, so that no server converts it
	esc
)

var mysqlClass = func() (c [256]byte) {
	for i := 0x80; i < 256; i++ {
		c[i] = high
	}
	for _, b := range "\x00\n\r\\'\x1a" {
		c[b] = esc
	}
	return c
}()

// AppendMySQLString appends s as a string literal of MariaDB and MySQL that
// means exactly these bytes: plain where they are ASCII, with the introducer
// _binary where they are not, or where binary is set.
func AppendMySQLString(dst, s []byte, binary bool) []byte {
	mark := len(dst)
	dst = append(dst, '\'')
	last, seen := 0, byte(0)
	for i, c := range s {
		k := mysqlClass[c]
		if k == asIs {
			continue
		}
		if k == high {
			seen = high
			continue
		}
		dst = append(dst, s[last:i]...)
		last = i + 1
		switch c {
		case 0:
			c = '0'
		case '\n':
			c = 'n'
		case '\r':
			c = 'r'
		case 0x1a:
			c = 'Z'
		}
		dst = append(dst, '\\', c)
	}
	dst = append(dst, s[last:]...)
	dst = append(dst, '\'')
	if binary || seen == high {
		const intro = "_binary"
		dst = append(dst, intro...)
		copy(dst[mark+len(intro):], dst[mark:len(dst)-len(intro)])
		copy(dst[mark:], intro)
	}
	return dst
}

// AppendHex appends s as x'…'.
func AppendHex(dst, s []byte) []byte {
	dst = append(dst, "x'"...)
	dst = hex.AppendEncode(dst, s)
	return append(dst, '\'')
}

// AppendSQLiteText appends s as a text literal of SQLite. Bytes that a literal
// cannot hold go through a cast.
func AppendSQLiteText(dst, s []byte) []byte {
	if bytes.IndexByte(s, 0) >= 0 || !utf8.Valid(s) {
		dst = AppendHex(append(dst, "CAST("...), s)
		return append(dst, " AS TEXT)"...)
	}
	dst = append(dst, '\'')
	for {
		n := bytes.IndexByte(s, '\'')
		if n < 0 {
			break
		}
		dst = append(append(dst, s[:n+1]...), '\'')
		s = s[n+1:]
	}
	return append(append(dst, s...), '\'')
}
