package crawl

import (
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/net/html/charset"
)

// SitemapEntry is one address of a sitemap.
type SitemapEntry struct {
	Loc     string
	LastMod string // as it stands: a date of ISO 8601
}

// maxSitemap is the size of a sitemap unpacked (sitemaps.org: 50 MB).
const maxSitemap = 64 << 20

// ErrNoSitemap says that a file is no sitemap.
var ErrNoSitemap = errors.New("not a sitemap")

// ParseSitemap reads a sitemap or an index of sitemaps as sitemaps.org describes them: XML
// or lines of addresses, plain or with gzip. It gives pages to page and further sitemaps
// to index.
func ParseSitemap(r io.Reader, page func(SitemapEntry), index func(loc string)) error {
	head := make([]byte, 512)
	n, err := io.ReadFull(r, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%w: it is empty", ErrNoSitemap)
		}
		return err
	}
	r = io.MultiReader(bytes.NewReader(head[:n]), r)
	if n > 2 && head[0] == 0x1f && head[1] == 0x8b {
		z, err := gzip.NewReader(r)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrNoSitemap, err)
		}
		return ParseSitemap(io.LimitReader(z, maxSitemap), page, index)
	}
	r = io.LimitReader(r, maxSitemap)
	if text := bytes.TrimSpace(bytes.TrimPrefix(head[:n], []byte("\ufeff"))); bytes.HasPrefix(text, []byte("http://")) || bytes.HasPrefix(text, []byte("https://")) {
		return sitemapLines(r, page)
	}
	return sitemapXML(r, page, index)
}

func sitemapLines(r io.Reader, page func(SitemapEntry)) error {
	all, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	for line := range strings.Lines(strings.TrimPrefix(string(all), "\ufeff")) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "http://") || strings.HasPrefix(line, "https://") {
			page(SitemapEntry{Loc: line})
		}
	}
	return nil
}

func sitemapXML(r io.Reader, page func(SitemapEntry), index func(string)) error {
	d := xml.NewDecoder(r)
	d.Strict, d.CharsetReader = false, charset.NewReaderLabel
	root := ""
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) && root != "" {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrNoSitemap, err)
		}
		s, ok := t.(xml.StartElement)
		switch {
		case !ok:
		case root == "":
			if root = s.Name.Local; root != "urlset" && root != "sitemapindex" {
				return fmt.Errorf("%w: its first element is <%s>", ErrNoSitemap, root)
			}
		case s.Name.Local == "url", s.Name.Local == "sitemap":
			var e struct {
				Loc     string `xml:"loc"`
				LastMod string `xml:"lastmod"`
			}
			if err := d.DecodeElement(&e, &s); err != nil {
				return fmt.Errorf("%w: %w", ErrNoSitemap, err)
			}
			if e.Loc = strings.TrimSpace(e.Loc); e.Loc == "" {
				continue
			}
			if s.Name.Local == "sitemap" {
				index(e.Loc)
			} else {
				page(SitemapEntry{e.Loc, strings.TrimSpace(e.LastMod)})
			}
		}
	}
}
