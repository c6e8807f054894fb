//go:build !windows

package restore

import "golang.org/x/sys/unix"

// freeSpace gives the bytes that a user may still write on the disk of dir.
func freeSpace(dir string) (int64, bool) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}
