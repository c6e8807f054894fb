package redirects

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type memory struct{ bytes.Buffer }

func (*memory) Close() error { return nil }

// written gives the files that Write makes.
func written(t *testing.T, m *Map, opts WriteOptions) (map[string]string, *Rules) {
	t.Helper()
	opts.Now = time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	files := map[string]*memory{}
	res, err := Write(m, opts, func(name string) (io.WriteCloser, error) { files[name] = &memory{}; return files[name], nil })
	require.NoError(t, err)
	out := map[string]string{}
	for n, f := range files {
		out[n] = f.String()
	}
	return out, res
}

func TestWriteCSV(t *testing.T) {
	m := &Map{Rows: []Row{{From: "/a b", To: "/new/a"}, {From: "/=x", To: "https://other.example/"}, {From: "/gone", Status: 410}, {From: "/r/{name}", To: "/x/{name}"}, {From: "/a b", To: "/twice"}, {From: "/none"}}}
	files, res := written(t, m, WriteOptions{For: "csv"})
	assert.Equal(t, "from,to\n/=x,https://other.example/\n/a%20b,/new/a\n", files[""])
	assert.Len(t, res.Skipped, 4)
	files, _ = written(t, m, WriteOptions{For: "csv", Comma: ';', NoHeader: true, Site: "https://new.example/", OldSite: "http://old.example"})
	assert.Equal(t, "http://old.example/=x;https://other.example/\nhttp://old.example/a%20b;https://new.example/new/a\n", files[""])
}

func TestWriteStatic(t *testing.T) {
	files, res := written(t, &Map{Rows: []Row{{From: "/a/b", To: "/n?x=1&y=2"}, {From: "/c.html", To: "/n"}, {From: "/паром/", To: "/n"}, {From: "/?p=1", To: "/n"}, {From: "/gone", Status: 410}, {From: "/x%2Fy", To: "/n"}}}, WriteOptions{For: "static"})
	var names []string
	for n, text := range files {
		names = append(names, n)
		assert.Contains(t, text, `<meta name="robots" content="noindex">`)
	}
	assert.ElementsMatch(t, []string{"a/b/index.html", "c.html", "паром/index.html"}, names)
	assert.Contains(t, files["a/b/index.html"], `content="0; url=/n?x=1&amp;y=2"`)
	assert.Len(t, res.Skipped, 3)
}

// The elements and attributes of the URL Rewrite module's configuration, with the values
// that its reference gives for them (Microsoft: URL Rewrite Module Configuration
// Reference; IIS's rewrite_schema.xml).
var iisSchema = map[string]map[string][]string{
	"configuration": {}, "system.webServer": {}, "rewrite": {}, "rewriteMaps": {}, "rules": {}, "conditions": {},
	"rewriteMap": {"name": nil, "defaultValue": nil},
	"rule":       {"name": nil, "stopProcessing": {"true", "false"}},
	"match":      {"url": nil, "ignoreCase": {"true", "false"}, "negate": {"true", "false"}},
	"action": {"type": {"None", "Rewrite", "Redirect", "CustomResponse", "AbortRequest"}, "url": nil, "appendQueryString": {"true", "false"}, "redirectType": {"Permanent", "Found", "SeeOther", "Temporary"},
		"statusCode": nil, "statusReason": nil, "statusDescription": nil},
	"add": {"key": nil, "value": nil, "input": nil, "pattern": nil, "ignoreCase": {"true", "false"}},
}

func TestWriteIIS(t *testing.T) {
	files, res := written(t, &Map{Rows: hardRows}, WriteOptions{For: "iis", Map: "a--b.csv"})
	assert.Empty(t, res.Skipped)
	d := xml.NewDecoder(strings.NewReader(files[""]))
	keys, rules, names := map[string]string{}, 0, map[string]bool{}
	var open []string
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		switch e := tok.(type) {
		case xml.StartElement:
			allowed, known := iisSchema[e.Name.Local]
			require.True(t, known, e.Name.Local)
			at := map[string]string{}
			for _, a := range e.Attr {
				values, known := allowed[a.Name.Local]
				require.True(t, known, "%s of %s", a.Name.Local, e.Name.Local)
				require.True(t, values == nil || slices.Contains(values, a.Value), "%s of %s is %s", a.Name.Local, e.Name.Local, a.Value)
				at[a.Name.Local] = a.Value
			}
			switch {
			case e.Name.Local == "add" && open[len(open)-1] == "rewriteMap":
				keys[at["key"]] = at["value"]
			case e.Name.Local == "rule":
				require.False(t, names[at["name"]], "rules have names of their own")
				names[at["name"]] = true
				rules++
			}
			open = append(open, e.Name.Local)
		case xml.EndElement:
			open = open[:len(open)-1]
		}
	}
	assert.Equal(t, 5+2+6, rules, "one for each status, one more for those with queries, one for each rule")
	for _, r := range hardRows {
		if IsRule(r.From) {
			continue
		}
		f, _ := ParseTarget(r.From)
		want := "gone"
		if r.To != "" {
			to, _ := ParseTarget(r.To)
			want = safe(to.String())
		}
		assert.Equal(t, want, keys[f.Key()], r.From)
	}
}

// The comment on top says where the rules come from and where they go.
func TestWriteComment(t *testing.T) {
	for _, target := range Targets {
		files, _ := written(t, &Map{Rows: []Row{{From: "/a", To: "/b"}, {From: "/r/{name}", To: "/x/{name}"}}}, WriteOptions{For: target.Name, Map: "map.csv", File: "/etc/rules"})
		if target.Comment != "" {
			assert.True(t, strings.HasPrefix(files[""], "# Redirects made by Hovix from map.csv on 25 November 2026, 10:00: 1 address, 1 rule.\n# To install: "), target.Name)
		}
	}
	_, err := Write(&Map{}, WriteOptions{For: "none"}, nil)
	assert.ErrorIs(t, err, ErrTarget)
}

// TestNothingEndsALine: what a map holds cannot add a line, and so a directive, to rules
// for any server; rows with control characters are named, not written.
func TestNothingEndsALine(t *testing.T) {
	rows := []Row{{From: "/good", To: "/new", Status: 301}}
	for _, evil := range []string{"/a%0areturn 200;", "/a%0A}", "/a%250d%250a", "/a\nb", "/a%00", "/a?x=%0d%0aSet-Cookie: a", "/a%c2%85b", "/a\u0085b", "/a%7f", "//evil.example:80;return", "https://evil.example:80%0a/", "/r/{x}%0a", "/r/{x}\n"} {
		rows = append(rows, Row{From: evil, To: "/new", Status: 301}, Row{From: "/to" + strings.TrimLeft(evil, "/:htps"), To: evil, Status: 301})
	}
	for _, target := range Targets {
		var out strings.Builder
		res, err := Write(&Map{Rows: rows}, WriteOptions{For: target.Name, Map: "evil\nreturn 200;\u2028.csv", File: "a\nb", Now: time.Unix(0, 0)}, func(string) (io.WriteCloser, error) { return nopCloser{&out}, nil })
		require.NoError(t, err, target.Name)
		for _, line := range strings.Split(out.String(), "\n") {
			assert.False(t, strings.HasPrefix(strings.TrimSpace(line), "return 200"), "%s: %q", target.Name, line)
			assert.NotContains(t, line, "Set-Cookie", target.Name)
			assert.NotContains(t, line, "80;return", target.Name)
		}
		assert.GreaterOrEqual(t, len(res.Skipped), 20, target.Name)
	}
	rep, err := Check(t.Context(), &Map{Rows: rows}, CheckOptions{})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, rep.Counts[BadAddress]+rep.Counts[BadRule], 20, "each is a finding")
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }
