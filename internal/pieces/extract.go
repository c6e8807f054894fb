package pieces

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"hovix/internal/archive"
	"hovix/internal/manifest"
	"hovix/internal/progress"
	"hovix/internal/site"
)

// Names of the files that Extract writes.
const (
	FilesTar    = "files.tar"
	UploadsTar  = "uploads.tar"
	DatabaseSQL = "database.sql"
)

// Written is a file that Extract has written.
type Written struct {
	Path    string `json:"path"`
	Entries int64  `json:"entries"` // files, folders and links; tables
	Bytes   int64  `json:"bytes"`
}

// extractor writes entries to their places in the files: each place is known
// before the content, so that all processors work on it.
type extractor struct {
	m       *manifest.Manifest
	files   *tarFile
	uploads *tarFile
	sql     *os.File
	at      map[string]int64 // of the entries with SQL text, by name
	places  sync.Map         // *archive.Entry → *place, of entries that are being written
}

// place is where the content of an entry goes.
type place struct {
	to   *os.File
	at   int64
	left atomic.Int64
}

// Extract writes the archive of size bytes in f out to the folder dir, as tar files
// with the site's files and its uploads, by their paths in the site's folder, and
// its database as SQL text that the engine's own client loads. Every byte is
// checked; after an error none of the files is there. origin is the folder in which
// the site lay on its server.
func Extract(ctx context.Context, f io.ReaderAt, size int64, dir string, rep progress.Reporter) (written []Written, origin string, err error) {
	ar, err := archive.Open(f, size)
	if err != nil {
		return nil, "", err
	}
	b, err := ar.ReadFile(manifest.Name, manifest.MaxSize)
	if err != nil {
		return nil, "", err
	}
	x := &extractor{}
	if x.m, err = manifest.Parse(b); err != nil {
		return nil, "", err
	}
	var made []*os.File
	defer func() {
		for _, f := range made {
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			written = nil
			for _, f := range made {
				err = errors.Join(err, os.Remove(f.Name()))
			}
		}
	}()
	for _, name := range x.names() {
		out, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err != nil {
			return nil, "", fmt.Errorf("write the pieces: %w", err)
		}
		made = append(made, out)
		x.assign(name, out)
	}
	if err := x.layOut(ar); err != nil {
		return nil, "", err
	}
	progress.Of(rep).Phase("Writing the pieces", size)
	if _, err := archive.Scan(ctx, io.NewSectionReader(f, 0, size), archive.ScanOptions{Progress: progress.Of(rep).Add, Entry: x.announce}, x.piece); err != nil {
		return nil, "", err
	}
	written, err = x.finish(made)
	return written, x.m.Root, err
}

// names lists the files that the archive has content for.
func (x *extractor) names() (names []string) {
	if x.m.Has(site.Code) || x.m.Has(site.Settings) {
		names = append(names, FilesTar)
	}
	if x.m.Has(site.Uploads) && len(x.m.Uploads) > 0 {
		names = append(names, UploadsTar)
	}
	if x.m.Database != nil {
		names = append(names, DatabaseSQL)
	}
	return names
}

func (x *extractor) assign(name string, out *os.File) {
	switch name {
	case FilesTar:
		x.files = &tarFile{out: out}
	case UploadsTar:
		x.uploads = &tarFile{out: out}
	default:
		x.sql = out
	}
}

// layOut finds the places of the SQL text, which is loaded in the order of its
// names, and writes what stands before it.
func (x *extractor) layOut(ar *archive.Archive) error {
	if x.sql == nil {
		return nil
	}
	d := x.m.Database
	head := fmt.Sprintf("-- Database of %s, as packed on %s by %s\n-- engine: %s\n-- Server version: %s %s\n\n", oneLine(x.m.Name), x.m.Made.Format("2 January 2006"), oneLine(x.m.By), d.Engine, d.Version, d.Product)
	if _, err := x.sql.WriteString(head); err != nil {
		return err
	}
	var entries []archive.Entry
	err := ar.Entries(func(e archive.Entry) error {
		if strings.HasPrefix(e.Name, manifest.DatabaseDir) {
			entries = append(entries, e)
		}
		return nil
	})
	slices.SortFunc(entries, func(a, b archive.Entry) int { return strings.Compare(a.Name, b.Name) })
	x.at = make(map[string]int64, len(entries))
	at := int64(len(head))
	for _, e := range entries {
		x.at[e.Name] = at
		at += e.Size
	}
	return err
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// announce hears of the entries in their order and finds their places.
func (x *extractor) announce(e *archive.Entry) error {
	if at, ok := x.at[e.Name]; ok {
		x.place(e, x.sql, at)
		return nil
	}
	rel, isFile := strings.CutPrefix(e.Name, manifest.FilesDir)
	if !isFile {
		if rel, isFile = strings.CutPrefix(e.Name, manifest.SettingsDir); !isFile {
			return nil
		}
	}
	rel = strings.TrimSuffix(rel, "/")
	to := x.files
	for _, u := range x.m.Uploads {
		if x.uploads != nil && (rel == u || strings.HasPrefix(rel, u+"/")) {
			to = x.uploads
		}
	}
	if to == nil {
		return nil
	}
	at, err := to.add(e, rel)
	if err != nil {
		return fmt.Errorf("%s: %w", rel, err)
	}
	x.place(e, to.out, at)
	return nil
}

func (x *extractor) place(e *archive.Entry, to *os.File, at int64) {
	if e.Size == 0 {
		return
	}
	p := &place{to: to, at: at}
	p.left.Store(e.Size)
	x.places.Store(e, p)
}

func (x *extractor) piece(_ context.Context, pc archive.Piece) error {
	v, ok := x.places.Load(pc.Entry)
	if !ok {
		return nil
	}
	p := v.(*place)
	if _, err := p.to.WriteAt(pc.Data, p.at+pc.Offset); err != nil {
		return err
	}
	if p.left.Add(-int64(len(pc.Data))) == 0 {
		x.places.Delete(pc.Entry)
	}
	return nil
}

func (x *extractor) finish(made []*os.File) (written []Written, err error) {
	for _, f := range made {
		w := Written{Path: f.Name()}
		for _, t := range []*tarFile{x.files, x.uploads} {
			if t != nil && t.out == f {
				if err := t.end(); err != nil {
					return nil, err
				}
				w.Entries = t.entries
			}
		}
		if f == x.sql {
			w.Entries = int64(len(x.m.Database.Tables))
		}
		st, err := f.Stat()
		if err != nil {
			return nil, err
		}
		w.Bytes = st.Size()
		written = append(written, w)
	}
	return written, nil
}

// tarFile is a tar file (POSIX.1-1988, or with extensions where names need them)
// that is written in any order.
type tarFile struct {
	out     *os.File
	at      int64 // where the next entry begins
	entries int64
}

const tarBlock = 512

// add writes the header of an entry and gives the place of its content.
func (t *tarFile) add(e *archive.Entry, name string) (int64, error) {
	h := &tar.Header{Typeflag: byte(e.Type), Name: name, Size: e.Size, Mode: int64(e.Mode), ModTime: e.ModTime, Linkname: e.Link}
	if e.Type == archive.TypeDir {
		h.Name += "/"
	}
	var b bytes.Buffer
	if err := tar.NewWriter(&b).WriteHeader(h); err != nil {
		return 0, err
	}
	if _, err := t.out.WriteAt(b.Bytes(), t.at); err != nil {
		return 0, err
	}
	at := t.at + int64(b.Len())
	t.at = at + (e.Size+tarBlock-1)/tarBlock*tarBlock
	t.entries++
	return at, nil
}

// end fills up the last block and adds the two empty ones that end a tar file.
func (t *tarFile) end() error { return t.out.Truncate(t.at + 2*tarBlock) }
