package fsys

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// SyncTree makes a folder and all that is in it durable: with the whole file
// system that it lies on, for to ask for each file takes far longer.
func SyncTree(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(f.Fd())), f.Close())
}
