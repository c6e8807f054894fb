package pack

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"hovix/internal/archive"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// Earlier is a pack that was interrupted: what of the archive is whole, and does not
// have to be read from the site again.
type Earlier struct {
	partial  *archive.Partial
	manifest *manifest.Manifest
	tables   []manifest.TableSummary
	known    map[[16]byte]bool // files that are in it, by what is known of them
	database bool              // all of the database is
	readme   bool
}

// Size gives the bytes of the file that stay: what follows them is to be cut off.
func (e *Earlier) Size() int64 {
	if e == nil {
		return 0
	}
	return e.partial.Size()
}

// Order gives a text that is the same for two packs of which one can go on with what
// the other has left: of the same site, with the same choice and changes.
func Order(s *site.Site, opts Options) string {
	if opts.Parts == nil {
		opts.Parts = site.Parts
	}
	b, _ := json.Marshal([]any{s.Kind, s.Root, s.Database.String(), s.Prefix, s.Address.String(), opts.Parts, opts.Secrets, opts.Rewrite, s.Chosen(), opts.By})
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// track takes down which file it is, and in which state: size and time may stay the same
// where the content does not.
func track(e *archive.Entry, st fs.FileInfo) {
	if changed := fsys.Changed(st); !changed.IsZero() && !st.IsDir() {
		e.Changed, e.Inode = changed.UTC(), fsys.Serial(st)
	}
}

// mark gives what a file, folder or link is known by: its name, kind, size, times, number
// and where it leads to.
func (o *Options) mark(e *archive.Entry) [16]byte {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q", e.Name, []byte{byte(e.Type)}, e.Link)
	size := e.Size
	if o.changes() && path.Base(e.Name) == site.WebFile { // it is changed on the way
		size = 0
	}
	if e.Type != archive.TypeDir { // whose time changes with what is in it
		_ = binary.Write(h, binary.BigEndian, []int64{size, e.ModTime.UnixNano(), int64(e.Mode), int64(e.Inode)})
		if e.Inode != 0 {
			_ = binary.Write(h, binary.BigEndian, e.Changed.UnixNano())
		}
	}
	return [16]byte(h.Sum(nil))
}

// changes reports whether anything is changed on the way into the archive.
func (o *Options) changes() bool {
	return len(o.Rewrite.Mappings)+len(o.Rewrite.Roots)+len(o.Rewrite.Texts) > 0
}

// Recover reads what an interrupted pack of the same order has left in the file r. It
// ends where a file of the site is another one now. nil without an error says that there
// is nothing to go on with.
func Recover(ctx context.Context, s *site.Site, r io.Reader, opts Options) (*Earlier, error) {
	e := &Earlier{known: map[[16]byte]bool{}}
	tables, order := map[string]*manifest.TableSummary{}, Order(s, opts)
	var err error
	e.partial, err = archive.Recover(ctx, r, func(entry *archive.Entry, content []byte) error {
		switch {
		case entry.Name == manifest.Name:
			m, err := manifest.Parse(content)
			if err != nil || m.Order != order {
				return archive.ErrStop // it is another one's
			}
			e.manifest = m
		case e.manifest == nil:
			return archive.ErrStop
		case entry.Name == manifest.Readme:
			e.readme = true
		case strings.HasPrefix(entry.Name, manifest.DatabaseDir):
			e.sql(entry, content, tables)
		case strings.HasPrefix(entry.Name, manifest.FilesDir):
			now, err := describe(filepath.Join(s.Root, filepath.FromSlash(strings.TrimPrefix(entry.Name, manifest.FilesDir))), entry.Name)
			if err != nil || opts.mark(now) != opts.mark(entry) {
				return archive.ErrStop
			}
			e.known[opts.mark(now)] = true
		case strings.HasPrefix(entry.Name, manifest.SettingsDir), entry.Name == manifest.SummaryName: // they are read again, and come last
			return archive.ErrStop
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read what an interrupted pack has left: %w", err)
	}
	if e.manifest == nil || e.manifest.Database != nil && !e.database {
		return nil, nil // a snapshot of the database cannot be gone on with
	}
	return e, nil
}

// entryOfTable is the name of an entry with rows, or with what follows them.
var entryOfTable = regexp.MustCompile(`^database/(t(\d{5})-[^/]*)\.(1-rows-\d+|2-end)\.sql$`)

// rowsOf is the line that tells how many rows a table has.
var rowsOf = regexp.MustCompile(`(?m)^-- rows: (\d+)$`)

// sql takes what is known of an entry with SQL text.
func (e *Earlier) sql(entry *archive.Entry, content []byte, tables map[string]*manifest.TableSummary) {
	if strings.HasSuffix(entry.Name, "/z3-end.sql") {
		e.database = true
		for _, t := range e.manifest.Database.Tables {
			if sum := tables[t.Name]; sum != nil {
				e.tables = append(e.tables, *sum)
			}
		}
		return
	}
	m := entryOfTable.FindStringSubmatch(entry.Name)
	if m == nil || e.manifest.Database == nil {
		return
	}
	n, _ := strconv.Atoi(m[2])
	if n < 1 || n > len(e.manifest.Database.Tables) {
		return
	}
	name := e.manifest.Database.Tables[n-1].Name
	if tables[name] == nil {
		tables[name] = &manifest.TableSummary{Name: name}
	}
	if m[3] != "2-end" {
		tables[name].Bytes += entry.Size
	} else if rows := rowsOf.FindSubmatch(content); rows != nil {
		tables[name].Rows, _ = strconv.ParseInt(string(rows[1]), 10, 64)
	}
}

// describe gives the entry that a file would have.
func describe(path, name string) (*archive.Entry, error) {
	st, err := os.Lstat(path)
	if err != nil {
		return nil, err
	}
	e := &archive.Entry{Name: name, Mode: uint32(st.Mode().Perm()), ModTime: st.ModTime(), Type: archive.TypeFile, Size: st.Size()}
	track(e, st)
	switch {
	case st.IsDir():
		e.Type, e.Size = archive.TypeDir, 0
	case st.Mode()&fs.ModeSymlink != 0:
		e.Type, e.Size = archive.TypeSymlink, 0
		e.Link, err = os.Readlink(path)
	case !st.Mode().IsRegular():
		err = errors.New("it is no file")
	}
	return e, err
}

// packed reports whether the file is in what an interrupted pack has left, and counts
// it then.
func (p *packer) packed(f site.File) bool {
	if p.opts.Earlier == nil {
		return false
	}
	e, err := describe(f.Path, manifest.FilesDir+f.Rel)
	if err != nil || !p.opts.Earlier.known[p.opts.mark(e)] {
		return false
	}
	if e.Type != archive.TypeDir {
		p.res.Summary.Files.Count++
		p.res.Summary.Files.Bytes += e.Size
		p.res.note(site.Thing{Name: f.Rel, Bytes: e.Size})
		p.pace.Expect(sectionOf(e.Name), -e.Size)
		p.res.Earlier.Count++
		p.res.Earlier.Bytes += e.Size
	}
	return true
}

// goOn takes over what an interrupted pack knew.
func (p *packer) goOn(e *Earlier) {
	p.res.Manifest, p.res.Resumed = e.manifest, true
	for _, t := range e.tables {
		p.res.Summary.Tables = append(p.res.Summary.Tables, t)
		p.res.Summary.Rows += t.Rows
		p.res.note(site.Thing{Name: "table " + t.Name, Bytes: t.Bytes})
	}
}
