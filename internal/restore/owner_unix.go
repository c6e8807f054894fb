//go:build !windows

package restore

import (
	"os"
	"syscall"
)

// ownerOf gives user and group of a file, -1 where they cannot be known.
func ownerOf(path string) (uid, gid int) {
	st, err := os.Lstat(path)
	if err != nil {
		return -1, -1
	}
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return -1, -1
	}
	return int(sys.Uid), int(sys.Gid)
}
