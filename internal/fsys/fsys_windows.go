package fsys

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/windows"
)

// Serial stands for the number of a file, which a file's information does not
// hold on this system: the time when it was made, which a rename does not change.
// It is never 0.
func Serial(st fs.FileInfo) uint64 {
	if s, ok := st.Sys().(*syscall.Win32FileAttributeData); ok {
		return uint64(s.CreationTime.Nanoseconds()) | 1
	}
	return 1
}

// Device is the number of the file system that a file lies on: always 0 here.
func Device(fs.FileInfo) uint64 { return 0 }

// Owner gives the numbers of the user and the group that own a file; this system
// has none.
func Owner(fs.FileInfo) (uid, gid int) { return -1, -1 }

// OnDisk gives the bytes that a file takes of its disk.
func OnDisk(st fs.FileInfo) int64 { return st.Size() }

// DiskOf looks at the file system that dir lies on.
func DiskOf(dir string) (Disk, bool) {
	p, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return Disk{}, false
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(p, &free, nil, nil); err != nil {
		return Disk{}, false
	}
	return Disk{Free: int64(free), Block: 4096, Inodes: -1}, true
}

// Lock locks a byte behind the content of an open file, until it is closed. Where
// another holds it the error is ErrLocked.
func Lock(f *os.File) error {
	at := windows.Overlapped{Offset: 1 << 20}
	err := windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &at)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return ErrLocked
	}
	return err
}

// Writable returns an error if the user may not make files in dir. It tries: no
// question to this system has a sure answer.
func Writable(dir string) error {
	f, err := os.CreateTemp(dir, ".hovix-try-")
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
