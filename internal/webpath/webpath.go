// Package webpath brings paths of web addresses into the one form in which they are
// compared.
package webpath

import (
	"fmt"
	"net/url"
	"strings"
)

// Normal gives a path in the one form in which paths are compared (RFC 3986, 6.2.2):
// percent-encoding in capitals where it is needed and nowhere else, dot segments
// resolved. Encoded slashes, question marks, number signs and percent signs stay
// encoded: they are not what they stand for.
func Normal(path string) string {
	var b strings.Builder
	b.Grow(len(path) + 8)
	for i := 0; i < len(path); i++ {
		c := path[i]
		if c == '%' && i+2 < len(path) {
			if v, ok := hexByte(path[i+1], path[i+2]); ok {
				i += 2
				if v == '/' || v == '%' || v == '?' || v == '#' {
					fmt.Fprintf(&b, "%%%02X", v)
				} else {
					writeByte(&b, v)
				}
				continue
			}
		}
		if c == '%' { // it begins nothing
			b.WriteString("%25")
			continue
		}
		writeByte(&b, c)
	}
	return resolve(b.String())
}

// plain are the characters that stand for themselves in a path (RFC 3986, 3.3).
const plain = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~!$&'()*+,;=:@/"

func writeByte(b *strings.Builder, c byte) {
	if strings.IndexByte(plain, c) >= 0 {
		b.WriteByte(c)
		return
	}
	const digits = "0123456789ABCDEF"
	b.Write([]byte{'%', digits[c>>4], digits[c&15]})
}

func hexByte(hi, lo byte) (byte, bool) {
	h, ok1 := hexDigit(hi)
	l, ok2 := hexDigit(lo)
	return h<<4 | l, ok1 && ok2
}

func hexDigit(c byte) (byte, bool) {
	switch {
	case c >= '0' && c <= '9':
		return c - '0', true
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return c | 0x20 - 'a' + 10, true
	}
	return 0, false
}

// resolve removes dot segments (RFC 3986, 5.2.4).
func resolve(path string) string {
	if !strings.Contains(path, "/.") {
		return path
	}
	var out []string
	segments := strings.Split(path, "/")
	for i, s := range segments {
		last := i == len(segments)-1
		switch {
		case s == ".":
		case s == "..":
			if len(out) > 1 {
				out = out[:len(out)-1]
			}
		default:
			out = append(out, s)
			continue
		}
		if last {
			out = append(out, "")
		}
	}
	return strings.Join(out, "/")
}

// Decoded gives a normal path as a server sees it, decoded.
func Decoded(path string) string {
	s, err := url.PathUnescape(path)
	if err != nil {
		return path
	}
	return s
}
