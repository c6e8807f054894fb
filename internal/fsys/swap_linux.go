package fsys

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

func swapAt(from *Handle, a string, to *Handle, b string) error {
	err := unix.Renameat2(int(from.dir.Fd()), a, int(to.dir.Fd()), b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP) {
		return fmt.Errorf("%w: %w", ErrNotAtOnce, err)
	}
	return err
}
