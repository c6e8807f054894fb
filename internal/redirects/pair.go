package redirects

import (
	"cmp"
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// Sure is the score from which a row needs no look by a person.
const Sure = 0.9

// PairOptions sets how pages are paired. The zero value is good.
type PairOptions struct {
	Known  *Map   // rows that a person has set are kept, with their further columns
	Base   string // path of the new site's front page; "": /
	Status int    // of the rows; 0: 301
}

// Alternative is a page that a row could lead to instead.
type Alternative struct {
	From   string  `json:"from"`
	To     string  `json:"to"`
	Score  float64 `json:"score"`
	Reason string  `json:"reason"`
}

// Paired is a map with what does not stand in it.
type Paired struct {
	Map          *Map          `json:"-"`
	Rows         int           `json:"rows"`
	Sure         int           `json:"sure"`
	Doubtful     int           `json:"doubtful"`
	Sections     int           `json:"sections"` // of these, without a counterpart: they lead to a section or the front page
	ByHand       int           `json:"byHand"`
	Unchanged    int           `json:"unchanged"` // old addresses that the new site has
	Visits       int64         `json:"visits"`    // of the rows
	SureVisits   int64         `json:"sureVisits"`
	Alternatives []Alternative `json:"alternatives"`
}

// candidate is a new page for an old one.
type candidate struct {
	to     *feature
	score  float64
	weight float64 // what the score comes from, without its bound: natural logarithms of odds
	why    []string
}

// Pair makes the redirect map from an old inventory to a new one. docs/redirects.md
// explains the signals and the score.
func Pair(ctx context.Context, old, new *Inventory, opts PairOptions) (*Paired, error) {
	if opts.Base == "" {
		opts.Base = "/"
	}
	p := &pairer{opts: opts, index: newIndex(new.Pages), res: &Paired{Map: &Map{}}}
	cutOld := titleCutter(old.Pages)
	byHand := map[string]bool{}
	if opts.Known != nil {
		p.takeKnown(byHand)
	}
	for i := range old.Pages {
		e := &old.Pages[i]
		switch {
		case byHand[e.Path]:
		case p.index.paths[e.Path] != nil:
			p.res.Unchanged++
			p.still = append(p.still, featureOf(e, cutOld))
		default:
			p.old = append(p.old, featureOf(e, cutOld))
		}
	}
	p.names, p.titles, p.ids = map[string]int{}, map[string]int{}, map[string]int{}
	cutCommon(slices.Concat(p.old, p.still))
	for _, f := range slices.Concat(p.old, p.still) {
		p.index.count(f)
		p.names[f.name]++
		p.titles[f.title]++
		p.ids[f.id]++
	}
	p.found = make([][]candidate, len(p.old))
	if err := p.each(ctx, p.first); err != nil {
		return nil, err
	}
	p.learn()
	if err := p.each(ctx, p.second); err != nil {
		return nil, err
	}
	p.compete()
	p.rows()
	return p.res, nil
}

type pairer struct {
	opts     PairOptions
	index    *index
	old      []*feature
	still    []*feature // old pages that the new site has at the same address
	names    map[string]int
	titles   map[string]int
	ids      map[string]int
	found    [][]candidate                 // of each old page, the best first
	sections map[string]*votes             // of old folders, with all that lies deeper
	moves    map[string]*votes             // of the beginnings of paths whose rest was kept
	whither  map[string]map[string]float64 // old folder → new folders, with how surely
	trust    float64                       // that a number in an address is kept; 0: nobody knows
	res      *Paired
}

// votes tells where pages have gone, by how many have gone there.
type votes struct {
	to  map[string]int
	all int
}

func (v *votes) add(to string) {
	if v.to == nil {
		v.to = map[string]int{}
	}
	v.to[to]++
	v.all++
}

func (v *votes) best() (to string) {
	for t, n := range v.to {
		if n > v.to[to] || n == v.to[to] && t < to {
			to = t
		}
	}
	return to
}

// each does something for all old pages, on all processors.
func (p *pairer) each(ctx context.Context, do func(i int)) error {
	g, ctx := errgroup.WithContext(ctx)
	n := runtime.GOMAXPROCS(0)
	for w := range n {
		g.Go(func() error {
			for i := w; i < len(p.old); i += n {
				if i/n%256 == 0 && ctx.Err() != nil {
					return context.Cause(ctx)
				}
				do(i)
			}
			return nil
		})
	}
	return g.Wait()
}

// kept is how many candidates of a page are remembered.
const kept = 6

func (p *pairer) first(i int) { p.weigh(i, p.index.candidates(p.old[i], nil)) }

// second looks again at pages that are not sure yet, now that it is known where their
// section has gone.
func (p *pairer) second(i int) {
	if len(p.found[i]) > 0 && p.found[i][0].score >= 0.97 {
		return
	}
	p.weigh(i, p.index.candidates(p.old[i], p.expected(p.old[i])))
}

// weigh scores candidates and keeps the best.
func (p *pairer) weigh(i int, to []*feature) {
	list := make([]candidate, 0, len(to))
	for _, n := range to {
		if c := p.score(p.old[i], n); c.score >= 0.25 && len(c.why) > 0 {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(b.weight, a.weight), strings.Compare(a.to.entry.Path, b.to.entry.Path))
	})
	p.found[i] = list[:min(len(list), kept)]
}

// lastName is the name as it stands at the end of bare.
func (f *feature) lastName() string {
	return f.bare[strings.LastIndexByte(f.bare, '/')+1:]
}

// settle gives the score of the best candidate, less where another is nearly as good.
func (p *pairer) settle(list []candidate) float64 {
	best := list[0].score
	if len(list) < 2 {
		return best
	}
	switch lead := list[0].weight - list[1].weight; {
	case lead < 0.3:
		return min(best, 0.6)
	case lead < 0.7:
		return min(best, 0.85)
	}
	return best
}

// compete makes an old page less sure whose new page is another one's more surely: the
// other is what became of it, and this one only looks like it.
func (p *pairer) compete() {
	type claim struct {
		i      int
		weight float64
	}
	best := map[*feature]claim{}
	for i := range p.old {
		if len(p.found[i]) == 0 {
			continue
		}
		c := &p.found[i][0]
		if has, ok := best[c.to]; !ok || c.weight > has.weight {
			best[c.to] = claim{i, c.weight}
		}
	}
	taken := map[string]bool{} // new pages that stand at their old address
	for _, f := range p.still {
		taken[f.entry.Path] = true
	}
	for i := range p.old {
		if len(p.found[i]) == 0 {
			continue
		}
		c := &p.found[i][0]
		f := p.old[i]
		other := best[c.to]
		stronger := other.i != i && other.weight-c.weight > 0.3
		if !stronger && !taken[c.to.entry.Path] {
			continue
		}
		if f.bare != c.to.bare {
			c.score = min(c.score, 0.75)
			c.why = append(c.why, "another page claims it")
		}
	}
}

// rows writes the map: first what is doubtful, by visits, then what is sure.
func (p *pairer) rows() {
	m := p.res.Map
	for i, f := range p.old {
		row := Row{From: f.entry.Path, Status: p.opts.Status, Visits: f.entry.Visits}
		list := p.found[i]
		if len(list) > 0 && list[0].score >= 0.35 {
			row.To, row.Score = list[0].to.entry.Path, p.settle(list)
			row.Reason = strings.Join(list[0].why, "; ")
			if row.Score < list[0].score {
				row.Reason += "; a close second"
			}
		} else {
			row.To, row.Score, row.Reason = p.nearest(f)
			p.res.Sections++
		}
		row.Score = stamp(&row)
		if row.Score < Sure {
			for _, c := range list {
				if c.to.entry.Path == row.To {
					continue
				}
				p.res.Alternatives = append(p.res.Alternatives, Alternative{row.From, c.to.entry.Path, math.Round(c.score*100) / 100, strings.Join(c.why, "; ")})
			}
		}
		m.Rows = append(m.Rows, row)
	}
	p.addMore()
	slices.SortStableFunc(m.Rows, func(a, b Row) int {
		return cmp.Or(cmp.Compare(rank(&a), rank(&b)), cmp.Compare(b.Visits, a.Visits), cmp.Compare(a.Score, b.Score), strings.Compare(a.From, b.From))
	})
	for i := range m.Rows {
		r := &m.Rows[i]
		p.res.Visits += r.Visits
		switch rank(r) {
		case 0:
			p.res.Doubtful++
		default:
			p.res.SureVisits += r.Visits
			if r.Score == ByHand {
				p.res.ByHand++
			} else {
				p.res.Sure++
			}
		}
	}
	p.res.Rows = len(m.Rows)
	place := map[string]int{}
	for i := range m.Rows {
		place[m.Rows[i].From] = i
	}
	slices.SortStableFunc(p.res.Alternatives, func(a, b Alternative) int { return cmp.Compare(place[a.From], place[b.From]) })
}

func rank(r *Row) int {
	if r.Score != ByHand && r.Score < Sure {
		return 0
	}
	return 1
}

// nearest gives the page of the section that an old page without a counterpart belongs
// to, or the front page.
func (p *pairer) nearest(f *feature) (to string, score float64, why string) {
	const none = "no page like it; "
	for dir := f.dir; dir != ""; {
		if s := p.sections[dir]; s != nil {
			if n := p.index.section(s.best()); n != nil {
				return n.entry.Path, 0.3, none + "its section has gone there"
			}
		}
		if n := p.index.section(dir); n != nil {
			return n.entry.Path, 0.25, none + "the section of its name"
		}
		dir = parent(dir)
	}
	return p.opts.Base, 0.1, none + "the front page as a last resort"
}

// takeKnown keeps the rows of a map that a person has set: without a score, or with
// another target than the one that the score was written for.
func (p *pairer) takeKnown(byHand map[string]bool) {
	k := p.opts.Known
	p.res.Map.More, p.res.Map.Format, p.res.Map.order = k.More, k.Format, k.order
	for _, r := range k.Rows {
		if r.Score != ByHand && stamped(&r) {
			continue
		}
		r.Score = ByHand
		if t, err := ParseTarget(r.From); err == nil {
			byHand[t.Key()] = true
		}
		p.res.Map.Rows = append(p.res.Map.Rows, r)
	}
}

// addMore gives rows the further cells that they had in the map before.
func (p *pairer) addMore() {
	if p.opts.Known == nil || len(p.opts.Known.More) == 0 {
		return
	}
	more := map[string][]string{}
	for _, r := range p.opts.Known.Rows {
		more[r.From] = r.More
	}
	for i := range p.res.Map.Rows {
		if r := &p.res.Map.Rows[i]; r.More == nil {
			r.More = more[r.From]
		}
	}
}

// stamp gives the score of a row with two further digits, which are a check of its
// target: when a person changes the target, they no longer fit, and the row counts as
// set by hand.
func stamp(r *Row) float64 {
	return math.Floor(min(max(r.Score, 0.01), 0.99)*100)/100 + float64(mark(r))/10000
}

// stamped reports whether a row is as it was written.
func stamped(r *Row) bool { return int(math.Round(r.Score*10000))%100 == mark(r) }

// mark is a number from 1 to 99.
func mark(r *Row) int {
	h := fnv.New32a()
	fmt.Fprintf(h, "%s\x00%s\x00%d", r.From, r.To, r.status())
	return int(h.Sum32()%99) + 1
}
