package redirects

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// proves checks that a compact map leads every address of a map where its row says, and
// catches no page of the new site.
func proves(t *testing.T, m *Map, c *Compact, live []string) {
	t.Helper()
	set, err := NewRuleSet(c.Map)
	require.NoError(t, err)
	for _, r := range m.Rows {
		to, status, ok := set.Apply(r.From)
		require.True(t, ok, r.From)
		require.Equal(t, r.To, to, r.From)
		require.Equal(t, r.status(), status, r.From)
	}
	for _, l := range live {
		to, _, caught := set.Apply(l)
		require.False(t, caught, "%s is caught and sent to %s", l, to)
	}
}

func TestPatterns(t *testing.T) {
	m := &Map{}
	add := func(from, to string) { m.Rows = append(m.Rows, Row{From: from, To: to, Score: 0.95}) }
	for i := range 40 {
		add(fmt.Sprintf("/news/%d/%02d/story-%d.html", 2010+i%9, 1+i%12, i), fmt.Sprintf("/journal/story-%d/", i))
		add(fmt.Sprintf("/fleet/boat-%d", i), fmt.Sprintf("/collection/boats/boat-%d", i))
		add(fmt.Sprintf("/docs/a/b%d/c.htm", i), fmt.Sprintf("/manual/a/b%d/c", i))
		add(fmt.Sprintf("/diary/%d/%02d/note", 1900+i, 1+i%12), fmt.Sprintf("/log/%d/note", 1900+i))
		add(fmt.Sprintf("/item.php?id=%d", 100+i), fmt.Sprintf("/things/%d", 100+i))
		add(fmt.Sprintf("/old/%d-x/%d", i*7, i), "/archive")
	}
	add("/news/2012/03/special.html", "/journal/very-special/")
	add("/fleet/lost", "/collection")
	add("/fleet/kept-back", "/elsewhere/kept-back")
	add("/contact.html", "/about/contact")
	live := []string{"/journal/story-1/", "/fleet/", "/news/", "/collection/boats/boat-1"}
	c := Patterns(m, live)
	proves(t, m, c, live)
	assert.Equal(t, 4, c.Single, "%v", c.Map.Rows)
	want := map[string]string{"/news/{year}/{month}/{name}.html": "/journal/{name}/", "/fleet/{name}": "/collection/boats/{name}", "/docs/a/{rest}.htm": "/manual/a/{rest}", "/diary/{year}/{month}/{name}": "/log/{year}/{name}",
		"/item.php?id={id}": "/things/{id}", "/old/{rest}": "/archive"}
	got := map[string]string{}
	for _, p := range c.Patterns {
		got[p.From] = p.To
		assert.Equal(t, 40, p.Rows, p.From)
	}
	assert.Equal(t, want, got)

	// A page of the new site that a rule would catch forbids the rule.
	c = Patterns(m, append(live, "/fleet/boat-new"))
	proves(t, m, c, append(live, "/fleet/boat-new"))
	assert.Len(t, c.Patterns, 5)
}

// The benchmark's systematic changes: rules of ten and more rows each.
func TestPatternsOfHiddenKey(t *testing.T) {
	h := newHidden(1)
	h.make(24_000)
	m := &Map{}
	var live []string
	for _, e := range h.old.Pages {
		if to := h.key[e.Path]; len(to) > 0 {
			m.Rows = append(m.Rows, Row{From: e.Path, To: to[0], Score: 0.95})
		}
	}
	for _, e := range h.new.Pages {
		live = append(live, e.Path)
	}
	start := time.Now()
	c := Patterns(m, live)
	t.Logf("%d rows: %d rules, %d single rows, %.1f s", len(m.Rows), len(c.Patterns), c.Single, time.Since(start).Seconds())
	for _, p := range c.Patterns[:min(len(c.Patterns), 25)] {
		t.Logf("%6d of %6d  %s → %s", p.Rows, p.Catch, p.From, p.To)
	}
	proves(t, m, c, live)
	explained := len(m.Rows) - c.Single
	assert.Greater(t, explained, 10*len(c.Patterns))
	assert.Greater(t, explained, 14_000, "sections renamed, date folders dropped, departments, reports")
}

func TestRule(t *testing.T) {
	r, err := ParseRule("/ne ws/{year}/{name}.html", "/journal/{name}/?y={year}", 301)
	require.NoError(t, err)
	for key, want := range map[string]string{"/ne%20ws/2012/a%2Fb.html": "/journal/a%2Fb/?y=2012", "/ne%20ws/20123/a.html": "", "/ne%20ws/2012/a/b.html": "", "/ne%20ws/2012/a.html?x": "", "/ne%20ws/2012/.html": ""} {
		got, ok := r.Apply(key)
		assert.Equal(t, want != "", ok, key)
		assert.Equal(t, want, got, key)
	}
	for from, says := range map[string]string{"/a/{thing}": "{thing} in", "/a/{name}/{name}": "twice", "a/{name}": "slash"} {
		_, err := ParseRule(from, "/x", 301)
		assert.ErrorIs(t, err, ErrRule)
		assert.ErrorContains(t, err, says)
	}
	_, err = ParseRule("/a/{name}", "/x/{id}", 301)
	assert.ErrorContains(t, err, "{id} in")
}
