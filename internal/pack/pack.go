// Package pack makes an archive of a site: it takes a site.Site and a writer,
// and gives the archive's bytes and a Result. It reads the site and changes
// nothing on it.
package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/database/sqlite"
	"hovix/internal/fault"
	"hovix/internal/manifest"
	"hovix/internal/passage"
	"hovix/internal/progress"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Options sets what is packed and how.
type Options struct {
	Parts    []site.Part // nil: all
	Secrets  bool        // leave passwords and keys in the settings
	Level    archive.Level
	By       string // name and version of the program, for the manifest
	Now      time.Time
	Database database.Reader // nil: the site's own; the caller closes it
	Rewrite  rewrite.Options // what is changed on the way into the archive
	Earlier  *Earlier        // what an interrupted pack has left in the file that is written to
	// Resumable has the archive tell what another pack needs to go on with it.
	Resumable bool
	Progress  progress.Reporter
}

// Result tells what was packed.
type Result struct {
	Manifest *manifest.Manifest `json:"manifest"`
	Summary  manifest.Summary   `json:"summary"`
	Totals   archive.Totals     `json:"totals"`
	Largest  []site.Thing       `json:"largest"`
	Columns  []passage.Column   `json:"rewritten,omitempty"`
	Tally    rewrite.Tally      `json:"-"`
	Resumed  bool               `json:"resumed,omitempty"`
	Earlier  site.Amount        `json:"earlier"` // files that an interrupted pack had packed
	Elapsed  time.Duration      `json:"elapsed"`
}

// Findings is the number of things that a person should look at.
func (r *Result) Findings() int {
	n := len(r.Summary.Problems) + int(r.Tally.Findings())
	if r.Manifest.Database != nil {
		n += len(r.Manifest.Database.NotCarried)
	}
	return n
}

type packer struct {
	s     *site.Site
	opts  Options
	w     *archive.Writer
	db    database.Reader
	objs  []database.Object
	gate  *gate // nil of a pack that is gone on with
	res   Result
	rep   progress.Reporter
	pace  *progress.Pace
	way   *passage.Passage // nil: nothing is changed on the way
	order string           // for another pack to go on with this one
	// unread are paths of databases of SQLite that could not be read at one moment.
	unread map[string]bool
	mu     sync.Mutex // over w and res, while tables are packed side by side
}

// Run packs the site s to dst. After an error what was written to dst is worth
// nothing.
func Run(ctx context.Context, s *site.Site, dst io.Writer, opts Options) (*Result, error) {
	start := time.Now()
	if opts.Parts == nil {
		opts.Parts = site.Parts
	}
	if opts.Now.IsZero() {
		opts.Now = start
	}
	p := &packer{s: s, opts: opts, rep: progress.Of(opts.Progress), order: Order(s, opts), unread: map[string]bool{}, pace: progress.NewPace(packedTo...)} // before the database tells more of it
	if p.wants(site.Database) && s.SectionHas(true) {
		if err := p.open(ctx); err != nil {
			return nil, err
		}
		if p.db != nil && opts.Database == nil {
			defer p.db.Close()
		}
	}
	if err := p.openWay(); err != nil {
		return nil, err
	}
	if opts.Earlier != nil {
		p.goOn(opts.Earlier)
	}
	if err := p.openWriter(ctx, dst); err != nil {
		return nil, err
	}
	defer p.w.Abort()
	var err error
	if err := p.all(ctx); err != nil {
		return nil, err
	}
	if p.res.Totals, err = p.w.Close(); err != nil {
		return nil, err
	}
	if p.way != nil {
		p.res.Columns, p.res.Tally = p.way.Account()
	}
	p.res.Elapsed = time.Since(start)
	return &p.res, nil
}

// openWriter describes the site, unless an interrupted pack has, and begins to write,
// or goes on.
func (p *packer) openWriter(ctx context.Context, dst io.Writer) (err error) {
	opts := archive.Options{Level: p.opts.Level}
	p.paced(&opts, &dst)
	if e := p.opts.Earlier; e != nil {
		p.w, err = archive.Resume(ctx, dst, opts, e.partial)
		return err
	}
	if p.res.Manifest, err = p.manifest(ctx); err != nil {
		return err
	}
	p.w, err = archive.NewWriter(ctx, dst, opts)
	return err
}

// openWay prepares what is changed on the way, if anything is.
func (p *packer) openWay() (err error) {
	r := p.opts.Rewrite
	if !p.opts.changes() {
		return nil
	}
	if err := p.s.OnlyRestoreMoves(r.Mappings); err != nil {
		return err
	}
	way := passage.Options{Rewrite: r, Keep: p.s.Keep}
	if p.db != nil {
		way.Dialect = p.db.Info().Engine.Dialect()
	}
	p.way, err = passage.New(way)
	return err
}

// mappedRoot gives the site's folder as texts in the archive mention it.
func (p *packer) mappedRoot() string {
	for _, r := range p.opts.Rewrite.Roots {
		if r.Old == p.s.Origin {
			return r.New
		}
	}
	return p.s.Origin
}

// mapped gives an address as it is in the archive.
func (p *packer) mapped(a rewrite.Address) rewrite.Address {
	for _, m := range p.opts.Rewrite.Mappings {
		if m.Old == a {
			return m.New
		}
	}
	return a
}

// open begins to read the database, if there is one.
func (p *packer) open(ctx context.Context) (err error) {
	p.db = p.opts.Database
	if p.db == nil && !p.s.Database.IsZero() {
		p.db, err = engines.Open(ctx, p.s.Database)
	}
	if err != nil || p.db == nil {
		p.db = nil
		return err
	}
	if err = p.s.Ask(ctx, p.db); err != nil && p.opts.Database == nil {
		err = errors.Join(err, p.db.Close())
	}
	return err
}

func (p *packer) wants(part site.Part) bool { return slices.Contains(p.opts.Parts, part) }

// manifest describes the site before it is packed.
func (p *packer) manifest(ctx context.Context) (*manifest.Manifest, error) {
	s := p.s
	m := &manifest.Manifest{Format: manifest.Format, Made: p.opts.Now.UTC().Truncate(time.Second), By: p.opts.By, Kind: s.Kind, Name: s.Name,
		Root: p.mappedRoot(), Version: s.Version, Requires: s.Requires, Uploads: s.Uploads, Caches: s.Caches, Settings: s.Settings, Keep: s.Keep, Moved: s.Moved, Notes: s.Notes, Section: s.Section(), Secrets: p.opts.Secrets, Order: p.order}
	if p.way != nil {
		m.Name = p.way.Definition(m.Name)
	}
	if s.RunsPHP() && p.opts.Database == nil { // of a copy, nothing is known
		m.Runtime = site.Runtime(ctx)
	}
	if !s.Address.IsZero() {
		m.Address = p.mapped(s.Address).String()
	}
	for _, o := range s.Others {
		m.Others = append(m.Others, p.mapped(o).String())
	}
	for _, part := range site.Parts {
		if p.wants(part) && (part != site.Database || p.db != nil) && (part != site.Settings || !s.Section()) && (part == site.Database || part == site.Settings || s.SectionHas(false)) {
			m.Parts = append(m.Parts, part)
		}
	}
	err := s.Walk(ctx, func(f site.File) error {
		if !f.Info.IsDir() && f.Part != site.Settings && p.wants(f.Part) && !p.isLog(f) {
			p.expect(m, f)
			p.noteLink(m, f)
		} else if f.Info.IsDir() {
			m.Folders++
		}
		return nil
	}, func(l site.LeftOut) { m.LeftOut = append(m.LeftOut, l) })
	if err != nil {
		return nil, fmt.Errorf("look through %s: %w", s.Root, err)
	}
	if p.db == nil {
		return m, nil
	}
	info := p.db.Info()
	d := &manifest.Database{Engine: info.Engine, Product: info.Product, Version: info.Version, Charset: info.Charset, Prefix: s.Prefix, Name: s.Database.Name, Host: s.Database.Host}
	all, err := p.db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.CheckTables(all); err != nil {
		return nil, err
	}
	d.Tables = s.Own(all)
	if m.LeftOut, err = s.RowsLeftOut(ctx, p.db, d.Tables, m.LeftOut); err != nil {
		return nil, err
	}
	if d.NotCarried, err = p.db.NotCarried(ctx); err != nil {
		return nil, err
	}
	if err := p.readTables(ctx, d.Tables); err != nil {
		return nil, err
	}
	var objs []database.Object
	if !s.Section() { // they may need tables that are not there
		if objs, err = p.db.Objects(ctx); err != nil {
			return nil, err
		}
	}
	var left []string
	if p.objs, left, err = p.gate.objects(ctx, objs); err != nil {
		return nil, err
	}
	d.Tables = slices.DeleteFunc(d.Tables, func(t database.Table) bool {
		g := p.gate.tables[t.Name]
		if g.create == "" {
			d.NotCarried = append(d.NotCarried, "table "+t.Name+": "+g.refused)
		}
		return g.create == ""
	})
	for i := range d.Tables {
		d.Tables[i].Refused = p.gate.tables[d.Tables[i].Name].refused
	}
	d.NotCarried = append(d.NotCarried, left...)
	p.gate.noteMySQL(m)
	d.Extensions = p.gate.extensions
	for _, o := range p.objs {
		if !slices.Contains(d.Objects, o.Kind) {
			d.Objects = append(d.Objects, o.Kind)
		}
		if o.Kind.IsCode() {
			d.Stored = append(d.Stored, manifest.StoredCode{Kind: o.Kind, Name: o.Name})
		}
	}
	if c, ok := p.db.(database.Collator); ok {
		if d.Collations, err = c.Collations(ctx); err != nil {
			return nil, err
		}
	}
	if rel, inside := s.ResolveSQLite(); inside {
		d.Path = rel
	}
	m.Database = d
	return m, nil
}

// maxLinksOut is how many links the manifest names.
const maxLinksOut = 20

// noteLink notes a link that leads out of the site: a restore asks before it makes
// one.
func (p *packer) noteLink(m *manifest.Manifest, f site.File) {
	if f.Info.Mode()&fs.ModeSymlink == 0 {
		return
	}
	to, err := f.Readlink()
	if _, in := manifest.Below(p.s.Root, to); err != nil || in || !archive.LeadsOut(f.Rel, to) {
		return
	}
	if m.Links++; m.Links <= maxLinksOut {
		m.LinksOut = append(m.LinksOut, f.Rel+" → "+to)
	}
}

func (p *packer) all(ctx context.Context) error {
	if p.opts.Earlier == nil {
		if err := p.json(manifest.Name, p.res.Manifest); err != nil {
			return err
		}
		if err := p.w.Flush(); err != nil { // a reader of a stream wants it before all else
			return err
		}
	}
	if p.opts.Earlier == nil || !p.opts.Earlier.readme {
		if err := p.bytes(manifest.Readme, readme(p.res.Manifest)); err != nil {
			return err
		}
	}
	if p.db != nil && p.opts.Earlier == nil {
		if err := p.database(ctx); err != nil {
			return err
		}
	}
	if p.s.SectionHas(false) {
		if err := p.files(ctx); err != nil {
			return err
		}
	}
	if err := p.leaks(ctx); err != nil {
		return err
	}
	if p.wants(site.Settings) && !p.s.Section() {
		if err := p.settings(); err != nil {
			return err
		}
	}
	if err := p.w.Flush(); err != nil {
		return err
	}
	return p.json(manifest.SummaryName, p.res.Summary)
}

func (p *packer) json(name string, v any) error {
	b, err := manifest.Encode(v)
	if err != nil {
		return fmt.Errorf("write %s: %w", name, err)
	}
	return p.bytes(name, b)
}

func (p *packer) bytes(name string, content []byte) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.w.AddBytes(archive.Entry{Name: name, Type: archive.TypeFile, Mode: 0o644, ModTime: p.opts.Now}, content)
}

func (p *packer) problem(what, why string) {
	p.res.Summary.Problems = append(p.res.Summary.Problems, manifest.Problem{What: what, Why: why})
}

// files packs uploads and code.
func (p *packer) files(ctx context.Context) error {
	p.rep.Phase("Packing files", 0)
	var names archive.Names
	return p.s.Walk(ctx, func(f site.File) error {
		if f.Part == site.Settings || !p.wants(f.Part) {
			return nil
		}
		link := ""
		if f.Info.Mode()&fs.ModeSymlink != 0 {
			var err error
			if link, err = f.Readlink(); err != nil {
				p.problem(f.Rel, "the link cannot be read: "+err.Error())
				return nil
			}
		}
		if !f.Info.Mode().IsRegular() {
			if err := names.Add(f.Rel, link); err != nil {
				return fmt.Errorf("%w; leave out what the site can do without, with --without PATH", err)
			}
		}
		if p.packed(f) || p.isLog(f) {
			return nil
		}
		e := archive.Entry{Name: manifest.FilesDir + f.Rel, Mode: uint32(f.Info.Mode().Perm()), ModTime: f.Info.ModTime()}
		if p.opts.Resumable {
			track(&e, f.Info)
		}
		switch {
		case f.Info.IsDir():
			e.Type = archive.TypeDir
			_, err := p.w.Add(e, nil)
			return err
		case link != "":
			e.Type, e.Link = archive.TypeSymlink, link
			p.res.Summary.Files.Count++
			_, err := p.w.Add(e, nil)
			return err
		}
		return p.file(ctx, e, f)
	}, nil)
}

func (p *packer) file(ctx context.Context, e archive.Entry, f site.File) error {
	in, err := f.Open()
	if errors.Is(err, fs.ErrNotExist) {
		p.problem(f.Rel, "it vanished while the site was packed")
		return nil
	}
	if err != nil {
		p.problem(f.Rel, "it cannot be read: "+site.ReasonOf(err))
		return nil
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil || !st.Mode().IsRegular() {
		p.problem(f.Rel, "it is no longer a file")
		return nil
	}
	e.Type, e.Size, e.ModTime = archive.TypeFile, st.Size(), st.ModTime()
	if p.opts.Resumable {
		track(&e, st)
	}
	if sqlite.IsDatabase(in) {
		if ok, err := p.snapshot(ctx, e, f); ok || err != nil {
			return err
		}
	}
	if p.way != nil && path.Base(f.Rel) == site.WebFile && st.Size() <= site.MaxWebFile {
		return p.webFile(e, f.Rel, in)
	}
	r := &fileReader{r: in}
	short, err := p.w.Add(e, r)
	if err != nil {
		return err
	}
	fault.Point("file")
	if r.err != nil {
		p.problem(f.Rel, fmt.Sprintf("reading failed (%s); the last %d bytes are filled with zeros", site.ReasonOf(r.err), short))
	} else if short > 0 {
		p.problem(f.Rel, fmt.Sprintf("it became shorter while it was read; the last %d bytes are filled with zeros", short))
	} else if now, err := f.Lstat(); err == nil && (now.Size() != st.Size() || !now.ModTime().Equal(st.ModTime())) {
		p.problem(f.Rel, "it changed while it was read")
	}
	p.res.Summary.Files.Count++
	p.res.Summary.Files.Bytes += st.Size()
	p.res.note(site.Thing{Name: f.Rel, Bytes: st.Size()})
	return nil
}

// webFile packs a file with rules for a web server, as they are at the address
// that the archive names.
func (p *packer) webFile(e archive.Entry, rel string, in io.Reader) error {
	content, err := io.ReadAll(in)
	if err != nil {
		p.problem(rel, "it cannot be read: "+site.ReasonOf(err))
		return nil
	}
	content = p.way.TextFile(rel, site.RebaseWebFile(content, p.s.Address.Path, p.mapped(p.s.Address).Path), true)
	e.Size = 0
	p.res.Summary.Files.Count++
	p.res.Summary.Files.Bytes += int64(len(content))
	return p.w.AddBytes(e, content)
}

// fileReader turns a failing disk into an early end, which the archive fills
// up: one bad block must not cost the whole pack.
type fileReader struct {
	r   io.Reader
	err error
}

func (f *fileReader) Read(b []byte) (int, error) {
	n, err := f.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err, err = err, io.EOF
	}
	return n, err
}

// note keeps the largest things.
func (r *Result) note(t site.Thing) { r.Largest = site.KeepLargest(r.Largest, t) }

// settings packs the settings files, without their secrets unless they are asked
// for.
func (p *packer) settings() error {
	files, entries := site.Files{}, []archive.Entry{}
	for _, rel := range p.s.Settings {
		content, st, err := site.ReadOwn(p.s.Root, rel)
		if err != nil {
			p.problem(rel, "the settings file cannot be read: "+site.ReasonOf(err))
			continue
		}
		files[rel] = content
		entries = append(entries, archive.Entry{Name: manifest.SettingsDir + rel, Type: archive.TypeFile, Mode: uint32(st.Mode().Perm()), ModTime: st.ModTime()})
	}
	if !p.opts.Secrets {
		if err := p.s.Blank(files); err != nil {
			return fmt.Errorf("take the secrets out of the settings: %w", err)
		}
	}
	for _, e := range entries {
		rel := strings.TrimPrefix(e.Name, manifest.SettingsDir)
		if p.way != nil {
			files[rel] = p.way.File(rel, files[rel])
		}
		if err := p.w.AddBytes(e, files[rel]); err != nil {
			return err
		}
		p.res.Summary.Settings++
	}
	return nil
}
