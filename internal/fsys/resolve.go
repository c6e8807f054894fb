package fsys

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
)

// ErrForeignLink says that a path leads through a link of somebody else.
var ErrForeignLink = errors.New("the link on the way to it belongs neither to root, nor to you, nor to the owner of what it leads to, and whoever has made it could lead you anywhere; name the folder itself")

// maxLinks is how many links a path may lead through.
const maxLinks = 40

// Resolve gives the absolute path without links of what a path names, as far as that is
// there. A link of somebody else on the way is followed only to what belongs to whoever
// has made it, as a web server's SymLinksIfOwnerMatch has it: who may write in a folder
// must not choose what others work on.
func Resolve(path string) (string, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if runtime.GOOS == "windows" {
		if real, err := filepath.EvalSymlinks(abs); err == nil {
			return real, nil
		}
		return abs, nil
	}
	done, rest := string(filepath.Separator), strings.Split(strings.Trim(abs, "/"), "/")
	var foreign []link
	for links := 0; len(rest) > 0; {
		next := filepath.Join(done, rest[0]) // ".." of a link too: what stands before it has no links
		st, err := os.Lstat(next)
		if errors.Is(err, fs.ErrNotExist) {
			done, rest = filepath.Join(append([]string{done}, rest...)...), nil
			break
		}
		if err != nil {
			return "", err
		}
		rest = rest[1:]
		if st.Mode()&fs.ModeSymlink == 0 {
			done = next
			continue
		}
		to, err := os.Readlink(next)
		if err != nil {
			return "", err
		}
		if again, err := os.Lstat(next); err != nil || !os.SameFile(st, again) {
			return "", errors.Join(err, fmt.Errorf("%s: it was exchanged meanwhile", next))
		}
		if !Ours(st) {
			foreign = append(foreign, link{next, st})
		}
		if links++; links > maxLinks {
			return "", fmt.Errorf("%s: it leads through more than %d links", path, maxLinks)
		}
		if filepath.IsAbs(to) {
			done = string(filepath.Separator)
		}
		rest = append(strings.FieldsFunc(to, func(r rune) bool { return r == '/' }), rest...)
	}
	for _, l := range foreign {
		if uid, _ := Owner(l.FileInfo); !belongsTo(done, uid) {
			return "", fmt.Errorf("%s: %w", l.path, ErrForeignLink)
		}
	}
	return done, nil
}

// link is a link that a path leads through.
type link struct {
	path string
	fs.FileInfo
}

// belongsTo reports whether what lies at a path is there and a user's.
func belongsTo(path string, uid int) bool {
	st, err := os.Lstat(path)
	if err != nil {
		return false
	}
	owner, _ := Owner(st)
	return owner == uid
}

// Ours reports whether something is root's or of who runs this, as far as the system
// tells.
func Ours(st fs.FileInfo) bool {
	uid, _ := Owner(st)
	return uid <= 0 || uid == os.Geteuid()
}

// OpenExact opens the folder at a path that Resolve has given, of which no part is a
// link, and that was not exchanged for one since.
func OpenExact(path string) (*Handle, error) {
	switch fd, err := openExact(path); {
	case err == nil:
		defer fd.Close()
		r, err := os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", fd.Fd()))
		if err != nil {
			return nil, err
		}
		return newHandle(r, path)
	case !errors.Is(err, errors.ErrUnsupported):
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	case runtime.GOOS == "windows":
		return OpenHandle(path)
	}
	h, err := OpenHandle(string(filepath.Separator))
	if err != nil {
		return nil, err
	}
	for _, name := range strings.FieldsFunc(filepath.Clean(path), func(r rune) bool { return r == '/' }) {
		sub, err := h.Sub(name)
		if err = errors.Join(err, h.Close()); err != nil {
			return nil, err
		}
		h = sub
	}
	h.name = path
	return h, nil
}
