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
	Lose     site.Amount        `json:"replacedFiles"`   // files in the target folder
	Tables   []database.Table   `json:"replacedTables"`  // tables of the target that are replaced
	Maps     []string           `json:"mappings"`        // old → new, for people
	Notes    []string           `json:"notes,omitempty"` // what is worth knowing before

	maps     []rewrite.Mapping
	roots    []rewrite.RootMapping
	location database.Location
	address  rewrite.Address
	parent   string
	inside   string     // SQLite: path of the database file in the target folder
	existing site.Files // settings files of the target
}

// Overwrites reports whether the restore replaces anything.
func (p *Plan) Overwrites() bool { return p.Lose.Count > 0 || len(p.Tables) > 0 }

func decodeJSON(content []byte, v any) error { return json.Unmarshal(content, v) }

func (r *run) makePlan(ctx context.Context) error {
	p := r.plan
	if r.m.Section && p.Lose.Count > 0 {
		return fmt.Errorf("the archive holds a section of a site, and %s holds %d files that it would replace; restore it to a new folder, and copy from there", p.Target, p.Lose.Count)
	}
	p.readExisting()
	if err := p.addresses(r.opts); err != nil {
		return err
	}
	if r.m.Database != nil {
		if err := p.database(r.opts.Database); err != nil {
			return err
		}
		if err := p.lookAtDatabase(ctx); err != nil {
			return err
		}
	}
	p.compareRuntime(ctx)
	return p.space()
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
	return filepath.WalkDir(p.Target, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it counts what can be seen
		}
		if info, err := d.Info(); err == nil && !d.IsDir() {
			p.Lose.Count++
			p.Lose.Bytes += info.Size()
		}
		return nil
	})
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
	f, err := os.CreateTemp(dir, ".hovix-stage-try-")
	if err != nil {
		return fmt.Errorf("the new site is staged beside the target, but nothing can be written in %s: %w", dir, site.WithoutPath(err))
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// readExisting reads the target's own settings: its database login wins.
func (p *Plan) readExisting() {
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
		if inside(p.Target, l.Path) {
			p.inside, _ = filepath.Rel(p.Target, l.Path)
		}
	}
	p.location = l
	p.Database = l.String()
	return nil
}

// lookAtDatabase lists the tables that will be replaced.
func (p *Plan) lookAtDatabase(ctx context.Context) error {
	if p.location.Engine == database.SQLite {
		if _, err := os.Stat(p.location.Path); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
	}
	db, err := engines.Open(ctx, p.location)
	if err != nil {
		return err
	}
	defer db.Close()
	if t, ok := db.(database.Target); ok {
		if err := t.CanTake(ctx, p.Manifest.Database.Objects); err != nil {
			return err
		}
	}
	p.compareServer(db.Info())
	live, err := db.Tables(ctx)
	if err != nil {
		return err
	}
	for _, t := range live {
		if p.location.Engine == database.SQLite || slices.ContainsFunc(p.Manifest.Database.Tables, func(o database.Table) bool { return o.Name == t.Name }) {
			p.Tables = append(p.Tables, t)
		}
	}
	return nil
}

// space checks that the files will fit.
func (p *Plan) space() error {
	dir := p.parent
	for {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		dir = filepath.Dir(dir)
	}
	need := p.Manifest.Files.Bytes
	if p.inside != "" {
		for _, t := range p.Manifest.Database.Tables {
			need += t.Bytes
		}
	}
	free, ok := fsys.FreeSpace(dir)
	if ok && free < need {
		return fmt.Errorf("the new site needs %d MB beside the target, and the disk of %s has %d MB free; make room, or choose a folder on another disk", need>>20, dir, free>>20)
	}
	return nil
}

func (r *run) openStage(ctx context.Context) (database.Stage, error) {
	p := r.plan
	opts := database.StageOptions{ID: r.j.ID, Connections: maxSessions, Note: func(undo string) error {
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
		return sqlite.NewStage(ctx, filepath.Join(r.files.dir, p.inside), true)
	}
	return sqlite.NewStage(ctx, sqlite.StagePath(p.location.Path, r.j.ID), false)
}

var errNoManifest = fmt.Errorf("%w: it has no manifest", archive.ErrNotArchive)
