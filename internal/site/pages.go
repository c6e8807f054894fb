package site

import (
	"context"
	"errors"
	"fmt"
	"html"
	"maps"
	"regexp"
	"slices"
	"strings"

	"hovix/internal/page"
)

// WebPage is a page that a site shows, as its database tells.
type WebPage struct {
	Path        string // with the base path of the site's address
	Title       string
	Modified    string // a date of ISO 8601
	Language    string
	Words       int
	Fingerprint page.Fingerprint
	Listing     bool // it lists other pages
}

// Rows gives the rows of a table, with what some of its columns hold: the empty text for
// NULL and for a column that the table has not. A table that is not there has no rows.
type Rows func(ctx context.Context, table string, columns []string, row func(values []string) error) error

// Paged is a kind whose pages can be told from its database.
type Paged interface {
	// Pages gives the pages of the site. base is the path of its address; notes say what
	// cannot be told.
	Pages(ctx context.Context, prefix, base string, rows Rows, yield func(WebPage)) (notes []string, err error)
}

// ErrNoPages says that the pages of a site cannot be told from its database.
var ErrNoPages = errors.New("the pages of this site cannot be told from its database")

// Pages gives the pages of a site of a kind, from the rows of its database. siteFile is
// the content of its site file, nil if it has none; its [[pages]] count before the kind.
func Pages(ctx context.Context, kind, prefix, base string, siteFile []byte, rows Rows, yield func(WebPage)) (notes []string, err error) {
	if siteFile != nil {
		f, err := parseSiteFile(SiteFile, siteFile)
		if err != nil {
			return nil, err
		}
		if len(f.Pages) > 0 {
			for _, p := range f.Pages {
				found := false
				if err := p.pages(ctx, base, rows, func(w WebPage) { found = true; yield(w) }); err != nil {
					return nil, err
				}
				if !found {
					notes = append(notes, fmt.Sprintf("[[pages]] in %s: the table %s gave no page", SiteFile, p.Table))
				}
			}
			return notes, nil
		}
	}
	k, err := KindOf(kind)
	if err != nil {
		return nil, err
	}
	if p, ok := k.(Paged); ok {
		return p.Pages(ctx, prefix, base, rows, yield)
	}
	if kind == "plain" {
		return nil, fmt.Errorf("%w: its %s has no [[pages]]; add one (docs/site-file.md), or give the address of the site to follow its links", ErrNoPages, SiteFile)
	}
	return nil, fmt.Errorf("%w: its kind is %s; give its address to follow its links, or describe them as [[pages]] in a %s (docs/site-file.md)", ErrNoPages, kind, SiteFile)
}

// sitePages says in a site file how pages lie in a table.
type sitePages struct {
	Table    string            `toml:"table"`
	Address  string            `toml:"address"` // "/news/{slug}", with names of columns in braces
	Title    string            `toml:"title"`
	Text     []string          `toml:"text"`
	Modified string            `toml:"modified"`
	Language string            `toml:"language"`
	Only     map[string]string `toml:"only"` // values that columns of a page have
	Listing  bool              `toml:"listing"`
}

var placeholder = regexp.MustCompile(`\{([^{}]+)\}`)

// pages reads them out of the table.
func (p *sitePages) pages(ctx context.Context, base string, rows Rows, yield func(WebPage)) error {
	if p.Table == "" || p.Address == "" {
		return fmt.Errorf("%s: [[pages]] needs a table and an address, such as \"/news/{slug}\"", SiteFile)
	}
	var columns []string
	at := func(name string) int {
		if name == "" {
			return -1
		}
		if i := slices.Index(columns, name); i >= 0 {
			return i
		}
		columns = append(columns, name)
		return len(columns) - 1
	}
	for _, m := range placeholder.FindAllStringSubmatch(p.Address, -1) {
		at(m[1])
	}
	title, modified, language := at(p.Title), at(p.Modified), at(p.Language)
	var text []int
	for _, t := range p.Text {
		text = append(text, at(t))
	}
	only := slices.Sorted(maps.Keys(p.Only))
	for _, o := range only {
		at(o)
	}
	get := func(v []string, i int) string {
		if i < 0 {
			return ""
		}
		return v[i]
	}
	return rows(ctx, p.Table, columns, func(v []string) error {
		for _, o := range only {
			if v[at(o)] != p.Only[o] {
				return nil
			}
		}
		w := WebPage{Title: html.UnescapeString(get(v, title)), Modified: day(get(v, modified)), Language: get(v, language), Listing: p.Listing}
		w.Path = base + placeholder.ReplaceAllStringFunc(p.Address, func(name string) string { return v[at(name[1:len(name)-1])] })
		var body strings.Builder
		for _, t := range text {
			body.WriteString(v[t])
			body.WriteString("\n")
		}
		w.Words, w.Fingerprint = page.Text([]byte(body.String()))
		yield(w)
		return nil
	})
}

// day gives the date of a time as databases write it.
func day(s string) string {
	if len(s) >= 10 && s[4] == '-' && s[7] == '-' && !strings.HasPrefix(s, "0000") {
		return s[:10]
	}
	return ""
}
