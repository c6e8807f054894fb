package redirects

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func paths(g *Gathered) (out []string) {
	for _, e := range g.Pages {
		out = append(out, e.Path)
	}
	return out
}

// Lists as others make them: the columns are known by their words or by what they hold.
func TestLists(t *testing.T) {
	for name, list := range map[string]string{
		"an export with names":      "Address,Status Code,Title 1,Indexability\nhttps://www.old.example/a,200,Page A,yes\nhttps://old.example/b%20c,200,\"Page, B\",yes\nhttps://old.example/gone,404,,no\n",
		"unknown names, semicolons": "\ufeffSeitenpfad;Aufrufe;Bemerkung\r\n/a;1.234;\r\n/b c;7;\"zwei\r\nZeilen\"\r\n",
		"no names":                  "1200\t/a\tPage A\n7\t/b%20c\tPage B\n",
		"one column":                "/a\n/b c\nhttps://old.example/a?utm_source=x\n",
		"hosts without a scheme":    "old.example/a,12\nold.example/b%20c,3\n",
	} {
		g := NewGatherer(GatherOptions{Hosts: []string{"old.example"}})
		require.NoError(t, g.List(strings.NewReader(list)), name)
		res := g.Result()
		assert.ElementsMatch(t, []string{"/a", "/b%20c"}, paths(res), name)
		switch name {
		case "an export with names":
			assert.Equal(t, "Page A", res.Pages[0].Title)
			assert.Equal(t, int64(1), res.Dropped[DropError])
		case "unknown names, semicolons", "no names":
			assert.Positive(t, res.Pages[0].Visits, name)
		case "one column":
			assert.Equal(t, int64(1), res.Dropped[DropTracking])
		}
	}
	for _, bad := range []string{"", "a,b\nc,d\n", "\x00\x01"} {
		assert.ErrorIs(t, NewGatherer(GatherOptions{}).List(strings.NewReader(bad)), ErrNotTable, "%q", bad)
	}
}

// What does not belong into an inventory is dropped and counted.
func TestDropped(t *testing.T) {
	g := NewGatherer(GatherOptions{Hosts: []string{"old.example"}, BasePath: "/site"})
	for _, a := range []string{"/site/", "/site/a", "/site/a", "https://www.old.example/site/a?gclid=1", "https://else.example/site/a", "/other", "/site/x.jpg", "/site/x.pdf", "/site/feed", "/site/wp-login.php", "/site/robots.txt", "", "/site/b?print=1"} {
		g.Add(a, Entry{Sources: []string{"list"}, Visits: 1})
	}
	g.Add("/site/broken", Entry{Status: 500})
	g.Add("/site/moved", Entry{Status: 301})
	g.Add("/site/b?print=1", Entry{Canonical: "/site/b", Sources: []string{"links"}})
	g.Add("/site/b", Entry{Sources: []string{"links"}})
	res := g.Result()
	assert.Equal(t, map[string]int64{DropRoot: 1, DropTwice: 1, DropTracking: 1, DropHost: 1, DropBase: 1, DropAsset: 2, DropDocument: 1, DropInside: 2, DropNone: 1, DropError: 1, DropRedirect: 1, DropCanonical: 1}, res.Dropped)
	assert.Equal(t, []string{"/site/a", "/site/b"}, paths(res))
	assert.Equal(t, []int64{3, 1}, []int64{res.Pages[0].Visits, res.Pages[1].Visits}, "the visits of other addresses are its page's")

	for _, write := range []func(*bytes.Buffer) error{func(b *bytes.Buffer) error { return res.WriteCSV(b) }, func(b *bytes.Buffer) error { return res.WriteJSON(b) }} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		again, _, err := ReadInventory(&b)
		require.NoError(t, err)
		assert.Equal(t, res.Pages, again.Pages, "an inventory is read as it was written")
	}
}

const accessLog = `203.0.113.5 - - [10/Oct/2025:13:55:36 +0200] "GET /a HTTP/1.1" 200 2326
203.0.113.6 - ada [10/Oct/2025:13:56:00 +0200] "GET /a?utm_source=x HTTP/2.0" 200 2326 "https://search.example/?q=\"a b\"" "Mozilla/5.0 (X11)"
old.example:443 203.0.113.6 - - [10/Oct/2025:14:00:00 +0200] "GET /b%20c HTTP/1.1" 304 - "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:00 +0200] "GET /\xd0\xbf HTTP/1.1" 200 1 "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:01 +0200] "GET /a HTTP/1.1" 200 1 "-" "Examplebot/2.1 (+https://bot.example)"
203.0.113.7 - - [11/Oct/2025:00:00:02 +0200] "POST /a HTTP/1.1" 200 1 "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:03 +0200] "GET /gone HTTP/1.1" 404 1 "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:04 +0200] "GET /pic.png HTTP/1.1" 200 1 "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:05 +0200] "GET http://old.example/a HTTP/1.1" 200 1 "-" "Mozilla/5.0"
203.0.113.7 - - [11/Oct/2025:00:00:06 +0200] "\x16\x03\x01" 400 0 "-" "-"
garbage
other.example:443 203.0.113.6 - - [10/Oct/2025:14:00:00 +0200] "GET /theirs HTTP/1.1" 200 - "-" "Mozilla/5.0"
`

func TestLogs(t *testing.T) {
	read := func(text []byte, p Period) *Gathered {
		g := NewGatherer(GatherOptions{Hosts: []string{"old.example"}})
		require.NoError(t, g.Log(bytes.NewReader(text), p))
		return g.Result()
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	fmt.Fprint(z, accessLog)
	require.NoError(t, z.Close())
	for _, text := range [][]byte{[]byte(accessLog), packed.Bytes()} {
		res := read(text, Period{})
		visits := map[string]int64{}
		for _, e := range res.Pages {
			visits[e.Path] = e.Visits
		}
		assert.Equal(t, map[string]int64{"/a": 3, "/b%20c": 1, "/%D0%BF": 1}, visits)
		assert.Equal(t, map[string]int64{DropTracking: 1, DropRobot: 1, DropMethod: 1, DropError: 1, DropAsset: 1, DropLine: 2, DropHost: 1, DropTwice: 0}, withZero(res.Dropped, DropTwice))
	}
	res := read([]byte(accessLog), Period{Since: time.Date(2025, 10, 10, 22, 0, 0, 0, time.UTC)})
	assert.ElementsMatch(t, []string{"/%D0%BF", "/a"}, paths(res))
	assert.Equal(t, int64(4), res.Dropped[DropPeriod])
	g := NewGatherer(GatherOptions{NotFound: true})
	require.NoError(t, g.Log(strings.NewReader(accessLog), Period{}))
	assert.Contains(t, g.Result().Pages, Entry{Path: "/gone", Status: 404, Type: "page", Visits: 1, Sources: []string{"log"}})
	assert.True(t, LooksLikeLog([]byte(accessLog)))
	assert.False(t, LooksLikeLog([]byte("path,visits\n/a,1\n")))
	assert.ErrorIs(t, NewGatherer(GatherOptions{}).Log(strings.NewReader("a\nb\n"), Period{}), ErrNotLog)
}

func withZero(m map[string]int64, key string) map[string]int64 {
	m[key] = 0
	return m
}

func FuzzLog(f *testing.F) {
	for l := range strings.Lines(accessLog) {
		f.Add([]byte(l))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		g := NewGatherer(GatherOptions{})
		if g.Log(bytes.NewReader(b), Period{}) == nil {
			for _, e := range g.Result().Pages {
				require.True(t, strings.HasPrefix(e.Path, "/"))
			}
		}
	})
}
