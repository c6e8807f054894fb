package redirects

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Rule is a row that stands for many addresses: names in braces stand for a part of the
// old address, which the new one may take up. "/news/{year}/{name}.html" leads to
// "/journal/{name}/".
type Rule struct {
	From, To string
	Status   int
	parts    []part         // of From
	re       *regexp.Regexp // on the whole address
}

// part is a literal or, with a name, a placeholder.
type part struct {
	text string
	name string
}

// Placeholders are what names in braces may stand for, by how the name begins.
var Placeholders = []struct{ Name, Means, Pattern string }{
	{"year", "four digits", `[0-9]{4}`},
	{"month", "one or two digits", `[0-9]{1,2}`},
	{"day", "one or two digits", `[0-9]{1,2}`},
	{"id", "digits", `[0-9]+`},
	{"name", "a part of the path between two slashes", `[^/?#]+`},
	{"rest", "anything, with slashes", `[^?#]+`},
}

// patternOf gives the regular expression of a placeholder; "" if there is none of that
// name.
func patternOf(name string) string {
	for _, p := range Placeholders {
		if rest, ok := strings.CutPrefix(name, p.Name); ok && (rest == "" || isNumber(rest)) {
			return p.Pattern
		}
	}
	return ""
}

// ErrRule says that a rule cannot be read.
var ErrRule = errors.New("not a rule")

// IsRule reports whether an old address in a map is a rule.
func IsRule(from string) bool { return placeholderIn.MatchString(from) }

var placeholderIn = regexp.MustCompile(`\{([a-z]+[0-9]*)\}`)

// ParseRule reads a rule.
func ParseRule(from, to string, status int) (*Rule, error) {
	r := &Rule{From: strings.TrimSpace(from), To: strings.TrimSpace(to), Status: status}
	if holdsControl(from) || holdsControl(to) {
		return nil, fmt.Errorf("%w: %q: %w", ErrRule, from, ErrControl)
	}
	if !strings.HasPrefix(r.From, "/") {
		return nil, fmt.Errorf("%w: %q must begin with a slash", ErrRule, from)
	}
	var re strings.Builder
	re.WriteString("^")
	var names []string
	for at, rest := 0, r.From; ; {
		m := placeholderIn.FindStringSubmatchIndex(rest[at:])
		if m == nil {
			r.literal(&re, rest[at:])
			break
		}
		r.literal(&re, rest[at:at+m[0]])
		name := rest[at+m[2] : at+m[3]]
		p := patternOf(name)
		if p == "" {
			return nil, fmt.Errorf("%w: {%s} in %q means nothing; there are %s, also with a number", ErrRule, name, from, placeholderNames())
		}
		if slices.Contains(names, name) {
			return nil, fmt.Errorf("%w: {%s} is in %q twice; call the second one {%s2}", ErrRule, name, from, name)
		}
		names = append(names, name)
		r.parts = append(r.parts, part{name: name})
		fmt.Fprintf(&re, "(%s)", p)
		at += m[1]
	}
	re.WriteString("$")
	for _, m := range placeholderIn.FindAllStringSubmatch(r.To, -1) {
		if !slices.Contains(names, m[1]) {
			return nil, fmt.Errorf("%w: {%s} in %q is not in %q", ErrRule, m[1], to, from)
		}
	}
	if t, err := ParseTarget(placeholderIn.ReplaceAllString(r.To, "x")); r.To != "" && (err != nil || t.Path == "") {
		return nil, fmt.Errorf("%w: %q is no address", ErrRule, to)
	}
	var err error
	r.re, err = regexp.Compile(re.String())
	return r, err
}

func placeholderNames() string {
	var out []string
	for _, p := range Placeholders {
		out = append(out, "{"+p.Name+"}")
	}
	return strings.Join(out, ", ")
}

func (r *Rule) literal(re *strings.Builder, s string) {
	if s == "" {
		return
	}
	// A literal is compared in the normal form of addresses.
	path, query, has := strings.Cut(s, "?")
	if path = normalPart(path); has {
		path += "?" + query
	}
	r.parts = append(r.parts, part{text: path})
	re.WriteString(regexp.QuoteMeta(path))
}

// Apply gives the new address of an old one, normal as Target.Key gives it; false if the
// rule does not catch it.
func (r *Rule) Apply(key string) (string, bool) {
	if r.parts[0].name == "" && !strings.HasPrefix(key, r.parts[0].text) { // cheaper than the expression
		return "", false
	}
	m := r.re.FindStringSubmatch(key)
	if m == nil {
		return "", false
	}
	if len(m) == 1 {
		return r.To, true
	}
	n := 0
	values := map[string]string{}
	for _, p := range r.parts {
		if p.name != "" {
			n++
			values[p.name] = m[n]
		}
	}
	return placeholderIn.ReplaceAllStringFunc(r.To, func(s string) string { return values[s[1:len(s)-1]] }), true
}

// literals is how many bytes of the rule are fixed: of two rules that catch an address,
// the one with more is meant.
func (r *Rule) literals() (n int) {
	for _, p := range r.parts {
		n += len(p.text)
	}
	return n
}

// RuleSet is a map as a web server takes it: rows for single addresses first, then the
// rules in their order.
type RuleSet struct {
	Exact map[string]*Row
	Rules []*Rule
}

// NewRuleSet makes it of a map. The first of two rows for an address counts.
func NewRuleSet(m *Map) (*RuleSet, error) {
	s := &RuleSet{Exact: map[string]*Row{}}
	for i := range m.Rows {
		row := &m.Rows[i]
		if row.Bad != "" {
			continue
		}
		if IsRule(row.From) {
			r, err := ParseRule(row.From, row.To, row.status())
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", row.Line, err)
			}
			s.Rules = append(s.Rules, r)
			continue
		}
		if t, err := ParseTarget(row.From); err == nil && s.Exact[t.Key()] == nil {
			s.Exact[t.Key()] = row
		}
	}
	return s, nil
}

// Apply gives where an old address leads; false if nowhere.
func (s *RuleSet) Apply(key string) (to string, status int, ok bool) {
	if row := s.Exact[key]; row != nil {
		return row.To, row.status(), true
	}
	if r, to := firstOf(s.Rules, key); r != nil {
		return to, r.Status, true
	}
	return "", 0, false
}

// firstOf gives the first rule that catches an old address, with the new one; nil if none
// does.
func firstOf(rules []*Rule, key string) (*Rule, string) {
	for _, r := range rules {
		if to, ok := r.Apply(key); ok {
			return r, to
		}
	}
	return nil, ""
}
