// Package page reads what a web page says of itself: title, canonical address, language,
// links, and a fingerprint of its text, by which pages with similar content are found
// whatever stands around it.
package page

import (
	"bytes"
	"mime"
	"net/url"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding"
)

// Page is what a page says.
type Page struct {
	Title       string
	Canonical   string // as it stands in the page
	Language    string // of the html element, as it stands: "en-GB"
	Base        string // of the base element, which relative links start from
	Words       int
	Fingerprint Fingerprint
	NoIndex     bool   // it does not want to be found
	NoFollow    bool   // its links should not be followed
	Refresh     string // where it sends its reader by itself (meta refresh)
	Links       []string
	Alternates  []string // the same page in other languages and forms
}

// Parse reads a page. contentType is that of the response, which may name the encoding.
// A broken page is read as far as browsers read it.
func Parse(body []byte, contentType string) *Page {
	r := &reader{p: &Page{}, z: html.NewTokenizer(bytes.NewReader(decode(body, contentType)))}
	for r.next() {
	}
	return r.finish()
}

// decode gives a text in UTF-8.
func decode(body []byte, contentType string) []byte {
	if _, params, err := mime.ParseMediaType(contentType); (err != nil || params["charset"] == "" || strings.EqualFold(params["charset"], "utf-8")) && utf8.Valid(body) {
		return body
	}
	e, _, _ := charset.DetermineEncoding(body, contentType)
	if e == encoding.Nop {
		return body
	}
	out, err := e.NewDecoder().Bytes(body)
	if err != nil {
		return body
	}
	return out
}

// reader goes through a page. Text counts as content where it is in a main or article
// element; in a page without these, where it is not in what stands on every page.
type reader struct {
	p    *Page
	z    *html.Tokenizer
	main sketch // text in main and article
	rest sketch // all other text that is not around the content

	inMain, around, silent int // depths of elements
	inTitle                bool
	heading                []byte // of the first h1, for pages without a title
	inHeading              bool
	hadHeading             bool
}

func (r *reader) next() bool {
	switch r.z.Next() {
	case html.ErrorToken:
		return false
	case html.TextToken:
		r.text(r.z.Text())
	case html.StartTagToken:
		r.start(false)
	case html.SelfClosingTagToken:
		r.start(true)
	case html.EndTagToken:
		name, _ := r.z.TagName()
		r.end(atom.Lookup(name))
	}
	return true
}

func (r *reader) text(b []byte) {
	switch {
	case r.inTitle:
		if r.p.Title == "" {
			r.p.Title = clean(b)
		}
	case r.silent > 0:
	default:
		if r.inHeading && len(r.heading) < 300 {
			r.heading = append(r.heading, b...)
		}
		if r.inMain > 0 {
			r.main.add(b)
		} else if r.around == 0 {
			r.rest.add(b)
		}
	}
}

func (r *reader) start(closed bool) {
	name, more := r.z.TagName()
	a := atom.Lookup(name)
	switch a {
	case atom.A, atom.Area, atom.Link, atom.Iframe, atom.Frame, atom.Base, atom.Meta, atom.Html:
		r.attributes(a, more)
		return
	}
	if closed {
		return
	}
	switch a {
	case atom.Title:
		r.inTitle = r.silent == 0
	case atom.Main, atom.Article:
		r.inMain++
	case atom.Nav, atom.Footer, atom.Aside, atom.Header:
		r.around++
	case atom.Script, atom.Style, atom.Noscript, atom.Template, atom.Svg, atom.Select, atom.Textarea:
		r.silent++
	case atom.H1:
		r.inHeading = !r.hadHeading
	}
}

func (r *reader) end(a atom.Atom) {
	down := func(n *int) {
		if *n > 0 {
			*n--
		}
	}
	switch a {
	case atom.Title:
		r.inTitle = false
	case atom.Main, atom.Article:
		down(&r.inMain)
	case atom.Nav, atom.Footer, atom.Aside, atom.Header:
		down(&r.around)
	case atom.Script, atom.Style, atom.Noscript, atom.Template, atom.Svg, atom.Select, atom.Textarea:
		down(&r.silent)
	case atom.H1:
		r.hadHeading = r.hadHeading || r.inHeading
		r.inHeading = false
	}
}

// attributes reads an element whose attributes matter.
func (r *reader) attributes(a atom.Atom, more bool) {
	var href, rel, src, lang, name, content, equiv string
	for more {
		var k, v []byte
		k, v, more = r.z.TagAttr()
		switch string(k) {
		case "href":
			href = strings.TrimSpace(string(v))
		case "rel":
			rel = strings.ToLower(string(v))
		case "src":
			src = strings.TrimSpace(string(v))
		case "lang":
			lang = string(v)
		case "name":
			name = strings.ToLower(string(v))
		case "content":
			content = string(v)
		case "http-equiv":
			equiv = strings.ToLower(string(v))
		}
	}
	switch a {
	case atom.Html:
		r.p.Language = lang
	case atom.Base:
		if r.p.Base == "" {
			r.p.Base = href
		}
	case atom.A, atom.Area:
		if href != "" {
			r.p.Links = append(r.p.Links, href)
		}
	case atom.Iframe, atom.Frame:
		if src != "" && !strings.HasPrefix(src, "about:") {
			r.p.Links = append(r.p.Links, src)
		}
	case atom.Link:
		r.link(rel, href)
	case atom.Meta:
		r.meta(name, equiv, content)
	}
}

func (r *reader) link(rel, href string) {
	if href == "" {
		return
	}
	for _, word := range strings.Fields(rel) {
		switch word {
		case "canonical":
			if r.p.Canonical == "" {
				r.p.Canonical = href
			}
		case "alternate":
			r.p.Alternates = append(r.p.Alternates, href)
		case "next", "prev":
			r.p.Links = append(r.p.Links, href)
		}
	}
}

func (r *reader) meta(name, equiv, content string) {
	switch {
	case name == "robots":
		for _, w := range strings.Split(strings.ToLower(content), ",") {
			switch strings.TrimSpace(w) {
			case "noindex":
				r.p.NoIndex = true
			case "nofollow":
				r.p.NoFollow = true
			case "none":
				r.p.NoIndex, r.p.NoFollow = true, true
			}
		}
	case equiv == "refresh":
		if _, to, ok := strings.Cut(content, "="); ok {
			r.p.Refresh = strings.Trim(strings.TrimSpace(to), `'"`)
		}
	}
}

func (r *reader) finish() *Page {
	if r.p.Title == "" {
		r.p.Title = clean(r.heading)
	}
	s := &r.main
	if s.words == 0 {
		s = &r.rest
	}
	r.p.Words, r.p.Fingerprint = s.words, s.sum()
	return r.p
}

// clean gives a title in one line.
func clean(b []byte) string {
	s := strings.Join(strings.Fields(string(b)), " ")
	if len(s) > 500 {
		s = strings.ToValidUTF8(s[:500], "")
	}
	return strings.ToValidUTF8(s, "")
}

// Resolve gives the absolute address that a link in a page means; nil if it leads to
// nothing on the web.
func (p *Page) Resolve(at *url.URL, link string) *url.URL {
	if p.Base != "" {
		if b, err := at.Parse(p.Base); err == nil {
			at = b
		}
	}
	if link == "" || link[0] == '#' {
		return nil
	}
	u, err := at.Parse(strings.Map(func(c rune) rune { // as browsers do (URL Standard, 4.4)
		if c == '\n' || c == '\r' || c == '\t' {
			return -1
		}
		return c
	}, link))
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil
	}
	return u
}
