package rewrite

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
)

// Address is the URL at which a site is reached, from scheme to base path.
type Address struct {
	Scheme string // "http" or "https"
	Host   string // in lower case, without port
	Port   int    // 0: the scheme's own
	Path   string // base path with a leading and without a trailing slash; empty for the root
}

// ParseAddress reads an address such as "https://museum.example/site". The
// error says what is wrong with it.
func ParseAddress(s string) (Address, error) {
	var a Address
	text := strings.TrimSpace(s)
	if text == "" {
		return a, fmt.Errorf("the address is empty")
	}
	if !strings.Contains(text, "://") {
		return a, fmt.Errorf("the address %q has no scheme; write http://%s or https://%s", s, text, text)
	}
	u, err := url.Parse(text)
	if err != nil {
		return a, fmt.Errorf("the address %q cannot be read: %w", s, err)
	}
	a.Scheme = strings.ToLower(u.Scheme)
	switch {
	case a.Scheme != "http" && a.Scheme != "https":
		return a, fmt.Errorf("the address %q has the scheme %q; a site has http or https", s, u.Scheme)
	case u.Hostname() == "":
		return a, fmt.Errorf("the address %q has no host name", s)
	case u.User != nil:
		return a, fmt.Errorf("the address of %s holds a user name; leave it out", u.Hostname())
	case u.RawQuery != "" || u.Fragment != "":
		return a, fmt.Errorf("the address %q goes on after the path; leave out what begins with ? or #", s)
	}
	a.Host = strings.ToLower(u.Hostname())
	if strings.Contains(a.Host, ":") {
		a.Host = "[" + a.Host + "]"
	}
	if p := u.Port(); p != "" {
		n, err := strconv.Atoi(p)
		if err != nil || n < 1 || n > 65535 {
			return a, fmt.Errorf("the address %q has the port %q; a port is a number from 1 to 65535", s, p)
		}
		if n != a.defaultPort() {
			a.Port = n
		}
	}
	a.Path = strings.TrimRight(u.EscapedPath(), "/")
	return a, nil
}

// String gives the address as text, without trailing slash.
func (a Address) String() string { return a.Scheme + "://" + a.Authority() + a.Path }

// Authority gives the host and, where it is not the scheme's own, the port.
func (a Address) Authority() string {
	if a.Port == 0 {
		return a.Host
	}
	return a.Host + ":" + strconv.Itoa(a.Port)
}

// IsZero reports whether no address is set.
func (a Address) IsZero() bool { return a.Host == "" }

func (a Address) defaultPort() int {
	if a.Scheme == "https" {
		return 443
	}
	return 80
}

// bare gives the host without a leading "www.", and whether the host is a name
// that may have such a twin: an IP number or a single word has none.
func (a Address) bare() (host string, twin bool) {
	host = strings.TrimPrefix(a.Host, "www.")
	twin = strings.Contains(host, ".") && !strings.HasPrefix(host, "[") && strings.Trim(host, "0123456789.") != ""
	if !twin {
		host = a.Host
	}
	return host, twin
}
