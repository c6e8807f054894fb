// Package rewrite changes embedded addresses in values: the cells of a
// database, the text of settings. It takes mappings from old addresses to new
// ones and gives changed bytes with a count of what it did.
//
// One pass applies all mappings at once, the longest first, and the new
// addresses take part as "keep", so that swaps are safe and a second run
// changes nothing. An address is found in whatever form it stands, plain,
// JSON-escaped, percent-encoded, with HTML entities, and in PHP-serialized
// values at any depth; the bytes around it stay as they were.
package rewrite

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Mapping is one old address and the new one that takes its place.
type Mapping struct{ Old, New Address }

// RootMapping is one old folder on a server, as an absolute path with slashes,
// and the new one that takes its place.
type RootMapping struct{ Old, New string }

// Options names what a Rewriter changes.
type Options struct {
	Mappings []Mapping
	Roots    []RootMapping
	// BareHosts rewrites old host names that stand alone in prose too.
	BareHosts bool
}

// Form is the encoding in which an address stood.
type Form int

// The forms that are told apart in a Tally.
const (
	FormPlain      Form = iota
	FormJSON            // slashes escaped by backslashes, or as \u002f
	FormPercent         // percent-encoded, once or more
	FormEntity          // HTML entities
	FormSerialized      // in any form, inside a PHP-serialized value
	FormPath            // a folder on the server
	numForms
)

// String names the form for people.
func (f Form) String() string {
	return [...]string{"plain", "JSON-escaped", "percent-encoded", "HTML entities", "serialized", "folder path"}[f]
}

// Reason says why a mention of an old address was not rewritten.
type Reason int

// The reasons for a leftover.
const (
	BareHost    Reason = iota // the host name alone, in prose
	Email                     // behind an @
	LookAlike                 // part of another name: notold.example, old.example.org, sub.old.example
	OtherPort                 // the same host with another port
	OtherPath                 // the same host outside the mapping's base path
	OtherScheme               // neither http nor https
	Broken                    // a value that looks serialized but is not
	Kept                      // an identifier that must not change
	TooDeep                   // nested deeper than anybody nests
	numReasons
)

// String names the reason for people.
func (r Reason) String() string {
	return [...]string{"bare host name", "e-mail address", "look-alike host", "other port", "outside the base path",
		"other scheme", "broken serialized value", "kept identifier", "nested too deeply"}[r]
}

// Finding reports whether a person should look at leftovers of this reason.
// E-mail addresses, look-alikes and kept identifiers are as they should be.
func (r Reason) Finding() bool {
	return r != Email && r != Kept && r != LookAlike
}

// Leftover is one mention that was not rewritten.
type Leftover struct {
	Reason  Reason
	Excerpt string // the mention with a little around it, in printable characters
	Detail  string // more on the reason, such as where a broken value breaks
}

// Tally counts what a Rewriter did. The zero value is ready; several can be
// added up.
type Tally struct {
	Values    int64 // values that mention an old address in any way
	Changed   int64 // values that were changed
	Forms     [numForms]int64
	Leftovers [numReasons]int64
	// OnLeftover, if set, is told of each leftover.
	OnLeftover func(Leftover)
}

// Add adds the counts of o.
func (t *Tally) Add(o *Tally) {
	t.Values += o.Values
	t.Changed += o.Changed
	for i, n := range o.Forms {
		t.Forms[i] += n
	}
	for i, n := range o.Leftovers {
		t.Leftovers[i] += n
	}
}

// Occurrences is the number of addresses that were rewritten.
func (t *Tally) Occurrences() (n int64) {
	for _, c := range t.Forms {
		n += c
	}
	return n
}

// Findings is the number of leftovers that a person should look at.
func (t *Tally) Findings() (n int64) {
	for r, c := range t.Leftovers {
		if Reason(r).Finding() {
			n += c
		}
	}
	return n
}

func (t *Tally) leftover(r Reason, text []byte, from, to int, detail string) {
	t.Leftovers[r]++
	if t.OnLeftover != nil {
		t.OnLeftover(Leftover{r, excerpt(text, from, to), detail})
	}
}

// excerpt cuts text around a mention, at spaces, for a person to recognise.
func excerpt(text []byte, from, to int) string {
	const around = 30
	start, end := max(0, from-around), min(len(text), to+around)
	before, after := printable(text[start:from]), printable(text[to:end])
	if start > 0 {
		if i := strings.IndexByte(before, ' '); i >= 0 {
			before = before[i+1:]
		}
		before = "…" + before
	}
	if end < len(text) {
		if i := strings.LastIndexByte(after, ' '); i >= 0 {
			after = after[:i]
		}
		after += "…"
	}
	return before + printable(text[from:to]) + after
}

// printable turns control characters into spaces and drops torn characters.
func printable(b []byte) string {
	return strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, string(b)), "")
}

// Rewriter applies mappings. It holds no state of a run: one Rewriter serves
// several goroutines.
type Rewriter struct {
	hosts []host
	roots []root
	bare  bool
}

// host is a host name to look for, and what there is at it.
type host struct {
	finder
	targets []target
}

// target is an address at a host: an old one with its new one, or a new one to
// keep.
type target struct {
	addr  Address
	twin  bool
	keep  bool
	to    Address
	words []string // segments of addr.Path
}

// New returns a Rewriter for the options. The error says which mappings
// contradict each other.
func New(opts Options) (*Rewriter, error) {
	rw := &Rewriter{bare: opts.BareHosts}
	seen := map[Address]Address{}
	for _, m := range opts.Mappings {
		if m.Old.IsZero() || m.New.IsZero() {
			return nil, errors.New("a mapping needs an old and a new address")
		}
		if to, ok := seen[m.Old]; ok && to != m.New {
			return nil, fmt.Errorf("%s is mapped to both %s and %s; keep one", m.Old, to, m.New)
		}
		seen[m.Old] = m.New
		if m.Old != m.New {
			rw.add(target{addr: m.Old, to: m.New})
		}
	}
	for _, m := range opts.Mappings {
		if _, old := seen[m.New]; !old || m.Old == m.New {
			rw.add(target{addr: m.New, keep: true})
		}
	}
	for _, m := range opts.Roots {
		if err := rw.addRoot(m); err != nil {
			return nil, err
		}
	}
	return rw, nil
}

func (rw *Rewriter) add(t target) {
	var name string
	name, t.twin = t.addr.bare()
	if t.addr.Path != "" {
		t.words = strings.Split(t.addr.Path[1:], "/")
	}
	i := slices.IndexFunc(rw.hosts, func(h host) bool { return h.word == name })
	if i < 0 {
		i = len(rw.hosts)
		rw.hosts = append(rw.hosts, host{finder: newFinder(name)})
	}
	rw.hosts[i].targets = append(rw.hosts[i].targets, t)
}

// onlyKeeps reports whether there is nothing to change at the host.
func (h *host) onlyKeeps() bool {
	return !slices.ContainsFunc(h.targets, func(t target) bool { return !t.keep })
}

// Mentions reports whether v holds the bytes of an old host or folder anywhere.
// It is the cheap test before anything is parsed.
func (rw *Rewriter) Mentions(v []byte) bool {
	for i := range rw.hosts {
		if h := &rw.hosts[i]; !h.onlyKeeps() && h.next(v, 0) >= 0 {
			return true
		}
	}
	for i := range rw.roots {
		if rw.roots[i].next(v, 0) >= 0 {
			return true
		}
	}
	return false
}
