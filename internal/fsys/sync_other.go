//go:build !linux

package fsys

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// SyncTree makes a folder and all that is in it durable.
func SyncTree(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return nil // a file that may not be written was closed long ago
		}
		return errors.Join(f.Sync(), f.Close())
	})
}
