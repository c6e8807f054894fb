package redirects

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"hovix/internal/webpath"
)

// Finding is something wrong with a row, or with the map as a whole.
type Finding struct {
	Line  int    `json:"line,omitempty"`
	From  string `json:"from,omitempty"`
	To    string `json:"to,omitempty"`
	Kind  string `json:"kind"`
	Text  string `json:"text"`
	Fixed bool   `json:"fixed,omitempty"`
	Note  bool   `json:"note,omitempty"` // it needs no person
}

// Kinds of findings, in the order of a report.
const (
	BadHeader    = "header"     // names of columns among the rows
	BadAddress   = "address"    // what cannot be an address
	BadRule      = "rule"       // a rule that is wrong
	BadStatus    = "status"     // a target where none belongs, or none where one does
	BadRoot      = "root"       // the front page is led away
	BadSelf      = "self"       // it leads to itself
	BadLoop      = "loop"       // it leads in a circle
	BadChain     = "chain"      // it leads to an address that is led on
	BadTwice     = "twice"      // the same row again
	BadContra    = "contradict" // two rows for one address
	BadLive      = "live"       // the old address is a page of the new site
	BadTarget    = "target"     // the new page is not there
	BadVariant   = "variant"    // it differs from a page only by slash or letter case
	BadEncoding  = "encoding"   // encoded twice, or not in UTF-8
	BadFragment  = "fragment"   // the server never sees what follows #
	BadForm      = "form"       // absolute where a path belongs
	BadFront     = "front"      // too many lead to the front page
	BadMissing   = "missing"    // a visited address without a row
	BadDoubtful  = "doubtful"   // pair was not sure
	BadDifferent = "different"  // the compact map leads elsewhere than the map it was made of
)

// Answer is what a server says to one address.
type Answer struct {
	Status   int
	Location string // as a path on the same site, or an absolute address
	Err      error
}

// CheckOptions says what a map is compared with.
type CheckOptions struct {
	Old, New   *Inventory                                       // nil: not known
	Against    *Map                                             // the map with single rows that rules were made of
	Ask        func(ctx context.Context, address string) Answer // of the new site; nil: it is not asked
	Workers    int                                              // asks at a time
	Hosts      []string                                         // of the old and the new site: rows may name them
	FrontShare float64                                          // of the rows that may lead to the front page; 0: 0.1
	Base       string                                           // path of the front page
	Fix        bool                                             // mend what can be mended without a person
	Top        int                                              // visited addresses without a row that are named; 0: 20
	Asked      func()                                           // told of every address that was asked
}

// Report is what check found.
type Report struct {
	Rows     int            `json:"rows"`
	Rules    int            `json:"rules"`
	Good     int            `json:"good"` // rows without a finding
	Counts   map[string]int `json:"counts"`
	Serious  int            `json:"serious"` // findings that need a person
	Fixed    int            `json:"fixed"`
	Missing  int            `json:"missing"` // known old addresses that lead nowhere
	Covered  int            `json:"covered"` // known old addresses that have a row or a rule
	Findings []Finding      `json:"findings"`
	Map      *Map           `json:"-"` // mended, with Fix
}

type checker struct {
	opts    CheckOptions
	m       *Map
	rep     *Report
	from    map[string][]int // key → rows
	live    map[string]bool
	near    map[string]string // slash and letter case taken away → page
	hosts   map[string]bool
	drop    map[int]bool // it is not looked at any more
	removed map[int]bool // it is not in the mended map
	skip    map[int]bool
	hit     map[int]bool
	asked   map[string]Answer
	set     *RuleSet
}

// Check looks for everything that goes wrong with redirects. It changes the rows of the
// map only with Fix.
func Check(ctx context.Context, m *Map, opts CheckOptions) (*Report, error) {
	if opts.FrontShare == 0 {
		opts.FrontShare = 0.1
	}
	opts.Base, opts.Top = cmp.Or(opts.Base, "/"), cmp.Or(opts.Top, 20)
	c := &checker{opts: opts, m: m, rep: &Report{Counts: map[string]int{}, Rows: len(m.Rows)}, from: map[string][]int{}, hosts: map[string]bool{}, drop: map[int]bool{}, removed: map[int]bool{}, skip: map[int]bool{}, hit: map[int]bool{}, asked: map[string]Answer{}}
	for _, h := range opts.Hosts {
		h = strings.TrimPrefix(strings.ToLower(h), "www.")
		c.hosts[h], c.hosts["www."+h] = true, true
	}
	c.known()
	for i := range m.Rows {
		c.row(i)
	}
	c.duplicates()
	c.chains()
	if opts.Ask != nil {
		if err := c.askAll(ctx); err != nil {
			return nil, err
		}
	}
	for i := range m.Rows {
		c.target(i)
	}
	if err := c.rules(); err != nil {
		return nil, err
	}
	c.whole()
	c.finish()
	return c.rep, nil
}

// known takes the pages of the new site.
func (c *checker) known() {
	if c.opts.New == nil {
		return
	}
	c.live, c.near = map[string]bool{c.opts.Base: true}, map[string]string{}
	for _, e := range c.opts.New.Pages {
		if e.Status < 300 {
			c.live[e.Path] = true
			c.near[loose(e.Path)] = e.Path
		}
	}
}

// loose takes slash and letter case from an address.
func loose(key string) string { return strings.ToLower(strings.TrimSuffix(key, "/")) }

func (c *checker) find(i int, kind string, fixed bool, format string, args ...any) {
	f := Finding{Kind: kind, Text: fmt.Sprintf(format, args...), Fixed: fixed && c.opts.Fix, Note: kind == BadForm || kind == BadTwice}
	if i >= 0 {
		r := &c.m.Rows[i]
		f.Line, f.From, f.To = r.Line, r.From, r.To
		switch kind {
		case BadRoot, BadSelf, BadLoop, BadChain: // where it leads is looked at when this is mended
			c.skip[i] = true
			fallthrough
		default:
			c.hit[i] = true
		case BadDoubtful:
		}
	}
	c.rep.Findings = append(c.rep.Findings, f)
}

// rules proves the rules: on every known old address and on every page of the new site.
func (c *checker) rules() (err error) {
	good := &Map{}
	for i, r := range c.m.Rows {
		if !c.drop[i] {
			good.Rows = append(good.Rows, r)
		}
	}
	if c.set, err = NewRuleSet(good); err != nil {
		return err
	}
	line := map[string]int{}
	for i, r := range c.m.Rows {
		if IsRule(r.From) {
			line[r.From] = i
		}
	}
	pages := c.pages()
	for _, r := range c.set.Rules {
		c.rule(line[r.From], r, pages)
	}
	if c.opts.Against == nil {
		return nil
	}
	for _, r := range c.opts.Against.Rows {
		t, err := ParseTarget(r.From)
		if err != nil || IsRule(r.From) {
			continue
		}
		to, status, ok := c.set.Apply(t.Key())
		switch {
		case !ok:
			c.find(-1, BadDifferent, false, "%s leads nowhere; its row leads to %s", t.Key(), r.To)
		case to != r.To || status != r.status():
			c.find(-1, BadDifferent, false, "%s leads to %s with %d; its row leads to %s with %d", t.Key(), to, status, r.To, r.status())
		}
	}
	return nil
}

// pages lists what is known to be a page of the new site, in order.
func (c *checker) pages() []string {
	list := slices.Collect(maps.Keys(c.live))
	for key, a := range c.asked {
		if a.Status == http.StatusOK && !c.live[key] {
			list = append(list, key)
		}
	}
	slices.Sort(list)
	return list
}

func (c *checker) rule(i int, r *Rule, pages []string) {
	for _, key := range pages {
		if to, caught := r.Apply(key); caught && c.set.Exact[key] == nil {
			c.find(i, BadRule, false, "it catches %s, a page of the new site, and sends it to %s", key, to)
			break
		}
	}
	if c.opts.Old == nil || c.live == nil {
		return
	}
	bad, first := 0, ""
	for _, e := range c.opts.Old.Pages {
		if c.set.Exact[e.Path] != nil || c.live[e.Path] {
			continue
		}
		to, caught := r.Apply(e.Path)
		if !caught {
			continue
		}
		if t, own := c.own(to); own && !c.live[t.Key()] && webpath.KindOf(t.Path) == webpath.Page {
			if bad++; bad == 1 {
				first = e.Path
			}
		}
	}
	if bad > 0 {
		c.find(i, BadRule, false, "it leads %s to pages that are not there, such as %s", plural(bad, "known address", "known addresses"), first)
	}
}

// whole looks at the map as a whole.
func (c *checker) whole() {
	front, all := 0, 0
	for i, r := range c.m.Rows {
		if c.drop[i] || r.To == "" {
			continue
		}
		all++
		if t, ok := c.own(r.To); ok && t.Key() == c.opts.Base && t.Fragment == "" {
			front++
		}
	}
	if share := float64(front) / float64(max(all, 1)); share > c.opts.FrontShare && front > 3 {
		c.find(-1, BadFront, false, "%d of %d rows (%.0f %%) lead to the front page; search engines take that for pages that are gone", front, all, 100*share)
	}
	if c.opts.Old == nil {
		return
	}
	var missing []Entry
	for _, e := range c.opts.Old.Pages {
		if _, _, ok := c.set.Apply(e.Path); ok {
			c.rep.Covered++
		} else if !c.live[e.Path] && c.asked[e.Path].Status != http.StatusOK && (e.Status < 300 || e.Status == http.StatusNotFound) {
			missing = append(missing, e)
		}
	}
	c.rep.Missing = len(missing)
	slices.SortStableFunc(missing, func(a, b Entry) int { return cmp.Compare(b.Visits, a.Visits) })
	for _, e := range missing[:min(len(missing), c.opts.Top)] {
		visits := ""
		if e.Visits > 0 {
			visits = fmt.Sprintf(" (%s)", plural(int(e.Visits), "visit", "visits"))
		}
		c.rep.Findings = append(c.rep.Findings, Finding{From: e.Path, Kind: BadMissing, Text: "an old page without a row" + visits})
	}
}

// kindOrder is that of a report: what breaks a site first.
var kindOrder = []string{BadLoop, BadSelf, BadRoot, BadLive, BadContra, BadRule, BadDifferent, BadTarget, BadStatus, BadAddress, BadHeader, BadChain, BadVariant, BadEncoding, BadFragment, BadForm, BadTwice, BadFront, BadMissing, BadDoubtful}

func (c *checker) finish() {
	rep := c.rep
	slices.SortStableFunc(rep.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(kindOrder, a.Kind), slices.Index(kindOrder, b.Kind)), cmp.Compare(a.Line, b.Line))
	})
	for _, f := range rep.Findings {
		rep.Counts[f.Kind]++
		switch {
		case f.Fixed:
			rep.Fixed++
		case !f.Note && f.Kind != BadMissing:
			rep.Serious++
		}
	}
	rep.Serious += rep.Missing // of which only the most visited are named
	rep.Good = rep.Rows - len(c.hit)
	if c.opts.Fix {
		m := *c.m
		m.Rows = nil
		for i, r := range c.m.Rows {
			if !c.removed[i] {
				m.Rows = append(m.Rows, r)
			}
		}
		rep.Map = &m
	}
}
