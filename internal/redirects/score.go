package redirects

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// score tells how surely a new page is what became of an old one: the chance that each
// signal is right, joined as if they were independent, and lowered by what speaks
// against it. Address, title and text count each once, by the strongest sign.
func (p *pairer) score(o, n *feature) candidate {
	c := candidate{to: n}
	wrong, doubts := 1.0, 1.0
	for _, signal := range []func(o, n *feature) (float64, string){p.byAddress, p.byTitle, p.byText, p.bySection} {
		if right, why := signal(o, n); right > 0 {
			wrong *= 1 - right
			if why != "" {
				c.why = append(c.why, why)
			}
		}
	}
	c.weight = -math.Log(max(wrong, 1e-9))
	for _, doubt := range []func(o, n *feature) (float64, string){doubtNumbers, doubtText, doubtLanguage, doubtTitle} {
		if f, why := doubt(o, n); f < 1 {
			c.weight += 3 * math.Log(f)
			doubts *= f
			c.why = append(c.why, why)
		}
	}
	c.score = min(1-wrong, 0.99) * doubts
	return c
}

// byAddress compares paths: all but slash, letter case and extension; name; number;
// words that few pages have in their address.
func (p *pairer) byAddress(o, n *feature) (float64, string) {
	if o.bare == n.bare {
		return 0.985, "same path"
	}
	best, why := 0.0, ""
	if o.name != "" && o.name == n.name && !isNumber(o.name) {
		others := max(p.names[o.name], 1) * len(p.index.names[n.name])
		switch {
		case others == 1 && len(o.words) > 1:
			best = 0.92
		case others == 1:
			best = 0.82
		case len(p.index.names[n.name]) == 1:
			best = 0.6
		default:
			best = max(0.35, 0.7/float64(len(p.index.names[n.name])))
		}
		why = "same name"
	}
	if best < 0.9 && o.core != "" && o.core == n.core && o.core != o.name && strings.Contains(o.core, "-") && sameNumbers(o, n) {
		best, why = 0.9, "same name"
	}
	if o.id != "" && o.id == n.id && p.ids[o.id] == 1 && p.index.ids[n.id] == 1 {
		right := 0.5
		if len(o.id) >= 3 {
			right = 0.75
		}
		if p.trust > 0 { // how often a number was right in pairs that other signs made sure
			right = 0.97 * p.trust
		}
		if right > best {
			best, why = right, "same number in the address"
		} else {
			best = 1 - (1-best)*(1-right/2)
		}
	}
	if like := p.index.wordsAlike(o.words, n.words); like > 0 && best < byLikeness(like) {
		best, why = byLikeness(like), fmt.Sprintf("name %.0f %% alike", 100*like)
	}
	return best, why
}

// byLikeness tells how surely names that are alike name the same.
func byLikeness(like float64) float64 {
	if like < 0.8 {
		return 0.8 * like
	}
	return 0.64 + 1.3*(like-0.8)
}

// byTitle compares titles.
func (p *pairer) byTitle(o, n *feature) (float64, string) {
	if o.title == "" || n.title == "" {
		return 0, ""
	}
	if o.title == n.title {
		switch others := max(p.titles[o.title], 1) * len(p.index.titles[n.title]); {
		case others == 1 && len(o.heading) > 1:
			return 0.92, "same title"
		case others == 1:
			return 0.8, "same title"
		default:
			return max(0.3, 0.7/float64(len(p.index.titles[n.title]))), "same title"
		}
	}
	if like := p.index.wordsAlike(o.heading, n.heading); like > 0.3 {
		return 0.7 * like, fmt.Sprintf("title %.0f %% alike", 100*like)
	}
	return 0, ""
}

// enough is how many words make a text whose likeness means something.
const enough = 20

// byText compares what the pages say.
func (p *pairer) byText(o, n *feature) (float64, string) {
	s := o.print.Similarity(n.print)
	if s < 0.12 || o.entry.Words < enough || n.entry.Words < enough {
		return 0, ""
	}
	return min(0.97, 0.55*s+0.58, 2.3*s), fmt.Sprintf("text %.0f %% alike", 100*s)
}

// bySection tells whether the new page stands where the old one's section has gone.
func (p *pairer) bySection(o, n *feature) (float64, string) {
	share := p.whither[o.dir][n.dir]
	if share < 0.1 {
		return 0, ""
	}
	if o.name == n.name && o.name != "" || o.core == n.core && o.core != "" && sameNumbers(o, n) { // exactly where it is expected
		return 0.9 * share, "where its section has gone"
	}
	return 0.3 * share, ""
}

// sameNumbers reports whether each page has the numbers of the other, be it in a folder.
func sameNumbers(o, n *feature) bool {
	lacks := func(a, b *feature) bool {
		return slices.ContainsFunc(a.numbers, func(s string) bool { return !b.hasNumber(s) })
	}
	return !lacks(o, n) && !lacks(n, o)
}

// doubtNumbers: years and parts that differ make different pages of the same kind.
func doubtNumbers(o, n *feature) (float64, string) {
	only := func(a, b *feature) bool {
		return slices.ContainsFunc(a.numbers, func(s string) bool { return !b.hasNumber(s) })
	}
	switch old, new := only(o, n), only(n, o); {
	case !old && !new:
		return 1, ""
	case old && new:
		return 0.4, "but its numbers differ"
	case o.name == n.name && o.name != "", o.title == n.title && o.title != "":
		return 1, ""
	}
	return 0.85, "but one has a number more"
}

// doubtText: the same name or title, but the texts have nothing in common.
func doubtText(o, n *feature) (float64, string) {
	if o.print == "" || n.print == "" || o.entry.Words < 2*enough || n.entry.Words < 2*enough {
		return 1, ""
	}
	switch s := o.print.Similarity(n.print); {
	case s < 0.04:
		return 0.85, "but another text"
	case s < 0.12:
		return 0.96, "but hardly the same text"
	}
	return 1, ""
}

func doubtLanguage(o, n *feature) (float64, string) {
	if o.language != "" && n.language != "" && o.language != n.language {
		return 0.4, "but in another language"
	}
	return 1, ""
}

// doubtTitle: the same name, but titles without a common word.
func doubtTitle(o, n *feature) (float64, string) {
	if o.title == "" || n.title == "" || o.bare == n.bare || o.print.Similarity(n.print) > 0.3 {
		return 1, ""
	}
	for _, w := range o.heading {
		if slices.Contains(n.heading, w) {
			return 1, ""
		}
	}
	if strings.Contains(o.title, n.title) || strings.Contains(n.title, o.title) {
		return 1, ""
	}
	return 0.8, "but another title"
}
