package fsys

import (
	"io/fs"
	"syscall"
	"time"
)

// Changed gives when a file's content, name or rights last changed, which nobody can set
// (ctime); zero where that is not known.
func Changed(st fs.FileInfo) time.Time {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return time.Unix(s.Ctimespec.Unix())
	}
	return time.Time{}
}
