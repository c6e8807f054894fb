package site

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hovix/internal/fsys"
)

// maxSettings bounds a settings file, in bytes.
const maxSettings = 16 << 20

// ReadOwn reads a file of the site in root, such as its settings, at a path relative to
// it. It reads regular files of a sensible size alone, and follows a link out of the site
// only if the link is root's or of who runs this: others, who may write to a site, must
// not choose what is read in his name.
func ReadOwn(root, rel string) ([]byte, fs.FileInfo, error) {
	f, err := openOwn(root, rel)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	content, err := fsys.ReadUpTo(f, maxSettings)
	return content, st, err
}

// ErrLinkOut says that a link leads out of a site that is neither root's nor of who runs
// this.
var ErrLinkOut = errors.New("it is a link out of the site that somebody else has made, and is not followed")

func openOwn(root, rel string) (*os.File, error) {
	r, err := fsys.OpenExact(root)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	name := filepath.FromSlash(rel)
	f, err := fsys.OpenRegular(r.Root, name)
	if err == nil || !escapes(err) {
		return f, err
	}
	to, err := linkOut(r, name)
	if err != nil {
		return nil, &fs.PathError{Op: "read", Path: filepath.Join(root, name), Err: err}
	}
	return fsys.OpenFile(to)
}

// escapes reports whether a name leads out of a root; the package os has no error of its
// own for that.
func escapes(err error) bool { return strings.Contains(err.Error(), "path escapes") }

// linkOut gives where a link leads that may be followed out of a root.
func linkOut(r *fsys.Handle, name string) (string, error) {
	before, err := r.Lstat(name)
	if err != nil {
		return "", err
	}
	if before.Mode()&fs.ModeSymlink == 0 || !fsys.Ours(before) {
		return "", ErrLinkOut
	}
	to, err := r.Readlink(name)
	if err != nil {
		return "", err
	}
	if after, err := r.Lstat(name); err != nil || !os.SameFile(before, after) {
		return "", errors.Join(err, ErrLinkOut)
	}
	if !filepath.IsAbs(to) {
		to = filepath.Join(r.Name(), filepath.Dir(name), to)
	}
	return to, nil
}

// readInclude reads a file that settings of the site in root include. One outside of it
// must be root's, of who runs this, or of the owner of the site's folder.
func readInclude(root, p string) ([]byte, error) {
	if inside := relative(root, p); filepath.IsLocal(inside) {
		b, _, err := ReadOwn(root, inside)
		return b, err
	}
	f, err := fsys.OpenFile(p)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	folder, err := os.Stat(root)
	if err != nil {
		return nil, err
	}
	uid, _ := fsys.Owner(st)
	owner, _ := fsys.Owner(folder)
	if !fsys.Ours(st) && uid != owner {
		return nil, fmt.Errorf("%s belongs to somebody else", p)
	}
	return fsys.ReadUpTo(f, maxSettings)
}

// checkDatabaseFile insists that the path of an SQLite database in the site's folder does
// not lead out of it by somebody else's link.
func checkDatabaseFile(root, file string) error {
	inside := relative(root, file)
	if !filepath.IsLocal(inside) {
		return nil // the settings say so
	}
	r, err := fsys.OpenExact(root)
	if err != nil {
		return err
	}
	defer r.Close()
	if _, err := r.Stat(filepath.FromSlash(inside)); err == nil || !escapes(err) {
		return nil
	}
	if _, err := linkOut(r, filepath.FromSlash(inside)); err != nil {
		return fmt.Errorf("the database %s: %w", file, err)
	}
	return nil
}
