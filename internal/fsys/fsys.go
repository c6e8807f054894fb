// Package fsys is what operating systems do each in their own way with files:
// numbers by which files are known, owners, free space, locks, exchanging two
// folders, and making what was written durable.
package fsys

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrLocked says that another process holds a lock.
var ErrLocked = errors.New("it is locked")

// ErrNotAtOnce says that the system cannot exchange two names in one step.
var ErrNotAtOnce = errors.New("names cannot be exchanged in one step here")

// Disk is the file system that a folder lies on.
type Disk struct {
	Free     int64  // bytes that a user may still write
	Block    int64  // bytes by which files grow
	Inodes   int64  // files that may still be made; -1: as many as have room
	PerInode int64  // bytes that each file takes besides its content
	Device   uint64 // its number
}

// Whole gives the bytes that a file of size bytes takes of the disk, in whole blocks.
func (d Disk) Whole(size int64) int64 { return (size+d.Block-1)/d.Block*d.Block + d.PerInode }

// GiveOwner gives an open file the owner of another. Who may not give files away owns
// them: it can only be a member of the group that may write there.
func GiveOwner(f *os.File, of fs.FileInfo) error {
	uid, gid := Owner(of)
	if uid < 0 || uid == os.Geteuid() && gid == os.Getegid() {
		return nil
	}
	if err := f.Chown(uid, gid); err != nil && os.Geteuid() == 0 {
		return err
	}
	return nil
}

// IsMount reports whether a folder, an absolute path without links, is where a file system
// is mounted, so that it cannot be renamed.
func IsMount(path string) bool {
	here, err := os.Lstat(path)
	if err != nil || !here.IsDir() {
		return false
	}
	above, err := os.Lstat(filepath.Dir(path))
	return err == nil && Device(above) != Device(here) || mounted(path)
}
