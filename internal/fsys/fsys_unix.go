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

// OnDisk gives the bytes that a file takes of its disk.
func OnDisk(st fs.FileInfo) int64 {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return int64(s.Blocks) * 512
	}
	return st.Size()
}

// DiskOf looks at the file system that dir lies on.
func DiskOf(dir string) (Disk, bool) {
	var fs unix.Statfs_t
	st, err := os.Stat(dir)
	if err != nil || unix.Statfs(dir, &fs) != nil {
		return Disk{}, false
	}
	d := Disk{Free: int64(fs.Bavail) * int64(fs.Bsize), Block: max(1, int64(fs.Bsize)), Inodes: -1, Device: Device(st)}
	if fs.Files > 0 {
		d.Inodes = int64(fs.Ffree)
	}
	if int64(fs.Type) == xfs { // makes its inodes as they are needed
		d.PerInode = 512
	}
	return d, true
}

// xfs is the number by which statfs(2) knows that file system.
const xfs = 0x58465342

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
