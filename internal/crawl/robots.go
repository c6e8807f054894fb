package crawl

import (
	"bufio"
	"bytes"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Robots is what a robots.txt says to one client (RFC 9309).
type Robots struct {
	rules    []robotsRule
	Delay    time.Duration // between requests (Crawl-delay, an extension)
	Sitemaps []string
}

type robotsRule struct {
	pattern string
	allow   bool
}

// maxRobots is how much of a robots.txt is read (RFC 9309, 2.5: at least 500 KiB).
const maxRobots = 512 << 10

// ParseRobots reads a robots.txt for a client whose product name is agent.
func ParseRobots(text []byte, agent string) *Robots {
	agent, _, _ = strings.Cut(strings.ToLower(agent), "/")
	agent, _, _ = strings.Cut(agent, " ")
	r, best := &Robots{}, -1
	var names []string // of the group
	inRules := false
	var group *Robots
	groups := map[string]*Robots{}
	sc := bufio.NewScanner(bytes.NewReader(text[:min(len(text), maxRobots)]))
	sc.Buffer(nil, maxRobots)
	for sc.Scan() {
		line, _, _ := strings.Cut(strings.TrimPrefix(sc.Text(), "\ufeff"), "#")
		key, value, ok := strings.Cut(line, ":")
		if !ok {
			continue
		}
		key, value = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(value)
		switch key {
		case "user-agent":
			if inRules {
				names, inRules = nil, false
			}
			names = append(names, strings.ToLower(value))
		case "allow", "disallow", "crawl-delay":
			inRules = true
			for _, n := range names {
				if group = groups[n]; group == nil {
					group = &Robots{}
					groups[n] = group
				}
				group.add(key, value)
			}
		case "sitemap":
			r.Sitemaps = append(r.Sitemaps, value)
		}
	}
	for name, g := range groups {
		n := len(name)
		if name == "*" {
			n = 0
		} else if !strings.HasPrefix(agent, name) {
			continue
		}
		if n > best {
			best, r.rules, r.Delay = n, g.rules, g.Delay
		}
	}
	return r
}

func (r *Robots) add(key, value string) {
	switch key {
	case "crawl-delay":
		if s, err := strconv.ParseFloat(value, 64); err == nil && s > 0 && s < 3600 {
			r.Delay = time.Duration(s * float64(time.Second))
		}
	default:
		if value != "" {
			r.rules = append(r.rules, robotsRule{value, key == "allow"})
		}
	}
}

// Allowed reports whether an address may be fetched: the longest rule that fits counts,
// among equals the one that allows.
func (r *Robots) Allowed(u *url.URL) bool {
	path := u.EscapedPath()
	if u.RawQuery != "" {
		path += "?" + u.RawQuery
	}
	if path == "" {
		path = "/"
	}
	best, allowed := -1, true
	for _, rule := range r.rules {
		if n := len(rule.pattern); (n > best || n == best && rule.allow) && robotsMatch(rule.pattern, path) {
			best, allowed = n, rule.allow
		}
	}
	return allowed
}

// robotsMatch: "*" stands for anything, "$" at the end for the end.
func robotsMatch(pattern, path string) bool {
	whole := strings.HasSuffix(pattern, "$")
	parts := strings.Split(strings.TrimSuffix(pattern, "$"), "*")
	if !strings.HasPrefix(path, parts[0]) {
		return false
	}
	path = path[len(parts[0]):]
	for i, p := range parts[1:] {
		if last := i == len(parts)-2; last && whole {
			return strings.HasSuffix(path, p)
		}
		at := strings.Index(path, p)
		if at < 0 {
			return false
		}
		path = path[at+len(p):]
	}
	return !whole || len(parts) > 1 || path == ""
}
