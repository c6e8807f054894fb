package pieces

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"hovix/internal/inflate"
	"hovix/internal/progress"
)

// ErrNotPiece says that a file is neither a tar file nor a zip file.
var ErrNotPiece = errors.New("neither a tar file (plain, gzip, zstd, bzip2) nor a zip file")

// Unpack writes what a tar or zip file holds into the folder into, and nothing
// anywhere else. It gives the names of what it passed over: devices and the like,
// and names that lead out.
func Unpack(ctx context.Context, name, into string, rep progress.Reporter) (skipped []string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	progress.Of(rep).Phase("Unpacking "+filepath.Base(name), st.Size())
	u := &unpacker{ctx: ctx, root: root}
	head := make([]byte, 4)
	if _, err := f.ReadAt(head, 0); err == nil && string(head) == "PK\x03\x04" {
		err = u.zip(f, st.Size(), progress.Of(rep))
		return u.skipped, errors.Join(err, u.folders())
	}
	err = u.tar(&progress.Reader{R: f, Rep: progress.Of(rep)})
	return u.skipped, errors.Join(err, u.folders())
}

// unpacker writes below root.
type unpacker struct {
	ctx     context.Context
	root    *os.Root
	skipped []string
	dirs    []member // whose rights and times are set when all is in them
}

// member is an entry of a tar or zip file.
type member struct {
	name string
	mode fs.FileMode
	when time.Time
	link string // of a symbolic link
	hard string // another member that this one is the same file as
}

func (u *unpacker) tar(in io.Reader) error {
	plain, err := inflate.Reader(in, 64<<10)
	if err != nil {
		return err
	}
	r := tar.NewReader(plain)
	for n := 0; ; n++ {
		h, err := r.Next()
		switch {
		case errors.Is(err, io.EOF) && n > 0:
			return nil
		case n == 0 && err != nil:
			return ErrNotPiece
		case err != nil:
			return fmt.Errorf("after %d entries: %w", n, err)
		}
		m := member{name: h.Name, mode: h.FileInfo().Mode(), when: h.ModTime}
		switch h.Typeflag {
		case tar.TypeLink:
			m.hard = h.Linkname
		case tar.TypeSymlink:
			m.link = h.Linkname
		}
		if err := u.add(m, r); err != nil {
			return fmt.Errorf("%s: %w", h.Name, err)
		}
	}
}

func (u *unpacker) zip(f *os.File, size int64, rep progress.Reporter) error {
	r, err := zip.NewReader(f, size)
	if err != nil {
		return err
	}
	for _, e := range r.File {
		if err := u.zipped(e, rep); err != nil {
			return fmt.Errorf("%s: %w", e.Name, err)
		}
	}
	return nil
}

func (u *unpacker) zipped(e *zip.File, rep progress.Reporter) error {
	in, err := e.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	m := member{name: strings.ReplaceAll(e.Name, `\`, "/"), mode: e.Mode(), when: e.Modified}
	m.mode &^= 0o022 // where rights are unknown, all are given
	if m.mode&fs.ModeSymlink != 0 {
		link, err := io.ReadAll(io.LimitReader(in, 4096))
		if err != nil {
			return err
		}
		m.link = string(link)
	}
	err = u.add(m, in)
	rep.Add(int64(e.CompressedSize64))
	return err
}

// clean gives a name relative to the root; "" for one that leads out of it.
func clean(name string) string {
	name = path.Clean(strings.TrimLeft(name, "/"))
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return ""
	}
	return name
}

// add writes one member. A later one takes the place of an earlier.
func (u *unpacker) add(m member, content io.Reader) error {
	if err := u.ctx.Err(); err != nil {
		return err
	}
	given := m.name
	m.name = clean(given)
	isFile := m.mode.IsRegular() && m.link == ""
	switch {
	case m.name == "", !m.mode.IsDir() && !isFile && m.link == "":
		u.skipped = append(u.skipped, given)
		return nil
	case m.name == ".":
		return nil
	case m.mode.IsDir():
		u.dirs = append(u.dirs, m)
		return u.root.MkdirAll(m.name, 0o700)
	}
	if dir := path.Dir(m.name); dir != "." {
		if err := u.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if err := u.root.Remove(m.name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	switch {
	case m.link != "":
		return u.root.Symlink(m.link, m.name)
	case m.hard != "":
		target := clean(m.hard)
		if target == "" {
			u.skipped = append(u.skipped, given)
			return nil
		}
		return u.root.Link(target, m.name)
	}
	return u.file(m, content)
}

func (u *unpacker) file(m member, content io.Reader) (err error) {
	out, err := u.root.OpenFile(m.name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, m.mode.Perm()|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, content)
	if err == nil {
		err = out.Chmod(m.mode.Perm() | 0o400) // it has to be read again
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	return u.root.Chtimes(m.name, m.when, m.when)
}

// folders gives folders their rights and times, inner ones first.
func (u *unpacker) folders() (err error) {
	for i := len(u.dirs) - 1; i >= 0; i-- {
		d := u.dirs[i]
		err = errors.Join(err, u.root.Chmod(d.name, d.mode.Perm()|0o500), u.root.Chtimes(d.name, d.when, d.when))
	}
	return err
}
