package restore

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

func anArchive() *manifest.Manifest {
	return &manifest.Manifest{Parts: site.Parts, Uploads: []string{"up"}, Settings: []string{"conf.php"},
		Database: &manifest.Database{Tables: []database.Table{{Name: "wp_posts"}, {Name: "wp_users"}, {Name: "log"}}}}
}

// TestChoices: which parts, files and tables are restored.
func TestChoices(t *testing.T) {
	for _, c := range []struct {
		only, without []string
		parts         []site.Part
		files, tables string // those that are restored, in a fixed order
	}{
		{nil, nil, site.Parts, "index.php up/a.jpg up/b/c.png conf.php", "wp_posts wp_users log"},
		{[]string{"uploads"}, nil, []site.Part{site.Uploads}, "up/a.jpg up/b/c.png", ""},
		{[]string{"database", "settings"}, nil, []site.Part{site.Database, site.Settings}, "conf.php", "wp_posts wp_users log"},
		{[]string{"table:wp_*"}, nil, []site.Part{site.Database}, "", "wp_posts wp_users"},
		{[]string{"up/b"}, nil, []site.Part{site.Uploads, site.Code, site.Settings}, "up/b/c.png", ""},
		{[]string{"*.php"}, nil, []site.Part{site.Uploads, site.Code, site.Settings}, "index.php conf.php", ""},
		{[]string{"uploads", "table:log"}, []string{"up/b"}, []site.Part{site.Database, site.Uploads}, "up/a.jpg", "log"},
		{nil, []string{"uploads", "table:log"}, []site.Part{site.Database, site.Code, site.Settings}, "index.php conf.php", "wp_posts wp_users"},
		{nil, []string{"database"}, []site.Part{site.Uploads, site.Code, site.Settings}, "index.php up/a.jpg up/b/c.png conf.php", ""},
		{nil, []string{"up/**/*.png"}, site.Parts, "index.php up/a.jpg conf.php", "wp_posts wp_users log"},
	} {
		s, err := selectFrom(anArchive(), c.only, c.without, nil)
		require.NoError(t, err)
		var parts []site.Part
		for _, p := range site.Parts {
			if s.part(p) {
				parts = append(parts, p)
			}
		}
		var files, tables []string
		for _, f := range []string{"index.php", "up/a.jpg", "up/b/c.png", "conf.php"} {
			if s.file(f) {
				files = append(files, f)
			}
		}
		for _, table := range s.m.Database.Tables {
			if s.table(table.Name) {
				tables = append(tables, table.Name)
			}
		}
		what := []any{"--only %v --without %v", c.only, c.without}
		assert.Subset(t, c.parts, parts, what...)
		assert.Equal(t, c.files, spaced(files), what...)
		assert.Equal(t, c.tables, spaced(tables), what...)
		assert.Equal(t, len(c.only)+len(c.without) == 0, s.all())
	}
}

func spaced(words []string) (s string) {
	for i, w := range words {
		if i > 0 {
			s += " "
		}
		s += w
	}
	return s
}

// TestChoicesThatMeanNothing are refused with what was probably meant.
func TestChoicesThatMeanNothing(t *testing.T) {
	for word, says := range map[string]string{"upload": "did you mean uploads?", "table:wp_post": "the archive has no table wp_post; did you mean wp_posts?", "a[": "cannot be read", "stored_code": "did you mean stored-code?"} {
		_, err := selectFrom(anArchive(), []string{word}, nil, nil)
		assert.ErrorContains(t, err, says, word)
	}
	m := anArchive()
	m.Parts = []site.Part{site.Database}
	_, err := selectFrom(m, []string{"uploads"}, nil, nil)
	assert.ErrorContains(t, err, "does not hold the part uploads; it holds database")
	s, err := selectFrom(anArchive(), nil, []string{"up/a.jpg", "none/*.txt"}, []string{"*.log"})
	require.NoError(t, err)
	assert.False(t, s.file("up/a.jpg"))
	assert.ErrorIs(t, s.unused(), archive.ErrNoEntry)
	assert.ErrorContains(t, s.unused(), "none/*.txt")
	assert.True(t, s.stays("x/y.log"))
	assert.True(t, s.stays(".well-known/acme/1"), "it always stays")
	assert.False(t, s.stays("x/well-known"))
}
