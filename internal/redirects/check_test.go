package redirects

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func mapOf(t *testing.T, text string) *Map {
	t.Helper()
	m, err := ReadMap(strings.NewReader(text))
	require.NoError(t, err)
	return m
}

func inventoryOf(paths ...string) *Inventory {
	inv := &Inventory{}
	for _, p := range paths {
		inv.Pages = append(inv.Pages, Entry{Path: p, Visits: int64(len(p))})
	}
	return inv
}

const badMap = `from,to,status,score
/ok,/new/ok,301,0.95
old,new,,
/,/new/ok,,
/self,/self,,
/loop-a,/loop-b,,
/loop-b,/loop-a,,
/into,/loop-a,,
/c1,/c2,,
/c2,/c3,,
/c3,/new/end,,
/ok,/new/ok,301,0.95
/ok2,/new/ok,,
/ok2,/new/end,,
/alive,/new/ok,,
/gone,/new/nowhere,,
/slash,/New/end/,,
/frag#part,/new/ok,,
https://old.example/abs,/new/ok,,
noslash,/new/ok,,
/twice%2520x,/new/ok,,
/l%E9t,/new/ok,,
/dead,/new/ok,410,
/nothing,,,
ftp://x/y,/new/ok,,
/ok2/,/new/ok,,
/doubt,/new/ok,,0.44
/rule/{name},/new/{name},,
/alive/{rest},/new/{rest},,
/bad/{thing},/new,,
/out,https://other.example/x,,
/odd,/new/ok,200,
from,to,status,
`

func TestCheck(t *testing.T) {
	check := func(fix bool) (*Report, map[string][]string) {
		rep, err := Check(t.Context(), mapOf(t, badMap), CheckOptions{New: inventoryOf("/new/ok", "/new/end", "/alive", "/alive/x"), Old: inventoryOf("/ok", "/forgotten", "/rule/ok", "/rule/lost", "/alive"), Hosts: []string{"old.example"}, Fix: fix})
		require.NoError(t, err)
		got := map[string][]string{}
		for _, f := range rep.Findings {
			got[f.Kind] = append(got[f.Kind], f.From)
		}
		return rep, got
	}
	rep, got := check(false)
	assert.Equal(t, map[string][]string{
		BadHeader: {"old", "from"}, BadRoot: {"/"}, BadSelf: {"/self"}, BadLoop: {"/loop-a", "/loop-b", "/into"}, BadChain: {"/c1", "/c2"}, BadTwice: {"/ok"}, BadContra: {"/ok2"}, BadLive: {"/alive"},
		BadTarget: {"/gone"}, BadVariant: {"/slash"}, BadFragment: {"/frag#part"}, BadForm: {"https://old.example/abs", "noslash"}, BadEncoding: {"/twice%2520x", "/l%E9t"},
		BadStatus: {"/dead", "/nothing", "/odd"}, BadAddress: {"ftp://x/y"}, BadDoubtful: {"/doubt"}, BadRule: {"/rule/{name}", "/alive/{rest}", "/bad/{thing}"}, BadMissing: {"/forgotten"},
	}, got)
	for _, f := range rep.Findings {
		assert.NotEmpty(t, f.Text)
		switch f.From {
		case "/rule/{name}":
			assert.Contains(t, f.Text, "1 known address to pages that are not there, such as /rule/lost")
		case "/alive/{rest}":
			assert.Contains(t, f.Text, "it catches /alive/x, a page of the new site")
		case "/c1":
			assert.Contains(t, f.Text, "/c1 → /c2 → /c3 → /new/end")
		case "/slash":
			assert.Contains(t, f.Text, "the new page is /new/end")
		}
	}
	assert.Equal(t, 1, rep.Missing)
	assert.Zero(t, rep.Fixed)

	rep, _ = check(true)
	left, err := Check(t.Context(), rep.Map, CheckOptions{New: inventoryOf("/new/ok", "/new/end", "/alive", "/alive/x"), Hosts: []string{"old.example"}})
	require.NoError(t, err)
	for _, kind := range []string{BadHeader, BadRoot, BadSelf, BadChain, BadTwice, BadLive, BadFragment, BadForm} {
		assert.Zero(t, left.Counts[kind], kind)
	}
	to := map[string]string{}
	for _, r := range rep.Map.Rows {
		to[r.From] = r.To
	}
	assert.Equal(t, "/new/end", to["/c1"])
	assert.Equal(t, "/new/end", to["/slash"])
	assert.Equal(t, "/new/ok", to["/abs"])
	assert.Equal(t, "/new/ok", to["/frag"])
	assert.Equal(t, "/new/nowhere", to["/gone"], "what needs a person stays")
	assert.Contains(t, to, "ftp://x/y")
	var text strings.Builder
	require.NoError(t, rep.Map.Write(&text))
	assert.Contains(t, text.String(), "/odd,/new/ok,200,", "what cannot be read stays as it is")
}

func TestCheckAsks(t *testing.T) {
	asked := map[string]int{}
	rep, err := Check(t.Context(), mapOf(t, "/a,/x\n/b,/y\n/c,/z\n/d,/w\n/e,/x\n"), CheckOptions{Workers: 1, Fix: true, Ask: func(_ context.Context, address string) Answer {
		asked[address]++
		switch address {
		case "/x":
			return Answer{Status: 200}
		case "/y":
			return Answer{Status: 301, Location: "/x"}
		case "/z":
			return Answer{Err: errors.New("no answer in time")}
		case "/e":
			return Answer{Status: 200}
		}
		return Answer{Status: 404}
	}})
	require.NoError(t, err)
	texts := map[string]string{}
	for _, f := range rep.Findings {
		texts[f.From] = f.Text
	}
	assert.Equal(t, map[string]string{"/b": "the new page is led on to /x", "/c": "the new page does not answer: no answer in time", "/d": "the new page answers with 404 Not Found", "/e": "the old address is a page of the new site, which nobody could read any more"}, texts)
	assert.Len(t, rep.Map.Rows, 4)
	assert.Equal(t, "/x", rep.Map.Rows[1].To)
	for a, n := range asked {
		assert.Equal(t, 1, n, a)
	}
	// Old pages that answer need no row, and must not be caught.
	rep, err = Check(t.Context(), mapOf(t, "/p/{name},/x\n"), CheckOptions{Old: inventoryOf("/p/alive", "/kept", "/lost"), Ask: func(_ context.Context, address string) Answer {
		return Answer{Status: map[string]int{"/p/alive": 200, "/kept": 200}[address]}
	}})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{BadRule: 1, BadMissing: 1}, rep.Counts)
	assert.Contains(t, rep.Findings[0].Text, "it catches /p/alive")
	assert.Equal(t, "/lost", rep.Findings[1].From)
}

func TestCheckFrontAndAgainst(t *testing.T) {
	rep, err := Check(t.Context(), mapOf(t, "/a,/\n/b,/\n/c,/\n/d,/\n/n/{name},/m/{name}\n"), CheckOptions{Against: mapOf(t, "/n/1,/m/1\n/n/2,/other\n/q,/r\n")})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{BadFront: 1, BadDifferent: 2}, rep.Counts)
	assert.Equal(t, 3, rep.Serious)
}
