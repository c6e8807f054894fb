package restore

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"hovix/internal/archive"
	"hovix/internal/manifest"
	"hovix/internal/nearest"
	"hovix/internal/site"
)

// StoredCode is the word for triggers, routines, events and rules: text that a
// database runs by itself.
const StoredCode = "stored-code"

// wellKnown is the folder of a site that belongs to its host: proofs of who owns a
// name, for certificates (RFC 8615).
const wellKnown = ".well-known"

// selection is what of an archive is restored, and what of the target stays.
type selection struct {
	m             *manifest.Manifest
	only, without words
	refused       map[string]bool // tables that packing found a restore would not make
	keep          []*pattern
}

// words are what --only or --without names.
type words struct {
	given  bool
	parts  []site.Part
	files  []*pattern
	tables []*pattern
	code   bool
}

// pattern is a pattern of paths or tables, and whether anything was of it.
type pattern struct {
	text string
	hit  atomic.Bool
}

func (p *pattern) covers(rel string) bool {
	if !site.Covers(p.text, rel) {
		return false
	}
	p.hit.Store(true)
	return true
}

func anyCovers(list []*pattern, rel string) (any bool) {
	for _, p := range list {
		any = p.covers(rel) || any
	}
	return any
}

// selectFrom reads what is to be restored. The error names a word that means nothing.
func selectFrom(m *manifest.Manifest, only, without, keep []string) (*selection, error) {
	s := &selection{m: m, refused: map[string]bool{}}
	if m.Database != nil {
		for _, t := range m.Database.Tables {
			s.refused[t.Name] = t.Refused != ""
		}
	}
	var err error
	if s.only, err = s.read(only); err != nil {
		return nil, err
	}
	if s.without, err = s.read(without); err != nil {
		return nil, err
	}
	for _, k := range append([]string{wellKnown}, keep...) {
		text, err := site.Pattern(k)
		if err != nil {
			return nil, err
		}
		s.keep = append(s.keep, &pattern{text: text})
	}
	return s, nil
}

func (s *selection) read(given []string) (w words, err error) {
	w.given = len(given) > 0
	for _, g := range given {
		table, isTable := strings.CutPrefix(g, site.TablePrefix)
		switch {
		case isTable:
			p := &pattern{text: table}
			if err := s.someTable(p); err != nil {
				return w, err
			}
			w.tables = append(w.tables, p)
		case slices.Contains(site.Parts, site.Part(g)):
			if !s.m.Has(site.Part(g)) {
				return w, fmt.Errorf("the archive does not hold the part %s; it holds %s", g, joined(s.m.Parts))
			}
			w.parts = append(w.parts, site.Part(g))
		case g == StoredCode:
			w.code = true
		default:
			text, err := site.Pattern(g)
			if err != nil {
				return w, err
			}
			if n := nearest.Of(g, []string{"database", "uploads", "code", "settings", StoredCode}); n != "" && !strings.ContainsAny(g, "/.*?[{") {
				return w, fmt.Errorf("a site has no part %q; did you mean %s? (A path of this name is written ./%s)", g, n, g)
			}
			w.files = append(w.files, &pattern{text: text})
		}
	}
	return w, nil
}

func joined(parts []site.Part) string {
	var names []string
	for _, p := range parts {
		names = append(names, string(p))
	}
	return strings.Join(names, ", ")
}

// someTable checks that a pattern is of a table of the archive.
func (s *selection) someTable(p *pattern) error {
	var names []string
	if s.m.Database != nil {
		for _, t := range s.m.Database.Tables {
			names = append(names, t.Name)
		}
	}
	return site.TablesOf([]string{p.text}, names, "the archive")
}

func anyTable(list []*pattern, name string) bool {
	return slices.ContainsFunc(list, func(p *pattern) bool { return site.MatchesTable(p.text, name) })
}

// all reports whether nothing was chosen, so that all of the archive is restored.
func (s *selection) all() bool { return !s.only.given && !s.without.given }

// whole reports whether all of a site's folder is restored, so that nothing of the
// target's stays but what is kept by name.
func (s *selection) whole() bool {
	return s.all() && s.m.Has(site.Uploads) && s.m.Has(site.Code) && s.m.Has(site.Settings)
}

// part reports whether all or something of a part is restored.
func (s *selection) part(p site.Part) bool {
	if !s.m.Has(p) || slices.Contains(s.without.parts, p) {
		return false
	}
	switch {
	case !s.only.given, slices.Contains(s.only.parts, p):
		return true
	case p == site.Database:
		return len(s.only.tables) > 0
	}
	return len(s.only.files) > 0
}

// table reports whether a table is restored.
func (s *selection) table(name string) bool {
	return !s.refused[name] && s.part(site.Database) && !anyTable(s.without.tables, name) &&
		(!s.only.given || slices.Contains(s.only.parts, site.Database) || anyTable(s.only.tables, name))
}

// someTables reports whether only some tables are restored, so that what may need
// others is not.
func (s *selection) someTables() bool {
	return len(s.without.tables) > 0 || s.only.given && !slices.Contains(s.only.parts, site.Database)
}

// folder reports whether anything in the site's folder is restored.
func (s *selection) folder() bool {
	return s.part(site.Uploads) || s.part(site.Code) || s.part(site.Settings)
}

// partOf says to which part of the archive a path belongs.
func (s *selection) partOf(rel string) site.Part {
	of := site.Site{Settings: s.m.Settings, Uploads: s.m.Uploads}
	return of.PartOf(rel)
}

// file reports whether a file, folder or link is restored: on the target, whether
// what is there gives way.
func (s *selection) file(rel string) bool {
	part := s.partOf(rel)
	if !s.m.Has(part) || slices.Contains(s.without.parts, part) || anyCovers(s.without.files, rel) {
		return false
	}
	return !s.only.given || slices.Contains(s.only.parts, part) || anyCovers(s.only.files, rel)
}

// stays reports whether a file of the target stays although the archive may hold
// one of its name.
func (s *selection) stays(rel string) bool { return anyCovers(s.keep, rel) }

// unkept names a path that was to be kept, of which the target has nothing.
func (s *selection) unkept() error {
	for _, p := range s.keep {
		if p.text != wellKnown && !p.hit.Load() {
			return fmt.Errorf("%w: the target has nothing of the name %s that could be kept", archive.ErrNoEntry, p.text)
		}
	}
	return nil
}

// unused names a path that was chosen, or was to be left out, of which the archive
// has nothing.
func (s *selection) unused() error {
	for _, p := range append(slices.Clone(s.only.files), s.without.files...) {
		if !p.hit.Load() {
			return fmt.Errorf("%w: the archive has nothing of the name %s; hovix inspect --list names what it holds", archive.ErrNoEntry, p.text)
		}
	}
	return nil
}
