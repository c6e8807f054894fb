package main

import (
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/demo"
	"hovix/internal/redirects"
	"hovix/internal/testenv"
)

// logged serves a site and keeps an access log of it, as if visitors had come.
func logged(t *testing.T, next http.Handler) (address string, entries func() string) {
	var mu sync.Mutex
	var lines strings.Builder
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := &recorder{ResponseWriter: w, status: 200}
		next.ServeHTTP(rec, r)
		mu.Lock()
		defer mu.Unlock()
		fmt.Fprintf(&lines, "203.0.113.5 - - [10/Oct/2025:13:55:36 +0200] \"%s %s HTTP/1.1\" %d 100 \"-\" \"Mozilla/5.0 (X11; Linux)\"\n", r.Method, r.RequestURI, rec.status)
	}))
	t.Cleanup(s.Close)
	return s.URL, func() string {
		mu.Lock()
		defer mu.Unlock()
		return lines.String()
	}
}

type recorder struct {
	http.ResponseWriter
	status int
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

// gather runs the command and gives the paths that it found.
func gather(t *testing.T, args ...string) []string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "pages.csv")
	run := testenv.Hovix(t, append([]string{"redirects", "gather", "-o", file}, args...)...)
	require.Zero(t, run.Status, "%s", run.Err)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	inv, _, err := redirects.ReadInventory(f)
	require.NoError(t, err)
	var out []string
	for _, e := range inv.Pages {
		out = append(out, e.Path)
	}
	slices.Sort(out)
	return out
}

// sources gathers a site's pages from everything that tells of them.
func sources(t *testing.T, address, folder, archive string, entries func() string) map[string][]string {
	out := map[string][]string{"links": gather(t, address, "--no-sitemaps")}
	file := filepath.Join(t.TempDir(), "access.log")
	require.NoError(t, os.WriteFile(file, []byte(entries()), 0o644))
	out["log"] = gather(t, file)
	out["sitemap"] = gather(t, address, "--sitemaps-only")
	out["folder"], out["archive"] = gather(t, folder), gather(t, archive)
	return out
}

// without gives a list without what another one holds.
func without(a, b []string) (out []string) {
	for _, s := range a {
		if !slices.Contains(b, s) {
			out = append(out, s)
		}
	}
	return out
}

// The demo site's pages are the same from its links, its sitemap, its log, its database
// and its archive, but for the page that lists the news, which lies in no table.
func TestGatherDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	run := testenv.Hovix(t, "demo", dir)
	require.Zero(t, run.Status, "%s", run.Err)
	site, err := demo.NewServer(filepath.Join(dir, "old"))
	require.NoError(t, err)
	defer site.Close()
	address, entries := logged(t, site)
	host := strings.TrimPrefix(demo.OldAddress.String(), "http://")
	got := map[string][]string{}
	at := strings.TrimPrefix(address, "http://")
	got["links"] = gather(t, demo.OldAddress.String(), "--connect", host+"="+at, "--no-sitemaps")
	file := filepath.Join(t.TempDir(), "access.log")
	require.NoError(t, os.WriteFile(file, []byte(entries()), 0o644))
	got["log"] = gather(t, file)
	got["sitemap"] = gather(t, demo.OldAddress.String()+"/sitemap.xml", "--connect", host+"="+at)
	got["folder"], got["archive"] = gather(t, filepath.Join(dir, "old")), gather(t, filepath.Join(dir, "museum.tar.zst"))
	require.Len(t, got["folder"], 48)
	lost := testenv.Hovix(t, "redirects", "gather", address, "--no-sitemaps")
	assert.Contains(t, lost.Err, "if that is the same site, add --host "+host)
	assert.Equal(t, got["folder"], got["archive"])
	assert.Equal(t, got["links"], got["log"])
	assert.Equal(t, []string{"/news"}, without(got["links"], got["folder"]))
	assert.Equal(t, got["folder"], without(got["sitemap"], []string{"/"}))
	assert.Empty(t, without(got["folder"], got["links"]))
}

// The same for a real WordPress: what its theme does not link to is in its sitemap and in
// its database only.
func TestGatherWordPress(t *testing.T) {
	t.Parallel()
	port := testenv.FreePort(t)
	php := fmt.Sprintf("http://127.0.0.1:%d", port)
	target, err := url.Parse(php)
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target); r.Out.Host = r.In.Host }}
	proxy.ErrorLog = log.New(io.Discard, "", 0) // WordPress asks itself while it is being installed
	address, entries := logged(t, proxy)
	folder, _ := testenv.WordPress(t, address, "wp_")
	testenv.ServePHP(t, folder, port, "")
	archive := filepath.Join(t.TempDir(), "site.tar.zst")
	run := testenv.Hovix(t, "pack", folder, "-o", archive, "--yes")
	require.Zero(t, run.Status, "%s", run.Err)
	got := sources(t, address, folder, archive, entries)
	require.Greater(t, len(got["folder"]), 12)
	assert.Equal(t, got["folder"], got["archive"])
	assert.Equal(t, got["folder"], without(got["sitemap"], []string{"/"}))
	assert.Equal(t, got["links"], got["log"])
	assert.Empty(t, without(got["links"], got["folder"]))
	assert.Equal(t, []string{"/2026/hello-world/", "/author/keeper/", "/category/uncategorized/", "/sample-page/"}, without(got["folder"], got["links"]), "to these the theme of the tests has no link")
}

// ruleSet reads a map as a server takes it.
func ruleSet(t *testing.T, file string) *redirects.RuleSet {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	m, err := redirects.ReadMap(f)
	require.NoError(t, err)
	set, err := redirects.NewRuleSet(m)
	require.NoError(t, err)
	return set
}

// The whole way through, by the commands, on the demo: what is made is right by its key,
// is proved, loaded by a real server and tried there.
func TestRedirectsOfTheDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	run := testenv.Hovix(t, "demo", dir)
	require.Zero(t, run.Status, "%s", run.Err)
	assert.Contains(t, run.Out, "no sure one is wrong")
	hovix := func(status int, args ...string) testenv.Run {
		t.Helper()
		run := testenv.HovixIn(t, dir, nil, append([]string{"redirects"}, args...)...)
		require.Equal(t, status, run.Status, "%v: %s%s", args, run.Out, run.Err)
		return run
	}
	out := hovix(0, "pair", "old.csv", "new.csv", "-o", "mine.csv", "--patterns", "short.csv", "--alternatives", "others.csv")
	assert.Contains(t, out.Out, "/news/{year}/{name}")
	out = hovix(3, "check", "mine.csv", "--old", "old.csv", "--new", "new.csv")
	assert.Contains(t, out.Out, "Doubtful pairs: 4")
	text, err := os.ReadFile(filepath.Join(dir, "short.csv"))
	require.NoError(t, err)
	bad := strings.Replace(string(text), "/news/{year}/{name},/journal/{name}", "/news/{rest},/journal/{rest}", 1)
	require.NotEqual(t, string(text), bad)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "planted.csv"), []byte(bad), 0o644))
	out = hovix(3, "check", "planted.csv", "--old", "old.csv", "--new", "new.csv", "--against", "mine.csv")
	assert.Contains(t, out.Out, "Rules that are wrong: 1", "the planted rule is found")
	assert.Contains(t, out.Out, "Rules that lead elsewhere than the rows: 17")
	hovix(0, "write", "short.csv", "--for", "caddy", "-o", "caddy.conf")
	assert.FileExists(t, filepath.Join(dir, "caddy.conf"))

	// A server with the rules before the redesigned site.
	site, err := demo.NewServer(filepath.Join(dir, "redesigned"))
	require.NoError(t, err)
	defer site.Close()
	set := ruleSet(t, filepath.Join(dir, "short.csv"))
	server := httptest.NewServer(demo.Led(set, site))
	defer server.Close()
	connect := "ferry.brackwater.example=" + server.Listener.Addr().String()
	out = hovix(0, "try", "short.csv", "--url", "http://ferry.brackwater.example", "--connect", connect, "--old", "old.csv", "-o", "tried.csv")
	assert.Contains(t, out.Out, "45 addresses")
	tried, err := os.ReadFile(filepath.Join(dir, "tried.csv"))
	require.NoError(t, err)
	assert.Equal(t, 45, strings.Count(string(tried), ",yes,"))
	out = hovix(3, "try", "planted.csv", "--url", "http://ferry.brackwater.example", "--connect", connect, "--old", "old.csv")
	assert.Contains(t, out.Out, "it leads to /journal/")
}

// Mistakes get one clear error and change nothing.
func TestRedirectsWrong(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("map.csv", "from,to\n/a,/b\n")
	write("list.csv", "/a\n/c\n")
	write("noise.csv", "x,y\nz,w\n")
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"gatter"}, 2, "did you mean gather?"},
		{[]string{"gather"}, 2, "SOURCE"},
		{[]string{"gather", "lst.csv"}, 1, "did you mean list.csv?"},
		{[]string{"gather", "noise.csv"}, 1, "no column holds paths"},
		{[]string{"gather", "http://127.0.0.1:1/"}, 1, "connection refused"},
		{[]string{"gather", "list.csv", "-o", "map.csv"}, 1, "exists already"},
		{[]string{"gather", "list.csv", "--since", "soon"}, 2, "2026-01-31"},
		{[]string{"pair", "list.csv"}, 2, "NEW"},
		{[]string{"pair", "list.csv", "list.csv"}, 2, "-o map.csv"},
		{[]string{"pair", "list.csv", "list.csv", "-o", "noise.csv"}, 1, "not a redirect map"},
		{[]string{"check", "noise.csv"}, 1, "the columns are from, to"},
		{[]string{"check", "map.csv", "--fix"}, 2, "-o FILE"},
		{[]string{"write", "map.csv"}, 2, "--for apache|"},
		{[]string{"write", "map.csv", "--for", "ngnix"}, 2, "did you mean nginx?"},
		{[]string{"write", "map.csv", "--for", "static"}, 2, "folder"},
		{[]string{"try", "map.csv"}, 2, "--url"},
		{[]string{"try", "map.csv", "--url", "old"}, 2, "no address of a site"},
		{[]string{"try", "map.csv", "--url", "http://x.example", "--connect", "x"}, 2, "HOST=ADDRESS:PORT"},
	} {
		run := testenv.HovixIn(t, dir, nil, append([]string{"redirects"}, c.args...)...)
		assert.Equal(t, c.status, run.Status, "%v: %s%s", c.args, run.Out, run.Err)
		assert.Contains(t, run.Err, c.says, "%v", c.args)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 3)
	kept, err := os.ReadFile(filepath.Join(dir, "map.csv"))
	require.NoError(t, err)
	assert.Equal(t, "from,to\n/a,/b\n", string(kept))
}

// A real WordPress gets other permalinks: one rule stands for its posts, and every old
// address lands on the served site.
func TestRedirectsOfWordPress(t *testing.T) {
	t.Parallel()
	port := testenv.FreePort(t)
	address := fmt.Sprintf("http://127.0.0.1:%d", port)
	folder, _ := testenv.WordPress(t, address, "wp_")
	dir := t.TempDir()
	hovix := func(status int, args ...string) string {
		t.Helper()
		run := testenv.HovixIn(t, dir, nil, append([]string{"redirects"}, args...)...)
		require.Equal(t, status, run.Status, "%v: %s%s", args, run.Out, run.Err)
		return run.Out
	}
	hovix(0, "gather", folder, "-o", "old.csv")
	testenv.WordPressLinks(t, folder, "/pages/%postname%/", "topics")
	testenv.ServePHP(t, folder, port, "")
	hovix(0, "gather", address, folder, "-o", "new.csv")
	out := hovix(0, "pair", "old.csv", "new.csv", "-o", "map.csv", "--patterns", "rules.csv")
	assert.Contains(t, out, "/{year}/{name}/  → /pages/{name}/")
	out = hovix(0, "check", "rules.csv", "--old", "old.csv", "--new", "new.csv", "--against", "map.csv")
	assert.Contains(t, out, "every row is good")

	target, err := url.Parse(address)
	require.NoError(t, err)
	set := ruleSet(t, filepath.Join(dir, "rules.csv"))
	front := httptest.NewServer(demo.Led(set, &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target); r.Out.Host = target.Host }}))
	defer front.Close()
	out = hovix(0, "try", "rules.csv", "--url", front.URL, "--old", "old.csv")
	assert.NotContains(t, out, "Failed")
}
