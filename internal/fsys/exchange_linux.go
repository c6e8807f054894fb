package fsys

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// Exchange exchanges two names in one step, so that each is there at every
// moment. Where the file system cannot do that the error wraps ErrNotAtOnce.
func Exchange(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP) {
		return fmt.Errorf("%w: %w", ErrNotAtOnce, err)
	}
	return err
}

// SyncTree makes a folder and all that is in it durable: with the whole file
// system that it lies on, for to ask for each file takes far longer.
func SyncTree(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(f.Fd())), f.Close())
}
