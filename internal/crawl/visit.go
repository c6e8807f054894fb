package crawl

import (
	"context"
	"errors"
	"hovix/internal/page"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

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
		c.pace.Wait(ctx)
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
	c.pace.Hold(d)
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
