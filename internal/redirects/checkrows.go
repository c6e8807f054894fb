package redirects

import (
	"cmp"
	"context"
	"hovix/internal/webpath"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"
)

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
