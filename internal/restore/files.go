package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"hovix/internal/annex"
	"hovix/internal/archive"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// fileStage builds the new folder beside the target, on the same file system,
// so that the switch is a rename.
type fileStage struct {
	dir *fsys.Handle
	uid int // owner that staged files get; -1: whoever runs
	gid int

	isUpload func(rel string) bool
	sparse   map[string]bool // files whose zeros become holes
	linksOut bool            // links may lead out of the site
	oldRoot  string          // folder of the source: absolute links into it lead into the new one
	newRoot  string
	room     int64 // bytes that may still come

	mu      sync.Mutex
	dirs    map[string]bool // folders that are made, and whether the archive has named them
	names   archive.Names   // of folders and links
	found   map[string]bool // folders that an interrupted run has made; nil: there was none
	metas   []folderMeta    // what folders get in the end
	links   []link          // made last, so that nothing can be written through one
	linked  map[string]bool // where they will be, once files of the target are brought
	open    map[*archive.Entry]*openFile
	count   int64
	bytes   int64
	sum     setSum   // of what is staged
	scripts []string // the first programs among uploads
	foreign int64    // and how many
}

// amount gives how much of the archive is staged; zero of a restore without files.
func (s *fileStage) amount() site.Amount {
	if s == nil {
		return site.Amount{}
	}
	return site.Amount{Count: s.count, Bytes: s.bytes}
}

type folderMeta struct {
	rel  string
	mode uint32
	time time.Time
}

type link struct{ rel, to string }

// openFile is a large file whose pieces arrive on several goroutines.
type openFile struct {
	f    *os.File
	left int64
}

// slack is how much more than its manifest says an archive may hold: files grow
// while a site is packed.
var slack int64 = 1 << 30

// newFileStage begins the new folder that a point of the annex holds.
func newFileStage(ctx context.Context, an *annex.Annex, point string, p *Plan, linksOut, resume bool) (*fileStage, error) {
	s := &fileStage{dirs: map[string]bool{".": false}, isUpload: func(rel string) bool { return p.sel.partOf(rel) == site.Uploads }, open: map[*archive.Entry]*openFile{}, uid: -1, gid: -1,
		oldRoot: p.Manifest.Root, newRoot: p.Target, room: p.Manifest.Files.Bytes + p.Manifest.Files.Bytes/2 + slack}
	s.sparse = map[string]bool{}
	for _, f := range p.Manifest.Sparse {
		s.sparse[f.Name] = true
	}
	s.owner(p)
	s.linksOut = linksOut
	name := filepath.Join(point, filesName)
	err := an.Mkdir(name, 0o700)
	if err == nil || resume && errors.Is(err, fs.ErrExist) {
		s.dir, err = an.Sub(name)
	}
	if err != nil {
		return nil, fmt.Errorf("make the folder for the new site: %w", err)
	}
	if resume {
		if err := s.lookBack(ctx); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// owner chooses whom the new files belong to: where root restores, the owner
// of the folder that is replaced, or of the one that holds it.
func (s *fileStage) owner(p *Plan) {
	if os.Geteuid() != 0 {
		return
	}
	for dir := p.Target; ; dir = filepath.Dir(dir) {
		if st, err := os.Lstat(dir); err == nil {
			s.uid, s.gid = fsys.Owner(st)
			return
		}
	}
}

// path gives the place of a file in the stage. Names were checked when the
// archive was read; this is the second lock on the door.
func (s *fileStage) path(rel string) (string, error) {
	if err := archive.CheckName(rel); err != nil {
		return "", err
	}
	native := filepath.FromSlash(rel)
	if !filepath.IsLocal(native) {
		return "", fmt.Errorf("%w: %q leads out of the target", archive.ErrRefused, rel)
	}
	return native, nil
}

// piece takes a piece of a file, or a folder or link.
func (s *fileStage) piece(rel string, p archive.Piece) error {
	path, err := s.path(rel)
	if err != nil {
		return err
	}
	switch p.Entry.Type {
	case archive.TypeDir:
		if err := s.folder(rel); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.dirs[rel] {
			return fmt.Errorf("%w: the folder %q is there twice", archive.ErrRefused, rel)
		}
		s.dirs[rel] = true
		s.metas = append(s.metas, folderMeta{rel, p.Entry.Mode, p.Entry.ModTime})
		return nil
	case archive.TypeSymlink:
		return s.link(rel, p.Entry.Link)
	}
	if err := s.fits(p); err != nil {
		return err
	}
	s.noteScript(rel, p)
	if err := s.folder(slashDir(rel)); err != nil {
		return err
	}
	if int64(len(p.Data)) == p.Entry.Size {
		return s.small(path, p)
	}
	return s.large(path, p)
}

// fits keeps an archive from unpacking to far more than it says.
func (s *fileStage) fits(p archive.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.room -= int64(len(p.Data)); s.room < 0 {
		return fmt.Errorf("%w: its files unpack to far more than its manifest says (at %q)", archive.ErrRefused, p.Entry.Name)
	}
	return nil
}

// link notes a link, to be made last. One into the old site leads into the new
// one; one out of the site is refused unless links out are agreed to.
func (s *fileStage) link(rel, to string) error {
	if rest, in := manifest.Below(s.oldRoot, to); in {
		to = filepath.ToSlash(s.newRoot) + rest
		if archive.LeadsOut("", "."+rest) {
			return fmt.Errorf("%w: the link %s leads out of the site, to %s", archive.ErrRefused, rel, to)
		}
	} else if !s.linksOut && archive.LeadsOut(rel, to) {
		return fmt.Errorf("%w: the link %s leads out of the site, to %s", ErrLinksOut, rel, to)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.names.Add(rel, to); err != nil {
		return err
	}
	s.links = append(s.links, link{rel, to})
	s.count++
	return nil
}

func slashDir(rel string) string {
	if i := strings.LastIndexByte(rel, '/'); i >= 0 {
		return rel[:i]
	}
	return "."
}

// folder makes a folder and those above it.
func (s *fileStage) folder(rel string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.folderLocked(rel)
}

// made reports whether this run has made a folder.
func (s *fileStage) made(rel string) bool {
	_, made := s.dirs[rel]
	return made
}

func (s *fileStage) folderLocked(rel string) error {
	if s.made(rel) {
		return nil
	}
	if err := s.folderLocked(slashDir(rel)); err != nil {
		return err
	}
	if err := s.names.Add(rel, ""); err != nil {
		return err
	}
	path := filepath.FromSlash(rel)
	if s.found[rel] {
		s.dirs[rel] = false
		return nil
	}
	if err := s.dir.Mkdir(path, 0o755); errors.Is(err, fs.ErrExist) {
		if st, err := s.dir.Lstat(path); err != nil || !st.IsDir() {
			return fmt.Errorf("%w: %q is both a file and a folder", archive.ErrRefused, rel)
		}
		return fmt.Errorf("%w: the folder %q is there under another spelling (names may differ in letter case only)", archive.ErrRefused, rel)
	} else if err != nil {
		return fmt.Errorf("stage the folder %s: %w", rel, site.WithoutPath(err))
	}
	s.dirs[rel] = false
	return s.chown(path)
}

func (s *fileStage) chown(path string) error {
	if s.uid < 0 {
		return nil
	}
	return s.dir.Lchown(path, s.uid, s.gid)
}

func (s *fileStage) create(path string) (*os.File, error) {
	f, err := s.dir.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("%w: %q is there twice (names may differ in letter case only)", archive.ErrRefused, filepath.Base(path))
	}
	if err != nil {
		return nil, fmt.Errorf("stage %s: %w", filepath.Base(path), site.WithoutPath(err))
	}
	return f, nil
}

func (s *fileStage) small(path string, p archive.Piece) error {
	there, err := s.whole(path, p.Entry)
	if err != nil || there {
		return s.finished(p.Entry, err)
	}
	f, err := s.create(path)
	if err != nil {
		return err
	}
	err = s.writeAt(f, p)
	return s.finished(p.Entry, s.closeFile(path, f, p.Entry, err))
}

// finished counts a file that was staged.
func (s *fileStage) finished(e *archive.Entry, err error) error {
	if err == nil {
		s.counted(strings.TrimPrefix(e.Name, manifest.FilesDir), e.Size, e.SHA256)
	}
	return err
}

// counted counts a file with its size and SHA-256.
func (s *fileStage) counted(rel string, size int64, sha [32]byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	s.bytes += size
	s.sum.add(rel, size, sha)
}

// forget takes back that a file was counted.
func (s *fileStage) forget(size int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count--
	s.bytes -= size
}

// closeFile gives a written file its mode, owner and time.
func (s *fileStage) closeFile(path string, f *os.File, e *archive.Entry, err error) error {
	if err == nil {
		err = f.Chmod(fs.FileMode(e.Mode & 0o777))
	}
	if err == nil && s.uid >= 0 {
		err = f.Chown(s.uid, s.gid)
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = s.dir.Chtimes(path, e.ModTime, e.ModTime)
	}
	if err != nil {
		return fmt.Errorf("stage %s: %w", e.Name, site.WithoutPath(err))
	}
	return nil
}

func (s *fileStage) large(path string, p archive.Piece) error {
	s.mu.Lock()
	o := s.open[p.Entry]
	if o == nil {
		var err error
		if o, err = s.openLarge(path, p.Entry); err != nil {
			s.mu.Unlock()
			return err
		}
		s.open[p.Entry] = o
	}
	s.mu.Unlock()
	if o.f != nil {
		if err := s.writeAt(o.f, p); err != nil {
			return fmt.Errorf("stage %s: %w", p.Entry.Name, site.WithoutPath(err))
		}
	}
	s.mu.Lock()
	o.left -= int64(len(p.Data))
	done := o.left == 0
	if done {
		delete(s.open, p.Entry)
	}
	s.mu.Unlock()
	if done && o.f == nil {
		return s.finished(p.Entry, nil)
	}
	if done {
		return s.finished(p.Entry, s.closeFile(path, o.f, p.Entry, nil))
	}
	return nil
}

// openLarge begins a file whose pieces come one by one. One that is there already has
// no file to write to.
func (s *fileStage) openLarge(path string, e *archive.Entry) (*openFile, error) {
	there, err := s.whole(path, e)
	if err != nil || there {
		return &openFile{left: e.Size}, err
	}
	f, err := s.create(path)
	return &openFile{f: f, left: e.Size}, err
}

// whole reports whether an interrupted run has staged a file in full: its time is set
// last. What it has not is removed. The content is proved with that of all others.
func (s *fileStage) whole(path string, e *archive.Entry) (bool, error) {
	if s.found == nil {
		return false, nil
	}
	st, err := s.dir.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil && st.Mode().IsRegular() && st.Size() == e.Size && st.ModTime().Equal(e.ModTime) {
		return true, nil
	}
	if err == nil && !st.IsDir() {
		err = s.dir.Remove(path)
	}
	if err != nil {
		return false, fmt.Errorf("stage %s: %w", e.Name, site.WithoutPath(err))
	}
	return false, nil
}

// lookBack lists the folders that an interrupted run has made.
func (s *fileStage) lookBack(ctx context.Context) error {
	s.found = map[string]bool{".": true}
	err := s.dir.Walk(ctx, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			s.found[path] = true
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("look at what is staged: %w", site.WithoutPath(err))
	}
	return nil
}

// write puts a settings file into the stage.
func (s *fileStage) write(rel string, e archive.Entry, content []byte) error {
	path, err := s.path(rel)
	if err != nil {
		return err
	}
	if err := s.folder(slashDir(rel)); err != nil {
		return err
	}
	if s.found != nil { // it may be that of an interrupted run
		if err := s.dir.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("stage %s: %w", rel, site.WithoutPath(err))
		}
	}
	f, err := s.create(path)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return s.closeFile(path, f, &e, err)
}

// seal makes the links and gives the folders their modes and times.
func (s *fileStage) seal(ctx context.Context, mode fs.FileMode, p *Plan) error {
	for _, l := range s.links {
		if err := ctx.Err(); err != nil {
			return err
		}
		path, err := s.path(l.rel)
		if err != nil {
			return err
		}
		if err := s.folder(slashDir(l.rel)); err != nil {
			return err
		}
		if err := s.dir.Symlink(l.to, path); errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%w: the link %q is there twice, or is something else too", archive.ErrRefused, l.rel)
		} else if err != nil {
			return fmt.Errorf("stage the link %s: %w", l.rel, site.WithoutPath(err))
		}
		if err := s.chown(path); err != nil {
			return err
		}
	}
	for i := len(s.metas) - 1; i >= 0; i-- {
		if err := ctx.Err(); err != nil {
			return err
		}
		m := s.metas[i]
		path := filepath.FromSlash(m.rel)
		if err := errors.Join(s.dir.Chmod(path, fs.FileMode(m.mode&0o777)|0o700), s.dir.Chtimes(path, m.time, m.time)); err != nil {
			return fmt.Errorf("stage the folder %s: %w", m.rel, err)
		}
	}
	if p.inside != "" {
		if err := s.ownDatabase(p.inside); err != nil {
			return err
		}
	}
	return s.dir.Chmod(".", mode)
}

// ownDatabase gives a file of SQLite, which other hands have put there, its owner,
// and the folders that were made for it.
func (s *fileStage) ownDatabase(rel string) error {
	for path := rel; ; path = filepath.Dir(path) {
		if err := s.chown(path); err != nil || path == "." {
			return err
		}
	}
}

// close gives up files of which pieces are missing.
func (s *fileStage) close() {
	for _, o := range s.open {
		if o.f != nil {
			_ = o.f.Close()
		}
	}
	_ = s.dir.Close()
}
