package site

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"

	"hovix/internal/database"
	"hovix/internal/nearest"
	"hovix/internal/rewrite"
	"hovix/internal/site/keyfile"
)

// SiteFile is the name of the description that a site may have in its folder.
const SiteFile = "hovix.toml"

// siteFile is what a site file says. docs/site-file.md explains each key.
type siteFile struct {
	Kind             string          `toml:"kind"`
	Name             string          `toml:"name"`
	Address          string          `toml:"address"`
	Aliases          []string        `toml:"aliases"`
	Database         string          `toml:"database"`
	DatabasePassword string          `toml:"database-password"`
	Version          string          `toml:"version"`
	Uploads          []string        `toml:"uploads"`
	Caches           []string        `toml:"caches"`
	LeaveOut         []string        `toml:"leave-out"`
	Settings         []settingsEntry `toml:"settings"`
	Keep             []string        `toml:"keep"`
	Login            *login          `toml:"login"`
	Pages            []sitePages     `toml:"pages"`
	root             string
}

// readSiteFile reads the site file in root; nil if there is none.
func readSiteFile(root string) (*siteFile, error) {
	name := filepath.Join(root, SiteFile)
	content, _, err := ReadOwn(root, SiteFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the site file: %w", err)
	}
	return parseSiteFile(name, content)
}

func parseSiteFile(name string, content []byte) (*siteFile, error) {
	f := &siteFile{root: filepath.Dir(name)}
	if err := keyfile.Check(content); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	meta, err := toml.Decode(string(content), f)
	if err != nil {
		var pe toml.ParseError
		if errors.As(err, &pe) {
			return nil, fmt.Errorf("%s, line %d: %s", name, pe.Position.Line, pe.Message)
		}
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	unknown := slices.DeleteFunc(meta.Undecoded(), func(k toml.Key) bool { return k[0] == "settings" }) // which looks itself
	if len(unknown) > 0 {
		known := []string{"kind", "name", "address", "aliases", "database", "database-password", "version", "uploads", "caches", "leave-out", "settings", "keep", "login", "login.file", "login.engine", "login.url", "login.host", "login.port", "login.socket", "login.name", "login.user", "login.password", "login.address", "login.secrets", "pages", "pages.table", "pages.address", "pages.title", "pages.text", "pages.modified", "pages.language", "pages.only", "pages.listing"}
		err := fmt.Errorf("%s: unknown key %q", name, unknown[0].String())
		if n := nearest.Of(unknown[0].String(), known); n != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, n)
		}
		return nil, err
	}
	return f, nil
}

// override sets in s what the site file says.
func (f *siteFile) override(s *Site) (err error) {
	name := filepath.Join(f.root, SiteFile)
	if f.Name != "" {
		s.Name = f.Name
	}
	if f.Version != "" {
		s.Version = f.Version
	}
	if f.Login != nil && f.Database != "" {
		return fmt.Errorf("%s: database and [login] both say where the database is; keep one of them", name)
	}
	if f.Address != "" {
		if s.Address, err = rewrite.ParseAddress(f.Address); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	for _, a := range f.Aliases {
		alias, err := rewrite.ParseAddress(a)
		if err != nil {
			return fmt.Errorf("%s: alias: %w", name, err)
		}
		s.Others = append(s.Others, alias)
	}
	if f.Database != "" {
		if s.Database, err = f.location(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if f.Login != nil {
		if err := f.Login.read(s, f.root); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	var settings []string
	for i := range f.Settings {
		e := &f.Settings[i]
		settings = append(settings, e.File)
		if err := checkKeys(e.File); err != nil && e.named() {
			return fmt.Errorf("%s: %w", name, err)
		}
		if e.named() && isPHP(e.File) { // what it includes are settings too
			if _, err := s.ownKeys(f.root, cleanPattern(e.File)); err != nil {
				return fmt.Errorf("%s: %s: %w", name, e.File, err)
			}
		}
	}
	for _, list := range []struct{ from, to *[]string }{{&f.Uploads, &s.Uploads}, {&f.Caches, &s.Caches}, {&settings, &s.Settings}, {&f.Keep, &s.Keep}, {&f.LeaveOut, &s.LeaveOut}} {
		for _, p := range *list.from {
			p = path.Clean(strings.Trim(filepath.ToSlash(p), "/"))
			if !filepath.IsLocal(p) && list.from != &f.Keep {
				return fmt.Errorf("%s: %q leads out of the site's folder; only what lies in it can be named", name, p)
			}
			if !slices.Contains(*list.to, p) {
				*list.to = append(*list.to, p)
			}
		}
	}
	s.Settings = append(s.Settings, SiteFile)
	return nil
}

func (f *siteFile) location() (database.Location, error) {
	l, err := database.ParseURL(f.Database)
	if err != nil {
		return l, err
	}
	if l.Engine == database.SQLite && !filepath.IsAbs(l.Path) {
		l.Path = filepath.Join(f.root, l.Path)
	}
	l.Password = f.DatabasePassword
	return l, nil
}

// setTOML gives a top-level key of a TOML document a text value and keeps every
// other byte. A key that is not there is added at the top.
func setTOML(content []byte, key, text string) []byte {
	value := tomlString(text)
	line := regexp.MustCompile(`(?m)^([ \t]*` + regexp.QuoteMeta(key) + `[ \t]*=[ \t]*)("(?:[^"\\\n]|\\.)*"|'[^'\n]*'|[^\s#]*)`)
	head := content
	if table := regexp.MustCompile(`(?m)^[ \t]*\[`).FindIndex(content); table != nil {
		head = content[:table[0]]
	}
	m := line.FindSubmatchIndex(head)
	if m == nil {
		return append([]byte(key+" = "+value+"\n"), content...)
	}
	return append(append(bytes.Clone(content[:m[4]]), value...), content[m[5]:]...)
}

func tomlString(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
