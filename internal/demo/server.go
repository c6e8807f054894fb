package demo

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"hovix/internal/site"
)

// Server shows the museum's site: a small stand-in for the content system that
// a real site has. It reads everything from the site's folder and database.
type Server struct {
	folder string
	base   string // of the site's address
	db     *store
	tmpl   *template.Template
	mu     sync.Mutex
	signed map[string]bool // tokens of those who are logged in
}

// NewServer opens the site in folder. Close it after use.
func NewServer(folder string) (*Server, error) {
	s, err := site.Open(folder)
	if err != nil {
		return nil, err
	}
	db, err := openDB(s.Database)
	if err != nil {
		return nil, fmt.Errorf("serve the demo site: %w", err)
	}
	t, err := template.New("page").Parse(pageTemplate)
	if err != nil {
		return nil, err
	}
	return &Server{folder: s.Root, base: s.Address.Path, db: db, tmpl: t, signed: map[string]bool{}}, nil
}

// Close closes the site's database.
func (s *Server) Close() error { return s.db.Close() }

// view is what the template gets.
type view struct {
	Title, Style string
	Site         string
	Home         string
	Logo         template.URL
	Menu         []link
	Section      string
	Picture      string
	Body         template.HTML
	Gallery      []string
	Facts        []string
	News         []newsItem
	Comments     []comment
	Widgets      []widget
	Footer       template.HTML
}

type (
	link     struct{ Label, URL string }
	newsItem struct{ URL, Title, Date string }
	comment  struct{ Author, Body string }
	widget   struct {
		Title string
		HTML  template.HTML
	}
)

// ServeHTTP answers with a page, a file, or that there is none.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p, ok := strings.CutPrefix(r.URL.Path, s.base)
	if !ok {
		http.NotFound(w, r)
		return
	}
	if p = path.Clean("/" + p); strings.HasPrefix(p, "/uploads/") || strings.HasPrefix(p, "/assets/") {
		http.ServeFile(w, r, filepath.Join(s.folder, filepath.FromSlash(p)))
		return
	}
	v, err := s.answer(w, r, p)
	if errors.Is(err, sql.ErrNoRows) {
		http.NotFound(w, r)
		return
	}
	if err == nil && v == nil { // answered
		return
	}
	var out bytes.Buffer
	if err == nil {
		err = s.tmpl.Execute(&out, v)
	}
	if err != nil {
		http.Error(w, "the site cannot be shown: "+err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(out.Bytes())
}

func (s *Server) view(p string) (*view, error) {
	v := &view{Section: strings.Split(p+"/", "/")[1]}
	if err := s.frame(v); err != nil {
		return nil, err
	}
	section := "/" + v.Section
	var inNews int
	if err := s.db.row("SELECT count(*) FROM news WHERE path LIKE ?", section+"/%").Scan(&inNews); err != nil {
		return nil, err
	}
	switch {
	case inNews > 0 && p == section:
		v.Title = strings.ToUpper(v.Section[:1]) + v.Section[1:]
		return v, s.listNews(v, 100)
	case inNews > 0:
		return v, s.news(v, p)
	}
	return v, s.page(v, p)
}

// sitemap lists all pages for search engines (sitemaps.org).
func (s *Server) sitemap(w http.ResponseWriter) (*view, error) {
	v := &view{}
	if err := s.frame(v); err != nil {
		return nil, err
	}
	if err := s.items(v, "SELECT path, title, modified FROM page UNION ALL SELECT path, title, published FROM news ORDER BY 1"); err != nil {
		return nil, err
	}
	w.Header().Set("Content-Type", "application/xml")
	fmt.Fprintln(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`)
	for _, n := range v.News {
		fmt.Fprintf(w, "<url><loc>%s</loc><lastmod>%s</lastmod></url>\n", template.HTMLEscapeString(n.URL), n.Date)
	}
	_, err := fmt.Fprintln(w, "</urlset>")
	return nil, err
}

// setting reads a serialized value.
func (s *Server) setting(name string) (list, error) {
	var text string
	if err := s.db.row("SELECT value FROM setting WHERE name=?", name).Scan(&text); err != nil {
		return nil, fmt.Errorf("setting %s: %v", name, err)
	}
	v, err := unserialize(text)
	if err != nil {
		return nil, fmt.Errorf("setting %s: %w", name, err)
	}
	l, _ := v.(list)
	return l, nil
}

// frame reads what stands around every page.
func (s *Server) frame(v *view) error {
	var footer string
	if err := s.db.row("SELECT a.value, t.value, f.value FROM setting a, setting t, setting f WHERE a.name='address' AND t.name='title' AND f.name='footer'").Scan(&v.Home, &v.Site, &footer); err != nil {
		return fmt.Errorf("settings: %v", err)
	}
	v.Footer, v.Style = template.HTML(footer), v.Home+"/assets/style.css"
	logo, err := s.setting("logo")
	if err != nil {
		return err
	}
	v.Logo = template.URL(logo.get("file"))
	menu, err := s.setting("menu")
	if err != nil {
		return err
	}
	for _, m := range menu {
		if l, ok := m.value.(list); ok {
			v.Menu = append(v.Menu, link{l.get("label"), l.get("url")})
		}
	}
	widgets, err := s.setting("widgets")
	if err != nil {
		return err
	}
	for _, w := range widgets {
		l, ok := w.value.(list)
		if !ok {
			continue
		}
		html := l.get("html")
		if state := l.get("state"); state != "" { // a value inside a value
			inner, err := unserialize(state)
			if err != nil {
				return fmt.Errorf("widget %s: %w", w.key, err)
			}
			if in, ok := inner.(list); ok {
				html += ` <a href="` + template.HTMLEscapeString(in.get("form")) + `">` + template.HTMLEscapeString(in.get("note")) + `</a>`
			}
		}
		v.Widgets = append(v.Widgets, widget{l.get("title"), template.HTML(html)})
	}
	return nil
}

func (s *Server) page(v *view, p string) error {
	var body, blocks string
	var id, picture int
	if err := s.db.row("SELECT id, title, body, blocks, picture FROM page WHERE path=?", p).Scan(&id, &v.Title, &body, &blocks, &picture); err != nil {
		return err
	}
	v.Body = template.HTML(body)
	var doc struct {
		Blocks []struct {
			Type     string
			Pictures []string
			Style    string
		}
	}
	if err := json.Unmarshal([]byte(blocks), &doc); err != nil {
		return fmt.Errorf("blocks of %s: %w", p, err)
	}
	for _, b := range doc.Blocks {
		v.Gallery = append(v.Gallery, b.Pictures...)
		if b.Style != "" {
			if _, err := unserialize(b.Style); err != nil {
				return fmt.Errorf("style of a block of %s: %w", p, err)
			}
		}
	}
	if err := s.header(v, picture); err != nil {
		return err
	}
	var built, people int
	var length float64
	err := s.db.row("SELECT built, length, people FROM vessel WHERE page_id=?", id).Scan(&built, &length, &people)
	if err == nil {
		v.Facts = []string{fmt.Sprintf("Built %d", built), fmt.Sprintf("%.1f m long", length), fmt.Sprintf("%d passengers", people)}
	} else if !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if p == "/" {
		return s.listNews(v, 4)
	}
	return s.below(v, p)
}

func (s *Server) header(v *view, picture int) error {
	var file string
	err := s.db.row("SELECT file FROM media WHERE id=?", picture).Scan(&file)
	v.Picture = v.Home + "/" + file
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("picture %d is missing", picture)
	}
	return err
}

// below lists the pages under a section's page.
func (s *Server) below(v *view, p string) error {
	return s.items(v, "SELECT path, title, '' FROM page WHERE path LIKE ? ORDER BY id", strings.TrimSuffix(p, "/")+"/%")
}

func (s *Server) listNews(v *view, n int) error {
	return s.items(v, fmt.Sprintf("SELECT path, title, published FROM news ORDER BY id DESC LIMIT %d", n))
}

func (s *Server) items(v *view, query string, args ...any) error {
	rows, err := s.db.rows(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var it newsItem
		if err := rows.Scan(&it.URL, &it.Title, &it.Date); err != nil {
			return err
		}
		it.URL, it.Date = v.Home+it.URL, it.Date[:min(10, len(it.Date))]
		v.News = append(v.News, it)
	}
	return rows.Err()
}

func (s *Server) news(v *view, p string) error {
	var body string
	var id, picture int
	if err := s.db.row("SELECT id, title, body, picture FROM news WHERE path=?", p).Scan(&id, &v.Title, &body, &picture); err != nil {
		return err
	}
	v.Body = template.HTML(body)
	if err := s.header(v, picture); err != nil {
		return err
	}
	rows, err := s.db.rows("SELECT author, body FROM shown_comment WHERE news_id=? ORDER BY id", id)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var c comment
		if err := rows.Scan(&c.Author, &c.Body); err != nil {
			return err
		}
		v.Comments = append(v.Comments, c)
	}
	return rows.Err()
}
