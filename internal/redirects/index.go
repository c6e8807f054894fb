package redirects

import (
	"math"
	"slices"
	"strings"
)

// index finds new pages by what they have in common with an old one.
type index struct {
	all    []*feature
	paths  map[string]*feature
	bare   map[string][]*feature
	names  map[string][]*feature
	titles map[string][]*feature
	ids    map[string]int
	byID   map[string]*feature
	bands  map[uint32][]*feature
	words  map[string][]*feature // of names and titles
	cores  map[string][]*feature
	often  map[string]int // pages, old and new, with a word
	total  float64
}

// Bounds of what is looked at for one page.
const (
	maxSame  = 60  // pages with the same name or title
	maxBand  = 80  // pages with a similar text
	maxWord  = 150 // pages with a word in common
	rareOnes = 4   // the rarest words of a page are looked up
)

func newIndex(pages []Entry) *index {
	x := &index{paths: map[string]*feature{}, bare: map[string][]*feature{}, names: map[string][]*feature{}, titles: map[string][]*feature{}, ids: map[string]int{}, byID: map[string]*feature{},
		bands: map[uint32][]*feature{}, words: map[string][]*feature{}, cores: map[string][]*feature{}, often: map[string]int{}}
	cut := titleCutter(pages)
	for i := range pages {
		x.all = append(x.all, featureOf(&pages[i], cut))
	}
	cutCommon(x.all)
	for _, f := range x.all {
		x.paths[f.entry.Path] = f
		x.bare[f.bare] = append(x.bare[f.bare], f)
		if f.name != "" {
			x.names[f.name] = append(x.names[f.name], f)
		}
		if f.title != "" {
			x.titles[f.title] = append(x.titles[f.title], f)
		}
		if f.id != "" {
			x.ids[f.id]++
			x.byID[f.id] = f
		}
		for _, b := range bandsOf(f) {
			x.bands[b] = append(x.bands[b], f)
		}
		if f.core != "" {
			x.cores[f.core] = append(x.cores[f.core], f)
		}
		for _, w := range f.allWords() {
			x.words[w] = append(x.words[w], f)
		}
		x.count(f)
	}
	return x
}

// count lets the words of a page count as known.
func (x *index) count(f *feature) {
	for _, w := range f.allWords() {
		x.often[w]++
	}
	x.total++
}

func (f *feature) allWords() []string {
	out := slices.Concat(f.words, f.heading)
	slices.Sort(out)
	return slices.Compact(out)
}

// bandsOf gives pairs of samples of a text: pages that share one are likely alike
// (locality-sensitive hashing).
func bandsOf(f *feature) (out []uint32) {
	for i := 0; i+1 < len(f.print); i += 2 {
		out = append(out, uint32(i)<<16|uint32(f.print[i])<<8|uint32(f.print[i+1]))
	}
	return out
}

// candidates gives the new pages that an old one could have become, with more.
func (x *index) candidates(o *feature, more []*feature) []*feature {
	out := slices.Clone(more)
	take := func(list []*feature, most int) {
		if len(list) <= most {
			out = append(out, list...)
		}
	}
	take(x.bare[o.bare], maxSame)
	if o.name != "" {
		take(x.names[o.name], maxSame)
	}
	if o.core != "" && o.core != o.name {
		take(x.cores[o.core], maxSame)
	}
	if o.title != "" {
		take(x.titles[o.title], maxSame)
	}
	if o.id != "" && x.ids[o.id] == 1 {
		out = append(out, x.byID[o.id])
	}
	for _, b := range bandsOf(o) {
		take(x.bands[b], maxBand)
	}
	words := o.allWords()
	slices.SortFunc(words, func(a, b string) int { return len(x.words[a]) - len(x.words[b]) })
	looked := 0
	for _, w := range words {
		if n := len(x.words[w]); n > 0 && n <= maxWord && looked < rareOnes {
			out = append(out, x.words[w]...)
			looked++
		}
	}
	slices.SortFunc(out, func(a, b *feature) int { return strings.Compare(a.entry.Path, b.entry.Path) })
	return slices.Compact(out)
}

// weight is high for words that few pages have.
func (x *index) weight(w string) float64 {
	return math.Log(1 + (x.total+1)/float64(x.often[w]+1))
}

// wordsAlike gives the share of words that two names have in common, rare words counting
// more.
func (x *index) wordsAlike(a, b []string) float64 {
	if len(a) == 0 || len(b) == 0 {
		return 0
	}
	var both, all float64
	for _, w := range a {
		if slices.Contains(b, w) {
			both += x.weight(w)
		}
		all += x.weight(w)
	}
	if both == 0 {
		return 0
	}
	for _, w := range b {
		if !slices.Contains(a, w) {
			all += x.weight(w)
		}
	}
	return both / all
}

// section gives the page that stands for a folder.
func (x *index) section(dir string) *feature {
	if list := x.bare[dir]; len(list) > 0 {
		return list[0]
	}
	return nil
}
