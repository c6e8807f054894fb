package fsys

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
)

// Handle is a folder that is held open: whatever others do to the names that lead to it,
// what is done by it is done in this folder. Names given to it are local, and a link in
// it leads nowhere but into it.
type Handle struct {
	*os.Root
	dir  *os.File
	name string
}

// OpenHandle opens the folder at path.
func OpenHandle(path string) (*Handle, error) {
	r, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	return newHandle(r, path)
}

// Name is the path that the folder was opened by.
func (h *Handle) Name() string { return h.name }

// Sub opens a folder in the folder. The name must not be that of a link.
func (h *Handle) Sub(name string) (*Handle, error) {
	before, err := h.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !before.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no folder")}
	}
	r, err := h.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	if now, err := r.Stat("."); err != nil || !os.SameFile(before, now) {
		return nil, errors.Join(err, r.Close(), &fs.PathError{Op: "open", Path: name, Err: errors.New("it was exchanged meanwhile")})
	}
	return newHandle(r, filepath.Join(h.name, name))
}

func newHandle(r *os.Root, name string) (*Handle, error) {
	dir, err := r.Open(".")
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return &Handle{r, dir, name}, nil
}

// Close closes the folder.
func (h *Handle) Close() error { return errors.Join(h.dir.Close(), h.Root.Close()) }

// Path gives a path to something in the folder for programs that know paths only. On
// Linux it leads by the open handle, elsewhere by the folder's name.
func (h *Handle) Path(name string) string {
	if hasProc() {
		return filepath.Join(fmt.Sprintf("/proc/self/fd/%d", h.dir.Fd()), name)
	}
	return filepath.Join(h.Name(), name)
}

// hasProc reports whether open files can be reached by their numbers.
var hasProc = sync.OnceValue(func() bool {
	_, err := os.Stat("/proc/self/fd")
	return runtime.GOOS == "linux" && err == nil
})

// Sync makes the names in the folder durable.
func (h *Handle) Sync() error {
	_ = h.dir.Sync() // not every system can
	return nil
}

// SerialOf is Serial of something in the folder, 0 if there is none.
func (h *Handle) SerialOf(name string) uint64 {
	st, err := h.Lstat(name)
	if err != nil {
		return 0
	}
	return Serial(st)
}

// SerialOfFolder is SerialOf, but 0 for what is no folder: a link to one is none.
func (h *Handle) SerialOfFolder(name string) uint64 {
	st, err := h.Lstat(name)
	if err != nil || !st.IsDir() {
		return 0
	}
	return Serial(st)
}

// Rename gives something in one folder a name in another.
func Rename(from *Handle, a string, to *Handle, b string) error {
	return between("rename", from, a, to, b, renameAt)
}

// Swap exchanges something in one folder for something in another, in one step, so that
// each name is there at every moment. Where the file system cannot do that the error wraps
// ErrNotAtOnce.
func Swap(from *Handle, a string, to *Handle, b string) error {
	return between("exchange", from, a, to, b, swapAt)
}

// Link gives a file, or a link itself, a second name in another folder.
func Link(from *Handle, a string, to *Handle, b string) error {
	return between("link", from, a, to, b, linkAt)
}

// between opens the folders in which both names lie, so that no link on the way is
// followed out of them.
func between(op string, from *Handle, a string, to *Handle, b string, f func(from *Handle, a string, to *Handle, b string) error) error {
	x, err := from.folderOf(a)
	if err != nil {
		return err
	}
	defer x.release(from)
	y, err := to.folderOf(b)
	if err != nil {
		return err
	}
	defer y.release(to)
	if err := f(x, filepath.Base(a), y, filepath.Base(b)); err != nil {
		return fmt.Errorf("%s %s and %s: %w", op, a, b, err)
	}
	return nil
}

// folderOf opens the folder in which a name lies.
func (h *Handle) folderOf(name string) (*Handle, error) {
	if !filepath.IsLocal(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it leads out of the folder")}
	}
	dir := filepath.Dir(name)
	if dir == "." {
		return h, nil
	}
	r, err := h.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return newHandle(r, filepath.Join(h.name, dir))
}

func (h *Handle) release(whose *Handle) {
	if h != whose {
		_ = h.Close()
	}
}

// CopyOwnerOf gives a file in the folder the owner of another, as GiveOwner does.
func (h *Handle) CopyOwnerOf(name string, of fs.FileInfo) error {
	uid, gid := Owner(of)
	if uid < 0 || uid == os.Geteuid() && gid == os.Getegid() {
		return nil
	}
	if err := h.Lchown(name, uid, gid); err != nil && os.Geteuid() == 0 {
		return err
	}
	return nil
}

// ReadFile reads a regular file in the folder of at most limit bytes. Anything else,
// such as a pipe, is not waited for.
func (h *Handle) ReadFile(name string, limit int64) ([]byte, error) {
	f, err := OpenRegular(h.Root, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadUpTo(f, limit)
}

// ErrIrregular says that something is neither a file nor a folder nor a link.
var ErrIrregular = errors.New("it is no regular file")

// ErrTooLarge says that a file is larger than makes sense.
var ErrTooLarge = errors.New("it is larger than makes sense")

// OpenRegular opens a regular file in a folder to read it, without waiting for a pipe.
func OpenRegular(r *os.Root, name string) (*os.File, error) {
	f, err := r.OpenFile(name, os.O_RDONLY|nonblock, 0)
	if err != nil {
		return nil, err
	}
	return regular(f)
}

// OpenFile is os.Open for regular files, without waiting for a pipe.
func OpenFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|nonblock, 0)
	if err != nil {
		return nil, err
	}
	return regular(f)
}

func regular(f *os.File) (*os.File, error) {
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: f.Name(), Err: ErrIrregular}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ReadUpTo reads a file that may have at most limit bytes.
func ReadUpTo(f *os.File, limit int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = &fs.PathError{Op: "read", Path: f.Name(), Err: fmt.Errorf("%w: more than %d bytes", ErrTooLarge, limit)}
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}
