package demo

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"hovix/internal/site"
)

// Key tells where the old pages of the museum went when its site was redesigned: each of
// the new ones is right, and none means that the page was given up.
type Key map[string][]string

// Redesign changes the museum's site in folder as a redesign does: sections get other
// names, dates leave the addresses, pages are given up, merged, split and renamed, and a
// document moves. It gives the key by which a redirect map can be judged.
func Redesign(ctx context.Context, folder string) (Key, error) {
	s, err := site.Open(folder)
	if err != nil {
		return nil, err
	}
	db, err := openDB(s.Database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	r := &redesign{ctx: ctx, tx: tx, store: db, key: Key{}, base: s.Address.String(), folder: s.Root}
	for _, step := range []func() error{r.sections, r.news, r.renamed, r.merged, r.split, r.dropped, r.added, r.document, r.menu, r.links} {
		if err := step(); err != nil {
			_ = tx.Rollback()
			return nil, fmt.Errorf("redesign the site: %w", err)
		}
	}
	return r.key, tx.Commit()
}

type redesign struct {
	ctx    context.Context
	tx     *sql.Tx
	store  *store
	key    Key
	base   string
	folder string
}

func (r *redesign) do(query string, args ...any) error {
	_, err := r.tx.ExecContext(r.ctx, r.store.bind(query), args...)
	return err
}

func (r *redesign) move(table, from, to string) error {
	r.key[from] = []string{to}
	return r.do("UPDATE "+table+" SET path=? WHERE path=?", to, from)
}

// sections: the collection becomes the boats.
func (r *redesign) sections() error {
	if err := r.move("page", "/collection", "/boats"); err != nil {
		return err
	}
	for _, v := range vessels {
		if err := r.move("page", "/collection/"+v.slug, "/boats/"+v.slug); err != nil {
			return err
		}
	}
	return r.do("UPDATE page SET section='boats' WHERE section='collection'")
}

// news: they become a journal, without the year in the address.
func (r *redesign) news() error {
	r.key["/news"] = []string{"/journal"}
	for _, n := range news {
		if err := r.move("news", "/news/"+n.date[:4]+"/"+n.slug, "/journal/"+n.slug); err != nil {
			return err
		}
	}
	return nil
}

// renamed pages have new names and mostly new titles.
func (r *redesign) renamed() error {
	for _, p := range []struct{ table, old, from, to, title string }{
		{"news", "/news/2023/purser-finds-lost-ticket", "/journal/purser-finds-lost-ticket", "/journal/a-ticket-of-1912", "A ticket of 1912"},
		{"news", "/news/2024/children-steer", "/journal/children-steer", "/journal/two-hundred-pupils-at-the-wheel", "Two hundred pupils at the wheel"},
		{"news", "/news/2025/members-crossing", "/journal/members-crossing", "/journal/the-crossing-of-the-members", "The crossing of the members"},
		{"page", "/about/people", "/about/people", "/about/crew", "The crew"},
		{"page", "/about/support", "/about/support", "/support", "Support us"},
		{"page", "/learn/signals", "/learn/signals", "/learn/signals-and-flags", "Signals and flags"},
		{"page", "/archive/timetables", "/archive/timetables", "/research/old-timetables", "Old timetables"},
	} {
		r.key[p.old] = []string{p.to}
		if err := r.do("UPDATE "+p.table+" SET path=?, title=? WHERE path=?", p.to, p.title, p.from); err != nil {
			return err
		}
	}
	return nil
}

func (r *redesign) text(path string) (body string, err error) {
	err = r.tx.QueryRowContext(r.ctx, r.store.bind("SELECT body FROM page WHERE path=?"), path).Scan(&body)
	return body, err
}

// merged: the way to the museum and the way into it are one page now.
func (r *redesign) merged() error {
	one, err := r.text("/visit/getting-here")
	if err != nil {
		return err
	}
	two, err := r.text("/visit/accessibility")
	if err != nil {
		return err
	}
	const to = "/visit/getting-here-and-aboard"
	r.key["/visit/getting-here"], r.key["/visit/accessibility"] = []string{to}, []string{to}
	if err := r.do("UPDATE page SET path=?, title=?, body=? WHERE path=?", to, "Getting here and getting aboard", one+two, "/visit/getting-here"); err != nil {
		return err
	}
	return r.do("DELETE FROM page WHERE path='/visit/accessibility'")
}

// split: the archive becomes a reading room and a collection of photographs.
func (r *redesign) split() error {
	r.key["/archive"] = []string{"/research", "/research/photographs"}
	if err := r.do("UPDATE page SET path=?, title=?, section='research' WHERE path=?", "/research", "Research in the archive", "/archive"); err != nil {
		return err
	}
	return r.add("/research/photographs", "research", "Four thousand photographs", "Most of the 4,000 photographs of the archive are on the screen now. Ask for a print; the purser will tell you who is in it.")
}

// dropped pages have no counterpart.
func (r *redesign) dropped() error {
	for _, p := range []struct{ table, old, path string }{{"news", "/news/2023/summer-timetable", "/journal/summer-timetable"}, {"news", "/news/2024/storm-closes-slipway", "/journal/storm-closes-slipway"}, {"page", "/shop", "/shop"}} {
		r.key[p.old] = nil
		if p.table == "news" {
			if err := r.do("DELETE FROM comment WHERE news_id=(SELECT id FROM news WHERE path=?)", p.path); err != nil {
				return err
			}
		}
		if err := r.do("DELETE FROM "+p.table+" WHERE path=?", p.path); err != nil {
			return err
		}
	}
	return nil
}

func (r *redesign) add(path, section, title, text string) error {
	var id int
	if err := r.tx.QueryRowContext(r.ctx, "SELECT max(id)+1 FROM page").Scan(&id); err != nil {
		return err
	}
	body := fmt.Sprintf("<p class=\"lead\">%s</p>", text)
	return r.do("INSERT INTO page VALUES (?,?,?,?,?,?,?,?)", id, path, section, title, body, `{"version":2,"blocks":[]}`, id%pictures+1, "2026-09-01 09:00:00")
}

// added pages are new; two of them are like old ones that were given up.
func (r *redesign) added() error {
	for _, p := range [][4]string{
		{"/boats/rowing-gig", "boats", "The rowing gig", "Six oars, no engine, and a waiting list. She was found under a tarpaulin in the next parish."},
		{"/visit/tea", "visit", "Tea on the slipway", "Scones from ten, soup from noon, and the captain's table by the window."},
		{"/learn/school-trips", "learn", "School trips", "A day aboard for thirty pupils, with lunch, life jackets and a certificate."},
	} {
		if err := r.add(p[0], p[1], p[2], p[3]); err != nil {
			return err
		}
	}
	return nil
}

// document: the tide table moves to the folder of its year.
func (r *redesign) document() error {
	const to = "uploads/2026/tide-table.pdf"
	r.key["/"+tideTableFile] = []string{"/" + to}
	if err := os.MkdirAll(filepath.Join(r.folder, filepath.FromSlash(path.Dir(to))), 0o755); err != nil {
		return err
	}
	if err := r.do("UPDATE page SET body=REPLACE(body, ?, ?)", "/"+tideTableFile, "/"+to); err != nil {
		return err
	}
	return os.Rename(filepath.Join(r.folder, filepath.FromSlash(tideTableFile)), filepath.Join(r.folder, filepath.FromSlash(to)))
}

func (r *redesign) menu() error {
	menu := list{}
	for i, m := range [][2]string{{"Visit", "/visit"}, {"Boats", "/boats"}, {"Journal", "/journal"}, {"Learn", "/learn"}, {"Research", "/research"}, {"About", "/about"}, {"Support", "/support"}} {
		menu = append(menu, pair{fmt.Sprint(i), list{{"label", m[0]}, {"url", r.base + m[1]}}})
	}
	return r.do("UPDATE setting SET value=? WHERE name='menu'", serialize(menu))
}

// links: who redesigns a site mends the links in its pages, or loses its readers.
func (r *redesign) links() error {
	for _, table := range []string{"page", "news"} {
		for old, to := range r.key {
			if len(to) == 0 {
				to = []string{"/"}
			}
			for _, end := range []string{`"`, `'`} {
				if err := r.do("UPDATE "+table+" SET body=REPLACE(body, ?, ?)", r.base+old+end, r.base+strings.TrimSuffix(to[0], "/")+end); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
