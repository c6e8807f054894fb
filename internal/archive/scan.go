package archive

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"runtime"
	"strconv"
	"sync"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"hovix/internal/archive/lanes"
)

// Piece is some content of an entry. A small entry comes as one piece; a large
// one as several, which may arrive in any order and at the same time. Folders,
// links and empty files come as one piece without data.
type Piece struct {
	Entry  *Entry // the same pointer for all pieces of an entry; SHA256 is set with the last, and may be read only then
	Offset int64  // of Data in the entry's content
	Data   []byte // valid only during the call
	Last   bool   // Data reaches to the end of the content
}

// ScanOptions sets how Scan works. The zero value is good.
type ScanOptions struct {
	Workers  int                  // goroutines that decode, and as many that handle pieces; 0: one for each core
	Progress func(n int64)        // told of every n bytes of the archive that have been read
	Entry    func(e *Entry) error // called in the order of the archive, before the entry's pieces
}

// Summary tells what a scan has read.
type Summary struct {
	Entries int64 `json:"entries"` // members of the archive
	Content int64 `json:"content"` // bytes of the tar stream
	Size    int64 `json:"size"`    // bytes of the archive
}

// Scan reads an archive from beginning to end and gives every entry to handle,
// which is called on several goroutines at once. Whatever handle was given
// counts only when Scan has returned nil: then every byte of the input has been
// read, and everything agrees with the index. Otherwise the error wraps
// ErrNotArchive, ErrTruncated, ErrCorrupt or ErrRefused, or is that of the
// input, of handle or of ctx.
func Scan(ctx context.Context, r io.Reader, opts ScanOptions, handle func(context.Context, Piece) error) (Summary, error) {
	if opts.Workers <= 0 {
		opts.Workers = runtime.GOMAXPROCS(0)
	}
	s := &scanner{opts: opts, handle: handle, sum: sha256.New()}
	s.in = frameReader{r: bufio.NewReaderSize(&countingReader{r, opts.Progress}, 256<<10)}
	head, err := s.in.r.Peek(1024)
	if len(head) < 8 || string(head[:4]) != "\x28\xb5\x2f\xfd" {
		if err != nil && !errors.Is(err, io.EOF) {
			return Summary{}, fmt.Errorf("read archive: %w", err)
		}
		return Summary{}, NotArchive(head)
	}
	if err := s.run(ctx); err != nil {
		return Summary{}, err
	}
	size, err := s.finish()
	return Summary{Entries: int64(s.entries), Content: int64(s.content), Size: size}, err
}

// scanFrame is a frame on its way through Scan.
type scanFrame struct {
	packed  []byte
	content []byte
	err     error
	info    frameInfo
	parts   []part
	decoded chan struct{}
	handled chan struct{}
}

type scanner struct {
	opts   ScanOptions
	handle func(context.Context, Piece) error
	in     frameReader
	pool   sync.Pool

	tail    uint32 // size of the skippable frame
	sum     hash.Hash
	entries uint64
	content uint64
	first   bool

	// The large entry of which more frames are to come.
	open     *Entry
	openPos  position
	openAt   int64
	openHash chan hash.Hash
	ended    bool // the end of the tar stream has been seen
}

func (s *scanner) run(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	n := s.opts.Workers
	decode, ordered := make(chan *scanFrame, n), make(chan *scanFrame, n)
	handle, record := make(chan *scanFrame, n), make(chan *scanFrame, n)
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(n), zstd.WithDecoderMaxMemory(maxFrameContent), zstd.WithDecoderMaxWindow(maxFrameContent))
	if err != nil {
		return fmt.Errorf("prepare decompression: %w", err)
	}
	defer dec.Close()
	// What is wrong with the frames before counts more than that no more come.
	var readErr error
	g.Go(func() error {
		defer close(decode)
		defer close(ordered)
		readErr = s.readFrames(ctx, decode, ordered)
		return nil
	})
	for range n {
		g.Go(func() error {
			for f := range decode {
				f.decode(dec)
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(handle)
		defer close(record)
		for f := range ordered {
			<-f.decoded
			if err := s.split(f); err != nil {
				drain(ordered)
				return err
			}
			if !send(ctx, handle, f) || !send(ctx, record, f) {
				drain(ordered)
				return context.Cause(ctx)
			}
		}
		return nil
	})
	for range n {
		g.Go(func() error { return s.handleFrames(ctx, handle) })
	}
	g.Go(func() error {
		for f := range record {
			select {
			case <-f.handled:
				s.record(f)
			case <-ctx.Done():
				return nil
			}
		}
		return nil
	})
	if err := g.Wait(); err != nil {
		return err
	}
	return readErr
}

func send(ctx context.Context, c chan<- *scanFrame, f *scanFrame) bool {
	select {
	case c <- f:
		return true
	case <-ctx.Done():
		return false
	}
}

func drain(c <-chan *scanFrame) {
	go func() {
		for range c {
		}
	}()
}

func (s *scanner) readFrames(ctx context.Context, decode, ordered chan<- *scanFrame) error {
	for {
		f, ok := s.pool.Get().(*scanFrame)
		if !ok {
			f = &scanFrame{}
		}
		f.decoded, f.handled = make(chan struct{}), make(chan struct{})
		var skippable bool
		var size uint32
		var err error
		f.packed, skippable, size, err = s.in.next(f.packed[:0])
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("%w: no index at its end", ErrTruncated)
		}
		if err != nil {
			return err
		}
		if skippable {
			s.tail = size
			return nil
		}
		if !send(ctx, decode, f) || !send(ctx, ordered, f) {
			return context.Cause(ctx)
		}
	}
}

func (f *scanFrame) decode(dec *zstd.Decoder) {
	defer close(f.decoded)
	want := contentSize(f.packed)
	if uint64(cap(f.content)) < want {
		f.content = make([]byte, 0, max(FrameSize, want))
	}
	var err error
	f.content, err = dec.DecodeAll(f.packed, f.content[:0])
	f.err = nil
	if err != nil {
		f.err = fmt.Errorf("%w: %w", ErrCorrupt, err)
	}
	f.info = frameInfo{uint64(len(f.packed)), uint64(len(f.content)), frameSum(f.packed)}
}

// split finds the entries in a decoded frame. It runs in the order of the file.
func (s *scanner) split(f *scanFrame) error {
	f.parts = f.parts[:0]
	if f.err != nil {
		return f.err
	}
	if s.ended {
		return fmt.Errorf("%w: content after its end", ErrCorrupt)
	}
	if s.open != nil {
		return s.goOn(f)
	}
	if len(f.content) == len(zeros) && bytes.Equal(f.content, zeros[:]) {
		s.ended = true
		return nil
	}
	br := bytes.NewReader(f.content)
	tr := tar.NewReader(br)
	for start := 0; ; { // where the next header begins; the reader itself still stands before the last content
		h, err := tr.Next()
		if err != nil {
			return notTar(s, f.content, err)
		}
		e, err := entryOf(h)
		if err != nil {
			return err
		}
		if s.opts.Entry != nil {
			if err := s.opts.Entry(e); err != nil {
				return err
			}
		}
		s.first = true
		from := len(f.content) - br.Len()
		p := part{entry: e, pos: position{0, uint64(start), uint64(from)}, from: from}
		if have := int64(br.Len()); e.Size > have {
			if start != 0 || have%blockSize != 0 {
				return fmt.Errorf("%w: %q does not begin its frame", ErrCorrupt, e.Name)
			}
			p.to, p.next = len(f.content), make(chan hash.Hash, 1)
			s.open, s.openPos, s.openAt, s.openHash = e, p.pos, have, p.next
			f.parts = append(f.parts, p)
			return nil
		}
		p.to = from + int(e.Size)
		f.parts = append(f.parts, p)
		end := from + int(padded(e.Size))
		if end > len(f.content) {
			return fmt.Errorf("%w: %q is not whole in its frame", ErrCorrupt, e.Name)
		}
		if end == len(f.content) {
			return nil
		}
		start = end
	}
}

// notTar says what is wrong with a frame that holds no tar header; for the
// first one, that this is no archive of ours.
func notTar(s *scanner, content []byte, err error) error {
	if !s.first {
		if what := DescribeHead(content[:min(len(content), 1024)]); what != "" {
			return fmt.Errorf("%w: it is %s, compressed with Zstandard", ErrNotArchive, what)
		}
		return fmt.Errorf("%w: Zstandard data, but without a tar file in it", ErrNotArchive)
	}
	return fmt.Errorf("%w: tar header: %w", ErrCorrupt, err)
}

// goOn takes a frame that continues the open entry.
func (s *scanner) goOn(f *scanFrame) error {
	e := s.open
	n := min(e.Size-s.openAt, int64(len(f.content)))
	s.openPos.back++
	p := part{entry: e, pos: s.openPos, from: 0, to: int(n), prev: s.openHash}
	s.openAt += n
	if s.openAt < e.Size {
		p.next = make(chan hash.Hash, 1)
		s.openHash = p.next
	} else {
		if padded(n) != int64(len(f.content)) {
			return fmt.Errorf("%w: %q does not end its frame", ErrCorrupt, e.Name)
		}
		s.open = nil
	}
	f.parts = append(f.parts, p)
	return nil
}

func entryOf(h *tar.Header) (*Entry, error) {
	e := &Entry{Name: h.Name, Type: Type(h.Typeflag), Size: h.Size, Mode: uint32(h.Mode), ModTime: h.ModTime.UTC(), Link: h.Linkname}
	if e.Inode, _ = strconv.ParseUint(h.PAXRecords[paxInode], 10, 64); e.Inode != 0 {
		e.Changed = h.ChangeTime.UTC()
	}
	switch e.Type {
	case TypeDir:
		if n := len(e.Name); n > 1 && e.Name[n-1] == '/' {
			e.Name = e.Name[:n-1]
		}
	case TypeFile, TypeSymlink:
	default:
		return nil, fmt.Errorf("%w: %q is of %v; only files, folders and symbolic links belong in an archive", ErrRefused, h.Name, e.Type)
	}
	if e.Type != TypeFile && e.Size != 0 {
		return nil, fmt.Errorf("%w: %q is a %v with content", ErrRefused, h.Name, e.Type)
	}
	if h.Mode < 0 || h.Mode > 0o777 {
		return nil, fmt.Errorf("%w: %q has mode %o; setuid, setgid and sticky bits do not belong in an archive", ErrRefused, h.Name, h.Mode)
	}
	return e, CheckName(e.Name)
}

func (s *scanner) handleFrames(ctx context.Context, frames <-chan *scanFrame) error {
	var messages []lanes.Message
	for f := range frames {
		messages = appendWhole(messages[:0], f.content, f.parts)
		lanes.Sum(messages)
		for _, p := range f.parts {
			if p.whole() {
				continue
			}
			if err := s.hash(ctx, &p, f.content[p.from:p.to]); err != nil {
				return err
			}
		}
		for i := range f.parts {
			p := &f.parts[i]
			data := f.content[p.from:p.to]
			piece := Piece{Entry: p.entry, Data: data, Last: p.next == nil}
			if p.next != nil || p.prev != nil {
				piece.Offset = p.offset()
			}
			if err := s.handle(ctx, piece); err != nil {
				return err
			}
		}
		close(f.handled)
	}
	return nil
}

// offset tells where in a large entry's content the part begins. All frames of
// a large entry but the last are full.
func (p *part) offset() int64 {
	if p.prev == nil {
		return 0
	}
	return int64(p.pos.back)*FrameSize - int64(p.pos.data)
}

func (s *scanner) hash(ctx context.Context, p *part, data []byte) error {
	if p.prev != nil {
		select {
		case h := <-p.prev:
			p.prev <- h // buffered: give it back for hashPart
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	hashPart(p.entry, p.prev, p.next, data)
	return nil
}

func (s *scanner) record(f *scanFrame) {
	b := appendFrameRecord(nil, f.info)
	for _, p := range f.parts {
		if p.next == nil {
			b = appendEntryRecord(b, p.entry, p.pos)
			s.entries++
		}
	}
	s.sum.Write(b)
	s.content += f.info.content
	s.pool.Put(f)
}

// finish reads the index and compares it with what was read.
func (s *scanner) finish() (int64, error) {
	if !s.ended || s.open != nil {
		return 0, fmt.Errorf("%w: its tar stream has no end", ErrCorrupt)
	}
	stream := s.in.offset - 8
	if s.tail < trailerSize || s.tail > maxIndex {
		return 0, fmt.Errorf("%w: index of %d bytes", ErrCorrupt, s.tail)
	}
	indexHash := sha256.New()
	body := &exactReader{r: io.TeeReader(s.in.r, indexHash), left: int64(s.tail) - trailerSize}
	records, decodeErr := recordsSum(body, body.left)
	if _, err := io.Copy(io.Discard, body); err != nil { // whatever the decoder did not need
		return 0, truncated(err)
	}
	if body.left > 0 {
		return 0, fmt.Errorf("%w: inside the index", ErrTruncated)
	}
	end := make([]byte, trailerSize)
	if _, err := io.ReadFull(s.in.r, end); err != nil {
		return 0, truncated(err)
	}
	t, err := decodeTrailer(end, indexHash)
	if err := errors.Join(err, decodeErr); err != nil {
		return 0, err
	}
	if t.stream != uint64(stream) || t.index != uint64(s.tail)-trailerSize || t.entries != s.entries || t.content != s.content || t.records != records {
		return 0, fmt.Errorf("%w: the index tells of other sizes", ErrCorrupt)
	}
	if string(s.sum.Sum(nil)) != string(records[:]) {
		return 0, fmt.Errorf("%w: its content does not match its index", ErrCorrupt)
	}
	if _, err := s.in.r.ReadByte(); !errors.Is(err, io.EOF) {
		if err == nil {
			err = fmt.Errorf("%w: bytes after its end", ErrCorrupt)
		}
		return 0, err
	}
	return stream + 8 + int64(s.tail), nil
}

// exactReader gives left bytes of r and then ends.
type exactReader struct {
	r    io.Reader
	left int64
}

func (e *exactReader) Read(b []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n, err := e.r.Read(b[:min(int64(len(b)), e.left)])
	e.left -= int64(n)
	return n, err
}

// countingReader reports what is read.
type countingReader struct {
	r      io.Reader
	report func(int64)
}

func (c *countingReader) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	if c.report != nil && n > 0 {
		c.report(int64(n))
	}
	return n, err
}
