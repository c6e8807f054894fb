package redirects

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

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

// row looks at a row by itself, and finds out for which address it is.
func (c *checker) row(i int) {
	r := &c.m.Rows[i]
	if isHeader(r) {
		c.find(i, BadHeader, true, "it holds names of columns, not addresses")
		c.drop[i], c.removed[i] = true, c.opts.Fix
		return
	}
	if r.Bad != "" {
		c.find(i, BadStatus, false, "%s", r.Bad)
		c.skip[i] = true
		return
	}
	if IsRule(r.From) {
		c.rep.Rules++
		if _, err := ParseRule(r.From, r.To, r.status()); err != nil {
			c.find(i, BadRule, false, "%s", strings.TrimPrefix(err.Error(), ErrRule.Error()+": "))
			c.drop[i] = true
		}
		return
	}
	t, err := ParseTarget(r.From)
	if err != nil {
		c.find(i, BadAddress, false, "%s", strings.TrimPrefix(err.Error(), ErrNoAddress.Error()+": "))
		c.drop[i] = true
		return
	}
	c.form(i, r, &t)
	if t.Fragment != "" {
		c.find(i, BadFragment, true, "browsers keep what follows # to themselves; the server is asked for %s", t.Key())
		t.Fragment = ""
		c.mend(i, t.Key())
	}
	c.encoding(i, &t)
	if t.Key() == c.opts.Base || t.Key()+"/" == c.opts.Base {
		c.find(i, BadRoot, true, "it leads the front page away")
		c.drop[i], c.removed[i] = c.opts.Fix, c.opts.Fix
		return
	}
	switch {
	case r.status() == 410 && r.To != "":
		c.find(i, BadStatus, true, "410 says that the page is gone; a target makes no sense")
		if c.opts.Fix {
			r.To = ""
		}
	case r.status() != 410 && r.To == "":
		c.find(i, BadStatus, false, "it has no target; 410 would say that the page is gone")
		return
	}
	if r.Score != ByHand && r.Score < Sure {
		c.find(i, BadDoubtful, false, "its score is %s: %s", ScoreText(r.Score), r.Reason)
	}
	c.from[t.Key()] = append(c.from[t.Key()], i)
}

// isHeader tells a row that names columns.
func isHeader(r *Row) bool {
	f, t := columnOf(r.From), columnOf(r.To)
	return f == "from" && (t == "to" || t == "status")
}

func (c *checker) form(i int, r *Row, t *Target) {
	if t.Host != "" {
		if len(c.hosts) > 0 && !c.hosts[t.Host] {
			c.find(i, BadForm, false, "it is of another host, %s; the rule would be for the path alone", t.Host)
		} else {
			c.find(i, BadForm, true, "rules are for paths; the host is not looked at")
		}
		t.Host, t.Scheme = "", ""
		c.mend(i, t.Key())
	}
	if strings.HasPrefix(r.From, "/") || IsRule(r.From) || strings.Contains(r.From, "://") || strings.HasPrefix(r.From, "?") {
		return
	}
	c.find(i, BadForm, true, "it has no slash at its beginning")
	c.mend(i, t.Key())
}

// mend gives a row another old address.
func (c *checker) mend(i int, from string) {
	if c.opts.Fix {
		c.m.Rows[i].From = from
	}
}

func (c *checker) encoding(i int, t *Target) {
	plain := webpath.Decoded(t.Path)
	switch {
	case strings.Contains(t.Path, "%25") && strings.ContainsAny(plain, "%") && doublyEncoded(plain):
		c.find(i, BadEncoding, false, "it seems to be encoded twice: browsers ask for %s", webpath.Normal(plain))
	case !utf8.ValidString(plain):
		c.find(i, BadEncoding, false, "its letters are not in UTF-8, which browsers use; links from old pages may be so")
	}
}

func doublyEncoded(s string) bool {
	for i := 0; i+2 < len(s); i++ {
		if s[i] == '%' && isHex(s[i+1]) && isHex(s[i+2]) {
			return true
		}
	}
	return false
}

func isHex(c byte) bool { return strings.IndexByte("0123456789abcdefABCDEF", c) >= 0 }

// duplicates finds rows for the same address, or for one that differs by a slash.
func (c *checker) duplicates() {
	variants := map[string][]int{}
	for _, key := range slices.Sorted(maps.Keys(c.from)) {
		rows := c.from[key]
		first := rows[0]
		for _, i := range rows[1:] {
			if same(&c.m.Rows[first], &c.m.Rows[i]) {
				c.find(i, BadTwice, true, "the same as line %d", c.m.Rows[first].Line)
				c.drop[i], c.removed[i] = c.opts.Fix, c.opts.Fix
			} else {
				c.find(i, BadContra, false, "line %d leads the same address to %s", c.m.Rows[first].Line, c.m.Rows[first].To)
			}
		}
		variants[loose(key)] = append(variants[loose(key)], first)
	}
	for _, rows := range variants {
		for _, i := range rows[1:] {
			if a, b := &c.m.Rows[rows[0]], &c.m.Rows[i]; !same(a, b) {
				c.find(i, BadVariant, false, "line %d leads %s, which differs only by slash or letter case, to %s", a.Line, a.From, a.To)
			}
		}
	}
}

func same(a, b *Row) bool { return a.To == b.To && a.status() == b.status() }

// own gives the key of a target that is of the site itself.
func (c *checker) own(to string) (Target, bool) {
	t, err := ParseTarget(to)
	return t, err == nil && to != "" && (t.Host == "" || c.hosts[t.Host])
}

// chains follows rows that lead to addresses which are led on.
func (c *checker) chains() {
	for _, key := range slices.Sorted(maps.Keys(c.from)) {
		i := c.from[key][0]
		r := &c.m.Rows[i]
		if c.drop[i] {
			continue
		}
		path, at, end := []string{key}, r.To, ""
		for {
			t, ok := c.own(at)
			if !ok {
				end = at
				break
			}
			if slices.Contains(path, t.Key()) {
				c.circle(i, path, t.Key())
				break
			}
			next := c.from[t.Key()]
			if len(next) == 0 {
				end = at
				break
			}
			path = append(path, t.Key())
			at = c.m.Rows[next[0]].To
			if c.m.Rows[next[0]].status() == 410 {
				break
			}
		}
		if len(path) > 1 && end != "" {
			c.find(i, BadChain, true, "it leads on: %s → %s; it should lead there at once", strings.Join(path, " → "), end)
			if c.opts.Fix {
				defer func() { r.To = end }() // when all have been followed
			}
		}
	}
}

func (c *checker) circle(i int, path []string, back string) {
	switch {
	case len(path) == 1:
		c.find(i, BadSelf, true, "it leads to itself")
		c.drop[i], c.removed[i] = c.opts.Fix, c.opts.Fix
	case back == path[0]:
		c.find(i, BadLoop, false, "it leads in a circle: %s → %s", strings.Join(path, " → "), back)
	default:
		c.find(i, BadLoop, false, "it leads into a circle: %s → %s", strings.Join(path, " → "), back)
	}
}

// askAll asks the new site for all old and new addresses that are known, each once.
func (c *checker) askAll(ctx context.Context) error {
	want := map[string]bool{}
	for key, rows := range c.from {
		want[key] = true
		for _, i := range rows {
			if t, ok := c.own(c.m.Rows[i].To); ok {
				want[t.Key()] = true
			}
		}
	}
	if c.opts.Old != nil { // what rules catch must not be a page, and a page needs no row
		for _, e := range c.opts.Old.Pages {
			want[e.Path] = true
		}
	}
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(cmp.Or(c.opts.Workers, 4))
	for _, key := range slices.Sorted(maps.Keys(want)) {
		g.Go(func() error {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			a := c.opts.Ask(ctx, key)
			mu.Lock()
			defer mu.Unlock()
			c.asked[key] = a
			if c.opts.Asked != nil {
				c.opts.Asked()
			}
			return nil
		})
	}
	return g.Wait()
}

// target looks whether the old address is free and the new page is there.
func (c *checker) target(i int) {
	r := &c.m.Rows[i]
	if c.drop[i] || c.skip[i] || IsRule(r.From) {
		return
	}
	f, err := ParseTarget(r.From)
	if err != nil {
		return
	}
	if c.live[f.Key()] || c.asked[f.Key()].Status == http.StatusOK {
		c.find(i, BadLive, true, "the old address is a page of the new site, which nobody could read any more")
		c.drop[i], c.removed[i] = c.opts.Fix, c.opts.Fix
		return
	}
	t, own := c.own(r.To)
	if r.To == "" || !own {
		return
	}
	if a, ok := c.asked[t.Key()]; ok {
		switch {
		case a.Err != nil:
			c.find(i, BadTarget, false, "the new page does not answer: %v", a.Err)
		case a.Location != "":
			c.find(i, BadTarget, a.Location[0] == '/', "the new page is led on to %s", a.Location)
			if c.opts.Fix && a.Location[0] == '/' && c.asked[t.Key()].Status < 400 {
				r.To = a.Location
			}
		case a.Status != http.StatusOK:
			c.find(i, BadTarget, false, "the new page answers with %d %s", a.Status, http.StatusText(a.Status))
		}
		return
	}
	if c.live == nil || c.live[t.Key()] {
		return
	}
	if near := c.near[loose(t.Key())]; near != "" {
		c.find(i, BadVariant, true, "the new page is %s", near)
		if c.opts.Fix {
			t.Path, t.Query, _ = strings.Cut(near, "?")
			t.HasQuery = t.Query != ""
			r.To = t.String()
		}
		return
	}
	if webpath.KindOf(t.Path) == webpath.Page { // inventories hold no images, and documents if asked for
		c.find(i, BadTarget, false, "the new page is not in the new inventory")
	}
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
	for _, r := range c.set.Rules {
		c.rule(line[r.From], r)
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

func (c *checker) rule(i int, r *Rule) {
	pages := maps.Clone(c.live)
	for key, a := range c.asked {
		if a.Status == http.StatusOK {
			if pages == nil {
				pages = map[string]bool{}
			}
			pages[key] = true
		}
	}
	for _, key := range slices.Sorted(maps.Keys(pages)) {
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
