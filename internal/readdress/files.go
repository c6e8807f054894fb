package readdress

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"hovix/internal/fsys"
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
	write  bool
	id     string
	root   *fsys.Handle // of the site, through which files are read and written
	staged []stagedFile
}

// stagedFile is a changed file beside the one that it replaces.
type stagedFile struct{ stage, path string } // relative to the site

// CheckFiles returns an error for a pattern that cannot be read.
func CheckFiles(globs []string) error {
	for _, g := range globs {
		if !doublestar.ValidatePattern(g) {
			return fmt.Errorf("a pattern of files cannot be read: %q", g)
		}
	}
	return nil
}

func newFiles(s *site.Site, rw *rewrite.Rewriter, a *Account, globs []string, write bool) *files {
	b := make([]byte, 4)
	_, _ = rand.Read(b)
	return &files{s: s, rw: rw, a: a, globs: globs, write: write, id: hex.EncodeToString(b)}
}

// wants reports whether a file is chosen. Settings are, unless only some tables
// or columns are wanted.
func (f *files) wants(rel string) bool {
	for _, g := range f.globs {
		g = strings.TrimPrefix(g, "./")
		if ok, _ := doublestar.Match(g, rel); ok {
			return true
		}
		if ok, _ := doublestar.Match(g, path.Base(rel)); ok && !strings.Contains(g, "/") {
			return true
		}
	}
	return slices.Contains(f.s.Settings, rel) && f.a.filter.Wants("", "")
}

// run looks at every chosen file, and stages what is to be changed.
func (f *files) run(ctx context.Context) (err error) {
	if f.root, err = fsys.OpenExact(f.s.Root); err != nil {
		return err
	}
	return f.s.Walk(ctx, func(file site.File) error {
		if !file.Info.Mode().IsRegular() || !f.wants(file.Rel) {
			return nil
		}
		return f.file(file)
	}, nil)
}

func (f *files) file(file site.File) error {
	f.a.Files++
	col := f.a.file(file.Rel)
	if file.Info.Size() > maxFile {
		f.a.Notes = append(f.a.Notes, fmt.Sprintf("%s was not looked at: a text file of more than %d MB", file.Rel, maxFile>>20))
		return nil
	}
	content, err := f.read(file)
	if err != nil {
		f.a.Notes = append(f.a.Notes, fmt.Sprintf("%s cannot be read: %v", file.Rel, site.WithoutPath(err)))
		return nil
	}
	if isBinary(content) {
		if f.rw.Mentions(content) {
			col.Tally.Leave(rewrite.Binary, []byte(file.Rel), "")
		}
		return nil
	}
	out, changed := f.rw.Value(content, &col.Tally)
	if !changed {
		return nil
	}
	f.lines(col, content, out)
	if !f.write {
		return f.a.flush()
	}
	if err := f.stage(file, out); err != nil {
		return fmt.Errorf("change the file %s: %w", file.Rel, site.WithoutPath(err))
	}
	return f.a.flush()
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

// stage writes the new content beside the file, with its mode and owner.
func (f *files) stage(file site.File, content []byte) (err error) {
	path := filepath.FromSlash(file.Rel)
	stage := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".hovix-stage-"+f.id)
	out, err := f.root.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	f.staged = append(f.staged, stagedFile{stage, path})
	_, err = out.Write(content)
	if err == nil {
		err = out.Sync()
	}
	if err == nil {
		err = fsys.GiveOwner(out, file.Info)
	}
	if err == nil {
		err = out.Chmod(file.Info.Mode().Perm())
	}
	return errors.Join(err, out.Close())
}

// put puts what was staged in place.
func (f *files) put() error {
	for len(f.staged) > 0 {
		s := f.staged[0]
		if err := f.root.Rename(s.stage, s.path); err != nil {
			return fmt.Errorf("put the changed file %s in place: %w", s.path, site.WithoutPath(err))
		}
		f.staged = f.staged[1:]
	}
	return nil
}

// discard removes what was staged and not put in place.
func (f *files) discard() (err error) {
	for _, s := range f.staged {
		err = errors.Join(err, f.root.Remove(s.stage))
	}
	f.staged = nil
	if f.root != nil {
		err = errors.Join(err, f.root.Close())
		f.root = nil
	}
	return err
}
