package redirects

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"hovix/internal/page"
)

// Entry is one page of an inventory.
type Entry struct {
	Path        string   `json:"path"`             // with its query, normal
	Status      int      `json:"status,omitempty"` // 0: nobody asked
	Type        string   `json:"type,omitempty"`   // page or document
	Title       string   `json:"title,omitempty"`
	Canonical   string   `json:"canonical,omitempty"`
	Language    string   `json:"language,omitempty"`
	Modified    string   `json:"modified,omitempty"` // a date of ISO 8601
	Words       int      `json:"words,omitempty"`
	Fingerprint string   `json:"fingerprint,omitempty"` // of its text, see page.Fingerprint
	Visits      int64    `json:"visits,omitempty"`
	Sources     []string `json:"sources,omitempty"` // links, sitemap, log, database, list
}

// Inventory is the pages of a site.
type Inventory struct {
	Pages []Entry `json:"pages,omitempty"`
}

// InventoryColumns are the columns of an inventory in their order.
var InventoryColumns = []string{"path", "status", "type", "title", "canonical", "language", "modified", "words", "fingerprint", "visits", "sources"}

// WriteCSV writes an inventory as a table.
func (inv *Inventory) WriteCSV(w io.Writer) error {
	t, err := NewTableWriter(w, DefaultFormat)
	if err != nil {
		return err
	}
	if err := t.Write(InventoryColumns); err != nil {
		return err
	}
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatInt(n, 10)
	}
	for i := range inv.Pages {
		e := &inv.Pages[i]
		if err := t.Write([]string{e.Path, number(int64(e.Status)), e.Type, e.Title, e.Canonical, e.Language, e.Modified, number(int64(e.Words)), e.Fingerprint, number(e.Visits), strings.Join(e.Sources, " ")}); err != nil {
			return err
		}
	}
	return t.Flush()
}

// WriteJSON writes an inventory as one document.
func (inv *Inventory) WriteJSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	return e.Encode(inv)
}

// sort puts the most visited pages first, then by path.
func (inv *Inventory) sort() {
	slices.SortFunc(inv.Pages, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(b.Visits, a.Visits), strings.Compare(a.Path, b.Path))
	})
}

// ReadInventory reads an inventory: a table or JSON that gather wrote, or a list that
// somebody made, with any columns. What is dropped of it is counted.
func ReadInventory(r io.Reader) (*Inventory, *Gathered, error) {
	g := NewGatherer(GatherOptions{Documents: true, Everything: true})
	b := bufio.NewReader(r)
	read := g.List
	if head, _ := b.Peek(1); len(head) == 1 && head[0] == '{' {
		read = g.JSON
	}
	if err := read(b); err != nil {
		return nil, nil, err
	}
	res := g.Result()
	return &res.Inventory, res, nil
}

// listColumns are the words by which the columns of a list are known.
var listColumns = map[string][]string{
	"path":        {"path", "url", "address", "page", "page path", "landing page", "location", "link", "from", "old", "old url", "old path", "loc", "uri", "request", "page location", "full url", "page path and screen class", "seite", "adresse"},
	"status":      {"status", "status code", "http status", "http status code", "code"},
	"type":        {"type", "content type", "mime", "mime type"},
	"title":       {"title", "page title", "titel", "heading", "name"},
	"canonical":   {"canonical", "canonical url", "canonical link element"},
	"language":    {"language", "lang", "sprache"},
	"modified":    {"modified", "last modified", "lastmod", "date", "updated"},
	"words":       {"words", "word count"},
	"fingerprint": {"fingerprint"},
	"visits":      {"visits", "hits", "views", "pageviews", "page views", "unique pageviews", "sessions", "clicks", "screen page views", "users", "besuche", "aufrufe"},
	"sources":     {"sources"},
}

// table tells where the columns of a list are.
type tableColumns map[string]int

func (c tableColumns) get(row []string, column string) string {
	if i, ok := c[column]; ok {
		return strings.TrimSpace(cell(row, i))
	}
	return ""
}

// recognise finds the columns of a list by the words of its first row, and what they do
// not tell by what the rows hold. header tells that the first row names columns.
func recognise(rows [][]string) (c tableColumns, header bool, err error) {
	c = tableColumns{}
	if len(rows) == 0 {
		return nil, false, fmt.Errorf("%w: it is empty", ErrNotTable)
	}
	for i, name := range rows[0] {
		name = strings.TrimSuffix(plainName(name), " 1") // where a page could have several
		for column, names := range listColumns {
			if _, has := c[column]; !has && slices.Contains(names, name) && !looksLikeAddress(rows[0][i]) {
				c[column] = i
			}
		}
	}
	header = len(c) > 0 && !slices.ContainsFunc(rows[0], looksLikeAddress)
	body := rows
	if header {
		body = rows[1:]
	} else {
		c = tableColumns{}
	}
	at, share := column(body, looksLikeAddress)
	if known, named := c["path"]; !named || len(body) > 0 && shareOf(body, known, looksLikePath) < 0.5 {
		if share < 0.6 && len(body) > 0 {
			if at, share = column(body, looksLikePath); share < 0.6 {
				return nil, false, fmt.Errorf("%w of addresses: no column holds paths that begin with a slash, or whole addresses", ErrNotTable)
			}
		}
		c["path"] = at
	}
	if !header {
		c.byContent(body)
		if len(rows) > 1 && !looksLikePath(cell(rows[0], c["path"])) {
			header = true // it names columns, in words that nobody knows
		}
	}
	return c, header, nil
}

// byContent finds a status, a number of visits and a title in a list without names.
func (c tableColumns) byContent(rows [][]string) {
	width := 0
	for _, r := range rows[:min(len(rows), 200)] {
		width = max(width, len(r))
	}
	for i := range width {
		if i == c["path"] {
			continue
		}
		_, hasStatus := c["status"]
		_, hasVisits := c["visits"]
		_, hasTitle := c["title"]
		switch {
		case !hasStatus && shareOf(rows, i, func(s string) bool { n, err := strconv.Atoi(s); return err == nil && n >= 200 && n < 600 }) == 1:
			c["status"] = i
		case !hasVisits && shareOf(rows, i, func(s string) bool { _, err := count(s); return err == nil }) > 0.9:
			c["visits"] = i
		case !hasTitle && shareOf(rows, i, func(s string) bool { return strings.Contains(s, " ") }) > 0.5:
			c["title"] = i
		}
	}
}

func column(rows [][]string, is func(string) bool) (best int, share float64) {
	width := 0
	for _, r := range rows[:min(len(rows), 200)] {
		width = max(width, len(r))
	}
	for i := range width {
		if s := shareOf(rows, i, is); s > share {
			best, share = i, s
		}
	}
	return best, share
}

// shareOf tells how many of the first cells of a column are something.
func shareOf(rows [][]string, i int, is func(string) bool) float64 {
	n, all := 0, 0
	for _, r := range rows[:min(len(rows), 200)] {
		all++
		if is(strings.TrimSpace(cell(r, i))) {
			n++
		}
	}
	return float64(n) / float64(max(all, 1))
}

// looksLikePath reports whether a cell is an address without its scheme: a host name
// with a path, or a path without its slash.
func looksLikePath(s string) bool {
	return looksLikeAddress(s) || strings.Contains(s, "/") && !strings.Contains(s, " ") || strings.HasPrefix(s, "?")
}

// count reads a number with or without marks between thousands.
func count(s string) (int64, error) {
	return strconv.ParseInt(strings.NewReplacer(".", "", ",", "", " ", "", "\u00a0", "", "\u202f", "", "'", "").Replace(s), 10, 64)
}

// List takes the addresses of a list with any columns, or of an inventory.
func (g *Gatherer) List(r io.Reader) error {
	t, err := NewTableReader(r)
	if err != nil {
		return err
	}
	var head [][]string // until the columns are known
	var c tableColumns
	header := false
	flush := func() error {
		var err error
		if c, header, err = recognise(head); err != nil {
			return err
		}
		for i, row := range head {
			if i == 0 && header {
				continue
			}
			g.row(c, row)
		}
		return nil
	}
	for {
		row, _, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if c != nil {
			g.row(c, row)
			continue
		}
		if head = append(head, slices.Clone(row)); len(head) == 200 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	if c == nil {
		return flush()
	}
	return nil
}

func (g *Gatherer) row(c tableColumns, row []string) {
	e := Entry{Type: c.get(row, "type"), Title: c.get(row, "title"), Canonical: c.get(row, "canonical"), Language: c.get(row, "language"), Modified: c.get(row, "modified"), Sources: strings.Fields(c.get(row, "sources"))}
	e.Status, _ = strconv.Atoi(c.get(row, "status"))
	e.Words, _ = strconv.Atoi(c.get(row, "words"))
	e.Visits, _ = count(c.get(row, "visits"))
	if f, err := page.ParseFingerprint(c.get(row, "fingerprint")); err == nil && f != "" {
		e.Fingerprint = f.String()
	}
	if len(e.Sources) == 0 {
		e.Sources = []string{"list"}
	}
	g.Add(c.get(row, "path"), e)
}

// JSON takes an inventory that WriteJSON wrote.
func (g *Gatherer) JSON(r io.Reader) error {
	var inv Inventory
	if err := json.NewDecoder(r).Decode(&inv); err != nil {
		return fmt.Errorf("not an inventory: %w", err)
	}
	for _, e := range inv.Pages {
		if len(e.Sources) == 0 {
			e.Sources = []string{"list"}
		}
		g.Add(e.Path, e)
	}
	return nil
}
