package readdress

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"

	"github.com/dustin/go-humanize"

	"hovix/internal/fsys"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// maxFile is the largest file that is read, in bytes. Text that people write
// is far smaller.
const maxFile = 64 << 20

// files is one pass over the text files of a site.
type files struct {
	s      *site.Site
	rw     *rewrite.Rewriter
	a      *Account
	globs  []string
	change *restore.Change // nil: nothing is written
	maps   []rewrite.Mapping
	// from is the site's address, to the one that it gets; both are zero where it stays.
	from, to rewrite.Address
	moved    site.Files // settings as the kind of site changes them for it
}

func newFiles(s *site.Site, rw *rewrite.Rewriter, a *Account, globs []string, change *restore.Change) *files {
	return &files{s: s, rw: rw, a: a, globs: globs, change: change}
}

// wants reports whether a file is looked at, and whether it is chosen to be changed.
// Settings are, and what tells servers of the site, unless only some tables or columns are
// wanted.
func (f *files) wants(file site.File) (look, change bool) {
	if site.MatchesFile(f.globs, file.Rel) {
		return true, true
	}
	if !f.a.filter.Wants("", "") {
		return false, false
	}
	if file.Part == site.Settings || site.IsGenerated(file.Rel, file.Part) {
		return true, true
	}
	return site.IsTextFile(file.Rel), false
}

// run looks at every chosen file, and stages what is to be changed.
func (f *files) run(ctx context.Context) (err error) {
	return f.s.Walk(ctx, func(file site.File) error {
		if !file.Info.Mode().IsRegular() {
			return nil
		}
		f.a.chosen.seeFile(file.Rel)
		look, change := f.wants(file)
		if !look {
			return nil
		}
		return f.file(file, change)
	}, nil)
}

func (f *files) file(file site.File, change bool) error {
	if file.Info.Size() > maxFile {
		f.a.Notes = append(f.a.Notes, fmt.Sprintf("%s was not looked at: a text file of more than %s", file.Rel, humanize.Bytes(maxFile)))
		return nil
	}
	f.a.Files++
	content, err := f.read(file)
	if err != nil {
		f.a.Notes = append(f.a.Notes, fmt.Sprintf("%s cannot be read: %v", file.Rel, site.WithoutPath(err)))
		return nil
	}
	fixed, isFixed := f.fixed(file, content)
	if !isFixed && !f.rw.Mentions(content) {
		return nil
	}
	col := f.a.file(file.Rel)
	switch {
	case isBinary(content):
		col.Tally.Leave(rewrite.Binary, []byte(file.Rel), "")
		return nil
	case !change:
		f.rw.Look(content, &col.Tally)
		return nil
	}
	run := f.rw.Value
	if file.Part == site.Settings {
		run = f.rw.Settings
	}
	out, changed := run(fixed, &col.Tally)
	if changed && file.Part == site.Settings && f.hasServer() {
		out = f.s.KeepLogin(file.Rel, fixed, out)
		changed = !bytes.Equal(out, fixed)
	}
	if !changed && !isFixed {
		return nil
	}
	if !changed { // by the kind's own hand alone
		col.Tally.Values++
		col.Tally.Changed++
	}
	f.lines(col, content, out)
	if f.change == nil {
		return f.a.flush()
	}
	if err := f.change.File(file.Rel, file.Info, out); err != nil {
		return fmt.Errorf("change the file %s: %w", file.Rel, site.WithoutPath(err))
	}
	return f.a.flush()
}

// hasServer reports whether the database lies on a host whose addresses are changed.
func (f *files) hasServer() bool {
	return slices.ContainsFunc(f.maps, func(m rewrite.Mapping) bool { return m.Old.Host == f.s.Database.Host })
}

// fixed gives a file with what depends on the address but does not hold it: the base path
// in rules for a web server, and what the kind of site has in its settings.
func (f *files) fixed(file site.File, content []byte) ([]byte, bool) {
	out := content
	if f.from != f.to && path.Base(file.Rel) == site.WebFile {
		out = site.RebaseWebFile(content, f.from.Path, f.to.Path)
	}
	if moved, ok := f.moved[file.Rel]; ok {
		out = moved
	}
	return out, !bytes.Equal(out, content)
}

// move has the kind of site put a new address into the settings, if the site's own is to be
// changed.
func (f *files) move(maps []rewrite.Mapping) error {
	f.maps = maps
	for _, m := range maps {
		if m.Old == f.s.Address {
			f.from, f.to = m.Old, m.New
		}
	}
	if f.from == f.to {
		return nil
	}
	f.moved = site.Files{}
	for _, rel := range f.s.Settings {
		if content, _, err := site.ReadOwn(f.s.Root, rel); err == nil {
			f.moved[rel] = content
		}
	}
	return f.s.Move(f.moved, f.from, f.to)
}

// read reads a file that is a regular one still.
func (f *files) read(file site.File) ([]byte, error) {
	in, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return fsys.ReadUpTo(in, maxFile)
}

// isBinary reports whether content has bytes that no text has.
func isBinary(content []byte) bool {
	return bytes.IndexByte(content, 0) >= 0 || slices.ContainsFunc(content[:min(len(content), 64<<10)], func(c byte) bool {
		return c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1b
	})
}

// lines notes the changed lines of a file: those around them may hold secrets.
func (f *files) lines(col *Column, before, after []byte) {
	old, new := bytes.Split(before, []byte("\n")), bytes.Split(after, []byte("\n"))
	if len(old) != len(new) { // a text with a line break was replaced
		f.a.changed(col, "", before, after)
		return
	}
	for i := range old {
		if !bytes.Equal(old[i], new[i]) {
			f.a.changed(col, "line "+strconv.Itoa(i+1), old[i], new[i])
		}
	}
}
