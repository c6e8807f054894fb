package page

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	p := Parse([]byte(`<!doctype html><html lang="en-GB"><head><meta charset=utf-8><base href="/base/"><title> The
 title &amp; more </title><link rel="canonical" href="/here"><link rel=alternate hreflang=de href=/de><link rel="stylesheet" href="/s.css"><link rel=next href=?page=2>
<meta name=Robots content="NOINDEX, nofollow"><meta http-equiv=refresh content="5; url='/next'"><script>var a = "<a href=/script>";</script></head>
<body><header>Site name and slogan <a href="/">Home</a></header><nav><a href=one>1</a></nav>
<main><h1>Heading</h1><p>One two three four five six seven eight nine ten eleven twelve.</p><svg><title>picture</title></svg><a href="  two#part ">2</a><area href="/area"></main>
<footer>Imprint</footer><iframe src="/frame"></iframe><a href="#top">x</a><a>no</a></body>`), "text/html")
	assert.Equal(t, "The title & more", p.Title)
	assert.Equal(t, []string{"/here", "en-GB", "/base/", "/next"}, []string{p.Canonical, p.Language, p.Base, p.Refresh})
	assert.True(t, p.NoIndex && p.NoFollow)
	assert.Equal(t, []string{"?page=2", "/", "one", "two#part", "/area", "/frame", "#top"}, p.Links)
	assert.Equal(t, []string{"/de"}, p.Alternates)
	assert.Equal(t, 14, p.Words, "those of the content, not of what stands around it")
	at, _ := url.Parse("https://x.example/a/b")
	for link, want := range map[string]string{"one": "https://x.example/base/one", "/y": "https://x.example/y", "//z.example/": "https://z.example/", "#top": "<nil>", "mailto:a@b.example": "<nil>", "a\n b": "https://x.example/base/a%20b", "https:///x": "<nil>"} {
		got := "<nil>"
		if u := p.Resolve(at, link); u != nil {
			got = u.String()
		}
		assert.Equal(t, want, got, link)
	}
	p = Parse([]byte("<h1>Only <em>a</em> heading</h1><p>text"), "")
	assert.Equal(t, []any{"Only a heading", 4}, []any{p.Title, p.Words})
}

// Pages in other encodings, as the header, the page itself or its letters say.
func TestEncodings(t *testing.T) {
	for name, c := range map[string]struct{ body, contentType string }{
		"by the header":          {"<title>F\xe4hre \x80</title>", "text/html; charset=windows-1252"},
		"by the page":            {"<meta charset=windows-1252><title>F\xe4hre \x80</title>", "text/html"},
		"Cyrillic":               {"<title>\xf4\xe5\xf0\xfc\xe9</title>", "text/html; charset=windows-1251"},
		"UTF-8":                  {"<title>Fähre €</title>", "text/html; charset=utf-8"},
		"wrongly named, in fact": {"<title>Fähre €</title>", "text/html; charset=us-ascii"},
	} {
		p := Parse([]byte(c.body), c.contentType)
		switch name {
		case "Cyrillic":
			assert.Equal(t, "ферьй", p.Title)
		case "wrongly named, in fact": // browsers read it as Windows-1252, too
			assert.NotEmpty(t, p.Title)
		default:
			assert.Equal(t, "Fähre €", p.Title, name)
		}
	}
}

// The estimate agrees with the share of runs of three words that is counted.
func TestSimilarity(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	word := func() string { return fmt.Sprintf("w%d", r.IntN(5000)) }
	for _, n := range []int{30, 200, 2000} {
		var sum, worst float64
		const rounds = 200
		for round := range rounds {
			a := make([]string, n)
			for i := range a {
				a[i] = word()
			}
			b := append([]string{}, a...)
			for range n * round / rounds / 4 {
				b[r.IntN(n)] = word()
			}
			runs := func(words []string) map[string]bool {
				m := map[string]bool{}
				for i := range len(words) - shingle + 1 {
					m[strings.Join(words[i:i+shingle], " ")] = true
				}
				return m
			}
			ra, rb, both := runs(a), runs(b), 0
			for s := range ra {
				if rb[s] {
					both++
				}
			}
			exact := float64(both) / float64(len(ra)+len(rb)-both)
			_, fa := Text([]byte("<p>" + strings.Join(a, " ")))
			_, fb := Text([]byte("<nav>menu</nav><main>" + strings.Join(b, ", ") + "</main>"))
			diff := fa.Similarity(fb) - exact
			sum += diff
			worst = max(worst, diff, -diff)
			again, err := ParseFingerprint(fa.String())
			require.NoError(t, err)
			require.Equal(t, fa, again)
		}
		assert.InDelta(t, 0, sum/rounds, 0.03, "%d words: it errs to neither side", n)
		assert.Less(t, worst, 0.4, "%d words", n)
	}
	_, short := Text([]byte("too short to tell"))
	assert.Empty(t, short)
	assert.Zero(t, short.Similarity(short))
	_, err := ParseFingerprint("xyz")
	assert.Error(t, err)
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"<title>x</title><a href=y>", "<main><article></main>", "<svg><title>", "\xff\xfe<\x00a", "<meta http-equiv=refresh content=;url=>", "<base href='%zz'><a href='\t/x'>"} {
		f.Add([]byte(s), "text/html")
	}
	at, _ := url.Parse("https://x.example/")
	f.Fuzz(func(t *testing.T, body []byte, contentType string) {
		p := Parse(body, contentType)
		for _, l := range append(p.Links, p.Canonical, p.Refresh) {
			if u := p.Resolve(at, l); u != nil {
				require.NotEmpty(t, u.Host)
			}
		}
	})
}
