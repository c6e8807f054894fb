//go:build !windows

package fsys

import (
	"golang.org/x/sys/unix"
)

// nonblock keeps an open from waiting for the other end of a pipe.
const nonblock = unix.O_NONBLOCK

func renameAt(from *Handle, a string, to *Handle, b string) error {
	return unix.Renameat(int(from.dir.Fd()), a, int(to.dir.Fd()), b)
}

func linkAt(from *Handle, a string, to *Handle, b string) error {
	return unix.Linkat(int(from.dir.Fd()), a, int(to.dir.Fd()), b, 0)
}

// RemoveDir removes an empty folder, and nothing else.
func RemoveDir(path string) error { return unix.Rmdir(path) }
