package site

import (
	"cmp"
	"context"
	"fmt"
	"html"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/page"
)

// wpPost is a row of posts that is shown.
type wpPost struct {
	id, parent, author int64
	kind, name, title  string
	date, modified     string
	words              int
	sketch             page.Fingerprint
}

// wpTerm is a category or a tag.
type wpTerm struct {
	id, term, parent int64
	taxonomy         string
	slug, name       string
	count            int64
}

// wpSite is what the database of a WordPress site says of its addresses.
type wpSite struct {
	base    string
	options map[string]string
	posts   []*wpPost
	byID    map[int64]*wpPost
	terms   map[int64]*wpTerm // by their number in term_taxonomy
	byTerm  map[string]map[int64]*wpTerm
	of      map[int64][]*wpTerm // categories of a post
	authors map[int64]string
	writes  map[int64]bool // authors with a post
	others  map[string]int64
}

// Pages gives posts, pages, categories, tags and authors at the addresses that the
// permalink settings give them (WordPress developer documentation: Settings Permalinks,
// get_permalink, get_page_uri, get_term_link, get_author_posts_url).
func (wordpress) Pages(ctx context.Context, prefix, base string, rows Rows, yield func(WebPage)) ([]string, error) {
	members, err := wpMembers(ctx, prefix, rows)
	if err != nil {
		return nil, err
	}
	var notes []string
	for _, m := range append([]wpMember{{prefix, base}}, members...) {
		w := &wpSite{base: m.base, options: map[string]string{}, byID: map[int64]*wpPost{}, terms: map[int64]*wpTerm{}, byTerm: map[string]map[int64]*wpTerm{}, of: map[int64][]*wpTerm{},
			authors: map[int64]string{}, writes: map[int64]bool{}, others: map[string]int64{}}
		if err := w.read(ctx, m.prefix, rows); err != nil {
			return nil, err
		}
		w.pages(yield)
		notes = append(notes, w.notes()...)
	}
	return notes, nil
}

// wpMember is a site of a network.
type wpMember struct{ prefix, base string }

// wpMembers lists the further sites of a network. One with a host name of its own has it
// before its paths.
func wpMembers(ctx context.Context, prefix string, rows Rows) (list []wpMember, err error) {
	main := ""
	err = rows(ctx, prefix+"blogs", []string{"blog_id", "domain", "path", "archived", "spam", "deleted"}, func(v []string) error {
		id := number(v[0])
		if id == 1 {
			main = v[1]
		}
		if id == 1 || number(v[3])+number(v[4])+number(v[5]) > 0 {
			return nil
		}
		base := strings.TrimSuffix(v[2], "/")
		if v[1] != main {
			base = "https://" + v[1] + base
		}
		list = append(list, wpMember{fmt.Sprintf("%s%d_", prefix, id), base})
		return nil
	})
	return list, err
}

func (w *wpSite) pages(yield func(WebPage)) {
	for _, p := range w.posts {
		if w.options["show_on_front"] == "page" && strconv.FormatInt(p.id, 10) == w.options["page_on_front"] {
			continue // it is the front page
		}
		yield(WebPage{Path: w.base + w.link(p), Title: p.title, Modified: p.modified, Words: p.words, Fingerprint: p.sketch})
	}
	w.archives(yield)
}

func (w *wpSite) read(ctx context.Context, prefix string, rows Rows) error {
	if err := rows(ctx, prefix+"options", []string{"option_name", "option_value"}, func(v []string) error {
		switch v[0] {
		case "permalink_structure", "category_base", "tag_base", "show_on_front", "page_on_front", "default_category":
			w.options[v[0]] = v[1]
		}
		return nil
	}); err != nil {
		return err
	}
	slugs, names := map[int64]string{}, map[int64]string{}
	if err := rows(ctx, prefix+"terms", []string{"term_id", "slug", "name"}, func(v []string) error {
		slugs[number(v[0])], names[number(v[0])] = v[1], v[2]
		return nil
	}); err != nil {
		return err
	}
	if err := rows(ctx, prefix+"term_taxonomy", []string{"term_taxonomy_id", "term_id", "taxonomy", "parent", "count"}, func(v []string) error {
		t := &wpTerm{id: number(v[0]), term: number(v[1]), taxonomy: v[2], parent: number(v[3]), count: number(v[4])}
		t.slug, t.name = slugs[t.term], names[t.term]
		w.terms[t.id] = t
		if w.byTerm[t.taxonomy] == nil {
			w.byTerm[t.taxonomy] = map[int64]*wpTerm{}
		}
		w.byTerm[t.taxonomy][t.term] = t
		return nil
	}); err != nil {
		return err
	}
	if err := rows(ctx, prefix+"term_relationships", []string{"object_id", "term_taxonomy_id"}, func(v []string) error {
		if t := w.terms[number(v[1])]; t != nil && t.taxonomy == "category" {
			w.of[number(v[0])] = append(w.of[number(v[0])], t)
		}
		return nil
	}); err != nil {
		return err
	}
	shared := prefix // accounts are those of the main site
	if i := strings.LastIndexByte(strings.TrimSuffix(prefix, "_"), '_'); i >= 0 && number(strings.Trim(prefix[i:], "_")) > 1 {
		shared = prefix[:i+1]
	}
	if err := rows(ctx, shared+"users", []string{"ID", "user_nicename"}, func(v []string) error {
		w.authors[number(v[0])] = v[1]
		return nil
	}); err != nil {
		return err
	}
	return w.readPosts(ctx, prefix, rows)
}

// wpInner are types of posts that are shown at no address of their own.
var wpInner = []string{"revision", "nav_menu_item", "custom_css", "customize_changeset", "oembed_cache", "user_request", "wp_block", "wp_template", "wp_template_part", "wp_global_styles", "wp_navigation", "wp_font_family", "wp_font_face", "attachment"}

func (w *wpSite) readPosts(ctx context.Context, prefix string, rows Rows) error {
	return rows(ctx, prefix+"posts", []string{"ID", "post_type", "post_status", "post_name", "post_parent", "post_date", "post_author", "post_title", "post_modified", "post_content"}, func(v []string) error {
		if v[2] != "publish" || slices.Contains(wpInner, v[1]) {
			return nil
		}
		p := &wpPost{id: number(v[0]), kind: v[1], name: v[3], parent: number(v[4]), date: v[5], author: number(v[6]), title: html.UnescapeString(v[7]), modified: day(v[8])}
		if p.kind != "post" && p.kind != "page" {
			w.others[p.kind]++
			return nil
		}
		if p.kind == "post" {
			w.writes[p.author] = true
		}
		p.words, p.sketch = page.Text([]byte(v[9]))
		w.byID[p.id] = p
		w.posts = append(w.posts, p)
		return nil
	})
}

func number(s string) int64 {
	n, _ := strconv.ParseInt(s, 10, 64)
	return n
}

// structure gives the pattern of permalinks; empty: addresses with numbers.
func (w *wpSite) structure() string { return w.options["permalink_structure"] }

// front is what stands before the first tag of the pattern.
func (w *wpSite) front() string {
	s := w.structure()
	return s[:max(0, strings.IndexByte(s, '%'))]
}

// root is what stands before everything where the server rewrites nothing.
func (w *wpSite) root() string {
	if strings.HasPrefix(w.structure(), "/index.php/") {
		return "/index.php/"
	}
	return "/"
}

// end is the slash with which addresses end, or not.
func (w *wpSite) end(path string) string {
	path = strings.TrimRight(path, "/")
	if strings.HasSuffix(w.structure(), "/") {
		return path + "/"
	}
	return path
}

// link gives the path of a post or a page.
func (w *wpSite) link(p *wpPost) string {
	s := w.structure()
	switch {
	case p.kind == "page" && s == "":
		return fmt.Sprintf("/?page_id=%d", p.id)
	case p.kind == "page":
		return w.end(w.root() + w.pagePath(p))
	case s == "":
		return fmt.Sprintf("/?p=%d", p.id)
	}
	var when [6]string
	for i, part := range strings.FieldsFunc(p.date, func(r rune) bool { return r == '-' || r == ' ' || r == ':' || r == 'T' }) {
		if i < len(when) {
			when[i] = part
		}
	}
	path := strings.NewReplacer("%year%", when[0], "%monthnum%", when[1], "%day%", when[2], "%hour%", when[3], "%minute%", when[4], "%second%", when[5],
		"%post_id%", strconv.FormatInt(p.id, 10), "%postname%", p.name, "%pagename%", p.name, "%author%", w.authors[p.author], "%category%", w.category(p)).Replace(s)
	path = "/" + strings.TrimLeft(path, "/") // a post may have no author
	if strings.HasSuffix(s, "/") {
		return w.end(path)
	}
	return path
}

// pagePath gives the names of a page and those above it.
func (w *wpSite) pagePath(p *wpPost) string {
	path := p.name
	for n := 0; p.parent != 0 && n < 50; n++ {
		up := w.byID[p.parent]
		if up == nil || up == p {
			break
		}
		path, p = up.name+"/"+path, up
	}
	return path
}

// category gives the path of a post's first category: that with the lowest number.
func (w *wpSite) category(p *wpPost) string {
	list := w.of[p.id]
	if len(list) == 0 {
		if t := w.byTerm["category"][number(w.options["default_category"])]; t != nil {
			return t.slug
		}
		return ""
	}
	return w.termPath(slices.MinFunc(list, func(a, b *wpTerm) int { return cmp.Compare(a.term, b.term) }))
}

func (w *wpSite) termPath(t *wpTerm) string {
	path := t.slug
	for n := 0; t.parent != 0 && n < 50; n++ {
		up := w.byTerm[t.taxonomy][t.parent]
		if up == nil || up == t {
			break
		}
		path, t = up.slug+"/"+path, up
	}
	return path
}

// archives gives the pages that list posts: of categories, tags and authors.
func (w *wpSite) archives(yield func(WebPage)) {
	base := func(option, usual string) string {
		if b := strings.Trim(w.options[option], "/"); b != "" {
			return w.root() + b + "/"
		}
		return cmp.Or(w.front(), "/") + usual + "/"
	}
	for _, id := range slices.Sorted(maps.Keys(w.terms)) {
		t := w.terms[id]
		if t.count == 0 {
			continue
		}
		switch {
		case t.taxonomy == "category" && w.structure() == "":
			yield(WebPage{Path: fmt.Sprintf("%s/?cat=%d", w.base, t.term), Title: t.name, Listing: true})
		case t.taxonomy == "post_tag" && w.structure() == "":
			yield(WebPage{Path: w.base + "/?tag=" + url.QueryEscape(t.slug), Title: t.name, Listing: true})
		case t.taxonomy == "category":
			yield(WebPage{Path: w.base + w.end(base("category_base", "category")+w.termPath(t)), Title: t.name, Listing: true})
		case t.taxonomy == "post_tag":
			yield(WebPage{Path: w.base + w.end(base("tag_base", "tag")+t.slug), Title: t.name, Listing: true})
		}
	}
	for _, id := range slices.Sorted(maps.Keys(w.writes)) {
		if name := w.authors[id]; name == "" {
			continue
		} else if w.structure() == "" {
			yield(WebPage{Path: fmt.Sprintf("%s/?author=%d", w.base, id), Title: name, Listing: true})
		} else {
			yield(WebPage{Path: w.base + w.end(cmp.Or(w.front(), "/")+"author/"+name), Title: name, Listing: true})
		}
	}
}

// notes say what cannot be told.
func (w *wpSite) notes() (out []string) {
	var kinds []string
	var n int64
	for k, c := range w.others {
		kinds, n = append(kinds, k), n+c
	}
	if n > 0 {
		slices.Sort(kinds)
		out = append(out, fmt.Sprintf("%d pages are of types whose addresses the code of extensions makes: %s; follow the site's links to have them too", n, strings.Join(kinds, ", ")))
	}
	return out
}
