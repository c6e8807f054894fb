package restore

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// swap puts the folder stage in the place of target and target's old content
// at old. Linux exchanges two names in one atomic step, so that the site is
// there at every moment; file systems without that get two renames.
func swap(stage, target, old string) error {
	err := unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, target, unix.RENAME_EXCHANGE)
	switch {
	case err == nil:
		return os.Rename(stage, old)
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.ENOTSUP):
		return swapInTwo(stage, target, old)
	}
	return err
}
