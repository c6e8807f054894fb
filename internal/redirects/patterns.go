package redirects

import (
	"cmp"
	"container/heap"
	"path"
	"slices"
	"strings"
)

// Pattern is a rule that was found in a map, with what it stands for.
type Pattern struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Status int    `json:"status"`
	Rows   int    `json:"rows"`  // that it explains
	Catch  int    `json:"catch"` // known old addresses that it would catch, right or wrong
}

// fewestRows make a pattern.
const fewestRows = 3

// Compact is a map in which rules stand for rows.
type Compact struct {
	Map      *Map      `json:"-"`
	Patterns []Pattern `json:"patterns"`
	Single   int       `json:"single"` // rows that no rule explains
	Rows     int       `json:"rows"`   // of the map before
}

// Patterns finds the rules that explain most rows of a map, and gives the map with rules
// in their place: single rows first, which count before rules. Each rule is proved: on
// every known old address the result is the row's, and none of live, which are addresses
// of the new site, is caught.
func Patterns(m *Map, live []string) *Compact {
	f := &finder{live: live, templates: map[template]*group{}}
	res := &Compact{Map: &Map{More: m.More, Format: m.Format, order: m.order}, Rows: len(m.Rows)}
	for i := range m.Rows {
		row := &m.Rows[i]
		if IsRule(row.From) {
			res.Map.Rows = append(res.Map.Rows, *row)
			continue
		}
		t, err := ParseTarget(row.From)
		if err != nil || row.status() == 410 && row.To != "" {
			res.Map.Rows = append(res.Map.Rows, *row)
			continue
		}
		f.rows = append(f.rows, row)
		f.keys = append(f.keys, t.Key())
	}
	f.collect()
	rules := f.choose()
	f.rest(rules, res)
	return res
}

// template is a rule that a row could be an example of.
type template struct{ from, to string }

// group is the rows that are examples of a template.
type group struct {
	template
	status int
	rows   []int
	left   int // rows that no rule explained when it was last looked at
}

type finder struct {
	rows      []*Row
	keys      []string
	live      []string
	templates map[template]*group
	explained []*Rule // by which a row is
}

// collect finds all templates.
func (f *finder) collect() {
	f.explained = make([]*Rule, len(f.rows))
	for i, row := range f.rows {
		if row.Score != ByHand && row.Score < Sure {
			continue // what is doubtful makes no rule, but may be explained by one
		}
		for _, t := range templatesOf(f.keys[i], row.To) {
			g := f.templates[t]
			if g == nil {
				g = &group{template: t, status: row.status()}
				f.templates[t] = g
			}
			if g.status == row.status() {
				g.rows = append(g.rows, i)
			}
		}
	}
}

// templatesOf gives the rules that a pair of addresses could be an example of: its name
// or the end of its path is kept, and numbers in folders stand for any.
func templatesOf(from, to string) (out []template) {
	if to == "" || strings.ContainsAny(from, "{}") || strings.ContainsAny(to, "{}") {
		return nil
	}
	fromPath, query, hasQuery := strings.Cut(from, "?")
	if hasQuery {
		return queryTemplates(fromPath, query, to)
	}
	fs := strings.Split(strings.TrimPrefix(fromPath, "/"), "/")
	end := ""
	if fs[len(fs)-1] == "" { // a slash at the end
		if fs, end = fs[:len(fs)-1], "/"; len(fs) == 0 {
			return nil
		}
	}
	last := len(fs) - 1
	stem := fs[last]
	if ext := path.Ext(stem); ext != "" && len(ext) <= 6 && len(ext) < len(stem) && strings.Trim(ext[1:], "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ5") == "" {
		stem, end = stem[:len(stem)-len(ext)], ext+end
	}
	if stem == "" {
		return nil
	}
	// The end of the path is kept, from one of its folders on.
	for k := 0; k <= last; k++ {
		kept := strings.Join(append(slices.Clone(fs[k:last]), stem), "/")
		at := strings.LastIndex(to, "/"+kept)
		if at < 0 || !boundary(to[at+1+len(kept):]) {
			continue
		}
		name := "{rest}"
		if k == last {
			name = "{name}"
		}
		target := to[:at+1] + name + to[at+1+len(kept):]
		for _, head := range heads(fs[:k], &target) {
			out = append(out, template{"/" + head.from + name + end, head.to})
		}
	}
	// It all leads to one page.
	for k := 1; k <= last; k++ {
		out = append(out, template{"/" + strings.Join(fs[:k], "/") + "/{rest}", to})
	}
	return out
}

// boundary reports whether a name ends before s.
func boundary(s string) bool { return s == "" || strings.ContainsRune("/.?#", rune(s[0])) }

// heads gives the beginnings of a rule: as it stands, and with its numbers as
// placeholders, which the new address may take up.
func heads(folders []string, target *string) (out []template) {
	plain := strings.Join(folders, "/")
	if plain != "" {
		plain += "/"
	}
	out = append(out, template{plain, *target})
	loose, to := slices.Clone(folders), *target
	found := false
	used := map[string]int{}
	for i, s := range folders {
		name := ""
		switch {
		case !isNumber(s):
			continue
		case len(s) == 4:
			name = "year"
		case len(s) <= 2 && used["year"] > 0 && used["month"] == 0:
			name = "month"
		case len(s) <= 2 && used["month"] > 0 && used["day"] == 0:
			name = "day"
		default:
			name = "id"
		}
		if used[name]++; used[name] > 1 {
			return out
		}
		loose[i], found = "{"+name+"}", true
		if at := strings.Index(to, "/"+s+"/"); at >= 0 {
			to = to[:at+1] + "{" + name + "}" + to[at+1+len(s):]
		}
	}
	if found {
		out = append(out, template{strings.Join(loose, "/") + "/", to})
	}
	return out
}

// queryTemplates: a number in the query is kept.
func queryTemplates(p, query, to string) (out []template) {
	name, value, ok := strings.Cut(query, "=")
	if !ok || strings.Contains(value, "&") || value == "" {
		return nil
	}
	kind := "{name}"
	if isNumber(value) {
		kind = "{id}"
	}
	if at := strings.LastIndex(to, "/"+value); at >= 0 && boundary(to[at+1+len(value):]) {
		out = append(out, template{p + "?" + name + "=" + kind, to[:at+1] + kind + to[at+1+len(value):]})
	}
	return out
}

// choose takes the rule that explains most of what is unexplained, again and again.
func (f *finder) choose() (rules []*Rule) {
	var groups []*group
	for _, g := range f.templates {
		if len(g.rows) >= fewestRows {
			groups = append(groups, g)
		}
	}
	left := func(g *group) (n int) {
		for _, i := range g.rows {
			if f.explained[i] == nil {
				n++
			}
		}
		return n
	}
	for _, g := range groups {
		g.left = len(g.rows)
	}
	q := (*groupHeap)(&groups)
	heap.Init(q)
	for q.Len() > 0 {
		g := groups[0]
		if n := left(g); n != g.left { // rules chosen since have explained some
			if g.left = n; n < fewestRows {
				heap.Pop(q)
			} else {
				heap.Fix(q, 0)
			}
			continue
		}
		heap.Pop(q)
		r, err := ParseRule(g.from, g.to, g.status)
		if err != nil || !f.proved(r) {
			continue
		}
		rules = append(rules, r)
		for _, i := range g.rows {
			if f.explained[i] == nil {
				f.explained[i] = r
			}
		}
	}
	return rules
}

// groupHeap gives the group first that explains most; among equals the rule that says
// most: {name} before {rest}, a long head before a short one.
type groupHeap []*group

func (h groupHeap) Len() int      { return len(h) }
func (h groupHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h groupHeap) Less(i, j int) bool {
	a, b := h[i], h[j]
	return cmp.Or(cmp.Compare(b.left, a.left), cmp.Compare(strings.Count(a.from, "{rest}"), strings.Count(b.from, "{rest}")), cmp.Compare(len(b.from), len(a.from)), strings.Compare(a.from, b.from), strings.Compare(a.to, b.to)) < 0
}

// Push is heap.Interface.
func (h *groupHeap) Push(x any) { *h = append(*h, x.(*group)) }

// Pop is heap.Interface.
func (h *groupHeap) Pop() any {
	old := *h
	g := old[len(old)-1]
	*h = old[:len(old)-1]
	return g
}

// proved reports whether a rule is right for nearly all rows that it catches, and
// catches no page of the new site. Rows for which it is not right stay single, and come
// first; but where it is wrong as often as right, it is no rule.
func (f *finder) proved(r *Rule) bool {
	for _, key := range f.live {
		if _, caught := r.Apply(key); caught {
			return false
		}
	}
	right, wrong := 0, 0
	for i, key := range f.keys {
		if to, caught := r.Apply(key); caught {
			if to == f.rows[i].To && r.Status == f.rows[i].status() {
				right++
			} else if by := f.explained[i]; by == nil || by.literals() < r.literals() { // it would come first
				wrong++
			}
		}
	}
	return right >= fewestRows && 2*right >= 3*wrong
}

// rest puts the rules into an order and keeps what they do not explain as single rows.
func (f *finder) rest(rules []*Rule, res *Compact) {
	slices.SortStableFunc(rules, func(a, b *Rule) int { return cmp.Compare(b.literals(), a.literals()) })
	by := map[*Rule]*Pattern{}
	for _, r := range rules {
		by[r] = &Pattern{From: r.From, To: r.To, Status: r.Status}
	}
	explains := make([]*Rule, len(f.rows)) // each row
	for i, row := range f.rows {
		r, to := firstOf(rules, f.keys[i])
		if r == nil {
			continue
		}
		by[r].Catch++
		if to == row.To && r.Status == row.status() {
			by[r].Rows++
			explains[i] = r
		}
	}
	for i, row := range f.rows {
		// A rule may have few left, for others that come first have taken its rows.
		if r := explains[i]; r == nil || by[r].Rows < fewestRows {
			res.Map.Rows = append(res.Map.Rows, *row)
			res.Single++
		}
	}
	for _, r := range rules {
		p := by[r]
		if p.Rows < fewestRows {
			continue
		}
		res.Patterns = append(res.Patterns, *p)
		res.Map.Rows = append(res.Map.Rows, Row{From: r.From, To: r.To, Status: r.Status, Score: ByHand, Reason: "rule for " + plural(p.Rows, "row", "rows")})
	}
	slices.SortStableFunc(res.Patterns, func(a, b Pattern) int { return cmp.Compare(b.Rows, a.Rows) })
}
