package fsys

import (
	"os"
	"path/filepath"
)

const nonblock = 0

func renameAt(from *Handle, a string, to *Handle, b string) error {
	return os.Rename(filepath.Join(from.Name(), a), filepath.Join(to.Name(), b))
}

func linkAt(from *Handle, a string, to *Handle, b string) error {
	return os.Link(filepath.Join(from.Name(), a), filepath.Join(to.Name(), b))
}

// RemoveDir removes an empty folder.
func RemoveDir(path string) error {
	if st, err := os.Lstat(path); err != nil || !st.IsDir() {
		return err
	}
	return os.Remove(path)
}
