package restore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/database/mariadb"
	"hovix/internal/database/postgres"
	"hovix/internal/database/sqlite"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Plan is what a restore will do, from real checks.
type Plan struct {
	Manifest *manifest.Manifest `json:"manifest"`
	Target   string             `json:"target"` // absolute
	Create   bool               `json:"create"` // the folder is not there yet
	Address  string             `json:"address"`
	Database string             `json:"database,omitempty"`
	Parts    []site.Part        `json:"parts"`            // of the archive that are restored, in full or in part
	Chosen   *Chosen            `json:"chosen,omitempty"` // what of the archive; nil: all of it
	Lose     site.Amount        `json:"replacedFiles"`    // files of the target that give way
	Stay     site.Amount        `json:"keptFiles"`        // files of the target that stay
	Tables   []database.Table   `json:"replacedTables"`   // tables of the target that are replaced
	Accounts []site.Account     `json:"replacedAccounts,omitempty"`
	Maps     []string           `json:"mappings"` // old → new, for people
	Estimate *Estimate          `json:"estimate,omitempty"`
	Checks   []database.Check   `json:"checks"`
	Notes    []string           `json:"notes,omitempty"` // what is worth knowing before

	sel      *selection
	maps     []rewrite.Mapping
	roots    []rewrite.RootMapping
	location database.Location
	address  rewrite.Address
	parent   string
	inside   string     // SQLite: path in the target folder of the database file that is exchanged with it
	shared   string     // SQLite: path in it of the file that stays, in both folders at once
	existing site.Files // settings files of the target
	live     *site.Site // what the target is; nil: nobody knows
	staged   int64      // bytes that an interrupted run has staged, to be gone on with
}

// Chosen counts what of an archive is restored.
type Chosen struct {
	Tables int         `json:"tables"`
	Rows   int64       `json:"rows"`
	Files  site.Amount `json:"files"` // -1 files: only reading the archive would tell
}

// CheckError says that a check of the plan stands in the way. Nothing was changed.
type CheckError struct {
	Plan *Plan
	Err  error
}

// Error is that of the first check that failed.
func (e *CheckError) Error() string { return e.Err.Error() }

// Unwrap gives it.
func (e *CheckError) Unwrap() error { return e.Err }

// Overwrites reports whether the restore replaces anything.
func (p *Plan) Overwrites() bool { return p.Lose.Count > 0 || len(p.Tables) > 0 }

func decodeJSON(content []byte, v any) error { return json.Unmarshal(content, v) }

// makePlan looks at everything that can stand in the way. What depends on
// something that failed is not looked at.
func (r *run) makePlan(ctx context.Context) error {
	p := r.plan
	if r.m.Section && p.Lose.Count > 0 {
		return fmt.Errorf("the archive holds a section of a site, and %s holds %d files that it would replace; restore it to a new folder, and copy from there", p.Target, p.Lose.Count)
	}
	p.readExisting()
	if err := p.addresses(r.opts); err != nil {
		return err
	}
	for _, part := range site.Parts {
		if p.sel.part(part) {
			p.Parts = append(p.Parts, part)
		}
	}
	if err := p.countChosen(r.opts.Archive); err != nil {
		return err
	}
	p.look("code in the database", func() (string, bool, error) { return p.storedCode(r.opts.StoredCode) })
	p.look("links", func() (string, bool, error) { return p.links(r.opts.LinksOut) })
	p.look("room for files", p.space)
	if r.m.Database != nil && p.sel.part(site.Database) {
		if err := p.database(r.opts.Database); err != nil {
			return err
		}
		p.lookAtDatabase(ctx, r.kind)
		p.look("prefix", p.prefix)
	}
	if d := p.Manifest.Database; d != nil && len(d.Objects) > 0 && p.sel.part(site.Database) && p.sel.someTables() {
		p.Notes = append(p.Notes, "Only some tables are restored: views, triggers and routines stay as they are on the target.")
	}
	p.compareRuntime(ctx)
	for _, c := range p.Checks {
		if c.Err != nil {
			return &CheckError{p, c.Err}
		}
	}
	return p.estimate(r.opts)
}

// look makes a check. One that found nothing to say is not listed.
func (p *Plan) look(what string, f func() (found string, note bool, err error)) {
	found, note, err := f()
	switch {
	case err != nil:
		p.Checks = append(p.Checks, database.Failure(what, err))
	case found != "":
		p.Checks = append(p.Checks, database.Check{What: what, Found: found, Note: note})
	}
}

// countChosen counts what is restored of an archive of which only something is.
func (p *Plan) countChosen(a *archive.Archive) error {
	if p.sel.all() {
		return nil
	}
	c := &Chosen{}
	if p.Manifest.Database != nil {
		for _, t := range p.Manifest.Database.Tables {
			if p.sel.table(t.Name) {
				c.Tables++
				c.Rows += t.Rows
			}
		}
	}
	p.Chosen = c
	if a == nil {
		c.Files.Count = -1
		return nil
	}
	err := a.Entries(func(e archive.Entry) error {
		if rel, ok := strings.CutPrefix(e.Name, manifest.FilesDir); ok && p.sel.file(rel) && e.Type != archive.TypeDir {
			c.Files.Count++
			c.Files.Bytes += e.Size
		}
		return nil
	})
	if err != nil {
		return err
	}
	return p.sel.unused()
}

// storedCode names what the database would run by itself, which nobody may want
// of an archive that is not theirs.
func (p *Plan) storedCode(agreed bool) (string, bool, error) {
	d := p.Manifest.Database
	if d == nil || len(d.Stored) == 0 || !p.sel.part(site.Database) || p.sel.someTables() {
		return "", false, nil
	}
	var names []string
	for i, s := range d.Stored {
		if i == 5 {
			names = append(names, fmt.Sprintf("%d more", len(d.Stored)-i))
			break
		}
		names = append(names, string(s.Kind)+" "+s.Name)
	}
	list := strings.Join(names, ", ")
	switch {
	case p.sel.without.code:
		return list + " stay out", true, nil
	case agreed:
		return list, false, nil
	}
	return "", false, fmt.Errorf("%w: the archive brings code that the database runs by itself, with the rights of who restores it: %s", ErrStoredCode, list)
}

// ErrStoredCode says that an archive holds code for the database that nobody asked
// for.
var ErrStoredCode = errors.New("refused")

// ErrLinksOut says that an archive holds symbolic links out of the site.
var ErrLinksOut = errors.New("refused")

// links names the links that lead out of the site.
func (p *Plan) links(agreed bool) (string, bool, error) {
	m := p.Manifest
	if m.Links == 0 || int64(len(m.LinksOut)) == m.Links && !slices.ContainsFunc(m.LinksOut, func(l string) bool {
		name, _, _ := strings.Cut(l, " → ")
		return p.sel.file(name)
	}) {
		return "", false, nil
	}
	list := strings.Join(m.LinksOut[:min(len(m.LinksOut), 3)], ", ")
	if n := m.Links - int64(min(len(m.LinksOut), 3)); n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	if agreed {
		return list + " lead out of the site", true, nil
	}
	return "", false, fmt.Errorf("%w: symbolic links of the archive lead out of the site: %s", ErrLinksOut, list)
}

// prefix checks that settings which stay are of the tables that come.
func (p *Plan) prefix() (string, bool, error) {
	s, err := site.Open(p.Target)
	if err != nil || p.sel.part(site.Settings) || s.Prefix == p.Manifest.Database.Prefix {
		return "", false, nil
	}
	return "", false, fmt.Errorf("the tables of the archive have the prefix %q, and the settings of %s, which stay, want %q; restore the settings too", p.Manifest.Database.Prefix, p.Target, s.Prefix)
}

// folder checks the target folder and its parent.
func (p *Plan) folder(target string) error {
	p.Target = resolve(target)
	p.parent = filepath.Dir(p.Target)
	if p.parent == p.Target {
		return fmt.Errorf("the target %s is the root of the file system; name a folder for the site", p.Target)
	}
	if inside(p.Manifest.Root, p.Target) && isSameSite(p.Manifest) {
		return fmt.Errorf("the target %s lies inside the folder of the site that was packed (%s); choose a folder beside it", p.Target, p.Manifest.Root)
	}
	st, err := os.Stat(p.Target)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.Create = true
		return p.makeable()
	case err != nil:
		return fmt.Errorf("look at the target: %w", err)
	case !st.IsDir():
		return fmt.Errorf("the target %s is a file; name a folder", p.Target)
	}
	if err := p.writable(p.parent); err != nil {
		return err
	}
	if parent, err := os.Stat(p.parent); err == nil && fsys.Device(parent) != fsys.Device(st) {
		return fmt.Errorf("the target %s is a mounted file system, which cannot be exchanged in one step for what is staged beside it; name a folder in it", p.Target)
	}
	p.keepDatabase()
	return p.countFiles(st)
}

// countFiles counts what gives way in the target folder, and what stays.
func (p *Plan) countFiles(root fs.FileInfo) error {
	return filepath.WalkDir(p.Target, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it counts what can be seen
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		if d.IsDir() {
			if fsys.Device(info) != fsys.Device(root) {
				return fmt.Errorf("%s, in the target, is a mounted file system, which would go away with the old folder; unmount it, or restore beside it", path)
			}
			return nil
		}
		rel := relativeTo(p.Target, path)
		if p.givesWay(rel) {
			p.Lose.Count++
			p.Lose.Bytes += info.Size()
		} else {
			p.Stay.Count++
			p.Stay.Bytes += info.Size()
		}
		return nil
	})
}

// relativeTo gives a path in a folder, with slashes.
func relativeTo(root, path string) string {
	rel, err := filepath.Rel(root, path)
	if err != nil {
		return path
	}
	return filepath.ToSlash(rel)
}

// inside reports whether path lies in dir, but is not dir itself.
func inside(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != "." && filepath.IsLocal(rel)
}

// isSameSite reports whether the packed site is (still) on this machine: the
// same path on another machine says nothing.
func isSameSite(m *manifest.Manifest) bool {
	s, err := site.Open(m.Root)
	return err == nil && s.Kind == m.Kind
}

// makeable checks that a folder that is not there can be made.
func (p *Plan) makeable() error {
	dir := p.parent
	for {
		st, err := os.Stat(dir)
		if err == nil {
			if !st.IsDir() {
				return fmt.Errorf("the folder %s cannot be made: %s is a file", p.Target, dir)
			}
			return p.writable(dir)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("look at the target: %w", err)
		}
		dir = filepath.Dir(dir)
	}
}

// writable proves that files can be made in dir.
func (p *Plan) writable(dir string) error {
	if err := fsys.Writable(dir); err != nil {
		return fmt.Errorf("the new site is staged beside the target, but nothing can be written in %s: %w", dir, err)
	}
	return nil
}

// readExisting reads the target's own settings: its database login wins.
func (p *Plan) readExisting() {
	if s, err := site.Open(p.Target); err == nil {
		p.live = s
	}
	for _, rel := range p.Manifest.Settings {
		if content, err := os.ReadFile(filepath.Join(p.Target, filepath.FromSlash(rel))); err == nil {
			p.existing[rel] = content
		}
	}
}

func (p *Plan) addresses(opts Options) error {
	m := p.Manifest
	var old rewrite.Address
	var err error
	if m.Address != "" {
		if old, err = rewrite.ParseAddress(m.Address); err != nil {
			return fmt.Errorf("the archive's own address: %w", err)
		}
	}
	p.address = opts.Address
	if p.address.IsZero() {
		p.address = old
		if s, err := site.Open(p.Target); err == nil && !p.sel.part(site.Settings) && !s.Address.IsZero() {
			p.address = s.Address // that of the settings, which stay
		}
	}
	p.Address = p.address.String()
	if p.address.IsZero() {
		p.Address = ""
		p.addRoots(opts)
		return nil
	}
	add := func(from, to rewrite.Address) {
		if from.IsZero() || slices.ContainsFunc(p.maps, func(m rewrite.Mapping) bool { return m.Old == from }) {
			return
		}
		p.maps = append(p.maps, rewrite.Mapping{Old: from, New: to})
		if from != to {
			p.Maps = append(p.Maps, from.String()+" → "+to.String())
		}
	}
	for _, mp := range opts.Maps {
		add(mp.Old, mp.New)
	}
	add(old, p.address)
	for _, o := range m.Others {
		a, err := rewrite.ParseAddress(o)
		if err != nil {
			return fmt.Errorf("the archive's own address: %w", err)
		}
		add(a, moved(a, old, p.address))
	}
	for _, a := range opts.Aliases {
		add(a, p.address)
	}
	p.addRoots(opts)
	return nil
}

func (p *Plan) addRoots(opts Options) {
	for _, r := range opts.Roots {
		p.roots = append(p.roots, r)
		p.Maps = append(p.Maps, r.Old+" → "+r.New)
	}
	for _, t := range opts.Texts {
		p.Maps = append(p.Maps, fmt.Sprintf("“%s” → “%s”", t.Old, t.New))
	}
	if m := p.Manifest; m.Root != p.Target && strings.HasPrefix(m.Root, "/") && strings.HasPrefix(p.Target, "/") {
		p.roots = append(p.roots, rewrite.RootMapping{Old: m.Root, New: p.Target})
		p.Maps = append(p.Maps, m.Root+" → "+p.Target)
	}
}

// moved gives the new form of a further address of the site: one below the
// main address, or on a host below its host, stays there.
func moved(a, old, to rewrite.Address) rewrite.Address {
	bare := strings.TrimPrefix(old.Host, "www.")
	if sub, ok := strings.CutSuffix(a.Host, "."+bare); ok && a.Port == old.Port && sub != "www" {
		to.Host = sub + "." + strings.TrimPrefix(to.Host, "www.")
		to.Path = a.Path
		return to
	}
	if a.Host == old.Host && a.Port == old.Port {
		if rest, ok := strings.CutPrefix(a.Path, old.Path); ok {
			to.Path += rest
		}
	}
	return to
}

// rewriting says what is rewritten.
func (p *Plan) rewriting(opts Options) rewrite.Options {
	return rewrite.Options{Mappings: p.maps, Roots: p.roots, Texts: opts.Texts, WholeWords: opts.WholeWords, BareHosts: opts.BareHosts}
}

// database decides where the database goes.
func (p *Plan) database(given database.Location) error {
	m := p.Manifest
	l := given
	if l.IsZero() {
		if s, err := site.Open(p.Target); err == nil && s.Database.Engine == m.Database.Engine {
			l = s.Database
		}
	}
	if l.IsZero() && m.Database.Engine == database.SQLite && m.Database.Path != "" {
		l = database.Location{Engine: database.SQLite, Path: m.Database.Path}
	}
	switch {
	case l.IsZero():
		return fmt.Errorf("the archive holds a %s database, and the target has no settings that say where its own is; name it with --database %s://USER@HOST/NAME", m.Database.Product, m.Database.Engine)
	case l.Engine != m.Database.Engine:
		return fmt.Errorf("the archive holds a %s database, but %s is of another engine; a database stays with its engine", m.Database.Product, l)
	}
	if l.Engine == database.SQLite {
		if !filepath.IsAbs(l.Path) {
			l.Path = filepath.Join(p.Target, l.Path)
		}
		if inside(p.Target, l.Path) && p.sel.folder() {
			p.inside, _ = filepath.Rel(p.Target, l.Path)
		}
		if p.sel.someTables() {
			return errors.New("an SQLite database is one file, which is exchanged as a whole; restore all of its tables, or none")
		}
	}
	p.location = l
	p.Database = l.String()
	return nil
}

// lookAtDatabase proves that the new tables can be staged, and lists what they
// replace.
func (p *Plan) lookAtDatabase(ctx context.Context, kind site.Kind) {
	if p.location.Engine == database.SQLite {
		if _, err := os.Stat(p.location.Path); errors.Is(err, fs.ErrNotExist) {
			p.Checks = append(p.Checks, database.Check{What: "database", Found: "a new file"})
			return
		}
	}
	db, err := engines.Open(ctx, p.location)
	if err != nil {
		p.Checks = append(p.Checks, database.Failure("database", err))
		return
	}
	defer db.Close()
	info := db.Info()
	p.Checks = append(p.Checks, database.Check{What: "database", Found: strings.TrimSpace(info.Product + " " + info.Version + " answers")})
	if t, ok := db.(database.Target); ok {
		need := database.Need{Kinds: p.Manifest.Database.Objects, Collations: p.Manifest.Database.Collations}
		for _, t := range p.Manifest.Database.Tables {
			if p.sel.table(t.Name) {
				need.Bytes += t.Bytes
			}
		}
		p.Checks = append(p.Checks, t.CanTake(ctx, need)...)
	}
	p.compareServer(info)
	p.look("old tables", func() (string, bool, error) { return "", false, p.listTables(ctx, db, kind) })
}

// listTables lists the tables that are replaced, and the accounts in them.
func (p *Plan) listTables(ctx context.Context, db database.Reader, kind site.Kind) error {
	live, err := db.Tables(ctx)
	if err != nil {
		return err
	}
	d := p.Manifest.Database
	for _, t := range live {
		if p.location.Engine == database.SQLite || p.sel.table(t.Name) && slices.ContainsFunc(d.Tables, func(o database.Table) bool { return o.Name == t.Name }) {
			p.Tables = append(p.Tables, t)
		}
	}
	if s, err := site.Open(p.Target); err == nil && s.Ask(ctx, db) == nil {
		p.live = s
	}
	if len(p.Tables) > 0 {
		p.Accounts, _ = kind.Accounts(ctx, d.Prefix, db) // tables of another program have none
	}
	return nil
}

// keepDatabase finds the file of SQLite in the target's folder that stays while
// what is around it is exchanged.
func (p *Plan) keepDatabase() {
	if !p.sel.folder() || p.sel.part(site.Database) {
		return
	}
	s, err := site.Open(p.Target)
	if err != nil {
		return
	}
	if rel, in := s.ResolveSQLite(); in {
		p.shared = rel
	}
}

// givesWay reports whether what lies at a path in the target is replaced, or
// removed.
func (p *Plan) givesWay(rel string) bool {
	if p.shared != "" && strings.HasPrefix(rel, p.shared) && slices.Contains(sqlite.Files(p.shared), rel) {
		return false
	}
	return p.sel.folder() && p.sel.file(rel) && !p.sel.stays(rel)
}

// space checks that the files will fit.
func (p *Plan) space() (string, bool, error) {
	dir := p.parent
	for {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		dir = filepath.Dir(dir)
	}
	need := int64(0)
	if p.sel.folder() {
		need = p.Manifest.Files.Bytes
	}
	if p.Chosen != nil && p.Chosen.Files.Count >= 0 {
		need = p.Chosen.Files.Bytes
	}
	if d := p.Manifest.Database; d != nil && d.Engine == database.SQLite {
		for _, t := range d.Tables {
			if p.sel.table(t.Name) {
				need += t.Bytes
			}
		}
	}
	need = max(0, need-p.staged)
	free, ok := fsys.FreeSpace(dir)
	if !ok {
		return "", false, nil
	}
	if free < need {
		return "", false, fmt.Errorf("the new site needs %s beside the target, and the disk of %s has %s free; make room, or choose a folder on another disk", humanize.Bytes(uint64(need)), dir, humanize.Bytes(uint64(free)))
	}
	return fmt.Sprintf("%s needed, %s free", humanize.Bytes(uint64(need)), humanize.Bytes(uint64(free))), false, nil
}

func (r *run) openStage(ctx context.Context) (database.Stage, error) {
	p := r.plan
	opts := database.StageOptions{ID: r.j.ID, Connections: maxSessions, Resume: r.resumed, Notes: slices.Clone(r.j.Notes), Note: func(undo string) error {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.j.Notes = append(r.j.Notes, undo)
		return r.j.write(r.annex)
	}}
	switch p.location.Engine {
	case database.MariaDB:
		return mariadb.NewStage(ctx, p.location, opts)
	case database.Postgres:
		return postgres.NewStage(ctx, p.location, opts)
	}
	if p.inside != "" {
		if err := r.files.folder(slashDir(filepath.ToSlash(p.inside))); err != nil {
			return nil, err
		}
		return sqlite.NewStage(ctx, filepath.Join(r.files.dir, p.inside), true, r.resumed)
	}
	return sqlite.NewStage(ctx, sqlite.StagePath(p.location.Path, r.j.ID), false, r.resumed)
}

var errNoManifest = fmt.Errorf("%w: it has no manifest", archive.ErrNotArchive)
