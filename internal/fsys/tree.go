package fsys

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"path/filepath"
)

// batch is how many names of a folder are read at a time; it may hold millions.
const batch = 1000

// RemoveTree removes a file, a link, or a folder with all that is in it, until ctx is
// done. That there is nothing by the name is no error.
func (h *Handle) RemoveTree(ctx context.Context, name string) error {
	err := h.Root.Remove(name)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if st, e := h.Lstat(name); e != nil || !st.IsDir() {
		return err
	}
	dir, err := h.Sub(name)
	if err != nil {
		return err
	}
	err = dir.clear(ctx)
	if err = errors.Join(err, dir.Close()); err != nil {
		return err
	}
	if err := h.Root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// clear removes what is in the folder.
func (h *Handle) clear(ctx context.Context) error {
	for {
		f, err := h.Open(".")
		if err != nil {
			return err
		}
		names, err := f.Readdirnames(batch)
		if err = errors.Join(err, f.Close()); len(names) == 0 {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		for _, name := range names {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if err := h.RemoveTree(ctx, name); err != nil {
				return err
			}
		}
	}
}

// Walk calls visit for all that is in the folder, at every depth, with its path in the
// folder, until ctx is done. It is like fs.WalkDir, but that no folder is held in
// memory as a whole, that nothing is in order, and that the folder itself is not visited.
// For a folder that cannot be read visit is called once more, with the error and no entry.
func (h *Handle) Walk(ctx context.Context, visit fs.WalkDirFunc) error {
	for rest := []string{"."}; len(rest) > 0; {
		folder := rest[len(rest)-1]
		rest = rest[:len(rest)-1]
		err := h.each(ctx, folder, func(d fs.DirEntry) error {
			rel := path.Join(folder, d.Name())
			err := visit(rel, d, nil)
			switch {
			case errors.Is(err, fs.SkipDir) && d.IsDir():
				return nil
			case err == nil && d.IsDir():
				rest = append(rest, rel)
			}
			return err
		})
		var unread *unreadError
		if errors.As(err, &unread) {
			err = visit(folder, nil, unread.error)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// unreadError says that a folder cannot be read.
type unreadError struct{ error }

// each calls visit for what lies in a folder in the folder.
func (h *Handle) each(ctx context.Context, folder string, visit func(fs.DirEntry) error) error {
	f, err := h.Open(filepath.FromSlash(folder))
	if err != nil {
		return &unreadError{err}
	}
	defer f.Close()
	for {
		entries, err := f.ReadDir(batch)
		for _, d := range entries {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if err := visit(d); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return &unreadError{err}
		}
	}
}

// SyncAll makes all that is in the folder durable, or stops waiting for it once ctx is done.
func (h *Handle) SyncAll(ctx context.Context) error {
	done := make(chan error, 1)
	go func() { done <- SyncTree(h.Path(".")) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}
