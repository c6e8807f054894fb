// Package demo is the Brackwater Ferry Museum, a site to try Hovix on: Build
// makes it, on SQLite or MariaDB, with everything that makes real sites hard to
// move (serialized widgets, JSON blocks, pictures, spam, a cache); Server shows
// it; Tour moves it and compares.
package demo

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"hovix/internal/database"
	"hovix/internal/rewrite"
)

// pictures is how many pictures the site has, without its logo.
const pictures = 60

// Built tells what Build made.
type Built struct {
	Pages    int `json:"pages"`
	News     int `json:"news"`
	Pictures int `json:"pictures"`
	Comments int `json:"comments"`
	Spam     int `json:"spam"`
}

// Build makes the museum's site in folder, which must not exist, at the address
// and with the database given. Where l is zero, that is a file of SQLite in the
// folder; in another database no table of the site may exist.
func Build(ctx context.Context, folder string, address rewrite.Address, l database.Location) (*Built, error) {
	for _, dir := range []string{"data", "uploads/2024", "uploads/2026", "cache", "assets"} {
		if err := os.MkdirAll(filepath.Join(folder, dir), 0o755); err != nil {
			return nil, fmt.Errorf("build the demo site: %w", err)
		}
	}
	b := &builder{folder: folder, address: address.String(), made: &Built{Pictures: pictures}}
	if err := b.files(ctx, l); err != nil {
		return nil, fmt.Errorf("build the demo site: %w", err)
	}
	if l.IsZero() {
		l = database.Location{Engine: database.SQLite, Path: filepath.Join(folder, "data", "museum.sqlite")}
	}
	db, err := openDB(l)
	if err != nil {
		return nil, fmt.Errorf("build the demo site: %w", err)
	}
	defer db.Close()
	b.store = db
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return nil, fmt.Errorf("build the demo site: %w", err)
	}
	b.tx = tx
	if err := b.fill(ctx); err != nil {
		_ = tx.Rollback()
		return nil, fmt.Errorf("build the demo site: %w", err)
	}
	return b.made, tx.Commit()
}

type builder struct {
	folder, address string
	store           *store
	tx              *sql.Tx
	made            *Built
}

func pictureFile(i int) string {
	if i < 24 {
		return fmt.Sprintf("uploads/2024/harbour-%02d.jpg", i+1)
	}
	return fmt.Sprintf("uploads/2026/ferry-%02d.jpg", i+1)
}

// files writes pictures, style, cache and the site file.
func (b *builder) files(ctx context.Context, l database.Location) error {
	write := func(rel string, content []byte) error {
		return os.WriteFile(filepath.Join(b.folder, filepath.FromSlash(rel)), content, 0o644)
	}
	g, _ := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range pictures {
		g.Go(func() error {
			img, err := jpegOf(i)
			if err != nil {
				return err
			}
			return write(pictureFile(i), img)
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	mark, err := logo()
	if err != nil {
		return err
	}
	for i := range 5 {
		if err := write(fmt.Sprintf("cache/page-%d.html", i), []byte(strings.Repeat("<!-- "+b.address+" -->\n", 200))); err != nil {
			return err
		}
	}
	where, password := "sqlite:data/museum.sqlite", ""
	if l.Engine == database.SQLite && l.Path != "" {
		where = "sqlite:" + l.Path
	}
	if !l.IsZero() && l.Engine != database.SQLite {
		where = l.String()
		password = fmt.Sprintf("database-password = %q\n", l.Password)
	}
	toml := fmt.Sprintf("# What Hovix should know of this site. docs/site-file.md explains the keys.\nname = \"Brackwater Ferry Museum\"\naddress = %q\ndatabase = %q\n%sversion = \"3.1\"\nuploads = [\"uploads\"]\ncaches = [\"cache\"]\nkeep = [\"news.guid\"] # feed readers know the news by these\n"+sitePages, b.address, where, password)
	for rel, content := range map[string][]byte{"uploads/logo.png": mark, tideTableFile: tideTable(), "assets/style.css": []byte(styleSheet), "hovix.toml": []byte(toml)} {
		if err := write(rel, content); err != nil {
			return err
		}
	}
	return nil
}

// sitePages tells in the site file where the pages are.
const sitePages = `
[[pages]]
table = "page"
address = "{path}"
title = "title"
text = ["body"]
modified = "modified"

[[pages]]
table = "news"
address = "{path}"
title = "title"
text = ["body"]
modified = "published"
`

// schema makes the tables. The placeholders stand for what the engines spell
// differently.
const schema = `
CREATE TABLE page (id @ID@, path VARCHAR(190) NOT NULL, section VARCHAR(40) NOT NULL, title VARCHAR(200) NOT NULL, body @TEXT@ NOT NULL, blocks @JSON@, picture INTEGER, modified @TIME@ NOT NULL, UNIQUE (path))@END@;
CREATE TABLE vessel (page_id INTEGER NOT NULL PRIMARY KEY, built INTEGER NOT NULL, length @DOUBLE@ NOT NULL, people INTEGER NOT NULL, plate @BLOB@)@END@;
CREATE TABLE news (id @ID@, path VARCHAR(190) NOT NULL, title VARCHAR(200) NOT NULL, body @TEXT@ NOT NULL, guid VARCHAR(255) NOT NULL, picture INTEGER, published DATE NOT NULL)@END@;
CREATE TABLE media (id @ID@, file VARCHAR(190) NOT NULL, title VARCHAR(200), width INTEGER, height INTEGER)@END@;
CREATE TABLE comment (id @ID@, news_id INTEGER NOT NULL, author VARCHAR(80) NOT NULL, email VARCHAR(120), body @TEXT@ NOT NULL, status VARCHAR(20) NOT NULL)@END@;
CREATE TABLE setting (name VARCHAR(80) NOT NULL PRIMARY KEY, value @TEXT@)@END@;
CREATE TABLE account (login VARCHAR(60) NOT NULL PRIMARY KEY, name VARCHAR(80) NOT NULL, email VARCHAR(120), password VARCHAR(200) NOT NULL)@END@;
CREATE INDEX news_published ON news (published);
CREATE INDEX comment_news ON comment (news_id, status);
CREATE VIEW shown_comment AS SELECT id, news_id, author, body FROM comment WHERE status = 'approved'`

// spelling gives what the placeholders of the schema stand for.
var spelling = map[database.Engine][]string{
	database.SQLite: {"@ID@", "INTEGER PRIMARY KEY AUTOINCREMENT", "@TEXT@", "TEXT", "@JSON@", "TEXT", "@TIME@", "DATETIME", "@DOUBLE@", "DOUBLE", "@BLOB@", "BLOB", "@END@", ""},
	database.MariaDB: {"@ID@", "INTEGER NOT NULL AUTO_INCREMENT PRIMARY KEY", "@TEXT@", "LONGTEXT", "@JSON@", "LONGTEXT", "@TIME@", "DATETIME", "@DOUBLE@", "DOUBLE", "@BLOB@", "BLOB",
		"@END@", " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci"},
	database.Postgres: {"@ID@", "INTEGER GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY", "@TEXT@", "TEXT", "@JSON@", "JSON", "@TIME@", "TIMESTAMP", "@DOUBLE@", "DOUBLE PRECISION", "@BLOB@", "BYTEA", "@END@", ""},
}

func (b *builder) fill(ctx context.Context) error {
	r := strings.NewReplacer(spelling[b.store.engine]...)
	for _, q := range strings.Split(r.Replace(schema), ";\n") {
		if _, err := b.tx.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	for _, step := range []func(context.Context) error{b.media, b.pages, b.news, b.comments, b.settings, b.accounts, b.numbers} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (b *builder) insert(ctx context.Context, table string, values ...any) error {
	q := "INSERT INTO " + table + " VALUES (" + strings.TrimSuffix(strings.Repeat("?,", len(values)), ",") + ")"
	_, err := b.tx.ExecContext(ctx, b.store.bind(q), values...)
	if err != nil {
		return fmt.Errorf("fill %s: %w", table, err)
	}
	return nil
}

func (b *builder) media(ctx context.Context) error {
	for i := range pictures {
		if err := b.insert(ctx, "media", i+1, pictureFile(i), fmt.Sprintf("Picture %d", i+1), 800, 500); err != nil {
			return err
		}
	}
	return nil
}

// share gives a link that holds an address in percent-encoding.
func (b *builder) share(path string) string {
	return `<a class="share" href="https://share.example/to?u=` + url.QueryEscape(b.address+path) + `&amp;t=ferry">Tell a friend</a>`
}

// body writes a page's text with links and pictures as editors make them.
func (b *builder) body(text string, n int, path, also string) string {
	pic := func(i int) string { return b.address + "/" + pictureFile(i%pictures) }
	return fmt.Sprintf(`<p class="lead">%s</p>
<figure><a href="%s"><img src="%s" alt="The harbour, picture %d"></a></figure>
<p>See also <a href="%s%s">the page before</a>, or our <a href='%s/visit/tickets'>tickets</a>.</p>
<p>%s</p>`, text, pic(n), pic(n), n%pictures+1, b.address, also, b.address, b.share(path))
}

// blocks gives the page as JSON with escaped slashes, as block editors store it.
func (b *builder) blocks(title string, n int) string {
	doc := map[string]any{"version": 2, "blocks": []any{
		map[string]any{"type": "heading", "text": title},
		map[string]any{"type": "gallery", "pictures": []string{b.address + "/" + pictureFile((n*7+1)%pictures), b.address + "/" + pictureFile((n*7+2)%pictures), b.address + "/" + pictureFile((n*7+3)%pictures)}},
		map[string]any{"type": "button", "label": "Plan your visit", "href": b.address + "/visit", "style": serialize(list{{"tone", "brass"}, {"icon", b.address + "/uploads/logo.png"}})},
	}}
	out, err := json.Marshal(doc)
	if err != nil {
		return "{}"
	}
	return strings.ReplaceAll(string(out), "/", `\/`)
}

func (b *builder) pages(ctx context.Context) error {
	id, before := 0, "/visit"
	modified := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	add := func(path, section, title, text string) error {
		id++
		b.made.Pages++
		body := b.body(text, id, path, before)
		if path == "/visit/getting-here" {
			body += `<p><a href="` + b.address + "/" + tideTableFile + `">The tide table (PDF)</a></p>`
		}
		err := b.insert(ctx, "page", id, path, section, title, body, b.blocks(title, id), (id*3)%pictures+1, modified.AddDate(0, 0, -id).Format("2006-01-02 15:04:05"))
		before = path
		return err
	}
	for _, l := range leaves {
		if err := add("/"+l.path, l.section, l.title, l.text); err != nil {
			return err
		}
	}
	if err := add("/collection", "collection", "The collection", "Twelve ferries, from a sailing packet to a battery boat, in the order in which they were launched."); err != nil {
		return err
	}
	for _, v := range vessels {
		if err := add("/collection/"+v.slug, "collection", v.name, v.text); err != nil {
			return err
		}
		plate := []byte{0, 1, 0xff, byte(v.built), byte(v.built >> 8), '\'', '\\', '\n', 0x1a}
		if err := b.insert(ctx, "vessel", id, v.built, v.length, v.people, plate); err != nil {
			return err
		}
	}
	return nil
}

func (b *builder) news(ctx context.Context) error {
	before := "/news"
	for i, n := range news {
		path := "/news/" + n.date[:4] + "/" + n.slug
		b.made.News++
		if err := b.insert(ctx, "news", i+1, path, n.title, b.body(n.text, i+20, path, before), b.address+path, (i*5)%pictures+1, n.date); err != nil {
			return err
		}
		before = path
	}
	return nil
}

func (b *builder) comments(ctx context.Context) error {
	id := 0
	for n := range news {
		for c := range 1 + n%3 {
			id++
			who := comments[(n+c)%len(comments)]
			mail := strings.ToLower(strings.Fields(who.author)[0]) + "@mail.example"
			if err := b.insert(ctx, "comment", id, n+1, who.author, strings.ReplaceAll(mail, ".@", "@"), strings.ReplaceAll(who.text, "{{site}}", b.address), "approved"); err != nil {
				return err
			}
			b.made.Comments++
		}
		if n%2 == 0 {
			id++
			b.made.Spam++
			if err := b.insert(ctx, "comment", id, n+1, "best-offer", nil, spam[n/2%len(spam)], "spam"); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *builder) settings(ctx context.Context) error {
	host := strings.TrimPrefix(strings.TrimPrefix(b.address, "http://"), "https://")
	name, _, _ := strings.Cut(host, ":")
	menu := list{}
	for i, m := range [][2]string{{"Visit", "/visit"}, {"Collection", "/collection"}, {"News", "/news"}, {"Learn", "/learn"}, {"Archive", "/archive"}, {"About", "/about"}} {
		menu = append(menu, pair{fmt.Sprint(i), list{{"label", m[0]}, {"url", b.address + m[1]}}})
	}
	widgets := list{
		{"hours", list{{"title", "Opening hours"}, {"html", `April to October, 10–17. <a href="` + b.address + `/visit">Plan your visit</a>.`}}},
		{"next", list{{"title", "Next crossing"}, {"html", `Sunday at eleven, with Grey Heron. <img src="` + b.address + `/` + pictureFile(31) + `" alt="Grey Heron">`}, {"weight", 1.5}, {"shown", true}, {"until", nil}}},
		{"nested", list{{"title", "Write to us"}, {"html", `<a href="mailto:post@` + name + `">post@` + name + `</a>`}, {"state", serialize(list{{"form", b.address + "/about"}, {"note", "Grüße vom Kai ⚓"}})}}},
	}
	values := map[string]string{
		"title":   "Brackwater Ferry Museum",
		"address": b.address,
		"menu":    serialize(menu),
		"widgets": serialize(widgets),
		"logo":    serialize(list{{"file", b.address + "/uploads/logo.png"}, {"alt", "Brackwater Ferry Museum"}}),
		"footer":  `<p>The trust keeps older pages at <a href="http://old.` + name + `/">old.` + name + `</a>.</p>`,
	}
	for _, k := range slices.Sorted(maps.Keys(values)) { // the same site each time
		if err := b.insert(ctx, "setting", k, values[k]); err != nil {
			return err
		}
	}
	return nil
}

// accounts makes the login of the museum's keeper.
func (b *builder) accounts(ctx context.Context) error {
	hash, err := hashPassword(KeeperPassword, "brackwater")
	if err != nil {
		return err
	}
	return b.insert(ctx, "account", Keeper, "Ines Tallow", "keeper@mail.example", hash)
}

// numbers lets PostgreSQL go on counting behind the rows that were given numbers.
func (b *builder) numbers(ctx context.Context) error {
	if b.store.engine != database.Postgres {
		return nil
	}
	for _, t := range []string{"page", "news", "media", "comment"} {
		if _, err := b.tx.ExecContext(ctx, "SELECT setval(pg_get_serial_sequence('"+t+"', 'id'), (SELECT max(id) FROM "+t+"))"); err != nil {
			return err
		}
	}
	return nil
}
