package redirects

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/net/idna"

	"hovix/internal/webpath"
)

// Target is an address as it stands in a map: a path on the site, or an address of
// another one.
type Target struct {
	Host     string // with the port if it has one, in small letters; empty: the site's own
	Scheme   string // with Host
	Path     string // as webpath.Normal gives it, with a leading slash
	Query    string // as it stands, without the question mark
	HasQuery bool   // there is a question mark, even if nothing follows it
	Fragment string
}

// Errors of addresses, for errors.Is.
var (
	ErrNoAddress = errors.New("no address")
	// ErrControl says that an address holds a control character, plain or encoded: no page
	// has such an address, and in a server's rules it could end a line.
	ErrControl = errors.New("it holds a control character")
)

// ParseTarget reads an address as people write it: a path or a whole address, percent-
// encoded or plain, with spaces and letters of any script.
func ParseTarget(s string) (t Target, err error) {
	s = strings.TrimSpace(s)
	if holdsControl(s) {
		return t, fmt.Errorf("%w: %q: %w", ErrNoAddress, s, ErrControl)
	}
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
	t.Path = webpath.Normal(rest)
	return t, nil
}

// holdsControl reports whether a text holds a control character, or one that is
// percent-encoded, once or more.
func holdsControl(s string) bool {
	return strings.ContainsFunc(s, unicode.IsControl) || encodedControl.MatchString(s)
}

var encodedControl = regexp.MustCompile(`(?i)%(?:25)*(?:[01][0-9a-f]|7f|c2%(?:25)*[89][0-9a-f])`)

func hostOf(s string) (string, error) {
	if _, after, ok := strings.Cut(s, "@"); ok {
		s = after
	}
	name, port, hasPort := strings.Cut(s, ":")
	ascii, err := idna.Lookup.ToASCII(strings.ToLower(strings.TrimSuffix(name, ".")))
	if err != nil || ascii == "" {
		return "", fmt.Errorf("%w: the host name %q cannot be", ErrNoAddress, name)
	}
	if n, err := strconv.Atoi(port); hasPort && (err != nil || n < 1 || n > 65535) {
		return "", fmt.Errorf("%w: the port %q is no number from 1 to 65535", ErrNoAddress, port)
	}
	if hasPort {
		ascii += ":" + port
	}
	return ascii, nil
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

// normalPart brings a piece of a path into the normal form.
func normalPart(s string) string {
	if s == "" {
		return s
	}
	return strings.TrimPrefix(webpath.Normal("/"+s), "/")
}
