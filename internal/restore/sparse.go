package restore

import (
	"bytes"
	"os"
	"strings"

	"hovix/internal/archive"
	"hovix/internal/manifest"
)

var zeros [manifest.Block]byte

// writeAt writes a piece of a file. Of one that had holes at its source, blocks of zeros are
// not written, and so are holes again.
func (s *fileStage) writeAt(f *os.File, p archive.Piece) error {
	if !s.sparse[strings.TrimPrefix(p.Entry.Name, manifest.FilesDir)] {
		_, err := f.WriteAt(p.Data, p.Offset)
		return err
	}
	if err := f.Truncate(p.Entry.Size); err != nil { // it may end with a hole
		return err
	}
	begun := 0 // of what is to be written
	for at := 0; at < len(p.Data); {
		n := min(len(p.Data)-at, len(zeros)-int((p.Offset+int64(at))%int64(len(zeros))))
		if bytes.Equal(p.Data[at:at+n], zeros[:n]) {
			if _, err := f.WriteAt(p.Data[begun:at], p.Offset+int64(begun)); err != nil {
				return err
			}
			begun = at + n
		}
		at += n
	}
	_, err := f.WriteAt(p.Data[begun:], p.Offset+int64(begun))
	return err
}
