package redirects

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"hovix/internal/page"
)

// A generated site before and after a redesign, with a key that pairing does not see.

// hidden is the generator.
type hidden struct {
	r        *rand.Rand
	vocab    []string
	old, new Inventory
	key      map[string][]string // old path → right new paths; none: it was dropped
	used     map[string]bool
}

func newHidden(seed uint64) *hidden {
	h := &hidden{r: rand.New(rand.NewPCG(seed, 7)), key: map[string][]string{}, used: map[string]bool{}}
	syllables := strings.Fields("ba be bo da den dor el fa fen gar hal ill in kel la lum mar mo na nel or pa pen quo ra rin sa sel ta tor un va ven wy zen")
	seen := map[string]bool{}
	for len(h.vocab) < 6000 {
		var w strings.Builder
		for range 2 + h.r.IntN(3) {
			w.WriteString(syllables[h.r.IntN(len(syllables))])
		}
		if !seen[w.String()] {
			seen[w.String()] = true
			h.vocab = append(h.vocab, w.String())
		}
	}
	return h
}

// word gives a word, common ones more often.
func (h *hidden) word() string {
	x := h.r.Float64()
	return h.vocab[int(x*x*x*float64(len(h.vocab)))]
}

func (h *hidden) text(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = h.word()
	}
	return out
}

// edit changes a share of a text, in runs as people edit.
func (h *hidden) edit(text []string, share float64) []string {
	out := slices.Clone(text)
	for n := int(share * float64(len(out)) / 6); n > 0; n-- {
		at := h.r.IntN(len(out))
		for i := at; i < min(at+6, len(out)); i++ {
			out[i] = h.word()
		}
	}
	return out
}

func (h *hidden) title() []string { return h.text(2 + h.r.IntN(5)) }

func slug(words []string) string { return strings.Join(words, "-") }

func heading(words []string, site string) string {
	return strings.ToUpper(words[0][:1]) + words[0][1:] + " " + strings.Join(words[1:], " ") + " | " + site
}

func entryFor(path, title string, text []string) Entry {
	n, f := page.Text([]byte(strings.Join(text, " ")))
	return Entry{Path: path, Status: 200, Type: "page", Title: title, Words: n, Fingerprint: f.String()}
}

// add puts an old and a new page into the inventories; "" for none. Of every fourth old
// page nothing but the address is known, as from a log.
func (h *hidden) add(old, oldTitle string, oldText []string, new, newTitle string, newText []string) bool {
	if h.used[old] || new != "" && h.used["new "+new] {
		return false
	}
	if old != "" {
		h.used[old] = true
		e := entryFor(old, oldTitle, oldText)
		e.Visits = int64(h.r.ExpFloat64() * 50)
		if h.r.IntN(4) == 0 {
			e.Title, e.Fingerprint, e.Words = "", "", 0
		}
		h.old.Pages = append(h.old.Pages, e)
		h.key[old] = nil
		if new != "" {
			h.key[old] = []string{new}
		}
	}
	if new != "" {
		h.used["new "+new] = true
		h.new.Pages = append(h.new.Pages, entryFor(new, newTitle, newText))
	}
	return true
}

func (h *hidden) make(articles int) {
	const was, is = "Harbour Courier", "The Courier"
	oldSections := []string{"news", "sport", "culture", "region", "opinion", "science"}
	newSections := map[string]string{"news": "journal", "sport": "sports", "culture": "arts/stories", "region": "places", "opinion": "voices", "science": "science"}
	for i := range articles {
		section := oldSections[h.r.IntN(len(oldSections))]
		t := h.title()
		text := h.text(80 + h.r.IntN(300))
		to := newSections[section]
		year, month := 2008+h.r.IntN(16), 1+h.r.IntN(12)
		newT, newText, newSlug := t, h.edit(text, 0.05), slug(t)
		old := fmt.Sprintf("/%s/%d/%02d/%s.html", section, year, month, slug(t))
		new := fmt.Sprintf("/%s/%s/", to, newSlug)
		switch x := h.r.IntN(100); {
		case x < 45: // section renamed, date dropped, extension gone
		case x < 53: // an address with a number: only title and text tell
			old = fmt.Sprintf("/?p=%d", 1000+i)
		case x < 58:
			old, new = fmt.Sprintf("/article.php?id=%d", 1000+i), fmt.Sprintf("/%s/%d-%s/", to, 1000+i, newSlug)
		case x < 66: // reworded
			newT = h.edit(t, 0.8)
			newT[h.r.IntN(len(newT))] = h.word()
			newText = h.edit(text, 0.2)
			new = fmt.Sprintf("/%s/%s/", to, slug(newT))
		case x < 71: // a new title altogether
			newT, newText = h.title(), h.edit(text, 0.15)
			new = fmt.Sprintf("/%s/%s/", to, slug(newT))
		case x < 76: // rewritten under its name
			newText = h.edit(text, 0.9)
		case x < 80: // moved to another section
			new = fmt.Sprintf("/archive/%d/%s/", year, newSlug)
		case x < 84: // letter case and underscores
			old = fmt.Sprintf("/%s/%d/%s.htm", strings.ToUpper(section[:1])+section[1:], year, strings.Join(t, "_"))
		case x < 87: // shortened
			new = fmt.Sprintf("/%s/%s/", to, slug(t[:max(1, len(t)-1)]))
		case x < 90: // two have become one
			h.add(fmt.Sprintf("/%s/%d/%02d/%s-update.html", section, year, month, slug(t)), heading(append(slices.Clone(t), "update"), was), h.edit(text, 0.4), "", "", nil)
			merged := fmt.Sprintf("/%s/%d/%02d/%s-update.html", section, year, month, slug(t))
			if h.add(old, heading(t, was), text, new, heading(newT, is), newText) {
				h.key[merged] = []string{new}
			}
			continue
		case x < 93: // one has become two
			second := h.title()
			half := len(text) / 2
			if h.add(old, heading(t, was), text, new, heading(newT, is), append(h.edit(text[:half], 0.05), h.text(60)...)) {
				also := fmt.Sprintf("/%s/%s/", to, slug(second))
				h.add("", "", nil, also, heading(second, is), append(h.edit(text[half:], 0.05), h.text(60)...))
				h.key[old] = append(h.key[old], also)
			}
			continue
		default: // dropped
			new = ""
		}
		h.add(old, heading(t, was), text, new, heading(newT, is), newText)
	}
	h.series(articles/200, was, is)
	h.products(articles/100, was, is)
	h.generic(articles/150, was, is)
	for range articles / 8 { // what is new
		t := h.title()
		h.add("", "", nil, fmt.Sprintf("/%s/%s/", newSections[oldSections[h.r.IntN(6)]], slug(t)), heading(t, is), h.text(100+h.r.IntN(200)))
	}
}

// series are reports of each year, alike but for numbers; older years were dropped.
func (h *hidden) series(n int, was, is string) {
	for range n {
		t, text := h.title(), h.text(150)
		for year := 2010; year < 2022; year++ {
			y := fmt.Sprint(year)
			old := fmt.Sprintf("/reports/%s-%s.html", slug(t), y)
			new := fmt.Sprintf("/publications/%s/%s/", y, slug(t))
			if year < 2014 {
				new = ""
			}
			h.add(old, heading(append(slices.Clone(t), y), was), h.edit(text, 0.1), new, heading(append(slices.Clone(t), y), is), h.edit(text, 0.1))
		}
	}
}

// products come in variants with the same text; some variants are no longer sold.
func (h *hidden) products(n int, was, is string) {
	for range n {
		t, text := h.text(2), h.text(120)
		for _, colour := range []string{"red", "blue", "green", "white"} {
			old := fmt.Sprintf("/shop/item_%s_%s.asp", strings.Join(t, "_"), colour)
			new := fmt.Sprintf("/store/%s-%s", slug(t), colour)
			if h.r.IntN(5) == 0 {
				new = ""
			}
			h.add(old, heading(append(slices.Clone(t), colour), was), append([]string{colour}, h.edit(text, 0.03)...), new, heading(append(slices.Clone(t), colour), is), append([]string{colour}, h.edit(text, 0.03)...))
		}
	}
}

// generic pages have the same names everywhere.
func (h *hidden) generic(n int, was, is string) {
	for range n {
		dept := h.word() + h.word()
		for _, name := range []string{"contact", "team", "gallery", "events"} {
			text := h.text(40)
			new := fmt.Sprintf("/organisation/%s/%s/", dept, name)
			if h.r.IntN(6) == 0 {
				new = ""
			}
			h.add(fmt.Sprintf("/departments/%s/%s.php", dept, name), heading([]string{name}, was), text, new, heading([]string{name}, is), h.edit(text, 0.1))
		}
	}
}
