package site_test

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/engines"
	"hovix/internal/redirects"
	"hovix/internal/site"
	"hovix/internal/testenv"
)

// WordPress itself says where its pages are, in all patterns of its permalinks.
func TestPagesOfWordPress(t *testing.T) {
	folder, _ := testenv.WordPress(t, "http://localhost/blog", "wp_")
	compare := func(c string) {
		t.Helper()
		s, err := site.Open(folder)
		require.NoError(t, err)
		want := map[string]string{}
		require.NoError(t, json.Unmarshal(testenv.WordPressLinks(t, folder, "--", "--"), &want))
		require.Greater(t, len(want), 10)
		r, err := engines.Open(t.Context(), s.Database)
		require.NoError(t, err)
		g := redirects.NewGatherer(redirects.GatherOptions{Everything: true})
		require.NoError(t, g.Site(context.Background(), s, r))
		require.NoError(t, r.Close())
		got := map[string]string{}
		for _, e := range g.Result().Pages {
			got[e.Path] = e.Title
		}
		var wantPaths, gotPaths []string
		for p := range want {
			n, err := redirects.ParseTarget(p)
			require.NoError(t, err)
			wantPaths = append(wantPaths, n.Key())
		}
		for p := range got {
			gotPaths = append(gotPaths, p)
		}
		assert.ElementsMatch(t, wantPaths, gotPaths, "%q", c)
	}
	for _, c := range []struct{ structure, category string }{
		{"", ""}, {"/%postname%/", ""}, {"/%year%/%monthnum%/%day%/%postname%/", ""}, {"/%year%/%monthnum%/%postname%", "topics"}, {"/archives/%post_id%", ""},
		{"/blog/%category%/%postname%/", ""}, {"/%category%/%post_id%-%postname%.html", "/themes/"}, {"/%author%/%year%/%hour%-%minute%-%second%/%postname%/", ""}, {"/index.php/%year%/%postname%/", ""},
	} {
		testenv.WordPressLinks(t, folder, c.structure, c.category)
		compare(c.structure)
	}
	// A network: all its members, each below its path.
	testenv.WordPressNetwork(t, folder, "http://localhost/blog")
	compare("network")
}
