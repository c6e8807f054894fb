//go:build !windows

package readdress

import (
	"io/fs"
	"os"
	"syscall"
)

// copyOwner gives a file the owner that info tells of. Who may not give files
// away owns them: it can only be a member of the group that may write there.
func copyOwner(path string, info fs.FileInfo) error {
	sys, ok := info.Sys().(*syscall.Stat_t)
	if !ok || (int(sys.Uid) == os.Geteuid() && int(sys.Gid) == os.Getegid()) {
		return nil
	}
	err := os.Lchown(path, int(sys.Uid), int(sys.Gid))
	if os.Geteuid() != 0 {
		return nil
	}
	return err
}
