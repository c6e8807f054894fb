package archive

import "fmt"

// Names adds up the room of the folders and links of a site, which a reader has to
// remember until the end: what is in a folder changes its time, and a link must not be
// there while something could be written through it. The zero value is ready.
type Names struct{ room int }

const (
	nameRoom  = 128      // bytes for a folder or link beside its name
	namesRoom = 64 << 20 // for all of them
)

// Add adds a folder, or a link with what it leads to. The error wraps ErrRefused, once
// they are too many.
func (n *Names) Add(name, link string) error {
	if n.room += nameRoom + len(name) + len(link); n.room > namesRoom {
		return fmt.Errorf("%w: it has more folders and links than can be restored: at most %d, and fewer if their names are long (at %.100q)", ErrRefused, namesRoom/nameRoom, name)
	}
	return nil
}
