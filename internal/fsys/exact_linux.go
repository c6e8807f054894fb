package fsys

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// openExact opens a folder of whose path no part is a link. Where the kernel cannot do
// that at once, or keeps no /proc, the error wraps errors.ErrUnsupported.
func openExact(path string) (*os.File, error) {
	if !hasProc() {
		return nil, errors.ErrUnsupported
	}
	fd, err := unix.Openat2(unix.AT_FDCWD, path, &unix.OpenHow{
		Flags:   unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS,
	})
	switch {
	case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM): // older than 5.6, or kept from it in a container
		return nil, fmt.Errorf("%w: %w", errors.ErrUnsupported, err)
	case errors.Is(err, unix.ELOOP):
		return nil, errors.New("a folder on the way was exchanged for a link")
	case err != nil:
		return nil, err
	}
	return os.NewFile(uintptr(fd), path), nil
}
