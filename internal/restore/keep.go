package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"hovix/internal/archive"
	"hovix/internal/database/sqlite"
	"hovix/internal/fsys"
	"hovix/internal/site"
)

// bring puts the files of the target that stay into the new folder. They lie in
// both folders then, as one file with two names: it costs no room, and who writes to
// one goes on with it. Where the file system knows no second names they are copied.
func (r *run) bring(ctx context.Context) error {
	if r.plan.Create || r.plan.sel.whole() && r.plan.Stay.Count == 0 {
		return nil
	}
	beside, name := r.annex.Beside()
	target, err := beside.Sub(name)
	if err != nil {
		return fmt.Errorf("keep files of the target: %w", err)
	}
	defer target.Close()
	r.files.linked = map[string]bool{}
	for _, l := range r.files.links {
		r.files.linked[l.rel] = true
	}
	return target.Walk(ctx, func(rel string, d fs.DirEntry, err error) error {
		if err != nil {
			return fmt.Errorf("keep %s: %w", rel, err)
		}
		if d.IsDir() && r.annex.IsOwn(rel) {
			return fs.SkipDir
		}
		if r.plan.givesWay(rel) {
			return nil
		}
		if d.IsDir() { // an empty one may be needed too
			return r.files.foldersOf(target, rel)
		}
		if !d.Type().IsRegular() && d.Type()&fs.ModeSymlink == 0 {
			return nil // it is of a process, and means nothing elsewhere
		}
		if r.plan.shared != "" && rel != r.plan.shared && slices.Contains(sqlite.Files(r.plan.shared), rel) {
			return nil // it comes along when the folders are exchanged
		}
		if err := r.files.bring(target, rel); err != nil {
			return fmt.Errorf("keep %s of the target: %w", rel, err)
		}
		return nil
	})
}

// bring gives a file, or link, of a folder a second name in the stage, in the place
// of what the archive has there.
func (s *fileStage) bring(from *fsys.Handle, rel string) error {
	if err := s.foldersOf(from, slashDir(rel)); err != nil {
		return err
	}
	path, err := s.path(rel)
	if err != nil {
		return err
	}
	if st, err := s.dir.Lstat(path); err == nil {
		if st.IsDir() {
			return fmt.Errorf("%w: it is a folder in the archive", archive.ErrRefused)
		}
		s.forget(st.Size())
		if err := s.dir.Remove(path); err != nil {
			return err
		}
	}
	s.mu.Lock()
	if s.linked[rel] {
		s.links = slices.DeleteFunc(s.links, func(l link) bool { return l.rel == rel })
		s.count--
	}
	s.mu.Unlock()
	if err := fsys.Link(from, path, s.dir, path); err == nil {
		return nil
	}
	return copyFile(from, s.dir, path)
}

// foldersOf makes the folders of a path as they are in another folder, where the
// archive has none.
func (s *fileStage) foldersOf(from *fsys.Handle, rel string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for dir := rel; !s.made(dir); dir = slashDir(dir) {
		if st, err := from.Lstat(filepath.FromSlash(dir)); err == nil {
			s.metas = append(s.metas, folderMeta{dir, uint32(st.Mode().Perm()), st.ModTime()})
		}
	}
	return s.folderLocked(rel)
}

// copyFile copies a file or link from one folder into another, with its mode, owner and
// time.
func copyFile(from, to *fsys.Handle, name string) error {
	st, err := from.Lstat(name)
	if err != nil {
		return err
	}
	if st.Mode()&fs.ModeSymlink != 0 {
		target, err := from.Readlink(name)
		return errors.Join(err, to.Symlink(target, name), to.CopyOwnerOf(name, st))
	}
	in, err := fsys.OpenRegular(from.Root, name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := to.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Chmod(st.Mode().Perm()), out.Close()); err != nil {
		return site.WithoutPath(err)
	}
	return errors.Join(to.CopyOwnerOf(name, st), to.Chtimes(name, st.ModTime(), st.ModTime()))
}
