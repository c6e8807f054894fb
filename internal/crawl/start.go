package crawl

import (
	"context"
	"fmt"
	"hovix/internal/webpath"
	"net/http"
	"net/url"
	"strings"
	"time"
)

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
	c.pace.Rate(c.opts.Rate)
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
