// Package outfile writes the files that a command is told to write.
//
// A regular file gets its content as a whole or not at all: it is written beside its
// place, as NAME.partial, and renamed. One that is replaced hands on its mode and
// owner; through a symbolic link it is what the link leads to. What is no regular
// file, a pipe or a device, is written into, and stays what it is.
package outfile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"hovix/internal/fsys"
)

// Errors that a caller may want to explain.
var (
	ErrFolder   = errors.New("it is a folder")                     // in the place of the file
	ErrExists   = errors.New("it exists already")                  // and nobody said that it may be replaced
	ErrBusy     = errors.New("another run of Hovix is writing it") // at this moment
	ErrNoFolder = errors.New("the folder in which it would lie is not there")
)

// partial ends the name of a file that is not whole yet.
const partial = ".partial"

// Options say what may be done. The zero value makes a new file.
type Options struct {
	Replace bool        // what is there already, a disk among it
	Resume  bool        // go on with what an interrupted run has left, and leave it again
	Mode    fs.FileMode // of a new file; 0: 0600
}

// File is a file that is being written.
type File struct {
	*os.File
	name  string // that it gets in the end; empty: it has it already
	leave bool
}

// Create begins to write the file at path. It wraps one of the errors above, or that of
// the system. Opening a pipe waits for its reader until ctx is done.
func Create(ctx context.Context, path string, opts Options) (*File, error) {
	st, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Lstat(path); err == nil {
			return nil, fmt.Errorf("%s is a link that leads to nothing", path)
		}
		return create(path, nil, opts)
	case err != nil:
		return nil, err
	case st.IsDir():
		return nil, fmt.Errorf("%s: %w", path, ErrFolder)
	case !st.Mode().IsRegular():
		if isDisk(st) && !opts.Replace {
			return nil, fmt.Errorf("%s, a disk: %w", path, ErrExists)
		}
		return open(ctx, path)
	case !opts.Replace:
		return nil, fmt.Errorf("%s: %w", path, ErrExists)
	}
	target, err := fsys.Resolve(path)
	if err != nil {
		return nil, err
	}
	return create(target, st, opts)
}

func isDisk(st fs.FileInfo) bool {
	return st.Mode()&fs.ModeDevice != 0 && st.Mode()&fs.ModeCharDevice == 0
}

// open opens what is no regular file.
func open(ctx context.Context, path string) (*File, error) {
	type opened struct {
		f   *os.File
		err error
	}
	done := make(chan opened, 1)
	go func() {
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		done <- opened{f, err}
	}()
	select {
	case o := <-done:
		if o.err != nil {
			return nil, o.err
		}
		return &File{File: o.f}, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// create begins a regular file, which takes the place of old if that is given.
func create(path string, old fs.FileInfo, opts Options) (*File, error) {
	f, err := os.OpenFile(path+partial, os.O_CREATE|os.O_RDWR, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", path, ErrNoFolder)
	}
	if err != nil {
		return nil, err
	}
	if err := begin(f, old, opts); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &File{File: f, name: path, leave: opts.Resume}, nil
}

// begin makes sure that f is ours alone, and empties it.
func begin(f *os.File, old fs.FileInfo, opts Options) error {
	st, err := f.Stat()
	if err != nil {
		return err
	}
	// In a folder to which others may write, the name can be a link to another file.
	if now, err := os.Lstat(f.Name()); err != nil || !os.SameFile(now, st) || !st.Mode().IsRegular() || !fsys.Ours(st) {
		return fmt.Errorf("%s is no file of yours; remove it", f.Name())
	}
	if err := fsys.Lock(f); err != nil {
		return fmt.Errorf("%s: %w", f.Name(), ErrBusy)
	}
	if !opts.Resume {
		err = f.Truncate(0)
	}
	mode := opts.Mode
	if mode == 0 {
		mode = 0o600
	}
	if old != nil {
		mode = old.Mode().Perm()
		err = errors.Join(err, fsys.GiveOwner(f, old))
	}
	return errors.Join(err, f.Chmod(mode))
}

// Whole reports whether what is written gets its name only in the end.
func (f *File) Whole() bool { return f.name != "" }

// End gives a whole file its name. After an error, which it returns, it removes what was
// written, or leaves it to be gone on with; left says so.
func (f *File) End(err error) (left bool, _ error) {
	if e := f.Close(); err == nil {
		err = e
	}
	if f.name == "" {
		return false, err
	}
	if err == nil {
		err = os.Rename(f.Name(), f.name)
	}
	switch {
	case err == nil:
		return false, nil
	case f.leave:
		return true, err
	}
	return false, errors.Join(err, os.Remove(f.Name()))
}
