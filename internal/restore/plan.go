package restore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/annex"
	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/mariadb"
	"hovix/internal/database/postgres"
	"hovix/internal/database/sqlite"
	"hovix/internal/manifest"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Plan is what a restore will do, from real checks.
type Plan struct {
	Manifest *manifest.Manifest `json:"manifest"`
	Target   string             `json:"target"`          // absolute
	Create   bool               `json:"create"`          // the folder is not there yet
	Makes    []string           `json:"makes,omitempty"` // folders above it that are not there either, innermost first
	Address  string             `json:"address"`
	Database string             `json:"database,omitempty"`
	Parts    []site.Part        `json:"parts"`               // of the archive that are restored, in full or in part
	Chosen   *Chosen            `json:"chosen,omitempty"`    // what of the archive; nil: all of it
	Lose     site.Amount        `json:"replacedFiles"`       // files of the target that give way
	Stay     site.Amount        `json:"keptFiles"`           // files of the target that stay
	Gone     *Gone              `json:"goneFiles,omitempty"` // those that give way and that the archive has not; nil: none, or it is read as it comes
	Tables   []database.Table   `json:"replacedTables"`      // tables of the target that are replaced
	Accounts []site.Account     `json:"replacedAccounts,omitempty"`
	Maps     []string           `json:"mappings"` // old → new, for people
	Estimate *Estimate          `json:"estimate,omitempty"`
	Unfit    *Unfit             `json:"unfit,omitempty"`
	Prefix   string             `json:"prefix,omitempty"`  // of the restored tables
	InFiles  *InFiles           `json:"inFiles,omitempty"` // nil: none, or nobody has looked
	Checks   []database.Check   `json:"checks"`
	Notes    []string           `json:"notes,omitempty"` // what is worth knowing before

	sel      *selection
	maps     []rewrite.Mapping
	roots    []rewrite.RootMapping
	location database.Location
	address  rewrite.Address
	parent   string
	inside   string       // SQLite: path in the target folder of the database file that is exchanged with it
	absent   []string     // tables of the target that go with those that are replaced
	shared   string       // SQLite: path in it of the file that stays, in both folders at once
	existing site.Files   // settings files of the target
	annex    *annex.Annex // of the target, as it would be; nil: there is no target yet
	nested   []string     // folders in the target that are sites of their own
	packs    *site.Site   // knows what of the target is never packed
	live     *site.Site   // what the target is; nil: nobody knows
	staged   filesNeed    // what an interrupted run has staged, to be gone on with
	needs    []database.TableNeed
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
	if err := p.gone(ctx, r.opts.Archive); err != nil {
		return err
	}
	p.look("code in the database", func() (string, bool, error) { return p.storedCode(r.opts.StoredCode) })
	p.look("extensions", p.extensions)
	p.look("links", func() (string, bool, error) { return p.links(r.opts.LinksOut) })
	if err := p.tableNeeds(r.opts.Archive); err != nil {
		return err
	}
	p.look("room for files", func() (string, bool, error) { return p.space(r.opts.Archive) })
	if r.m.Database != nil && p.sel.part(site.Database) {
		if err := p.database(r.opts.Database); err != nil {
			return err
		}
		if err := p.choosePrefix(r.opts.Prefix); err != nil {
			return err
		}
		p.lookAtDatabase(ctx, r.kind)
		p.look("prefix", p.prefix)
	}
	if d := p.Manifest.Database; d != nil && p.sel.part(site.Database) {
		for _, t := range d.Tables {
			if t.Refused != "" {
				p.Notes = append(p.Notes, fmt.Sprintf("The table %s stays out: %s.", t.Name, t.Refused))
			}
		}
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
	if err := p.estimateFiles(r.opts); err != nil {
		return err
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

// readExisting reads the target's own settings: its database login wins.
func (p *Plan) readExisting() {
	if s, err := site.Open(p.Target); err == nil {
		p.live = s
	}
	for _, rel := range p.Manifest.Settings {
		if content, _, err := site.ReadOwn(p.Target, rel); err == nil {
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
	var servers []string
	if d := p.Manifest.Database; d != nil {
		servers = []string{d.Host, p.location.Host}
	}
	return rewrite.Options{Servers: servers, Mappings: p.maps, Roots: p.roots, Texts: opts.Texts, WholeWords: opts.WholeWords, BareHosts: opts.BareHosts, Compressed: opts.Compressed}
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

func (r *run) openStage(ctx context.Context) (database.Stage, error) {
	p := r.plan
	opts := database.StageOptions{ID: r.j.ID, Connections: maxSessions, Resume: r.resumed, Notes: slices.Clone(r.j.Notes), Charset: r.m.Database.Charset, StoredCode: r.opts.StoredCode, Note: func(undo database.Note) error {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.j.Notes = append(r.j.Notes, undo)
		return r.j.write(r.annex)
	}}
	for _, t := range r.m.Database.Tables {
		opts.Names = append(opts.Names, p.renamed(t.Name))
	}
	stage, err := r.stageOf(ctx, opts)
	if err != nil || p.Prefix == p.Manifest.Database.Prefix {
		return stage, err
	}
	return &reprefixed{Stage: stage, p: p}, nil
}

// stageOf opens the engine's stage.
func (r *run) stageOf(ctx context.Context, opts database.StageOptions) (database.Stage, error) {
	p := r.plan
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
		return sqlite.NewStage(ctx, r.files.dir.Path(p.inside), true, opts)
	}
	return sqlite.NewStage(ctx, sqlite.StagePath(p.location.Path, r.j.ID), false, opts)
}

var errNoManifest = fmt.Errorf("%w: it has no manifest", archive.ErrNotArchive)
