package redirects

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"hovix/internal/page"
	"hovix/internal/webpath"
)

// feature is what pairing looks at in a page.
type feature struct {
	entry    *Entry
	bare     string   // path that differs from others only by slash, letter case, index file and extension
	dir      string   // what stands before the name, in small letters
	name     string   // of the page, in plain letters: the last segment, or its identifier
	words    []string // of the name
	title    string   // in plain letters, without the site's name
	heading  []string // its words
	core     string   // the name without numbers
	numbers  []string // in name and title: years, parts, editions
	around   []string // numbers in the folders
	id       string   // a number that tells the page from others of its kind
	print    page.Fingerprint
	language string
}

// indexFiles are the names of files that stand for their folder.
var indexFiles = []string{"index", "default", "home", "welcome"}

// pageExtensions are those that programs for pages have.
var pageExtensions = []string{".html", ".htm", ".php", ".asp", ".aspx", ".jsp", ".shtml", ".xhtml", ".php5", ".cfm", ".phtml", ".do", ".cgi"}

// fold gives a text in small letters without accents, its words parted by single dashes.
func fold(s string) string {
	var b strings.Builder
	gap := false
	for _, r := range norm.NFKD.String(s) {
		switch {
		case unicode.Is(unicode.Mn, r), r == '\'', r == '’':
		case unicode.IsLetter(r), unicode.IsDigit(r):
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteRune(unicode.ToLower(r))
		default:
			gap = true
		}
	}
	return b.String()
}

// splitName cuts the extension of a page off.
func splitName(segment string) string {
	if ext := strings.ToLower(path.Ext(segment)); slices.Contains(pageExtensions, ext) {
		return segment[:len(segment)-len(ext)]
	}
	return segment
}

func featureOf(e *Entry, siteName func(title string) string) *feature {
	f := &feature{entry: e, language: strings.ToLower(cutAt(e.Language, "-_"))}
	f.print, _ = page.ParseFingerprint(e.Fingerprint)
	p, query, _ := strings.Cut(e.Path, "?")
	segments := strings.Split(strings.Trim(webpath.Decoded(p), "/"), "/")
	last := splitName(segments[len(segments)-1])
	if slices.Contains(indexFiles, strings.ToLower(last)) && query == "" {
		segments = segments[:len(segments)-1]
		last = ""
		if n := len(segments); n > 0 {
			last = segments[n-1]
		}
	} else {
		segments[len(segments)-1] = last
	}
	f.bare = strings.ToLower(strings.Join(segments, "/"))
	if query != "" {
		f.bare += "?" + query
	}
	if n := len(segments); n > 1 {
		f.dir = strings.ToLower(strings.Join(segments[:n-1], "/"))
	}
	f.name = fold(last)
	if query != "" {
		f.fromQuery(query)
	}
	f.words = strings.FieldsFunc(f.name, func(r rune) bool { return r == '-' })
	f.title = fold(siteName(e.Title))
	f.heading = strings.FieldsFunc(f.title, func(r rune) bool { return r == '-' })
	if f.id == "" {
		f.fromName()
	}
	for _, w := range slices.Concat(f.words, f.heading) {
		if isNumber(w) && w != f.id && !slices.Contains(f.numbers, w) {
			f.numbers = append(f.numbers, w)
		}
	}
	slices.Sort(f.numbers)
	f.core = strings.Join(slices.DeleteFunc(slices.Clone(f.words), isNumber), "-")
	for _, w := range strings.FieldsFunc(f.dir, func(r rune) bool { return r == '/' || r == '-' || r == '_' }) {
		if isNumber(w) {
			f.around = append(f.around, w)
		}
	}
	return f
}

// hasNumber reports whether a number stands in the page's name, title or folders.
func (f *feature) hasNumber(n string) bool {
	return slices.Contains(f.numbers, n) || slices.Contains(f.around, n) || n == f.id
}

func cutAt(s, marks string) string {
	if i := strings.IndexAny(s, marks); i >= 0 {
		return s[:i]
	}
	return s
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// fromQuery finds what names the page in a query: a number, or a word.
func (f *feature) fromQuery(query string) {
	for part := range strings.SplitSeq(query, "&") {
		_, v, _ := strings.Cut(part, "=")
		v = webpath.Decoded(strings.ReplaceAll(v, "+", " "))
		switch {
		case isNumber(v) && f.id == "":
			f.id = v
		case !isNumber(v) && len(v) > 2:
			f.name = fold(splitName(path.Base(v)))
		}
	}
	if f.id != "" && f.name == fold(splitName(path.Base(cutAt(f.entry.Path, "?")))) {
		f.name = "" // it names the program, not the page
	}
}

// fromName finds a number at the beginning or the end of a name that is no year.
func (f *feature) fromName() {
	if n := len(f.words); n > 0 {
		for _, w := range []string{f.words[0], f.words[n-1]} {
			if isNumber(w) && (len(w) > 4 || n == 1 || len(w) == 4 && w[:2] != "19" && w[:2] != "20" || len(w) == 3) {
				f.id = w
				return
			}
		}
	}
}

// titleCutter finds the name of the site in the titles of its pages: what stands before
// or after a mark in many of them.
func titleCutter(pages []Entry) func(string) string {
	marks := []string{" | ", " – ", " — ", " - ", " · ", " :: ", " » ", " « ", " • "}
	counts := map[string]int{}
	all := 0
	for i := range pages {
		t := pages[i].Title
		if t == "" {
			continue
		}
		all++
		for _, m := range marks {
			if at := strings.LastIndex(t, m); at > 0 {
				counts[t[at:]]++
			}
			if at := strings.Index(t, m); at > 0 {
				counts[t[:at+len(m)]]++
			}
		}
	}
	var ends []string
	for s, n := range counts {
		if n >= 3 && n*4 >= all {
			ends = append(ends, s)
		}
	}
	slices.SortFunc(ends, func(a, b string) int { return len(b) - len(a) })
	return func(t string) string {
		for _, e := range ends {
			if s, ok := strings.CutSuffix(t, e); ok {
				return s
			}
			if s, ok := strings.CutPrefix(t, e); ok {
				return s
			}
		}
		return t
	}
}

// cutCommon takes out of names the words that most pages of their folder have in them:
// they name the kind of page.
func cutCommon(pages []*feature) {
	words, all := map[string]map[string]int{}, map[string]int{}
	for _, f := range pages {
		if words[f.dir] == nil {
			words[f.dir] = map[string]int{}
		}
		all[f.dir]++
		for _, w := range slices.Compact(slices.Sorted(slices.Values(f.words))) {
			words[f.dir][w]++
		}
	}
	for _, f := range pages {
		n := all[f.dir]
		if n < 10 || len(f.words) < 2 {
			continue
		}
		keep := slices.DeleteFunc(slices.Clone(f.words), func(w string) bool { return words[f.dir][w]*2 > n && !isNumber(w) })
		if len(keep) == 0 || len(keep) == len(f.words) {
			continue
		}
		f.words, f.name = keep, strings.Join(keep, "-")
		f.core = strings.Join(slices.DeleteFunc(slices.Clone(keep), isNumber), "-")
	}
}
