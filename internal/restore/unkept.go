package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"syscall"

	"hovix/internal/annex"
	"hovix/internal/fault"
	"hovix/internal/fsys"
	"hovix/internal/site"
)

// unkept is a change of a site beside which nothing can be kept, for its folder lies in one
// in which nobody may write who runs: files are staged beside those that they replace.
type unkept struct {
	why    error
	id     string
	staged []besideFile
	rows   int64 // of tables without transactions, that are changed already
}

// besideFile is a changed file beside the one that it replaces, below the site's folder.
type besideFile struct{ stage, path string }

// maybeUnkept tells whether no annex can be made, which is no reason not to change a site.
func maybeUnkept(err error) *unkept {
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		return &unkept{why: err, id: newID()}
	}
	return nil
}

// CanKeep gives why no change of a site could be kept for an undo; nil if it could.
func CanKeep(root string) error {
	an := annex.Of(root)
	if _, err := os.Lstat(an.Dir); err == nil {
		return nil
	}
	if err := fsys.Writable(filepath.Dir(an.Dir)); err != nil {
		return fmt.Errorf("in %s, where an undo point would lie, you may not write", filepath.Dir(an.Dir))
	}
	return nil
}

// Unkept gives why a change is not kept for an undo; nil if it is.
func (c *Change) Unkept() error {
	if c.unkept == nil {
		return nil
	}
	return c.unkept.why
}

// stageForm knows a file that a run has staged beside another.
var stageForm = regexp.MustCompile(`^\..+\.hovix-stage-[0-9a-f]{8}$`)

// sweep removes what a run that was killed has staged in the site.
func (u *unkept) sweep(ctx context.Context, root *fsys.Handle) error {
	return root.Walk(ctx, func(rel string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || !stageForm.MatchString(d.Name()) {
			return nil // what cannot be read holds nothing of ours
		}
		return root.Remove(filepath.FromSlash(rel))
	})
}

// file stages a file.
func (u *unkept) file(root *fsys.Handle, path string, old fs.FileInfo, content []byte) error {
	path = filepath.FromSlash(path)
	stage := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".hovix-stage-"+u.id)
	out, err := root.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	u.staged = append(u.staged, besideFile{stage, path})
	return writeLike(out, old, content)
}

// writeLike fills a new file, makes it durable, and gives it the mode and the owner of
// another.
func writeLike(out *os.File, old fs.FileInfo, content []byte) error {
	_, err := out.Write(content)
	if err == nil {
		err = fsys.GiveOwner(out, old)
	}
	if err == nil {
		err = errors.Join(out.Chmod(old.Mode().Perm()), out.Sync())
	}
	return errors.Join(err, out.Close())
}

// put puts what was staged in place.
func (u *unkept) put(root *fsys.Handle) error {
	fault.Point("unkept")
	for len(u.staged) > 0 {
		s := u.staged[0]
		if err := root.Rename(s.stage, s.path); err != nil {
			return errors.Join(fmt.Errorf("put the changed file %s in place: %w; the database is changed already, and a second run changes the files alone", s.path, site.WithoutPath(err)), u.discard(root))
		}
		u.staged = u.staged[1:]
	}
	return nil
}

// abort gives the change up.
func (u *unkept) abort(root *fsys.Handle) error {
	err := u.discard(root)
	if u.rows > 0 {
		err = errors.Join(err, fmt.Errorf("%d rows of tables without transactions are changed already", u.rows))
	}
	return err
}

// discard removes what was staged and not put in place.
func (u *unkept) discard(root *fsys.Handle) (err error) {
	for _, s := range u.staged {
		err = errors.Join(err, root.Remove(s.stage))
	}
	u.staged = nil
	return err
}
