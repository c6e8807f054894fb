package redirects

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"golang.org/x/net/idna"
)

// Target is an address as it stands in a map: a path on the site, or an address of
// another one.
type Target struct {
	Host     string // with the port if it has one, in small letters; empty: the site's own
	Scheme   string // with Host
	Path     string // as Normal gives it, with a leading slash
	Query    string // as it stands, without the question mark
	HasQuery bool   // there is a question mark, even if nothing follows it
	Fragment string
}

// Errors of addresses, for errors.Is.
var (
	ErrNoAddress = errors.New("no address")
)

// ParseTarget reads an address as people write it: a path or a whole address, percent-
// encoded or plain, with spaces and letters of any script.
func ParseTarget(s string) (t Target, err error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return t, fmt.Errorf("%w: the cell is empty", ErrNoAddress)
	}
	rest := s
	if scheme, after, ok := strings.Cut(s, "://"); ok && !strings.ContainsAny(scheme, "/?#") {
		t.Scheme = strings.ToLower(scheme)
		if t.Scheme != "http" && t.Scheme != "https" {
			return t, fmt.Errorf("%w: %q is not of the web", ErrNoAddress, s)
		}
		rest = after
	} else if after, ok := strings.CutPrefix(s, "//"); ok {
		t.Scheme, rest = "https", after
	}
	if t.Scheme != "" {
		end := strings.IndexAny(rest, "/?#")
		if end < 0 {
			end = len(rest)
		}
		if t.Host, err = hostOf(rest[:end]); err != nil {
			return t, err
		}
		rest = rest[end:]
	}
	rest, t.Fragment, _ = strings.Cut(rest, "#")
	rest, t.Query, t.HasQuery = strings.Cut(rest, "?")
	if !strings.HasPrefix(rest, "/") {
		if t.Scheme == "" && rest != "" && strings.Contains(strings.SplitN(rest, "/", 2)[0], ".") && strings.Contains(rest, "/") && !strings.Contains(rest, " ") {
			return t, fmt.Errorf("%w: %q has neither a scheme nor a leading slash; write https://%s or /%s", ErrNoAddress, s, rest, rest)
		}
		rest = "/" + rest
	}
	t.Path = Normal(rest)
	return t, nil
}

func hostOf(s string) (string, error) {
	if _, after, ok := strings.Cut(s, "@"); ok {
		s = after
	}
	name, port, hasPort := strings.Cut(s, ":")
	ascii, err := idna.Lookup.ToASCII(strings.ToLower(strings.TrimSuffix(name, ".")))
	if err != nil || ascii == "" {
		return "", fmt.Errorf("%w: the host name %q cannot be", ErrNoAddress, name)
	}
	if hasPort {
		ascii += ":" + port
	}
	return ascii, nil
}

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

// Key gives what tells an old address from others: its path with its query.
func (t Target) Key() string {
	if t.HasQuery {
		return t.Path + "?" + t.Query
	}
	return t.Path
}

// String gives the address as it is written into rules.
func (t Target) String() string {
	s := t.Key()
	if t.Host != "" {
		s = t.Scheme + "://" + t.Host + s
	}
	if t.Fragment != "" {
		s += "#" + t.Fragment
	}
	return s
}
