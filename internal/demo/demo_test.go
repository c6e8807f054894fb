package demo

import (
	"bytes"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/rewrite"
	"hovix/internal/testenv"
)

func TestPictures(t *testing.T) {
	seen := map[string]bool{}
	for i := range 6 {
		b, err := jpegOf(i)
		require.NoError(t, err)
		img, err := jpeg.Decode(bytes.NewReader(b))
		require.NoError(t, err)
		assert.Equal(t, 800, img.Bounds().Dx())
		again, err := jpegOf(i)
		require.NoError(t, err)
		assert.Equal(t, b, again, "the same picture every time")
		assert.False(t, seen[string(b)], "no two are alike")
		seen[string(b)] = true
	}
	mark, err := logo()
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(mark))
	require.NoError(t, err)
}

// TestSerializedAgainstPHP: PHP reads what serialize writes, and the other way.
func TestSerializedAgainstPHP(t *testing.T) {
	v := list{{"a", "Grüße ⚓"}, {"b", list{{"0", 1}, {"1", true}, {"2", nil}, {"3", 1.5}}}, {"7", "it's \"quoted\"; {}"}, {"f", false}}
	text := serialize(v)
	out := testenv.PHP(t, `$v = unserialize(stream_get_contents(STDIN)); echo serialize($v);`, []byte(text))
	assert.Equal(t, text, string(out))
	back, err := unserialize(text)
	require.NoError(t, err)
	assert.Equal(t, v, back)
	assert.Equal(t, "Grüße ⚓", v.get("a"))
	assert.Empty(t, v.get("none"))
	for _, bad := range []string{"", "s:9:\"x\";", "a:1:{i:0;", "x:1;", "s:1:\"x\";s:1:\"y\";", "i:5", "a:2:{i:0;i:1;}"} {
		_, err := unserialize(bad)
		assert.Error(t, err, bad)
	}
}

func build(t *testing.T, address string) string {
	t.Helper()
	a, err := rewrite.ParseAddress(address)
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "site")
	_, err = Build(t.Context(), dir, a, database.Location{})
	require.NoError(t, err)
	return dir
}

func TestServer(t *testing.T) {
	s, err := NewServer(build(t, "http://museum.example/base"))
	require.NoError(t, err)
	defer s.Close()
	get := func(path string) (int, string) {
		rec := httptest.NewRecorder()
		s.ServeHTTP(rec, httptest.NewRequest(http.MethodGet, path, nil))
		body, err := io.ReadAll(rec.Result().Body)
		require.NoError(t, err)
		return rec.Code, string(body)
	}
	for path, want := range map[string]string{
		"/base/":                       "Come aboard",
		"/base/news":                   "We are moving, online",
		"/base/collection":             "Grey Heron",
		"/base/collection/grey-heron":  "28.0 m long",
		"/base/news/2024/new-curator":  "Ines Tallow",
		"/base/assets/style.css":       "--ink",
		"/base/visit/../visit/tickets": "islanders free",
	} {
		status, body := get(path)
		assert.Equal(t, 200, status, path)
		assert.Contains(t, body, want, path)
	}
	for _, path := range []string{"/base/none", "/elsewhere", "/base/hovix.toml", "/base/data/museum.sqlite", "/base/uploads/../hovix.toml", "/base/cache/page-0.html"} {
		status, _ := get(path)
		assert.Equal(t, 404, status, path)
	}
	_, front := get("/base/news/2023/summer-timetable")
	assert.NotContains(t, front, "Best price", "spam is not shown")
	assert.Contains(t, front, "Comments")
	assert.Contains(t, front, `href="http://museum.example/base/visit"`)
	assert.Contains(t, front, "Grüße vom Kai", "a value inside a value is read")
}

func TestBuildRefusesWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.txt"), []byte("x"), 0o644))
	_, err := Tour(t.Context(), TourOptions{Folder: dir})
	assert.ErrorContains(t, err, "is not empty")
	b, err := os.ReadFile(filepath.Join(dir, "mine.txt"))
	require.NoError(t, err)
	assert.Equal(t, "x", string(b))
}

// TestComparisonFindsWhatIsWrong plants one fault of each kind.
func TestComparisonFindsWhatIsWrong(t *testing.T) {
	from, to := OldAddress, NewAddress
	page := func(a rewrite.Address, text string) fetched {
		return fetched{status: 200, html: true, body: []byte(text + " " + a.String() + "/x u=" + strings.ReplaceAll(a.String(), "/", `\/`))}
	}
	site := func(a rewrite.Address) *crawled {
		return &crawled{answers: map[string]fetched{"/": page(a, "front"), "/a": page(a, "a"), "/p.jpg": {status: 200, sum: [32]byte{1}}}}
	}
	assert.True(t, compare(site(from), site(to), from, to).Good())

	broken := site(to)
	broken.answers["/a"] = fetched{status: 500, html: true, body: broken.answers["/a"].body}
	assert.Equal(t, []string{"/a"}, compare(site(from), broken, from, to).Broken)

	missing := site(to)
	delete(missing.answers, "/p.jpg")
	assert.Equal(t, []string{"/p.jpg"}, compare(site(from), missing, from, to).Missing)

	text := site(to)
	text.answers["/a"] = page(to, "changed")
	assert.Equal(t, []string{"/a"}, compare(site(from), text, from, to).Different)

	picture := site(to)
	picture.answers["/p.jpg"] = fetched{status: 200, sum: [32]byte{2}}
	assert.Equal(t, []string{"/p.jpg"}, compare(site(from), picture, from, to).Different)

	old := site(to)
	old.answers["/a"] = page(from, "a")
	assert.Equal(t, []string{"/a"}, compare(site(from), old, from, to).OldMentions)

	extra := site(to)
	extra.answers["/new"] = page(to, "new")
	assert.Equal(t, []string{"/new"}, compare(site(from), extra, from, to).Different)

	astray := site(to)
	astray.outside = []string{to.String() + "x"}
	assert.Equal(t, astray.outside, compare(site(from), astray, from, to).Outside)
}

func TestLinksAreFound(t *testing.T) {
	links := linksOf([]byte(`<a href="/a">x</a><img src='b.png'><div style="background-image:url('c.jpg')"></div><link rel=x href=d.css><!-- <a href="no"> -->`))
	assert.Equal(t, []string{"/a", "b.png", "c.jpg", "d.css"}, links)
	c := &crawled{}
	a := rewrite.Address{Scheme: "https", Host: "x.example", Path: "/base"}
	for link, want := range map[string]string{"https://x.example/base/a?b#c": "/a", "https://x.example/base": "/", "d": "/d", "https://other.example/base/a": "", "mailto:a@x.example": "", "https://x.example/outside": "", "http://x.example/base/a": ""} {
		got, _ := c.resolve(a, "/", link)
		assert.Equal(t, want, got, link)
	}
	assert.Len(t, c.outside, 2, "on the host, but not below the site's address")
}
