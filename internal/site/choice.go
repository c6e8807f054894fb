package site

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"hovix/internal/database"
	"hovix/internal/nearest"
)

// Skip names rows that a site can be carried without.
type Skip struct {
	Name  string // the word by which it is asked for; "": always
	Table string
	Where string // SQL condition of the rows
	Why   string
}

// choice is what of a site is carried.
type choice struct {
	words         []string // names of Skips
	files, tables []string // patterns of what is not
	onlyFiles     []string // patterns of what is, alone
	onlyTables    []string
}

// TablePrefix begins a pattern of tables among patterns of files.
const TablePrefix = "table:"

// Choose says what of the site is carried: what is not, by words that the kind
// knows (spam, revisions …), by patterns of paths relative to the site's folder,
// or of tables (table:log_*), whose rows then stay behind; and what is alone. The
// error names a word or a path that means nothing here.
func (s *Site) Choose(only, without []string) error {
	var c choice
	for _, w := range without {
		pattern, isTable := strings.CutPrefix(w, TablePrefix)
		switch {
		case isTable:
			c.tables = append(c.tables, pattern)
		case slices.Contains(s.kind.Words(), w):
			c.words = append(c.words, w)
		default:
			if err := s.means(w, append(s.kind.Words(), s.topNames()...)); err != nil {
				return err
			}
			c.files = append(c.files, cleanPattern(w))
		}
		if err := goodPattern(pattern); err != nil {
			return err
		}
	}
	for _, w := range only {
		pattern, isTable := strings.CutPrefix(w, TablePrefix)
		if isTable {
			c.onlyTables = append(c.onlyTables, pattern)
		} else {
			if err := s.means(w, s.topNames()); err != nil {
				return err
			}
			c.onlyFiles = append(c.onlyFiles, cleanPattern(w))
		}
		if err := goodPattern(pattern); err != nil {
			return err
		}
	}
	s.choice = c
	return nil
}

// Chosen gives what was asked for by Choose, as a text for comparison.
func (s *Site) Chosen() string { return fmt.Sprintf("%q", s.choice) }

// Section reports whether only a section of the site is carried.
func (s *Site) Section() bool { return len(s.choice.onlyFiles)+len(s.choice.onlyTables) > 0 }

// SectionHas reports whether the section holds anything of files or of tables.
func (s *Site) SectionHas(tables bool) bool {
	if tables {
		return !s.Section() || len(s.choice.onlyTables) > 0
	}
	return !s.Section() || len(s.choice.onlyFiles) > 0
}

func goodPattern(p string) error {
	if !doublestar.ValidatePattern(p) {
		return fmt.Errorf("the pattern %q cannot be read: brackets and braces must be closed", p)
	}
	return nil
}

// Pattern reads a pattern of paths relative to a site's folder. The error says what
// is wrong with it.
func Pattern(p string) (string, error) { return cleanPattern(p), goodPattern(p) }

// Covers reports whether a pattern matches a path, or a folder that it lies in.
func Covers(pattern, rel string) bool { return matches(pattern, rel) || below(rel, pattern) }

// MatchesTable reports whether a pattern of tables is one of the name.
func MatchesTable(pattern, name string) bool { return matchesAny([]string{pattern}, name) }

func cleanPattern(p string) string { return path.Clean(strings.Trim(filepath.ToSlash(p), "/")) }

// means checks that a word or a pattern names something in the folder.
func (s *Site) means(w string, known []string) error {
	if strings.ContainsAny(w, "*?[{") {
		if err := goodPattern(w); err != nil || s.hasAny(cleanPattern(w)) {
			return err
		}
		return fmt.Errorf("nothing in the site is of the pattern %q", w)
	}
	if s.has(cleanPattern(w)) {
		return nil
	}
	err := fmt.Errorf("the site has nothing of the name %q", w)
	if n := nearest.Of(w, known); n != "" {
		return fmt.Errorf("%w; did you mean %s?", err, n)
	}
	if words := s.kind.Words(); len(words) > 0 {
		return fmt.Errorf("%w; beside paths and %sNAME the words %s are known", err, TablePrefix, strings.Join(words, ", "))
	}
	return fmt.Errorf("%w; name a path in it, or %sNAME", err, TablePrefix)
}

// has reports whether something lies at a path in the site.
func (s *Site) has(rel string) bool {
	if s.uploadsAt != "" {
		if rel == s.Uploads[0] {
			return true
		}
		if in, ok := strings.CutPrefix(rel, s.Uploads[0]+"/"); ok {
			return exists(s.uploadsAt, in)
		}
	}
	return exists(s.Root, rel)
}

// hasAny reports whether a pattern matches anything in the site.
func (s *Site) hasAny(pattern string) (any bool) {
	look := func(root, prefix string) {
		_ = filepath.WalkDir(root, func(at string, d fs.DirEntry, err error) error {
			rel, e := filepath.Rel(root, at)
			if err != nil || e != nil || rel == "." {
				return nil // what cannot be seen is none of it
			}
			if any = matches(pattern, prefix+filepath.ToSlash(rel)); any {
				return fs.SkipAll
			}
			return nil
		})
	}
	look(s.Root, "")
	if s.uploadsAt != "" && !any {
		look(s.uploadsAt, s.Uploads[0]+"/")
	}
	return any
}

// CheckTables checks that each pattern of tables that was chosen is of one.
func (s *Site) CheckTables(all []database.Table) error {
	var names []string
	for _, t := range all {
		names = append(names, t.Name)
	}
	return TablesOf(slices.Concat(s.choice.tables, s.choice.onlyTables), names, "the database")
}

// TablesOf checks that each pattern is of one of the tables. whose names what holds them.
func TablesOf(patterns, names []string, whose string) error {
	for _, p := range patterns {
		if slices.ContainsFunc(names, func(n string) bool { return MatchesTable(p, n) }) {
			continue
		}
		err := fmt.Errorf("%s has no table %s", whose, p)
		if n := nearest.Of(p, names); n != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, n)
		}
		return err
	}
	return nil
}

func (s *Site) topNames() (names []string) {
	entries, err := os.ReadDir(s.Root)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// unchosen says why a file or folder is not carried although it could be; "" if
// it is.
func (c *choice) unchosen(rel string, isDir bool) string {
	for _, p := range c.files {
		if matches(p, rel) {
			return "as asked for"
		}
	}
	if len(c.onlyFiles) == 0 {
		if len(c.onlyTables) > 0 {
			return notOfSection
		}
		return ""
	}
	for _, p := range c.onlyFiles {
		if Covers(p, rel) || isDir && leadsTo(p, rel) {
			return ""
		}
	}
	return notOfSection
}

// notOfSection is why things are not carried that nobody asked for.
const notOfSection = "not of the section"

// matches reports whether a pattern matches a path, or its last name if the
// pattern is no path.
func matches(pattern, rel string) bool {
	if ok, _ := doublestar.Match(pattern, rel); ok {
		return true
	}
	ok, _ := doublestar.Match(pattern, path.Base(rel))
	return ok && !strings.Contains(pattern, "/") && strings.ContainsAny(pattern, "*?[{")
}

// below reports whether rel lies in a folder that the pattern matches.
func below(rel, pattern string) bool {
	for dir := path.Dir(rel); dir != "."; dir = path.Dir(dir) {
		if matches(pattern, dir) {
			return true
		}
	}
	return false
}

// leadsTo reports whether what the pattern matches may lie below the folder.
func leadsTo(pattern, dir string) bool {
	if !strings.Contains(pattern, "/") && strings.ContainsAny(pattern, "*?[{") || strings.Contains(pattern, "**") {
		return true
	}
	p, d := strings.Split(pattern, "/"), strings.Split(dir, "/")
	if len(d) >= len(p) {
		return false
	}
	ok, _ := doublestar.Match(strings.Join(p[:len(d)], "/"), dir)
	return ok
}

// Own gives the tables that belong to the site, those with its prefix, as far as
// they are carried.
func (s *Site) Own(all []database.Table) (own []database.Table) {
	for _, t := range all {
		if strings.HasPrefix(t.Name, s.Prefix) && (!s.Section() || matchesAny(s.choice.onlyTables, t.Name)) {
			own = append(own, t)
		}
	}
	return own
}

func matchesAny(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, _ := path.Match(p, name)
		return ok || p == name
	})
}

// WithoutRows says why no row of a table is carried; "" if they are.
func (s *Site) WithoutRows(table string) string {
	switch {
	case matchesAny(s.choice.tables, table):
		return "as asked for"
	case s.Section():
		return ""
	case matchesAny(s.Passing, table):
		return "it fills by itself"
	}
	return ""
}

// RowsLeftOut adds to list the rows of the tables that are not carried.
func (s *Site) RowsLeftOut(ctx context.Context, r database.Reader, tables []database.Table, list []LeftOut) ([]LeftOut, error) {
	for _, t := range tables {
		if why := s.WithoutRows(t.Name); why != "" {
			list = append(list, LeftOut{What: "rows of table " + t.Name, Reason: why, Rows: t.Rows, Bytes: t.Bytes})
		}
	}
	for _, k := range s.Skips(tables) {
		rows, err := r.Strings(ctx, "SELECT COUNT(*) FROM "+ident(r, k.Table)+" WHERE "+k.Where)
		if err != nil {
			return nil, fmt.Errorf("count %s in %s: %w", k.Why, k.Table, err)
		}
		reason := "as asked for"
		if k.Name == "" {
			reason = "they expire"
		}
		if n, _ := strconv.ParseInt(rows[0][0], 10, 64); n > 0 {
			list = append(list, LeftOut{What: k.Why + " in table " + k.Table, Reason: reason, Rows: n})
		}
	}
	return list, nil
}

// Skips gives the rows that are not carried, of the site's tables.
func (s *Site) Skips(tables []database.Table) (skips []Skip) {
	var names []string
	for _, t := range tables {
		names = append(names, t.Name)
	}
	for _, k := range s.kind.Skips(s.Prefix, names) {
		if k.Name == "" || slices.Contains(s.choice.words, k.Name) {
			skips = append(skips, k)
		}
	}
	return skips
}
