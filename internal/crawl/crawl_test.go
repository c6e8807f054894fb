package crawl

import (
	"compress/gzip"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// site is a server of pages that counts how often each address was asked.
type site struct {
	*httptest.Server
	mu    sync.Mutex
	asked map[string]int
}

func serve(t testing.TB, handle func(w http.ResponseWriter, r *http.Request)) *site {
	s := &site{asked: map[string]int{}}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.asked[r.URL.RequestURI()]++
		s.mu.Unlock()
		handle(w, r)
	}))
	t.Cleanup(s.Close)
	return s
}

func links(hrefs ...string) string {
	var b strings.Builder
	b.WriteString("<!doctype html><title>A page</title><main>")
	for _, h := range hrefs {
		fmt.Fprintf(&b, `<a href="%s">x</a> `, h)
	}
	return b.String()
}

func crawl(t testing.TB, opts Options) (map[string]Page, *Result) {
	pages := map[string]Page{}
	opts.Found = func(p Page) {
		_, twice := pages[p.Key]
		assert.False(t, twice, "%s came twice", p.Key)
		pages[p.Key] = p
	}
	res, err := Run(t.Context(), opts)
	require.NoError(t, err)
	return pages, res
}

func TestCrawl(t *testing.T) {
	var s *site
	s = serve(t, func(w http.ResponseWriter, r *http.Request) {
		html := func(s string) { w.Header().Set("Content-Type", "text/html; charset=utf-8"); fmt.Fprint(w, s) }
		switch r.URL.RequestURI() {
		case "/robots.txt":
			fmt.Fprint(w, "User-agent: other\nDisallow: /\n\nUser-agent: *\nDisallow: /private/\nAllow: /private/open$\nSitemap: /maps/index.xml\n")
		case "/maps/index.xml":
			fmt.Fprint(w, `<?xml version="1.0"?><sitemapindex><sitemap><loc>/maps/pages.xml.gz</loc></sitemap><sitemap><loc>/maps/gone.xml</loc></sitemap></sitemapindex>`)
		case "/maps/pages.xml.gz":
			z := gzip.NewWriter(w)
			fmt.Fprint(z, `<urlset><url><loc>`+s.URL+`/hidden</loc><lastmod>2024-05-06</lastmod></url><url><loc>https://else.example/x</loc></url></urlset>`)
			z.Close()
		case "/":
			html(links("/a", "/A", "a?utm_source=mail&id=3", "a?id=3#top", "/a%20b", "a b", "/old", "/private/x", "/private/open", "https://else.example/", "mailto:x@y.example", "/pic.jpg", "/leaflet.pdf",
				"/loop", "http://www."+r.Host+"/a", "/broken", "/latin", "/%zz", "/moved/", "javascript:void(0)"))
		case "/old":
			http.Redirect(w, r, "/new", http.StatusMovedPermanently)
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/moved/":
			http.Redirect(w, r, "https://else.example/there", http.StatusFound)
		case "/broken":
			w.WriteHeader(http.StatusInternalServerError)
		case "/latin":
			w.Header().Set("Content-Type", "text/html; charset=iso-8859-1")
			fmt.Fprint(w, "<html lang=de><title>F\xe4hre</title><link rel=canonical href=\"/latin?x=1\"><meta name=robots content=noindex><a href=\"/f\xe4hre\">x</a>")
		case "/a", "/A", "/a?id=3", "/a%20b", "/new", "/hidden", "/private/open", "/latin?x=1", "/f%C3%A4hre":
			html(links("/"))
		default:
			http.NotFound(w, r)
		}
	})
	pages, res := crawl(t, Options{Start: s.URL, Workers: 4})
	for k, want := range map[string]Page{
		"/": {Status: 200}, "/a": {Status: 200, Depth: 1}, "/A": {Status: 200, Depth: 1}, "/a?id=3": {Status: 200, Depth: 1}, "/a%20b": {Status: 200, Depth: 1},
		"/old": {Status: 301, To: "/new", Depth: 1}, "/new": {Status: 200, Depth: 2}, "/moved/": {Status: 302, To: "https://else.example/there", Depth: 1},
		"/broken": {Status: 500, Depth: 1}, "/hidden": {Status: 200, Sitemap: true, Modified: "2024-05-06"}, "/private/open": {Status: 200, Depth: 1},
		"/f%C3%A4hre": {Status: 200, Depth: 2}, "/latin?x=1": {Status: 200, Depth: 2},
	} {
		got, ok := pages[k]
		require.True(t, ok, k)
		assert.Equal(t, want, Page{Status: got.Status, Depth: got.Depth, To: got.To, Sitemap: got.Sitemap, Modified: got.Modified}, k)
	}
	assert.Equal(t, "it leads to itself", pages["/loop"].Error)
	assert.Equal(t, Page{Key: "/latin", Status: 200, Type: "text/html", Title: "Fähre", Language: "de", Canonical: "/latin?x=1", NoIndex: true, Depth: 1, Words: pages["/latin"].Words}, pages["/latin"])
	assert.Len(t, pages, 15, "%v", pages)
	assert.Equal(t, map[string]int64{OtherHost: 3, AssetFile: 1, DocumentOff: 1, ByRobots: 1}, res.Dropped)
	assert.Equal(t, 2, res.Sitemaps)
	require.Len(t, res.Notes, 1)
	assert.Contains(t, res.Notes[0], "gone.xml cannot be read: 404 Not Found")
	for address, n := range s.asked {
		assert.Equal(t, 1, n, address)
	}
}

// What a server may do to a crawler neither stops nor swells it.
func TestHostileServer(t *testing.T) {
	var slow atomic.Int32
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		path := r.URL.Path
		switch {
		case path == "/robots.txt" || path == "/sitemap.xml":
			http.NotFound(w, r)
		case path == "/":
			fmt.Fprint(w, links("/calendar?m=1", "/endless", "/bomb", "/nogzip", "/cut", "/sleepy", "/busy", "/a/b/", "/chain?n=0", "/good"))
		case path == "/calendar":
			var m int
			fmt.Sscan(r.URL.Query().Get("m"), &m)
			fmt.Fprint(w, links(fmt.Sprintf("?m=%d", m+1), fmt.Sprintf("?m=%d&view=list", m+1), fmt.Sprintf("/month/%d", m+1)))
		case strings.HasPrefix(path, "/month/"):
			var m int
			fmt.Sscan(path[len("/month/"):], &m)
			fmt.Fprint(w, links(fmt.Sprintf("/month/%d", m+1)))
		case strings.HasPrefix(path, "/a/b/"):
			fmt.Fprint(w, links("a/b/", "b/a/"))
		case path == "/endless":
			for r.Context().Err() == nil {
				if _, err := fmt.Fprint(w, strings.Repeat("<p>more and more ", 1000)); err != nil {
					return
				}
			}
		case path == "/bomb":
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			b := make([]byte, 1<<20)
			for range 200 {
				if _, err := z.Write(b); err != nil {
					return
				}
			}
			z.Close()
		case path == "/nogzip":
			w.Header().Set("Content-Encoding", "gzip")
			fmt.Fprint(w, "no gzip")
		case path == "/cut":
			w.Header().Set("Content-Length", "1000")
			fmt.Fprint(w, "short")
		case path == "/sleepy":
			select {
			case <-r.Context().Done():
			case <-time.After(5 * time.Second):
			}
		case path == "/busy":
			if slow.Add(1) < 3 {
				w.Header().Set("Retry-After", "1")
				w.WriteHeader(http.StatusTooManyRequests)
			}
		case path == "/chain":
			var n int
			fmt.Sscan(r.URL.Query().Get("n"), &n)
			http.Redirect(w, r, fmt.Sprintf("/chain?n=%d", n+1), http.StatusFound)
		}
	})
	pages, res := crawl(t, Options{Start: s.URL + "/", Workers: 4, MaxDepth: 160, Client: NewClient(ClientOptions{Timeout: 500 * time.Millisecond, MaxBody: 1 << 20})})
	for k, want := range map[string]string{"/nogzip": "it says gzip", "/cut": "unexpected EOF", "/sleepy": "no answer in time"} {
		assert.Contains(t, pages[k].Error, want, k)
	}
	assert.Equal(t, 200, pages["/good"].Status)
	assert.Equal(t, 200, pages["/bomb"].Status)
	assert.Equal(t, 200, pages["/busy"].Status, "asked again when it had rested")
	assert.Contains(t, pages, "/endless")
	assert.Positive(t, res.Dropped[ManyQueries])
	assert.Positive(t, res.Dropped[Looping])
	assert.Positive(t, res.Dropped[TooDeep])
	assert.Less(t, len(pages), 900)
}

func TestResume(t *testing.T) {
	var asked atomic.Int32
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	s := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if asked.Add(1) == 40 {
			cancel()
		}
		var n int
		fmt.Sscan(r.URL.Path[1:], &n)
		fmt.Fprint(w, links(fmt.Sprintf("/%d", 2*n+1), fmt.Sprintf("/%d", 2*n+2)))
	})
	journal := filepath.Join(t.TempDir(), "crawl.jsonl")
	opts := Options{Start: s.URL + "/", NoSitemaps: true, Journal: journal, MaxPages: 100, Workers: 2}
	_, err := Run(ctx, opts)
	require.ErrorIs(t, err, context.Canceled)
	half, err := os.ReadFile(journal)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(journal, half[:len(half)-3], 0o644)) // as a killed run leaves it
	before := asked.Load()
	pages, res := crawl(t, opts)
	assert.Len(t, pages, 100)
	assert.True(t, res.Full)
	assert.Greater(t, res.Taken, 25)
	assert.LessOrEqual(t, int(asked.Load()-before), 100-res.Taken+3)
	opts.MaxPages = 200
	_, res = crawl(t, opts)
	assert.Equal(t, 100, res.Taken, "a larger limit goes on from there")
	require.NoError(t, os.WriteFile(journal, []byte("from,to\n"), 0o644))
	_, err = Run(t.Context(), opts)
	assert.ErrorIs(t, err, ErrJournal)
	kept, _ := os.ReadFile(journal)
	assert.Equal(t, "from,to\n", string(kept))
}

func TestRobots(t *testing.T) {
	r := ParseRobots([]byte("\ufeffUser-agent: hov\nUser-agent: x\nDisallow: /*.php$\nDisallow: /a*b*c\nAllow: /a/b\nCrawl-delay: 2.5\n\nUser-Agent: *\nDisallow: /\nSitemap: https://x.example/s.xml # main\n"), "Hovix/1 (x)")
	for path, want := range map[string]bool{"/": true, "/x.php": false, "/x.php?a": true, "/a/xb/c": false, "/a/b": true, "/a/b/c": false} {
		u, err := url.Parse(path)
		require.NoError(t, err)
		assert.Equal(t, want, r.Allowed(u), path)
	}
	assert.Equal(t, 2500*time.Millisecond, r.Delay)
	assert.Equal(t, []string{"https://x.example/s.xml"}, r.Sitemaps)
	u, _ := url.Parse("/x")
	assert.False(t, ParseRobots([]byte("User-agent: *\nDisallow: /\n"), "hovix").Allowed(u))
	assert.True(t, ParseRobots([]byte("User-agent: *\nDisallow:\n"), "hovix").Allowed(u))
}

func TestStart(t *testing.T) {
	s := serve(t, func(w http.ResponseWriter, r *http.Request) { http.NotFound(w, r) })
	for start, says := range map[string]string{"x": "no address of the web", s.URL: "404 Not Found", "http://127.0.0.1:1/": "connection refused"} {
		_, err := Run(t.Context(), Options{Start: start})
		assert.ErrorIs(t, err, ErrStart)
		assert.ErrorContains(t, err, says)
	}
	_, err := Run(t.Context(), Options{Start: s.URL + "/sitemap.xml"})
	assert.ErrorIs(t, err, ErrStart)
	assert.ErrorContains(t, err, "sitemap.xml cannot be read: 404 Not Found")
	assert.Equal(t, 1, s.asked["/sitemap.xml"])
	// The name need not point to the server yet.
	s = serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, links("http://"+r.Host+"/museum/x", "/above", "http://old.example/museum/y"))
	})
	pages, res := crawl(t, Options{Start: "http://new.example/museum/", NoSitemaps: true, Hosts: []string{"old.example"}, Client: NewClient(ClientOptions{Connect: map[string]string{"new.example": s.Listener.Addr().String()}})})
	assert.Len(t, pages, 3)
	assert.Equal(t, map[string]int64{OutsideBase: 1}, res.Dropped)
}

func FuzzSitemap(f *testing.F) {
	f.Add([]byte(`<urlset><url><loc>https://a.example/</loc></url></urlset>`))
	f.Add([]byte("\ufeffhttps://a.example/x\nhttps://a.example/y"))
	f.Add([]byte("<sitemapindex><sitemap><loc>x"))
	f.Add([]byte("\x1f\x8b"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_ = ParseSitemap(strings.NewReader(string(b)), func(e SitemapEntry) { require.NotEmpty(t, e.Loc) }, func(loc string) { require.NotEmpty(t, loc) })
	})
}

// BenchmarkCrawl crawls pages of 20 KB with fifty links each.
func BenchmarkCrawl(b *testing.B) {
	const pages = 2000
	var text strings.Builder
	for i := range 2400 {
		fmt.Fprintf(&text, "word%d ", i*7919%997)
	}
	s := serve(b, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		var n int
		fmt.Sscan(r.URL.Path[1:], &n)
		fmt.Fprintf(w, "<!doctype html><title>Page %d</title><main><h1>%d</h1><p>%s</p>", n, n, text.String())
		for i := range 50 {
			fmt.Fprintf(w, `<a href="/%d">page</a>`, (n*50+i)%pages)
		}
	})
	b.ReportAllocs()
	for b.Loop() {
		res, err := Run(b.Context(), Options{Start: s.URL + "/", NoSitemaps: true, Workers: 8})
		require.NoError(b, err)
		require.Equal(b, pages+1, res.Asked)
	}
	b.ReportMetric(float64(b.N*pages)/b.Elapsed().Seconds(), "pages/s")
}

func TestConnect(t *testing.T) {
	c, err := ParseConnect([]string{"New.example=192.0.2.7", "other.example:8443=[2001:db8::1]:443", "www.third.example=198.51.100.1:81"})
	require.NoError(t, err)
	for addr, want := range map[string]string{"new.example:443": "192.0.2.7:443", "www.new.example:80": "192.0.2.7:80", "other.example:8443": "[2001:db8::1]:443", "other.example:80": "", "third.example:80": "198.51.100.1:81", "else.example:80": ""} {
		assert.Equal(t, want, connectTo(c, addr), addr)
	}
	_, err = ParseConnect([]string{"new.example"})
	assert.ErrorContains(t, err, "HOST=ADDRESS:PORT")
}

func TestPace(t *testing.T) {
	var p Pace
	p.Wait(t.Context())
	p.Rate(50)
	start := time.Now()
	for range 6 {
		p.Wait(t.Context())
	}
	assert.GreaterOrEqual(t, time.Since(start), 95*time.Millisecond, "five pauses of 20 ms")
	p.Hold(time.Hour)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	p.Wait(ctx) // it does not outlast its context
}
