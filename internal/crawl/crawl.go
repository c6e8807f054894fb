package crawl

import (
	"context"
	"errors"
	"net/url"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"hovix/internal/webpath"
)

// Page is one address that was asked, and what it answered.
type Page struct {
	Key         string `json:"key"` // path with query, normal
	Status      int    `json:"status"`
	Type        string `json:"type,omitempty"` // media type
	Title       string `json:"title,omitempty"`
	Canonical   string `json:"canonical,omitempty"` // a key on the same site, or an absolute address
	Language    string `json:"language,omitempty"`
	Modified    string `json:"modified,omitempty"` // as the server or the sitemap says
	Words       int    `json:"words,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	To          string `json:"to,omitempty"` // of a redirect: a key on the same site, or an absolute address
	Depth       int    `json:"depth"`        // links from the start
	Sitemap     bool   `json:"sitemap,omitempty"`
	NoIndex     bool   `json:"noindex,omitempty"`
	Error       string `json:"error,omitempty"`
}

// Options sets what is crawled.
type Options struct {
	Start        string // absolute address of the first page, or of a sitemap
	BasePath     string // nothing above it is asked; "": the folder of Start
	Hosts        []string
	Client       *Client
	Agent        string
	Workers      int     // requests at a time; 0: 4
	Rate         float64 // requests a second; 0: as fast as the server answers
	MaxPages     int     // 0: 100,000
	MaxDepth     int     // 0: 60
	NoLinks      bool    // only what sitemaps name
	NoSitemaps   bool
	Documents    bool // PDF files and the like too
	IgnoreRobots bool
	Journal      string // file in which progress is kept; a run with the same file goes on from there
	Found        func(Page)
	Asked        func(n int) // told of every page, with what waits
}

// Result tells how a crawl went.
type Result struct {
	Origin   string           // scheme and host that answered
	Asked    int              // addresses
	Taken    int              // pages of an earlier run, out of the journal
	Dropped  map[string]int64 // addresses that were not asked, by reason
	Sitemaps int              // sitemaps that were read
	Full     bool             // there was more than MaxPages
	Notes    []string

	OtherHosts map[string]int // addresses of other hosts that are linked to, by host
}

// Reasons for which an address is not asked.
const (
	OtherHost   = "other hosts"
	OutsideBase = "outside of the base path"
	AssetFile   = "images, styles, scripts and other files"
	DocumentOff = "documents"
	MachineryOf = "of the site's machinery"
	ByRobots    = "not allowed by robots.txt"
	TooDeep     = "too many links from the start"
	ManyQueries = "too many queries of one path"
	Looping     = "paths that repeat themselves"
)

const (
	maxQueries = 300  // addresses that differ only in their query
	maxKey     = 2000 // bytes of an address
	maxLinks   = 5000 // of one page that are followed
)

// ErrStart says that the first page cannot be had.
var ErrStart = errors.New("the start of the crawl cannot be read")

type item struct {
	key     string
	depth   int
	sitemap bool
	lastMod string
}

type crawler struct {
	opts   Options
	client *Client
	origin *url.URL
	hosts  map[string]bool
	base   string
	robots *Robots

	first    *Response // what the start answered: it is not asked again
	firstErr error
	firstKey string

	mu      sync.Mutex
	more    *sync.Cond
	queue   []item
	active  int
	stopped bool
	seen    map[uint64]struct{}
	taken   map[uint64]struct{} // of an earlier run
	queries map[uint64]int
	res     Result
	pace    Pace
	journal *journal
}

// Run crawls a site. An error of a single address is in its Page; an error of Run is
// that the start cannot be had, of the journal, or of ctx. Found is called by one
// goroutine at a time.
func Run(ctx context.Context, opts Options) (*Result, error) {
	c := &crawler{opts: opts, client: opts.Client, seen: map[uint64]struct{}{}, taken: map[uint64]struct{}{}, queries: map[uint64]int{}, hosts: map[string]bool{}}
	c.more = sync.NewCond(&c.mu)
	c.res.Dropped, c.res.OtherHosts = map[string]int64{}, map[string]int{}
	if c.client == nil {
		c.client = NewClient(ClientOptions{Workers: opts.Workers, Agent: opts.Agent})
	}
	if c.opts.Workers <= 0 {
		c.opts.Workers = 4
	}
	if c.opts.MaxPages <= 0 {
		c.opts.MaxPages = 100_000
	}
	if c.opts.MaxDepth <= 0 {
		c.opts.MaxDepth = 60
	}
	if c.opts.Agent == "" {
		c.opts.Agent = DefaultAgent
	}
	if err := c.begin(ctx); err != nil {
		return &c.res, err
	}
	err := c.run(ctx)
	if c.journal != nil {
		err = errors.Join(err, c.journal.close(err == nil && !c.res.Full))
	}
	return &c.res, err
}

// key is what tells addresses of a site from others.
func key(u *url.URL) string {
	k := webpath.Normal("/" + strings.TrimPrefix(u.EscapedPath(), "/"))
	if q, _ := webpath.CutTracking(u.RawQuery); q != "" {
		k += "?" + q
	}
	return k
}

// add puts an address into the queue, if it is one to be asked and has not been.
func (c *crawler) add(it item, u *url.URL) {
	reason := c.refuse(it, u)
	h := hashOf(it.key)
	if reason == OtherHost {
		h = hashOf(u.Host + it.key)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, seen := c.seen[h]; seen {
		return
	}
	if reason == "" && strings.Contains(it.key, "?") {
		path, _, _ := strings.Cut(it.key, "?")
		p := hashOf(path + "?")
		if c.queries[p]++; c.queries[p] > maxQueries {
			reason = ManyQueries
		}
	}
	c.seen[h] = struct{}{}
	if reason == OtherHost && (len(c.res.OtherHosts) < 10_000 || c.res.OtherHosts[u.Host] > 0) {
		c.res.OtherHosts[u.Host]++
	}
	if reason != "" {
		c.res.Dropped[reason]++
		return
	}
	c.queue = append(c.queue, it)
	c.more.Signal()
}

func (c *crawler) refuse(it item, u *url.URL) string {
	path, _, _ := strings.Cut(it.key, "?")
	switch {
	case !c.hosts[strings.ToLower(u.Host)]:
		return OtherHost
	case !strings.HasPrefix(path, c.base) && path+"/" != c.base:
		return OutsideBase
	case webpath.KindOf(path) == webpath.Asset:
		return AssetFile
	case webpath.KindOf(path) == webpath.Inside:
		return MachineryOf
	case webpath.KindOf(path) == webpath.Document && !c.opts.Documents:
		return DocumentOff
	case it.depth > c.opts.MaxDepth:
		return TooDeep
	case len(it.key) > maxKey || repeats(path):
		return Looping
	case !c.robots.Allowed(u):
		return ByRobots
	}
	return ""
}

// repeats reports whether a path goes round in circles, as relative links that are
// wrong make it: a name that comes four times, or three times in a row.
func repeats(path string) bool {
	segments := strings.Split(strings.Trim(path, "/"), "/")
	if len(segments) < 3 {
		return false
	}
	times := map[string]int{}
	for i, s := range segments {
		if s == "" || s[0] >= '0' && s[0] <= '9' {
			continue
		}
		if times[s]++; times[s] > 3 || i >= 2 && s == segments[i-1] && s == segments[i-2] {
			return true
		}
	}
	return false
}

func (c *crawler) run(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.stopped = true
		c.more.Broadcast()
	})
	defer stop()
	var g errgroup.Group
	for range c.opts.Workers {
		g.Go(func() error {
			for {
				it, ok := c.next()
				if !ok {
					return nil
				}
				p, links := c.visit(ctx, it)
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err := c.done(p, links); err != nil {
					return err
				}
			}
		})
	}
	return g.Wait()
}

// next takes an address out of the queue; false when all is done.
func (c *crawler) next() (item, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for {
		for len(c.queue) > 0 { // what an earlier run has asked is not asked again
			if _, taken := c.taken[hashOf(c.queue[0].key)]; !taken {
				break
			}
			c.queue = c.queue[1:]
		}
		if len(c.queue) > 0 || c.active == 0 || c.stopped {
			break
		}
		c.more.Wait()
	}
	if c.stopped || len(c.queue) == 0 {
		c.more.Broadcast()
		return item{}, false
	}
	if c.res.Asked+c.res.Taken+c.active >= c.opts.MaxPages {
		c.res.Full, c.stopped = true, true
		c.more.Broadcast()
		return item{}, false
	}
	it := c.queue[0]
	c.queue = c.queue[1:]
	c.active++
	return it, true
}

// done keeps a page, and puts its links into the queue.
func (c *crawler) done(p Page, links []item) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.active--
	c.res.Asked++
	if c.active == 0 && len(c.queue) == 0 {
		c.more.Broadcast()
	}
	if c.opts.Found != nil {
		c.opts.Found(p)
	}
	if c.opts.Asked != nil {
		c.opts.Asked(len(c.queue))
	}
	if c.journal != nil {
		if err := c.journal.write(p, links); err != nil {
			c.stopped = true
			c.more.Broadcast()
			return err
		}
	}
	return nil
}

// take repeats what an earlier run has found.
func (c *crawler) take(p Page, links []item) {
	h := hashOf(p.Key)
	c.seen[h], c.taken[h] = struct{}{}, struct{}{}
	c.res.Taken++
	if c.opts.Found != nil {
		c.opts.Found(p)
	}
	for _, l := range links {
		if u, err := c.origin.Parse(l.key); err == nil {
			c.add(l, u)
		}
	}
}
