package demo

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/html"

	"hovix/internal/rewrite"
)

// fetched is an answer of a site.
type fetched struct {
	status int
	html   bool
	body   []byte
	sum    [32]byte
}

// crawled is what was found by following all links of a site from its front page.
type crawled struct {
	answers map[string]fetched // by path below the site's address
	links   int                // links, pictures and styles seen on all pages
	outside []string           // addresses on the site's host that do not lie below its address
}

// clientFor returns a client that reaches the host of an address at a server on
// this machine: names of the demo exist nowhere, and the little server leaves
// the encryption of https to what stands before it.
func clientFor(server net.Addr) *http.Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 4,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, "tcp", server.String())
		}}}
}

// follow fetches the front page of the site and everything that it links to,
// page by page.
func follow(ctx context.Context, address rewrite.Address, server net.Addr) (*crawled, error) {
	c := &crawled{answers: map[string]fetched{}}
	client := clientFor(server)
	defer client.CloseIdleConnections()
	queue := []string{"/"}
	for len(queue) > 0 {
		p := queue[0]
		queue = queue[1:]
		if _, seen := c.answers[p]; seen {
			continue
		}
		f, err := fetch(ctx, client, address, p)
		if err != nil {
			return nil, err
		}
		c.answers[p] = f
		if !f.html || f.status != http.StatusOK {
			continue
		}
		for _, l := range linksOf(f.body) {
			if next, ok := c.resolve(address, p, l); ok {
				c.links++
				queue = append(queue, next)
			}
		}
	}
	return c, nil
}

func fetch(ctx context.Context, client *http.Client, address rewrite.Address, p string) (f fetched, err error) {
	plain := address
	plain.Scheme = "http"
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, plain.String()+p, nil)
	if err != nil {
		return f, err
	}
	res, err := client.Do(req)
	if err != nil {
		return f, fmt.Errorf("fetch %s: %w", req.URL, err)
	}
	defer res.Body.Close()
	if f.body, err = io.ReadAll(io.LimitReader(res.Body, 32<<20)); err != nil {
		return f, fmt.Errorf("fetch %s: %w", req.URL, err)
	}
	f.status, f.html = res.StatusCode, strings.HasPrefix(res.Header.Get("Content-Type"), "text/html")
	f.sum = sha256.Sum256(f.body)
	return f, nil
}

var cssURL = regexp.MustCompile(`url\(['"]?([^'")]+)['"]?\)`)

// linksOf lists what a page refers to: links, pictures, styles.
func linksOf(body []byte) (links []string) {
	z := html.NewTokenizer(bytes.NewReader(body))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return links
		case html.StartTagToken, html.SelfClosingTagToken:
			for _, a := range z.Token().Attr {
				switch a.Key {
				case "href", "src":
					links = append(links, a.Val)
				case "style":
					for _, m := range cssURL.FindAllStringSubmatch(a.Val, -1) {
						links = append(links, m[1])
					}
				}
			}
		}
	}
}

// resolve gives the path of a link below the site's address; false for links
// that lead elsewhere.
func (c *crawled) resolve(address rewrite.Address, from, link string) (string, bool) {
	base, err := url.Parse(address.String() + from)
	if err != nil {
		return "", false
	}
	u, err := base.Parse(link)
	if err != nil || u.Host != address.Authority() {
		return "", false
	}
	if u.Scheme != address.Scheme || !strings.HasPrefix(u.EscapedPath()+"/", address.Path+"/") {
		if !slices.Contains(c.outside, u.String()) {
			c.outside = append(c.outside, u.String())
		}
		return "", false
	}
	p := strings.TrimPrefix(u.EscapedPath(), address.Path)
	if p == "" {
		p = "/"
	}
	return p, true
}

// Comparison says how the new site differs from the old.
type Comparison struct {
	Pages       int      `json:"pages"`
	Pictures    int      `json:"pictures"`
	Links       int      `json:"links"`
	Broken      []string `json:"broken"`      // paths that do not answer 200 on the new site
	Missing     []string `json:"missing"`     // paths of the old site that the new one does not link to
	Different   []string `json:"different"`   // paths whose content differs, addresses apart
	OldMentions []string `json:"oldMentions"` // paths that mention the old address as an address
	Outside     []string `json:"outside"`     // addresses on the new site's host that do not lie below its address
}

// Good reports whether nothing is wrong.
func (c *Comparison) Good() bool {
	return len(c.Broken)+len(c.Missing)+len(c.Different)+len(c.OldMentions)+len(c.Outside) == 0
}

// compare sets the old site beside the new.
func compare(old, new *crawled, from, to rewrite.Address) *Comparison {
	c := &Comparison{Links: new.links, Outside: new.outside}
	for p, n := range new.answers {
		if n.status != http.StatusOK {
			c.Broken = append(c.Broken, p)
		}
		if n.html {
			c.Pages++
		} else {
			c.Pictures++
		}
		o, ok := old.answers[p]
		switch {
		case !ok:
			c.Different = append(c.Different, p)
		case n.html:
			if neutral(o.body, from) != neutral(n.body, to) {
				c.Different = append(c.Different, p)
			}
			if neutral(n.body, from) != string(n.body) {
				c.OldMentions = append(c.OldMentions, p)
			}
		case o.sum != n.sum:
			c.Different = append(c.Different, p)
		}
	}
	for p := range old.answers {
		if _, ok := new.answers[p]; !ok {
			c.Missing = append(c.Missing, p)
		}
	}
	for _, l := range [][]string{c.Broken, c.Missing, c.Different, c.OldMentions, c.Outside} {
		slices.Sort(l)
	}
	return c
}

// neutral replaces a site's own address in a page, in the forms in which a page
// can hold it. It is written without Hovix's rewriting, which it checks.
func neutral(body []byte, a rewrite.Address) string {
	s := a.String()
	return strings.NewReplacer(s, "{site}", url.QueryEscape(s), "{site}", strings.ReplaceAll(s, "/", `\/`), "{site}").Replace(string(body))
}
