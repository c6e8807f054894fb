package redirects

import (
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/crawl"
)

func TestTry(t *testing.T) {
	var mu sync.Mutex
	asked := map[string]int{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked[r.URL.RequestURI()]++
		mu.Unlock()
		lead := func(status int, to string) { w.Header().Set("Location", to); w.WriteHeader(status) }
		switch r.URL.RequestURI() {
		case "/good", "/x?p=1":
			lead(301, "/new")
		case "/absolute":
			lead(301, "http://"+r.Host+"/new")
		case "/two":
			lead(301, "/good")
		case "/wrong":
			lead(301, "/other")
		case "/kind":
			lead(302, "/new")
		case "/circle":
			lead(301, "/circle2")
		case "/circle2":
			lead(301, "/circle")
		case "/dead":
			lead(301, "/missing")
		case "/gone":
			w.WriteHeader(410)
		case "/rule/a", "/rule/b":
			lead(308, r.URL.Path+"/new")
		case "/new", "/other", "/page", "/rule/a/new", "/rule/b/new":
		default:
			http.NotFound(w, r)
		}
	}))
	defer s.Close()
	m := mapOf(t, "from,to,status\n/good,/new,301\n/x?p=1,/new,\n/absolute,/new,\n/two,/good,\n/wrong,/new,\n/kind,/new,\n/circle,/circle2,\n/dead,/missing,\n/gone,,410\n/page,/new,\n/nothing,/new,\n/rule/{name},/rule/{name}/new,308\n")
	opts := TryOptions{Site: "http://old.example", Workers: 2, Examples: []string{"/rule/a", "/rule/b", "/good", "/else"}, Progress: filepath.Join(t.TempDir(), "tried"),
		Client: crawl.NewClient(crawl.ClientOptions{Connect: map[string]string{"old.example": s.Listener.Addr().String()}})}
	res, err := Try(t.Context(), m, opts)
	require.NoError(t, err)
	why := map[string]string{}
	for _, w := range res.Trials {
		if !w.OK {
			why[w.From] = w.Why
		}
	}
	assert.Equal(t, map[string]string{"/two": "2 hops instead of one", "/wrong": "it leads to /other", "/kind": "its status is 302, not 301", "/circle": "it leads in a circle", "/dead": "the new page answers with 404 Not Found",
		"/page": "it is a page, and leads nowhere", "/nothing": "there is no redirect: 404 Not Found"}, why)
	assert.Equal(t, []int{6, 7}, []int{res.Good, res.Bad})
	assert.NoFileExists(t, opts.Progress)

	// What was good in a run that was cut off is not asked again.
	ctx, cancel := context.WithCancel(t.Context())
	opts.Tried = func(left int) {
		if left == 5 {
			cancel()
		}
	}
	_, err = Try(ctx, m, opts)
	require.ErrorIs(t, err, context.Canceled)
	kept, err := os.ReadFile(opts.Progress)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(opts.Progress, kept[:len(kept)-2], 0o644))
	opts.Tried = nil
	before := maps.Clone(asked)
	res, err = Try(t.Context(), m, opts)
	require.NoError(t, err)
	assert.Positive(t, res.Earlier)
	lines := strings.Split(string(kept), "\n")
	for _, l := range lines[:len(lines)-2] { // but the last, which was cut
		var w Trial
		require.NoError(t, json.Unmarshal([]byte(l), &w))
		if w.OK && w.From != "/good" { // another row leads to that
			assert.Equal(t, before[w.From], asked[w.From], w.From)
		}
	}
	assert.Equal(t, []int{6, 7}, []int{res.Good, res.Bad})

	_, err = Try(t.Context(), m, TryOptions{Site: "old"})
	assert.ErrorIs(t, err, ErrNoAddress)
}
