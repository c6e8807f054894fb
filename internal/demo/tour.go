package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/pack"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// TourOptions sets how the museum is moved.
type TourOptions struct {
	Folder      string            // must be empty or not there; holds old and new site and the archive
	Database    database.Location // of the old site; zero: SQLite
	NewDatabase database.Location // of the new site; with Database only
	Old, New    rewrite.Address   // zero: the museum's own
	Redesigned  rewrite.Address   // of the redesigned copy; zero: as New
	By          string
	// Step is told of each step before it begins.
	Step func(name string)
}

// The museum's addresses.
var (
	OldAddress = rewrite.Address{Scheme: "http", Host: "ferry.brackwater.example"}
	NewAddress = rewrite.Address{Scheme: "https", Host: "brackwatermuseum.example"}
)

// TourReport tells what the tour did and found.
type TourReport struct {
	Folder     string                   `json:"folder"`
	OldFolder  string                   `json:"oldFolder"`
	NewFolder  string                   `json:"newFolder"`
	Archive    string                   `json:"archive"`
	Old        string                   `json:"old"`
	New        string                   `json:"new"`
	Built      *Built                   `json:"built"`
	Survey     *site.Survey             `json:"-"`
	Packed     *pack.Result             `json:"packed"`
	Checked    archive.Summary          `json:"checked"`
	Restored   *restore.Result          `json:"restored"`
	Comparison *Comparison              `json:"comparison"`
	Lead       *Lead                    `json:"redirects,omitempty"` // nil with databases of a server
	Times      map[string]time.Duration `json:"times"`
	Elapsed    time.Duration            `json:"elapsed"`
}

// tour is the move under way.
type tour struct {
	opts TourOptions
	rep  *TourReport
	old  *crawled
	new  *crawled
	key  Key
}

// Tour builds the museum, serves it, surveys, packs, inspects and restores it
// at another folder and address, serves that too, and compares every page,
// picture and link of both. Then it redesigns a copy, and leads the old addresses to the
// pages that they have become.
func Tour(ctx context.Context, opts TourOptions) (*TourReport, error) {
	start := time.Now()
	if opts.Old.IsZero() {
		opts.Old, opts.New = OldAddress, NewAddress
	}
	if opts.Redesigned.IsZero() {
		opts.Redesigned = opts.New
	}
	if opts.Step == nil {
		opts.Step = func(string) {}
	}
	if err := emptyFolder(opts.Folder); err != nil {
		return nil, err
	}
	t := &tour{opts: opts, rep: &TourReport{Folder: opts.Folder, OldFolder: filepath.Join(opts.Folder, "old"), NewFolder: filepath.Join(opts.Folder, "new"),
		Archive: filepath.Join(opts.Folder, "museum.tar.zst"), Old: opts.Old.String(), New: opts.New.String(), Times: map[string]time.Duration{}}}
	steps := []struct {
		name string
		do   func(context.Context) error
	}{
		{"Building the museum's site", t.build},
		{"Visiting every page of it", t.visitOld},
		{"Surveying it", t.survey},
		{"Packing it", t.pack},
		{"Inspecting the archive", t.inspect},
		{"Restoring it at the new address", t.restore},
		{"Visiting every page of the new site", t.visitNew},
		{"Comparing both", t.compare},
		{"Redesigning a copy of it", t.redesign},
		{"Leading the old addresses to the new pages", t.lead},
	}
	for _, s := range steps {
		opts.Step(s.name)
		began := time.Now()
		if err := s.do(ctx); err != nil {
			return nil, err
		}
		t.rep.Times[s.name] = time.Since(began)
	}
	t.rep.Elapsed = time.Since(start)
	return t.rep, nil
}

func emptyFolder(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return os.MkdirAll(dir, 0o755)
	}
	if err == nil && len(entries) > 0 {
		return fmt.Errorf("the folder %s is not empty; name an empty or a new one for the demo", dir)
	}
	return err
}

func (t *tour) build(ctx context.Context) (err error) {
	t.rep.Built, err = Build(ctx, t.rep.OldFolder, t.opts.Old, t.opts.Database)
	return err
}

// visit serves a folder on this machine and follows all its links.
func visit(ctx context.Context, folder string, address rewrite.Address) (*crawled, error) {
	s, err := NewServer(folder)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("serve the demo site: %w", err)
	}
	srv := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = srv.Serve(l) }()
	defer srv.Close()
	return follow(ctx, address, l.Addr())
}

func (t *tour) visitOld(ctx context.Context) (err error) {
	t.old, err = visit(ctx, t.rep.OldFolder, t.opts.Old)
	return err
}

func (t *tour) visitNew(ctx context.Context) (err error) {
	t.new, err = visit(ctx, t.rep.NewFolder, t.opts.New)
	return err
}

func (t *tour) survey(ctx context.Context) error {
	s, err := site.Open(t.rep.OldFolder)
	if err != nil {
		return err
	}
	if t.rep.Survey, err = s.Look(ctx); err != nil {
		return err
	}
	return t.rep.Survey.DatabaseErr
}

func (t *tour) pack(ctx context.Context) error {
	f, err := os.OpenFile(t.rep.Archive, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("create the archive: %w", err)
	}
	t.rep.Packed, err = pack.Run(ctx, t.rep.Survey.Site, f, pack.Options{By: t.opts.By})
	return errors.Join(err, f.Close())
}

func (t *tour) inspect(ctx context.Context) error {
	f, err := os.Open(t.rep.Archive)
	if err != nil {
		return err
	}
	defer f.Close()
	t.rep.Checked, err = archive.Scan(ctx, f, archive.ScanOptions{}, func(context.Context, archive.Piece) error { return nil })
	return err
}

func (t *tour) restore(ctx context.Context) error {
	f, err := os.Open(t.rep.Archive)
	if err != nil {
		return err
	}
	defer f.Close()
	t.rep.Restored, err = restore.Run(ctx, f, t.rep.Checked.Size, restore.Options{Target: t.rep.NewFolder, Address: t.opts.New, Database: t.opts.NewDatabase})
	return err
}

func (t *tour) compare(context.Context) error {
	t.rep.Comparison = compare(t.old, t.new, t.opts.Old, t.opts.New)
	return nil
}
