// Package site knows what a site is: a folder, its database, its settings and
// its public address. Each kind of site (wordpress, plain) is one file here,
// which says where those things are and how settings are read and changed.
//
// It takes a folder and gives a Site; Survey looks at all of it, Walk lists its
// files by part.
package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/fsys"
	"hovix/internal/nearest"
	"hovix/internal/rewrite"
)

// Part names a part of a site.
type Part string

// The parts.
const (
	Database Part = "database"
	Uploads  Part = "uploads"
	Code     Part = "code"
	Settings Part = "settings"
)

// Parts lists all parts in the order in which they are packed.
var Parts = []Part{Database, Uploads, Code, Settings}

// Account is a login of a site.
type Account struct {
	Login string `json:"login"`
	Name  string `json:"name,omitempty"`
	Email string `json:"email,omitempty"`
}

// Site is what is known of a site.
type Site struct {
	Kind     string
	Root     string // absolute path of its folder
	Origin   string // the folder that its texts mention as their own: Root, or where a copy came from; empty if unknown
	Name     string
	Address  rewrite.Address
	Others   []rewrite.Address // further addresses it answers at, such as another one for its administration
	Database database.Location // zero if it has none
	Prefix   string            // of its tables
	Version  string            // of its software
	Requires map[string]string // what the software needs: "php" → "7.4"
	Uploads  []string          // folders with what people uploaded, relative to Root
	Caches   []string          // folders whose content comes back by itself
	LeaveOut []string          // further files and folders that are not carried, as globs
	Passing  []string          // tables whose rows are not carried because they come back or expire, as globs
	Settings []string          // files with settings, relative to Root
	Keep     []string          // columns whose addresses must not change, as table.column
	Moved    []string          // columns that a restore changes by Touches, as table.column
	Notes    []string          // what is unusual about it
	kind     Kind
	choice   choice
	schema   string // version of the tables that the code expects
	unsaid   string // what to say where no address is known
	network  bool   // it holds several sites
	// inSettings is the database as the settings name it.
	inSettings database.Location
	// uploadsAt is the folder that stands for the first one of Uploads.
	uploadsAt string
}

// SettingsTarget is what a restore writes into settings.
type SettingsTarget struct {
	Root     string            // absolute path of the target's folder
	Database database.Location // the path of an SQLite file is relative to Root, if it lies in it
	Address  rewrite.Address
	Prefix   string
	Existing Files // settings files as they were on the target
}

// Again gives what a second Write puts into files that a first has written: the same, with
// the secrets that stand there by now.
func (t SettingsTarget) Again(files Files) SettingsTarget {
	t.Existing = maps.Clone(files)
	return t
}

// KeepLogin gives a settings file, whose addresses were changed, with the login to the
// database that it had: its host may be one of the old addresses.
func (s *Site) KeepLogin(rel string, before, after []byte) []byte {
	if s.Database.IsZero() || s.Database.Engine == database.SQLite {
		return after
	}
	files := Files{}
	for _, name := range s.Settings {
		if content, _, err := ReadOwn(s.Root, name); err == nil {
			files[name] = content
		}
	}
	files[rel] = before
	was := maps.Clone(files)
	files[rel] = after
	if err := s.kind.Write(files, SettingsTarget{Root: s.Root, Database: s.inSettings, Prefix: s.Prefix, Existing: was}); err != nil {
		return after // it is none that names a login
	}
	return files[rel]
}

// Files are settings files by their paths relative to the site's folder.
type Files map[string][]byte

// Kind is the software that a site runs.
type Kind interface {
	Name() string
	// Detect reports whether the folder holds a site of this kind.
	Detect(root string) bool
	// Read reads what files tell of the site.
	Read(root string) (*Site, error)
	// Identifiers gives the columns whose addresses must not change, as patterns of
	// table.column that hold whatever prefix tables have.
	Identifiers() []string
	// Ask adds what only the database knows. It may be called without effect.
	Ask(ctx context.Context, s *Site, r database.Reader) error
	// Blank removes the secrets from the settings files.
	Blank(files Files) error
	// Write puts the target's values into the settings files of an archive.
	Write(files Files, t SettingsTarget) error
	// Touches are the changes to tables with which the site answers at its new
	// place at once.
	Touches(prefix string, tables []string, maps []rewrite.Mapping) []Touch
	// Reprefix gives the changes to tables, which it names by their old prefix, that are
	// due where they get another: some programs have it in rows too.
	Reprefix(old, to string, tables []string) []Touch
	// Words are the names of its Skips that can be asked for.
	Words() []string
	// Skips are rows that can stay behind, or always do.
	Skips(prefix string, tables []string) []Skip
	// Accounts lists the logins that may administer the site. prefix is that of
	// its tables.
	Accounts(ctx context.Context, prefix string, r database.Reader) ([]Account, error)
}

// DropIn is a file that takes over a part of a site's software by its presence, and
// that stops the site where what it needs is missing.
type DropIn struct {
	File     string // path relative to the site's folder
	Mentions string // word, in small letters, by which a file is known to need the service; empty: it may name its old folder
	Service  string // "Redis"
	Network  string // where the service is looked for, as net.Dial takes it
	Address  string
}

// Extensible is a Kind whose software has such files.
type Extensible interface {
	DropIns(files Files) []DropIn
}

// Touch is a change to a table of a restored site before it is put in place.
type Touch struct {
	Table string
	SQL   string // in which %s stands for the table
	Why   string // for people: what it does; empty if it goes without saying
}

// Identifiers gives the columns that any kind keeps from rewriting, as patterns
// of table.column, for where nobody says of which kind a database is.
func Identifiers() (patterns []string) {
	for _, k := range kinds {
		patterns = append(patterns, k.Identifiers()...)
	}
	return patterns
}

// kinds are all kinds in the order in which a folder is tried.
var kinds = []Kind{wordpress{}, drupal{}, joomla{}, mediawiki{}, plain{}}

// KindOf returns the kind of this name. The error suggests the nearest.
func KindOf(name string) (Kind, error) {
	var names []string
	for _, k := range kinds {
		if k.Name() == name {
			return k, nil
		}
		names = append(names, k.Name())
	}
	err := fmt.Errorf("unknown kind of site %q; the kinds are %s", name, strings.Join(names, ", "))
	if n := nearest.Of(name, names); n != "" {
		err = fmt.Errorf("%w; did you mean %s?", err, n)
	}
	return nil, err
}

// ErrNoSite says that a folder holds no site of a known kind.
var ErrNoSite = errors.New("no site is here")

// Folder checks that path names a folder and returns it absolute. The error
// says what lies nearby that could be meant.
func Folder(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	st, err := os.Stat(abs)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if near := nearest.Path(abs); near != "" {
			return "", fmt.Errorf("there is no folder %s; did you mean %s?", path, near)
		}
		return "", fmt.Errorf("there is no folder %s", path)
	case err != nil:
		return "", fmt.Errorf("look at %s: %w", path, err)
	case !st.IsDir():
		return "", fmt.Errorf("%s is a file; name the folder of the site", path)
	}
	return fsys.Resolve(abs)
}

// Open finds out what site the folder holds, from its files alone.
func Open(path string) (*Site, error) {
	root, err := Folder(path)
	if err != nil {
		return nil, err
	}
	file, err := readSiteFile(root)
	if err != nil {
		return nil, err
	}
	kind, err := detect(root, file)
	if err != nil {
		return nil, err
	}
	s, err := kind.Read(root)
	if err != nil {
		return nil, fmt.Errorf("the folder holds a site of the kind %s, but its settings cannot be read: %w", kind.Name(), err)
	}
	for _, sub := range sitesBelow(root) {
		if sub != "web" && sub != "docroot" {
			s.Notes = append(s.Notes, "Another site lies in "+sub+": its files are carried with this one, its database is not.")
		}
	}
	s.Kind, s.Root, s.Origin, s.kind = kind.Name(), root, root, kind
	if file != nil {
		if err := file.override(s); err != nil {
			return nil, err
		}
	}
	s.inSettings = s.Database
	if s.Database.Engine == database.SQLite {
		if err := checkDatabaseFile(root, s.Database.Path); err != nil {
			return nil, err
		}
	}
	if s.Address.IsZero() && s.unsaid != "" {
		s.Notes = append(s.Notes, s.unsaid)
	}
	return s, nil
}

// Is reports whether the folder itself holds a site of a kind that is known.
func Is(root string) bool {
	return slices.ContainsFunc(kinds, func(k Kind) bool { return k.Detect(root) })
}

// Contains reports whether a folder in the site that looks like a site of its own is part
// of this one: it uses the same database, or is where Composer puts the program itself.
func (s *Site) Contains(dir string) bool {
	if dir == "web" || dir == "docroot" {
		return s.Kind != ""
	}
	other, err := Open(filepath.Join(s.Root, filepath.FromSlash(dir)))
	return err == nil && s.Kind != "" && !s.Database.IsZero() && other.Database.Same(s.Database)
}

// TakeUploads has the site's uploads taken from another folder than its own.
func (s *Site) TakeUploads(folder string) error {
	if len(s.Uploads) == 0 {
		return fmt.Errorf("nothing says where the site has its uploads; name the folder in %s, as in uploads = [\"images\"]", SiteFile)
	}
	if s.uploadsAt = ""; folder == "" {
		return nil
	}
	var err error
	s.uploadsAt, err = Folder(folder)
	return err
}

func detect(root string, file *siteFile) (Kind, error) {
	if file != nil {
		if file.Kind == "" {
			file.Kind = "plain"
		}
		k, err := KindOf(file.Kind)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Join(root, SiteFile), err)
		}
		return k, nil
	}
	for _, k := range kinds {
		if k.Detect(root) {
			return k, nil
		}
	}
	if entries, err := os.ReadDir(root); err == nil && len(entries) == 0 {
		return nil, fmt.Errorf("%w: the folder %s is empty; name the folder of the site", ErrNoSite, root)
	}
	err := fmt.Errorf("%w: %s holds neither %s nor the settings of a kind that Hovix knows (drupal, joomla, mediawiki, wordpress)", ErrNoSite, root, SiteFile)
	for up := filepath.Dir(root); ; up = filepath.Dir(up) {
		if Is(up) {
			return nil, fmt.Errorf("%w; it lies inside the site in %s: name that folder", err, up)
		}
		if filepath.Dir(up) == up {
			break
		}
	}
	switch sub := sitesBelow(root); len(sub) {
	case 0:
	case 1:
		return nil, fmt.Errorf("%w; there is one in %s", err, filepath.Join(root, sub[0]))
	default:
		return nil, fmt.Errorf("%w; there are %d in it, each to be named by its own folder: %s", err, len(sub), strings.Join(sub, ", "))
	}
	return nil, fmt.Errorf("%w; write a short %s that says what it is (see docs/site-file.md)", err, SiteFile)
}

// sitesBelow looks for sites one folder further down, and gives the folders'
// names.
func sitesBelow(root string) (names []string) {
	entries, err := os.ReadDir(root)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		sub := filepath.Join(root, e.Name())
		if e.IsDir() && Is(sub) {
			names = append(names, e.Name())
		}
	}
	return names
}

// Ask adds what only the database knows of the site: name, address, version.
func (s *Site) Ask(ctx context.Context, r database.Reader) error { return s.kind.Ask(ctx, s, r) }

// Blank removes the secrets from the settings files of the site.
func (s *Site) Blank(files Files) error {
	if err := s.kind.Blank(files); err != nil {
		return err
	}
	files.forget([]string{s.Database.Password})
	return nil
}

// Mover is a Kind in whose settings stands more of an address than the address itself.
type Mover interface {
	// Move changes settings from one address of the site to another, as far as that is not
	// done by rewriting addresses.
	Move(files Files, from, to rewrite.Address) error
}

// Move changes what of an address stands apart in the settings.
func (s *Site) Move(files Files, from, to rewrite.Address) error {
	return MoveSettings(s.kind, files, from, to)
}

// MoveSettings is Move for settings of a kind.
func MoveSettings(k Kind, files Files, from, to rewrite.Address) error {
	if m, ok := k.(Mover); ok && from != to && !from.IsZero() {
		return m.Move(files, from, to)
	}
	return nil
}

// Touches are the changes to the site's tables with which it answers at a new address at
// once.
func (s *Site) Touches(tables []string, maps []rewrite.Mapping) []Touch {
	return s.kind.Touches(s.Prefix, tables, maps)
}

// RunsPHP reports whether PHP runs the site's software.
func (s *Site) RunsPHP() bool { return s.Kind != plain{}.Name() }

// HasAddress reports whether the site answers at the address.
func (s *Site) HasAddress(a rewrite.Address) bool {
	return s.Address == a || slices.Contains(s.Others, a)
}

// OnlyRestoreMoves gives the error of changing one of the site's addresses in its
// texts alone, if the site answers by addresses that stand apart in its database
// and settings: it would answer at neither the old nor the new ones.
func (s *Site) OnlyRestoreMoves(maps []rewrite.Mapping) error {
	for _, m := range maps {
		if len(s.Moved) > 0 && s.HasAddress(m.Old) {
			return fmt.Errorf("the site is a network, which finds its sites by hosts and paths that stand apart in its database: to change the address %s in all places, pack it as it is and restore it with --url %s", m.Old, m.New)
		}
	}
	return nil
}

// Accounts lists the logins that may administer the site.
func (s *Site) Accounts(ctx context.Context, r database.Reader) ([]Account, error) {
	return s.kind.Accounts(ctx, s.Prefix, r)
}

// PartOf says to which part a file belongs, by its path relative to Root with
// slashes.
func (s *Site) PartOf(rel string) Part {
	if slices.Contains(s.Settings, rel) {
		return Settings
	}
	for _, u := range s.Uploads {
		if rel == u || strings.HasPrefix(rel, u+"/") {
			return Uploads
		}
	}
	return Code
}
