// Package archive reads and writes the Hovix container: one POSIX pax tar
// stream inside a sequence of independent Zstandard frames, followed by an
// index in a skippable frame. Standard tools (tar, zstd) read the tar stream
// and pass over the index; this package uses the index to prove every byte,
// to list entries at once and to fetch single entries.
//
// The package knows nothing of sites or databases. It takes and gives entries:
// a name, a type, metadata and bytes. A Writer compresses on several cores and
// writes in order to any io.Writer; Scan reads any io.Reader, a pipe as well as
// a file, decodes on several cores and hands out the entries; Open gives random
// access where the input can seek.
//
// docs/archive-format.md specifies every field.
package archive

import (
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
)

// Sizes that the format fixes or that bound what a reader accepts, in bytes.
const (
	// FrameSize is how much tar stream one frame holds when it is full.
	FrameSize = 4 << 20
	// maxFrameContent bounds what a reader decodes from one frame, so that a
	// hostile frame cannot claim gigabytes.
	maxFrameContent = 2 * FrameSize
	// blockSize is the unit of a tar stream.
	blockSize = 512
)

// Type says what an entry is. The values are those of POSIX tar type flags.
type Type byte

// The entry types that a Hovix archive may hold; a reader refuses all others.
const (
	TypeFile    Type = '0'
	TypeSymlink Type = '2'
	TypeDir     Type = '5'
)

// String names the type for messages.
func (t Type) String() string {
	switch t {
	case TypeFile:
		return "file"
	case TypeSymlink:
		return "symbolic link"
	case TypeDir:
		return "folder"
	}
	return fmt.Sprintf("tar type %q", byte(t))
}

// Entry describes one member of the archive.
type Entry struct {
	Name    string    // slash-separated path without leading slash; any bytes but NUL
	Type    Type      // file, folder or symbolic link
	Size    int64     // bytes of content; 0 for folders and links
	Mode    uint32    // permission bits, 0 to 0777 (setuid, setgid and sticky are never kept)
	ModTime time.Time // to the nanosecond, UTC
	Link    string    // target of a symbolic link
	// Changed and Inode tell of the file at its source whether it is still the same. They are
	// in archives only that a pack may go on with, and not in the index.
	Changed time.Time
	Inode   uint64
	SHA256  [32]byte // of the content; known when the entry has been written or read whole
}

// Errors that a caller may want to tell apart with errors.Is.
var (
	// ErrNotArchive says that the input is not a Hovix archive at all.
	ErrNotArchive = errors.New("not a Hovix archive")
	// ErrTruncated says that the input ends before the archive does.
	ErrTruncated = errors.New("the archive ends early")
	// ErrCorrupt says that bytes of the archive are not those that were written.
	ErrCorrupt = errors.New("the archive is damaged")
	// ErrRefused says that an entry is of a shape that no site needs and that
	// could harm the target.
	ErrRefused = errors.New("refused entry")
)

// CheckName returns an error wrapping ErrRefused if name could lead out of the
// folder into which the archive is unpacked, or is not in its shortest form.
func CheckName(name string) error {
	bad := ""
	switch {
	case name == "":
		bad = "an empty name"
	case strings.HasPrefix(name, "/"):
		bad = "an absolute path"
	case strings.IndexByte(name, 0) >= 0:
		bad = "a NUL byte in its name"
	case strings.HasPrefix(name, "../") || name == ".." || strings.Contains(name, "/../") || strings.HasSuffix(name, "/.."):
		bad = "a path that leads upwards"
	case path.Clean(name) != name:
		bad = "a path that is not in its shortest form"
	default:
		return nil
	}
	return fmt.Errorf("%w: %q has %s", ErrRefused, name, bad)
}

// LeadsOut reports whether a symbolic link at name, a path relative to a folder,
// may lead out of that folder. One with a step upwards behind a name is taken to do
// so: where the name is a link itself, nobody knows what is above it.
func LeadsOut(name, link string) bool {
	if strings.HasPrefix(link, "/") || strings.HasPrefix(link, `\`) || len(link) > 1 && link[1] == ':' {
		return true
	}
	up, down := strings.Count(name, "/"), false
	for _, step := range strings.Split(link, "/") {
		switch step {
		case "", ".":
		case "..":
			if up--; up < 0 || down {
				return true
			}
		default:
			down = true
		}
	}
	return false
}

// DescribeHead says in a few words what content begins with the bytes head,
// for the message that it is no archive: "a web page", "an empty file" …
// It returns "" where it has no better word than "something else".
func DescribeHead(head []byte) string {
	trimmed := strings.TrimLeft(strings.TrimPrefix(string(head), "\ufeff"), " \t\r\n")
	lower := strings.ToLower(trimmed[:min(len(trimmed), 64)])
	has := func(prefix string) bool { return strings.HasPrefix(string(head), prefix) }
	switch {
	case len(head) == 0:
		return "an empty file"
	case strings.HasPrefix(lower, "<!doctype html"), strings.HasPrefix(lower, "<html"), strings.HasPrefix(lower, "<head"), strings.HasPrefix(lower, "<!-- "):
		return "a web page (a share link often delivers the page around the file instead of the file)"
	case strings.HasPrefix(lower, "<?xml"):
		return "an XML document"
	case strings.HasPrefix(lower, "{"), strings.HasPrefix(lower, "["):
		return "a JSON document (often an error message of the download server)"
	case has("PK\x03\x04"), has("PK\x05\x06"):
		return zipFile
	case has("PGDMP"):
		return customDump
	case has("\xfd7zXZ"):
		return "xz data"
	case has("age-encryption.org/v1"):
		return "an encrypted file"
	case has("SQLite format 3\x00"):
		return "an SQLite database"
	case has("\x28\xb5\x2f\xfd"):
		return "Zstandard data, but without a Hovix archive in it"
	case isTar(head):
		return tarFile
	case isSQL(lower):
		return sqlDump
	}
	return ""
}

// What files are that others than Hovix have made of a site.
const (
	zipFile    = "a zip file"
	tarFile    = "a tar file"
	sqlDump    = "an SQL dump"
	customDump = "a dump in PostgreSQL's custom format"
)

func isTar(head []byte) bool { return len(head) > 262 && string(head[257:262]) == "ustar" }

// isSQL knows what dumps begin with, in small letters.
func isSQL(lower string) bool {
	for _, begin := range []string{"-- ", "--\n", "--\r\n", "/*!", "/*m!", "create ", "insert ", "pragma ", "set ", "drop ", "begin;", "begin transaction", "use `"} {
		if strings.HasPrefix(lower, begin) {
			return true
		}
	}
	return false
}

// ForeignError says what a file is that is no archive. It wraps ErrNotArchive.
type ForeignError struct {
	What string // "a tar file, compressed with gzip"; empty: nothing known
	// Files says that it may hold the files of a site, Dump that it is a dump of a database
	// as SQL text, Custom that it is one which PostgreSQL's own programs turn into that.
	Files, Dump, Custom bool
}

// Error says what it is.
func (e *ForeignError) Error() string {
	if e.What == "" {
		return ErrNotArchive.Error()
	}
	return fmt.Sprintf("%v: it is %s", ErrNotArchive, e.What)
}

// Unwrap gives ErrNotArchive.
func (e *ForeignError) Unwrap() error { return ErrNotArchive }

// NotArchive returns a *ForeignError that says what begins with head instead, which is
// looked into where it is compressed.
func NotArchive(head []byte) error {
	if in, kind := inside(head); kind != "" {
		what := DescribeHead(in)
		e := foreign(what)
		if e.What = kind + " data"; what != "" {
			e.What = what + ", compressed with " + kind
		}
		return e
	}
	return foreign(DescribeHead(head))
}

func foreign(what string) *ForeignError {
	return &ForeignError{what, what == tarFile || what == zipFile, what == sqlDump, what == customDump}
}

// inside gives the beginning of what is compressed with gzip or bzip2.
func inside(head []byte) (in []byte, kind string) {
	var r io.Reader
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		kind = "gzip"
		z, err := gzip.NewReader(bytes.NewReader(head))
		if err != nil {
			return nil, kind
		}
		r = z
	case bytes.HasPrefix(head, []byte("BZh")):
		kind, r = "bzip2", bzip2.NewReader(bytes.NewReader(head))
	default:
		return nil, ""
	}
	in = make([]byte, 1024)
	n, _ := io.ReadFull(r, in) // there may be less of it
	return in[:n], kind
}
