package restore

import "golang.org/x/sys/windows"

// freeSpace gives the bytes that a user may still write on the disk of dir.
func freeSpace(dir string) (int64, bool) {
	p, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, false
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(p, &free, nil, nil); err != nil {
		return 0, false
	}
	return int64(free), true
}
