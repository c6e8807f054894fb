package crawl

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"hovix/internal/page"
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
	slot    time.Time // of the next request
	hold    time.Time // the server asked for a pause until then
	journal *journal
}

// Run crawls a site. An error of a single address is in its Page; an error of Run is
// that the start cannot be had, of the journal, or of ctx. Found is called by one
// goroutine at a time.
func Run(ctx context.Context, opts Options) (*Result, error) {
	c := &crawler{opts: opts, client: opts.Client, seen: map[uint64]struct{}{}, taken: map[uint64]struct{}{}, queries: map[uint64]int{}, hosts: map[string]bool{}}
	c.more = sync.NewCond(&c.mu)
	c.res.Dropped = map[string]int64{}
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

// begin finds out where the site answers, and what it allows.
func (c *crawler) begin(ctx context.Context) error {
	start, err := url.Parse(c.opts.Start)
	if err != nil || start.Host == "" || (start.Scheme != "http" && start.Scheme != "https") {
		return fmt.Errorf("%w: %q is no address of the web", ErrStart, c.opts.Start)
	}
	for _, h := range append(c.opts.Hosts, start.Host) {
		h = strings.ToLower(h)
		c.hosts[h], c.hosts["www."+strings.TrimPrefix(h, "www.")], c.hosts[strings.TrimPrefix(h, "www.")] = true, true, true
	}
	if start.Path == "" {
		start.Path = "/"
	}
	isSitemap := webpath.KindOf(strings.TrimSuffix(start.Path, ".gz")) == webpath.Asset && strings.HasSuffix(strings.TrimSuffix(start.Path, ".gz"), ".xml")
	c.opts.NoLinks = c.opts.NoLinks || isSitemap // it was asked for itself
	for range 6 {
		if isSitemap { // it is asked when sitemaps are read
			break
		}
		res, err := c.client.Get(ctx, start.String(), IsText)
		if res == nil {
			return fmt.Errorf("%w: %s: %w", ErrStart, start, err)
		}
		if res.Location == nil || !c.hosts[strings.ToLower(res.Location.Host)] {
			if res.Status >= 400 {
				return fmt.Errorf("%w: %s answers with %d %s", ErrStart, start, res.Status, http.StatusText(res.Status))
			}
			if res.Location != nil {
				return fmt.Errorf("%w: %s leads to another host, %s", ErrStart, start, res.Location)
			}
			c.first, c.firstErr, c.firstKey = res, err, key(start)
			break
		}
		if same := key(res.Location) == key(start); !same { // an ordinary redirect of the first page
			c.first, c.firstErr, c.firstKey = res, err, key(start)
			break
		}
		start = res.Location
	}
	c.origin = &url.URL{Scheme: start.Scheme, Host: start.Host}
	c.res.Origin = c.origin.String()
	if c.base = c.opts.BasePath; c.base == "" {
		c.base = start.EscapedPath()[:strings.LastIndexByte(start.EscapedPath(), '/')+1]
		if isSitemap {
			c.base = "/"
		}
	}
	c.base = "/" + strings.Trim(webpath.Normal(c.base), "/") + "/"
	if c.base == "//" {
		c.base = "/"
	}
	c.askRobots(ctx)
	if c.opts.Journal != "" {
		if c.journal, err = openJournal(c.opts.Journal, c.res.Origin); err != nil {
			return err
		}
		if err := c.journal.replay(c.take); err != nil {
			return err
		}
	}
	if !isSitemap {
		c.add(item{key: key(start)}, start)
	}
	if isSitemap || !c.opts.NoSitemaps {
		c.sitemaps(ctx, start, isSitemap)
	}
	if isSitemap && c.res.Sitemaps == 0 && ctx.Err() == nil {
		return fmt.Errorf("%w: %s", ErrStart, strings.Join(c.res.Notes, "; "))
	}
	return ctx.Err()
}

func (c *crawler) askRobots(ctx context.Context) {
	c.robots = &Robots{}
	res, err := c.client.Get(ctx, c.res.Origin+"/robots.txt", func(string) bool { return true })
	if err != nil || res.Status != http.StatusOK {
		return
	}
	c.robots = ParseRobots(res.Body, c.opts.Agent)
	if c.opts.IgnoreRobots {
		c.robots.rules, c.robots.Delay = nil, 0
	}
	if d := min(c.robots.Delay, 10*time.Second); d > 0 && (c.opts.Rate == 0 || c.opts.Rate > 1/d.Seconds()) {
		c.opts.Rate = 1 / d.Seconds()
		c.res.Notes = append(c.res.Notes, fmt.Sprintf("robots.txt asks for a pause of %s between two requests, which makes this slow", d))
	}
}

// sitemaps reads the sitemaps that the site names, or the usual one.
func (c *crawler) sitemaps(ctx context.Context, start *url.URL, only bool) {
	list := c.robots.Sitemaps
	switch {
	case only:
		list = []string{start.String()}
	case len(list) == 0:
		list = []string{c.res.Origin + c.base + "sitemap.xml"}
	}
	asked := map[string]bool{}
	for len(list) > 0 && len(asked) < 2000 && ctx.Err() == nil {
		u, err := c.origin.Parse(list[0])
		list = list[1:]
		if err != nil || !c.hosts[strings.ToLower(u.Host)] || asked[key(u)] {
			continue
		}
		asked[key(u)] = true
		res, err := c.client.Get(ctx, c.origin.Scheme+"://"+c.origin.Host+key(u), func(string) bool { return true })
		for hops := 0; err == nil && res.Location != nil && hops < 3; hops++ {
			res, err = c.client.Get(ctx, res.Location.String(), func(string) bool { return true })
		}
		if err != nil || res.Status != http.StatusOK {
			if only || len(c.robots.Sitemaps) > 0 {
				c.res.Notes = append(c.res.Notes, fmt.Sprintf("the sitemap %s cannot be read: %s", u, what(res, err)))
			}
			continue
		}
		err = ParseSitemap(strings.NewReader(string(res.Body)), func(e SitemapEntry) {
			if to, err := u.Parse(e.Loc); err == nil {
				c.add(item{key: key(to), sitemap: true, lastMod: e.LastMod}, to)
			}
		}, func(loc string) { list = append(list, loc) })
		if err != nil && (only || len(c.robots.Sitemaps) > 0) {
			c.res.Notes = append(c.res.Notes, fmt.Sprintf("the sitemap %s cannot be read: %v", u, err))
		} else if err == nil {
			c.res.Sitemaps++
		}
	}
}

func what(res *Response, err error) string {
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("%d %s", res.Status, http.StatusText(res.Status))
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

// pace waits for the turn of a request.
func (c *crawler) pace(ctx context.Context) {
	c.mu.Lock()
	now := time.Now()
	at := c.hold
	if c.opts.Rate > 0 {
		if c.slot.Before(now) {
			c.slot = now
		}
		if c.slot.After(at) {
			at = c.slot
		}
		c.slot = c.slot.Add(time.Duration(float64(time.Second) / c.opts.Rate))
	}
	c.mu.Unlock()
	wait(ctx, at.Sub(now))
}

func wait(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// tries is how often an address is asked whose server is busy or does not answer.
const tries = 3

// visit asks one address.
func (c *crawler) visit(ctx context.Context, it item) (Page, []item) {
	p := Page{Key: it.key, Depth: it.depth, Sitemap: it.sitemap, Modified: it.lastMod}
	at, _ := url.Parse(c.res.Origin + it.key)
	if at == nil {
		p.Error = "no address"
		return p, nil
	}
	var res *Response
	var err error
	for try := 1; ; try++ {
		if it.key == c.firstKey && try == 1 {
			res, err = c.first, c.firstErr
			break
		}
		c.pace(ctx)
		if res, err = c.follow(ctx, at); ctx.Err() != nil {
			return p, nil
		}
		busy := res == nil || res.Status == http.StatusTooManyRequests || res.Status == http.StatusServiceUnavailable
		if !busy || try == tries {
			break
		}
		c.pause(res, try)
	}
	if res != nil {
		p.Status = res.Status
	}
	if err != nil {
		p.Error = err.Error()
		return p, nil
	}
	return p, c.read(&p, at, res)
}

// pause lets the server rest, as long as it asked for.
func (c *crawler) pause(res *Response, try int) {
	d := time.Duration(try*try) * 500 * time.Millisecond
	if res != nil {
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s > 0 {
			d = min(time.Duration(s)*time.Second, 30*time.Second)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if until := time.Now().Add(d); until.After(c.hold) {
		c.hold = until
	}
}

// follow asks an address, at another scheme or host of the same site if it leads there.
func (c *crawler) follow(ctx context.Context, at *url.URL) (*Response, error) {
	for hops := 0; ; hops++ {
		res, err := c.client.Get(ctx, at.String(), IsText)
		if err != nil || res.Location == nil || key(res.Location) != key(at) || !c.hosts[strings.ToLower(res.Location.Host)] {
			return res, err
		}
		if hops == 3 || *res.Location == *at {
			return res, errors.New("it leads to itself")
		}
		at = res.Location
	}
}

// read takes what a response says, and gives the addresses that it names.
func (c *crawler) read(p *Page, at *url.URL, res *Response) (links []item) {
	p.Type, _, _ = strings.Cut(strings.ToLower(res.Header.Get("Content-Type")), ";")
	p.Type = strings.TrimSpace(p.Type)
	if t, err := http.ParseTime(res.Header.Get("Last-Modified")); err == nil && p.Modified == "" {
		p.Modified = t.UTC().Format(time.DateOnly)
	}
	add := func(u *url.URL, depth int) {
		if u == nil || len(links) >= maxLinks {
			return
		}
		it := item{key: key(u), depth: depth}
		c.add(it, u)
		if c.journal != nil && c.hosts[strings.ToLower(u.Host)] {
			links = append(links, it)
		}
	}
	if res.Location != nil {
		p.To = c.short(res.Location)
		if !c.opts.NoLinks {
			add(res.Location, p.Depth+1)
		}
		return links
	}
	if len(res.Body) == 0 || p.Status != http.StatusOK || !IsText(p.Type) {
		return nil
	}
	says := page.Parse(res.Body, res.Header.Get("Content-Type"))
	p.Title, p.Language, p.Words, p.NoIndex = says.Title, says.Language, says.Words, says.NoIndex
	if says.Fingerprint != "" {
		p.Fingerprint = says.Fingerprint.String()
	}
	if u := says.Resolve(at, says.Canonical); u != nil {
		p.Canonical = c.short(u)
	}
	if c.opts.NoLinks {
		return nil
	}
	if !says.NoFollow || c.opts.IgnoreRobots {
		for _, l := range says.Links {
			add(says.Resolve(at, l), p.Depth+1)
		}
	}
	for _, l := range append(says.Alternates, says.Canonical, says.Refresh) {
		add(says.Resolve(at, l), p.Depth+1)
	}
	return links
}

// short gives an address as a key where it is of this site.
func (c *crawler) short(u *url.URL) string {
	if c.hosts[strings.ToLower(u.Host)] {
		return key(u)
	}
	return u.String()
}
