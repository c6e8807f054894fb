package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"hovix/internal/archive/lanes"
)

// Options sets how a Writer works. The zero value is good.
type Options struct {
	Level   Level
	Workers int // goroutines that compress; 0: a few more than cores
	// Written is told, if it is given, of content that has been written: the name of the
	// first of the entries that it is of, its size, and as how many bytes it was written.
	Written func(first string, content, compressed int64)
}

// Totals tells what a Writer has written.
type Totals struct {
	Entries    int64 `json:"entries"`    // members of the archive
	Content    int64 `json:"content"`    // bytes of the tar stream
	Compressed int64 `json:"compressed"` // bytes of the archive file
}

// Writer writes an archive. Entries are added by one goroutine; compression
// and hashing run on others, and frames are written in order.
//
// Small entries share a frame and lie in it whole; an entry that does not fit
// begins a frame and has its frames to itself. So every frame can be unpacked
// on its own. Two frames are filled at a time, one with content that is
// compressed already, one with the rest: entries of one lane keep their order.
type Writer struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	lanes  [2]*frame
	queue  chan *frame   // in the order of the file
	work   chan *frame   // the same frames, for whichever worker is free
	hashes chan []*frame // the same frames, where entries are hashed together
	batch  []*frame      // to be hashed
	done   sync.WaitGroup
	free   chan *frame // to be used again: a sync.Pool would lose them to the collector

	tarBuf bytes.Buffer

	dst     io.Writer
	written func(string, int64, int64)
	index   bytes.Buffer
	indexer *zstd.Encoder
	sum     hash.Hash // of the index records
	scratch []byte
	totals  Totals
	entries uint64
}

const (
	spareWorkers = 1 // they compress while others wait for a hash or for the file
	hashBatch    = 6 // frames whose entries are hashed together
)

// NewWriter returns a Writer that writes to dst until Close. Cancelling ctx
// makes further calls fail.
func NewWriter(ctx context.Context, dst io.Writer, opts Options) (*Writer, error) {
	workers := opts.Workers
	if workers <= 0 {
		workers = runtime.GOMAXPROCS(0) + spareWorkers
	}
	w := &Writer{dst: dst, written: opts.Written, sum: sha256.New(),
		queue: make(chan *frame, workers+hashBatch), work: make(chan *frame, workers+hashBatch), free: make(chan *frame, 2*(workers+hashBatch))}
	w.ctx, w.cancel = context.WithCancelCause(ctx)
	var err error
	if w.indexer, err = zstd.NewWriter(&w.index, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20)); err != nil {
		return nil, fmt.Errorf("prepare index: %w", err)
	}
	for range workers {
		enc, err := newFrameEncoder(opts.Level)
		if err != nil {
			return nil, err
		}
		w.done.Go(func() {
			for f := range w.work {
				f.compress(enc)
			}
		})
	}
	if lanes.Fast() {
		w.hashes = make(chan []*frame, 1+workers/hashBatch)
		w.done.Go(func() {
			for batch := range w.hashes {
				hashWhole(batch)
			}
		})
	}
	w.done.Go(w.write)
	return w, nil
}

// write takes the frames in order to the file and to the index.
func (w *Writer) write() {
	for f := range w.queue {
		f.ready.Wait()
		if w.ctx.Err() == nil {
			if err := f.write(w.dst); err != nil {
				w.cancel(fmt.Errorf("write archive: %w", err))
			}
			w.totals.Compressed += int64(f.info.compressed)
			w.totals.Content += int64(f.info.content)
			if w.written != nil && len(f.parts) > 0 && w.ctx.Err() == nil {
				w.written(f.parts[0].entry.Name, int64(f.info.content), int64(f.info.compressed))
			}
			w.record(f)
		}
		select {
		case w.free <- f:
		default:
		}
	}
}

func (w *Writer) record(f *frame) {
	b := appendFrameRecord(w.scratch[:0], f.info)
	for _, p := range f.parts {
		if p.next == nil {
			b = appendEntryRecord(b, p.entry, p.pos)
			w.entries++
		}
	}
	w.sum.Write(b)
	if _, err := w.indexer.Write(b); err != nil {
		w.cancel(fmt.Errorf("write index: %w", err))
	}
	w.scratch = b
}

func (w *Writer) newFrame() *frame {
	var f *frame
	select {
	case f = <-w.free:
	default:
		f = &frame{base: make([]byte, rawHead+FrameSize+checksumSize)}
	}
	f.content, f.parts = f.base[rawHead:rawHead], f.parts[:0]
	return f
}

func (w *Writer) submit(f *frame) error {
	if err := context.Cause(w.ctx); err != nil {
		return err
	}
	f.ready.Add(1)
	if f.hashLater = w.hashes != nil; f.hashLater {
		f.ready.Add(1)
		if w.batch = append(w.batch, f); len(w.batch) == hashBatch {
			w.sendBatch()
		}
	}
	w.work <- f
	w.queue <- f
	return nil
}

// sendBatch gives the frames that wait for it to the goroutine that hashes.
func (w *Writer) sendBatch() {
	if len(w.batch) > 0 {
		w.hashes <- w.batch
		w.batch = nil
	}
}

// packedExt are the endings of files that are compressed already.
var packedExt = map[string]bool{".jpg": true, ".jpeg": true, ".png": true, ".gif": true, ".webp": true, ".avif": true,
	".heic": true, ".mp3": true, ".m4a": true, ".ogg": true, ".mp4": true, ".m4v": true, ".mov": true, ".webm": true,
	".avi": true, ".mkv": true, ".zip": true, ".gz": true, ".tgz": true, ".bz2": true, ".xz": true, ".zst": true,
	".7z": true, ".rar": true, ".woff": true, ".woff2": true, ".pdf": true, ".docx": true, ".xlsx": true, ".pptx": true,
	".jar": true, ".apk": true, ".dmg": true, ".flac": true, ".aac": true, ".opus": true}

// IsPacked reports whether a file of this name is taken to be compressed already.
func IsPacked(name string) bool { return packedExt[strings.ToLower(path.Ext(name))] }

func lane(e *Entry) int {
	if e.Type == TypeFile && IsPacked(e.Name) {
		return 1
	}
	return 0
}

// paxInode is the record of an extended header that holds Entry.Inode.
const paxInode = "HOVIX.inode"

// header gives the tar header blocks of e. The slice is valid until the next call.
func (w *Writer) header(e *Entry) ([]byte, error) {
	h := tar.Header{Typeflag: byte(e.Type), Name: e.Name, Linkname: e.Link, Size: e.Size,
		Mode: int64(e.Mode & 0o777), ModTime: e.ModTime, Format: tar.FormatPAX}
	if e.Type == TypeDir {
		h.Name += "/"
	}
	if e.Inode != 0 {
		h.ChangeTime = e.Changed
		h.PAXRecords = map[string]string{paxInode: strconv.FormatUint(e.Inode, 10)}
	}
	w.tarBuf.Reset()
	if err := tar.NewWriter(&w.tarBuf).WriteHeader(&h); err != nil {
		return nil, fmt.Errorf("header of %q: %w", e.Name, err)
	}
	return w.tarBuf.Bytes(), nil
}

// Add writes e with exactly e.Size bytes of content from r. If r ends early the
// rest is filled with zero bytes, and short is their number: the entry is
// whole, and the caller reports the change. Bytes after e.Size are not read. A
// folder or link has no content, and r may be nil.
func (w *Writer) Add(e Entry, r io.Reader) (short int64, err error) {
	if err := CheckName(e.Name); err != nil {
		return 0, err
	}
	e.ModTime = e.ModTime.UTC()
	if e.ModTime.IsZero() {
		e.ModTime = time.Unix(0, 0).UTC()
	}
	head, err := w.header(&e)
	if err != nil {
		return 0, err
	}
	entry := &e
	l := lane(entry)
	whole := int64(len(head)) + padded(e.Size)
	if f := w.lanes[l]; f != nil && int64(len(f.content))+whole > FrameSize {
		if err := w.flushLane(l); err != nil {
			return 0, err
		}
	}
	if whole > FrameSize {
		return w.addLarge(entry, head, r)
	}
	if w.lanes[l] == nil {
		w.lanes[l] = w.newFrame()
	}
	f := w.lanes[l]
	start := len(f.content)
	f.content = append(f.content, head...)
	from := len(f.content)
	if short, err = f.fill(r, e.Size); err != nil {
		return short, fmt.Errorf("read %q: %w", e.Name, err)
	}
	f.parts = append(f.parts, part{entry: entry, pos: position{0, uint64(start), uint64(from)}, from: from, to: from + int(e.Size)})
	f.pad(e.Size)
	return short, nil
}

// AddBytes writes e with data as its content.
func (w *Writer) AddBytes(e Entry, data []byte) error {
	e.Size = int64(len(data))
	_, err := w.Add(e, bytes.NewReader(data))
	return err
}

func (w *Writer) addLarge(e *Entry, head []byte, r io.Reader) (short int64, err error) {
	f := w.newFrame()
	f.content = append(f.content, head...)
	pos := position{0, 0, uint64(len(head))}
	var prev chan hash.Hash
	for left := e.Size; ; {
		from := len(f.content)
		n := min(left, int64(FrameSize-from))
		s, err := f.fill(r, n)
		short += s
		if err != nil {
			return short, fmt.Errorf("read %q: %w", e.Name, err)
		}
		left -= n
		p := part{entry: e, pos: pos, from: from, to: from + int(n), prev: prev}
		if left > 0 {
			p.next = make(chan hash.Hash, 1)
		} else if f.pad(e.Size); len(f.content) > FrameSize {
			return short, errors.New("frame overflow") // cannot happen: FrameSize is a multiple of the block size
		}
		f.parts = append(f.parts, p)
		if err := w.submit(f); err != nil || left == 0 {
			return short, err
		}
		prev, f = p.next, w.newFrame()
		pos.back++
	}
}

func (w *Writer) flushLane(l int) error {
	f := w.lanes[l]
	if f == nil {
		return nil
	}
	w.lanes[l] = nil
	return w.submit(f)
}

// Flush ends the frames that are being filled, so that what is added later
// comes after all that was added before.
func (w *Writer) Flush() error {
	return errors.Join(w.flushLane(0), w.flushLane(1))
}

// Close writes the end of the tar stream and the index, and tells what was
// written. It does not close the underlying writer.
func (w *Writer) Close() (Totals, error) {
	err := w.Flush()
	if err == nil {
		end := w.newFrame()
		end.content = append(end.content, zeros[:]...)
		err = w.submit(end)
	}
	w.stop()
	if err = errors.Join(err, context.Cause(w.ctx)); err != nil {
		return w.totals, err
	}
	defer w.cancel(nil)
	if err := w.indexer.Close(); err != nil {
		return w.totals, fmt.Errorf("write index: %w", err)
	}
	t := trailer{stream: uint64(w.totals.Compressed), index: uint64(w.index.Len()), entries: w.entries, content: uint64(w.totals.Content)}
	w.sum.Sum(t.records[:0])
	size := w.index.Len() + trailerSize
	if size > maxIndex {
		return w.totals, fmt.Errorf("the archive has too many entries for one index (%d)", w.entries)
	}
	h := sha256.New()
	h.Write(w.index.Bytes())
	out := appendSkippable(nil, uint32(size))
	out = append(out, w.index.Bytes()...)
	out = append(out, t.encode(h)...)
	if _, err := w.dst.Write(out); err != nil {
		return w.totals, fmt.Errorf("write archive: %w", err)
	}
	w.totals.Compressed += int64(len(out))
	w.totals.Entries = int64(w.entries)
	return w.totals, nil
}

// Abort ends the writer's goroutines without finishing the archive. After
// Close it does nothing.
func (w *Writer) Abort() {
	w.cancel(errors.New("packing was given up"))
	w.stop()
}

func (w *Writer) stop() {
	if w.work == nil {
		return
	}
	if w.hashes != nil {
		w.sendBatch()
		close(w.hashes)
	}
	close(w.work)
	close(w.queue)
	w.done.Wait()
	w.work = nil
}
