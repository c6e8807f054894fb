package archive

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Archive gives random access to an archive that can seek. Its methods may be
// called from several goroutines.
type Archive struct {
	r       io.ReaderAt
	size    int64
	at      int64 // where the compressed index begins
	trailer trailer
}

// Open reads the index of the archive of size bytes in r. The content itself is
// not read; Scan proves it.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	head := make([]byte, min(size, 1024))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("read archive: %w", err)
	}
	if len(head) < 4 || string(head[:4]) != "\x28\xb5\x2f\xfd" {
		return nil, NotArchive(head)
	}
	a := &Archive{r: r, size: size}
	if size < trailerSize+8 {
		if err := a.looksLikeOurs(); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%w: only %d bytes of it are there", ErrTruncated, size)
	}
	end := make([]byte, trailerSize)
	if err := readAt(r, end, size-trailerSize); err != nil {
		return nil, truncated(err)
	}
	if string(end[:8]) != trailerMagic {
		if err := a.looksLikeOurs(); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%w: there is no index at its end (%d bytes are there)", ErrTruncated, size)
	}
	t, err := parseTrailer(end)
	if err != nil {
		return nil, err
	}
	at := size - trailerSize - int64(t.index)
	if at < 8 || t.stream != uint64(at-8) {
		return nil, fmt.Errorf("%w: it should be %d bytes long and is %d", ErrCorrupt, t.stream+8+t.index+trailerSize, size)
	}
	a.at = at
	head = make([]byte, 8)
	if err := readAt(r, head, at-8); err != nil {
		return nil, truncated(err)
	}
	want := appendSkippable(nil, uint32(t.index)+trailerSize)
	if !bytes.Equal(head, want) {
		return nil, fmt.Errorf("%w: the index has a wrong frame header", ErrCorrupt)
	}
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(r, at, int64(t.index))); err != nil {
		return nil, truncated(err)
	}
	if a.trailer, err = decodeTrailer(end, h); err != nil {
		return nil, err
	}
	return a, nil
}

// readAt fills b. A reader may tell of the end with the last bytes before it.
func readAt(r io.ReaderAt, b []byte, off int64) error {
	n, err := r.ReadAt(b, off)
	if n == len(b) && errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// looksLikeOurs decodes the first frame of a file without index: one that
// holds a tar header is a torn archive, anything else is no archive.
func (a *Archive) looksLikeOurs() error {
	fr := frameReader{r: bufio.NewReader(io.NewSectionReader(a.r, 0, a.size))}
	packed, skippable, _, err := fr.next(nil)
	if errors.Is(err, ErrTruncated) {
		return nil // it may be ours
	}
	if err != nil || skippable {
		return NotArchive([]byte("\x28\xb5\x2f\xfd"))
	}
	f := scanFrame{packed: packed, decoded: make(chan struct{})}
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxFrameContent))
	if err != nil {
		return err
	}
	defer d.Close()
	if f.decode(d); f.err != nil {
		return f.err
	}
	if _, err := tar.NewReader(bytes.NewReader(f.content)).Next(); err != nil {
		return notTar(&scanner{}, f.content, err)
	}
	return nil
}

// Totals tells what the index says of the whole.
func (a *Archive) Totals() Totals {
	return Totals{Entries: int64(a.trailer.entries), Content: int64(a.trailer.content), Compressed: a.size}
}

// located is an entry with the place of its frames.
type located struct {
	Entry
	pos    position
	frames []placedFrame // those it lies in
}

type placedFrame struct {
	frameInfo
	at int64
}

// errStop ends a walk early.
var errStop = errors.New("stop")

// Entries calls yield for each entry in the order of the archive, until yield
// returns an error, which Entries then returns. It reads only the index.
func (a *Archive) Entries(yield func(Entry) error) error {
	return a.walk(func(l *located) error { return yield(l.Entry) })
}

func (a *Archive) walk(yield func(*located) error) error {
	size := int64(a.trailer.index)
	d, err := openIndex(io.NewSectionReader(a.r, a.at, size), size)
	if err != nil {
		return err
	}
	defer d.Close()
	rr := recordReader{bufio.NewReader(d)}
	var f frameInfo
	var l located
	var at int64
	for {
		kind, err := rr.next(&f, &l.Entry, &l.pos)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if kind == recordFrame {
			l.frames = append(l.frames, placedFrame{f, at})
			at += int64(f.compressed)
			continue
		}
		if l.pos.back >= uint64(len(l.frames)) {
			return fmt.Errorf("%w: %q begins before the archive", ErrCorrupt, l.Name)
		}
		if err := yield(&l); err != nil {
			return err
		}
		l.frames = l.frames[len(l.frames)-1:]
	}
}

// Open returns the content of the entry with this name, checked as it is read.
// The error wraps ErrNoEntry where there is none.
func (a *Archive) Open(name string) (Entry, io.Reader, error) {
	var found *located
	err := a.walk(func(l *located) error {
		if l.Name != name {
			return nil
		}
		found = &located{Entry: l.Entry, pos: l.pos, frames: append([]placedFrame(nil), l.frames[len(l.frames)-1-int(l.pos.back):]...)}
		return errStop
	})
	if err != nil && !errors.Is(err, errStop) {
		return Entry{}, nil, err
	}
	if found == nil {
		return Entry{}, nil, fmt.Errorf("%w: %q", ErrNoEntry, name)
	}
	return found.Entry, &entryReader{frames: &unpacker{r: a.r}, l: found, left: found.Size}, nil
}

// Each calls visit for each entry that want accepts, with its content, checked as
// it is read. It goes through the index once.
func (a *Archive) Each(want func(*Entry) bool, visit func(Entry, io.Reader) error) error {
	frames := &unpacker{r: a.r}
	defer frames.close()
	return a.walk(func(l *located) error {
		if !want(&l.Entry) {
			return nil
		}
		in := &located{Entry: l.Entry, pos: l.pos, frames: l.frames[len(l.frames)-1-int(l.pos.back):]}
		return visit(l.Entry, &entryReader{frames: frames, l: in, left: l.Size})
	})
}

// ErrNoEntry says that an archive has no entry of the name asked for.
var ErrNoEntry = errors.New("no such entry in the archive")

// ReadFile returns the whole content of an entry of at most limit bytes.
func (a *Archive) ReadFile(name string, limit int64) ([]byte, error) {
	e, r, err := a.Open(name)
	if err != nil {
		return nil, err
	}
	if e.Size > limit {
		return nil, fmt.Errorf("%w: %q is %d bytes, more than the %d allowed", ErrRefused, name, e.Size, limit)
	}
	return io.ReadAll(r)
}

// entryReader reads one entry frame by frame.
type entryReader struct {
	frames *unpacker
	l      *located
	next   int
	buf    []byte
	left   int64
}

func (r *entryReader) Read(b []byte) (int, error) {
	for len(r.buf) == 0 {
		if r.left == 0 {
			return 0, io.EOF
		}
		if err := r.frame(); err != nil {
			return 0, err
		}
	}
	n := copy(b, r.buf)
	r.buf = r.buf[n:]
	return n, nil
}

func (r *entryReader) frame() error {
	if r.next >= len(r.l.frames) {
		return fmt.Errorf("%w: %q is longer than its frames", ErrCorrupt, r.l.Name)
	}
	content, err := r.frames.unpack(r.l.frames[r.next])
	if err != nil {
		return fmt.Errorf("%q: %w", r.l.Name, err)
	}
	if r.next == 0 {
		if r.l.pos.data > uint64(len(content)) {
			return fmt.Errorf("%w: %q begins outside its frame", ErrCorrupt, r.l.Name)
		}
		content = content[r.l.pos.data:]
	}
	r.next++
	r.buf = content[:min(int64(len(content)), r.left)]
	r.left -= int64(len(r.buf))
	return nil
}

// unpacker unpacks frames. It keeps the last ones: small entries share a frame, and those
// that lie side by side may be in two, one with content that is compressed already.
type unpacker struct {
	r    io.ReaderAt
	dec  *zstd.Decoder
	kept [2]struct {
		at      int64
		content []byte
	}
}

func (u *unpacker) unpack(p placedFrame) ([]byte, error) {
	for i, k := range u.kept {
		if k.content != nil && k.at == p.at {
			u.kept[0], u.kept[i] = k, u.kept[0]
			return k.content, nil
		}
	}
	if p.content > maxFrameContent || p.compressed > 2*maxFrameContent {
		return nil, fmt.Errorf("%w: a frame claims %d bytes", ErrCorrupt, p.content)
	}
	f := scanFrame{packed: make([]byte, p.compressed), decoded: make(chan struct{})}
	if err := readAt(u.r, f.packed, p.at); err != nil {
		return nil, truncated(err)
	}
	if frameSum(f.packed) != p.sum {
		return nil, fmt.Errorf("%w: a frame does not match its checksum", ErrCorrupt)
	}
	if u.dec == nil {
		var err error
		if u.dec, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxFrameContent)); err != nil {
			return nil, err
		}
	}
	if f.decode(u.dec); f.err != nil {
		return nil, f.err
	}
	u.kept[1] = u.kept[0]
	u.kept[0].at, u.kept[0].content = p.at, f.content
	return f.content, nil
}

func (u *unpacker) close() {
	if u.dec != nil {
		u.dec.Close()
	}
}
