//go:build !windows

package fsys

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// Serial is the number by which the file system knows a file, under whatever
// name. It is never 0.
func Serial(st fs.FileInfo) uint64 {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Ino)
	}
	return 1
}

// Device is the number of the file system that a file lies on.
func Device(st fs.FileInfo) uint64 {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Dev)
	}
	return 0
}

// Owner gives the numbers of the user and the group that own a file; -1 where
// they are not known.
func Owner(st fs.FileInfo) (uid, gid int) {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return int(s.Uid), int(s.Gid)
	}
	return -1, -1
}

// FreeSpace gives the bytes that a user may still write on the disk of dir.
func FreeSpace(dir string) (int64, bool) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}

// Lock locks an open file for this process and those that inherit it, until all
// have closed it or are gone. Where another holds it the error is ErrLocked.
func Lock(f *os.File) error {
	err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrLocked
	}
	return err
}

// Writable returns an error if the user may not make files in dir. It makes none.
func Writable(dir string) error { return unix.Access(dir, unix.W_OK|unix.X_OK) }
