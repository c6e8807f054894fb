package redirects

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"hovix/internal/crawl"
	"hovix/internal/webpath"
)

// GatherOptions says what belongs into an inventory.
type GatherOptions struct {
	Hosts      []string // of the site; empty: those of all addresses
	BasePath   string   // only what is under it
	Documents  bool     // PDF files and the like too
	NotFound   bool     // addresses that are asked for but not found (404), too
	Everything bool     // the root, errors and redirects too
}

// Reasons for which an address is not in an inventory.
const (
	DropHost      = "other hosts"
	DropBase      = "outside of the base path"
	DropAsset     = "images, styles, scripts, feeds and other files"
	DropDocument  = "documents (--documents keeps them)"
	DropTracking  = "with tracking parameters, counted with their page"
	DropError     = "errors"
	DropRedirect  = "redirects"
	DropTwice     = "seen before"
	DropRoot      = "the front page"
	DropCanonical = "whose page names another address as its own"
	DropNone      = "no addresses"
	DropInside    = "of the site's machinery"
	DropRobot     = "visits of robots"
	DropMethod    = "requests that are no visits"
	DropPeriod    = "visits outside of the period"
	DropLine      = "lines that cannot be read"
)

// Gathered is an inventory with the account of what is not in it.
type Gathered struct {
	Inventory
	Dropped map[string]int64 `json:"dropped"`
	Seen    map[string]int64 `json:"seen"` // addresses by source
	Notes   []string         `json:"notes,omitempty"`
}

// Gatherer puts addresses from any sources together.
type Gatherer struct {
	opts  GatherOptions
	hosts map[string]bool
	base  string
	pages map[string]*Entry
	order []*Entry
	res   Gathered
}

// NewGatherer makes a gatherer.
func NewGatherer(opts GatherOptions) *Gatherer {
	g := &Gatherer{opts: opts, pages: map[string]*Entry{}, base: "/", hosts: map[string]bool{}}
	g.res.Dropped, g.res.Seen = map[string]int64{}, map[string]int64{}
	for _, h := range opts.Hosts {
		g.ownHost(h)
	}
	if b := strings.Trim(opts.BasePath, "/"); b != "" {
		g.base = webpath.Normal("/" + b + "/")
	}
	return g
}

// ownHost takes a host name and its twin with or without www.
func (g *Gatherer) ownHost(h string) {
	h = strings.TrimPrefix(strings.ToLower(h), "www.")
	g.hosts[h], g.hosts["www."+h] = true, true
}

// Add takes an address with what is known of it. What an address has been told before is
// kept, and what is new is added.
func (g *Gatherer) Add(address string, e Entry) {
	for _, s := range e.Sources {
		g.res.Seen[s]++
	}
	t, err := ParseTarget(address)
	if err != nil {
		if t, err = ParseTarget("https://" + address); err != nil || !strings.Contains(t.Host, ".") {
			g.drop(DropNone, 1)
			return
		}
	}
	if t.Host != "" && len(g.hosts) > 0 && !g.hosts[t.Host] {
		g.drop(DropHost, 1)
		return
	}
	var tracked bool
	if t.Query, tracked = webpath.CutTracking(t.Query); t.Query == "" {
		t.HasQuery = false
	}
	if reason := g.refuse(t.Path); reason != "" {
		g.drop(reason, 1)
		return
	}
	e.Path = t.Key()
	old := g.pages[e.Path]
	if old == nil {
		if e.Type = "page"; webpath.KindOf(t.Path) == webpath.Document {
			e.Type = "document"
		}
		g.pages[e.Path] = &e
		g.order = append(g.order, &e)
		return
	}
	if tracked {
		g.drop(DropTracking, 1)
	} else if len(e.Sources) == 1 && slices.Contains(old.Sources, e.Sources[0]) && e.Sources[0] != "log" {
		g.drop(DropTwice, 1)
	}
	old.merge(&e)
}

func (g *Gatherer) drop(reason string, n int64) {
	if n != 0 {
		g.res.Dropped[reason] += n
	}
}

func (g *Gatherer) refuse(path string) string {
	if !strings.HasPrefix(path, g.base) && path+"/" != g.base {
		return DropBase
	}
	switch webpath.KindOf(path) {
	case webpath.Asset:
		return DropAsset
	case webpath.Inside:
		return DropInside
	case webpath.Document:
		if !g.opts.Documents {
			return DropDocument
		}
	}
	return ""
}

// merge adds what another source knows.
func (e *Entry) merge(o *Entry) {
	for _, p := range []struct {
		to   *string
		from string
	}{{&e.Title, o.Title}, {&e.Canonical, o.Canonical}, {&e.Language, o.Language}, {&e.Modified, o.Modified}} {
		if *p.to == "" {
			*p.to = p.from
		}
	}
	// What the page itself showed is compared with what pages of the other site show.
	if o.Fingerprint != "" && (e.Fingerprint == "" || slices.Contains(o.Sources, "links")) {
		e.Fingerprint, e.Words = o.Fingerprint, o.Words
	}
	if o.Status != 0 && (e.Status == 0 || e.Status >= 300 && o.Status < 300) {
		e.Status = o.Status
	}
	e.Visits += o.Visits
	for _, s := range o.Sources {
		if !slices.Contains(e.Sources, s) {
			e.Sources = append(e.Sources, s)
		}
	}
}

// Crawl takes the pages that a crawl finds. Its answers count more than what others say.
func (g *Gatherer) Crawl(ctx context.Context, opts crawl.Options) (*crawl.Result, error) {
	opts.Documents = g.opts.Documents
	opts.Found = func(p crawl.Page) {
		e := Entry{Status: p.Status, Title: p.Title, Canonical: p.Canonical, Language: p.Language, Modified: p.Modified, Words: p.Words, Fingerprint: p.Fingerprint, Sources: []string{"links"}}
		if p.Sitemap {
			e.Sources = []string{"sitemap"}
		}
		if e.Canonical == p.Key {
			e.Canonical = ""
		}
		switch {
		case p.Error != "" && e.Status < 400:
			e.Status = 599 // no answer
		case p.Status == 200 && !crawl.IsText(p.Type) && webpath.KindOf(cutQuery(p.Key)) == webpath.Page:
			g.res.Seen[e.Sources[0]]++
			g.drop(DropAsset, 1)
			return
		}
		g.Add(p.Key, e)
	}
	res, err := crawl.Run(ctx, opts)
	if err != nil {
		return res, err
	}
	for reason, n := range res.Dropped {
		switch reason {
		case crawl.OtherHost:
			reason = DropHost
		case crawl.AssetFile:
			reason = DropAsset
		case crawl.DocumentOff:
			reason = DropDocument
		case crawl.OutsideBase:
			reason = DropBase
		case crawl.MachineryOf:
			reason = DropInside
		}
		g.drop(reason, n)
	}
	g.res.Notes = append(g.res.Notes, res.Notes...)
	for host, n := range res.OtherHosts { // a site that was moved or copied may still link to its other name
		if n >= 10 && n > res.Asked+res.Taken && 2*int64(n) > res.Dropped[crawl.OtherHost] {
			g.res.Notes = append(g.res.Notes, fmt.Sprintf("%d links lead to %s; if that is the same site, add --host %s", n, host, host))
		}
	}
	if res.Full {
		g.res.Notes = append(g.res.Notes, fmt.Sprintf("the crawl ended at its limit of %d addresses; --limit sets another", res.Asked+res.Taken))
	}
	return res, nil
}

func cutQuery(key string) string {
	p, _, _ := strings.Cut(key, "?")
	return p
}

// Sitemap takes the addresses of a sitemap in a file.
func (g *Gatherer) Sitemap(r io.Reader) error {
	return crawl.ParseSitemap(r, func(e crawl.SitemapEntry) {
		g.Add(e.Loc, Entry{Modified: e.LastMod, Sources: []string{"sitemap"}})
	}, func(loc string) {
		g.res.Notes = append(g.res.Notes, fmt.Sprintf("the sitemap names another one, %s, which is not in the file; give its address", loc))
	})
}

// Result gives the inventory: the pages that answer, each under one address.
func (g *Gatherer) Result() *Gathered {
	g.canonical()
	for _, e := range g.order {
		reason := ""
		switch root := e.Path == g.base || e.Path+"/" == g.base; {
		case g.opts.Everything:
		case root:
			reason = DropRoot
		case e.Status == http.StatusNotFound && g.opts.NotFound:
		case e.Status >= 400:
			reason = DropError
		case e.Status >= 300 && e.Status != 304:
			reason = DropRedirect
		case e.Type == "":
			reason = DropCanonical
		}
		if reason != "" {
			g.drop(reason, 1)
			continue
		}
		g.res.Pages = append(g.res.Pages, *e)
	}
	g.res.sort()
	return &g.res
}

// canonical drops addresses whose page names another one of the inventory as its own,
// which gets their visits. A page that names one that nobody has seen stays.
func (g *Gatherer) canonical() {
	if g.opts.Everything {
		return
	}
	for _, e := range g.order {
		if e.Canonical == "" || e.Canonical == e.Path {
			continue
		}
		t, err := ParseTarget(e.Canonical)
		if err != nil || t.Host != "" && len(g.hosts) > 0 && !g.hosts[t.Host] {
			continue
		}
		if own := g.pages[t.Key()]; own != nil && own != e && own.Status < 300 {
			own.Visits += e.Visits
			e.Type = ""
		}
	}
}
