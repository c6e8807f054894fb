package archive

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"

	"hovix/internal/archive/lanes"
)

// Partial is the beginning of an archive whose writing was interrupted: whole
// frames with whole entries, to which a Writer can add.
type Partial struct {
	records []byte // of the index
	frames  []partialFrame
}

// partialFrame tells how far a Partial has come with a frame.
type partialFrame struct {
	records    int   // bytes of index records
	entries    int   // that end in it or before
	content    int64 // bytes of tar stream
	compressed int64 // bytes of the file
}

// Size gives the bytes of the file that the partial archive takes: what follows
// them is to be cut off.
func (p *Partial) Size() int64 {
	if len(p.frames) == 0 {
		return 0
	}
	return p.frames[len(p.frames)-1].compressed
}

// ErrStop ends Recover at the entry for which it is returned, which does not belong
// to what is recovered.
var ErrStop = errors.New("stop")

// Recover reads what is whole of an archive whose writing was interrupted, and calls
// visit for each entry in its order, with its content if it lies in one frame. It
// ends before the frame of an entry for which visit returns ErrStop, and where the
// file is torn. Other errors are those of visit, of r or of ctx.
func Recover(ctx context.Context, r io.Reader, visit func(e *Entry, content []byte) error) (*Partial, error) {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxFrameContent), zstd.WithDecoderMaxWindow(maxFrameContent))
	if err != nil {
		return nil, fmt.Errorf("prepare decompression: %w", err)
	}
	defer dec.Close()
	s := &scanner{in: frameReader{r: bufio.NewReaderSize(r, 256<<10)}}
	p, f := &Partial{}, &scanFrame{}
	var at partialFrame
	for {
		if err := ctx.Err(); err != nil {
			return nil, context.Cause(ctx)
		}
		var skippable bool
		if f.packed, skippable, _, err = s.in.next(f.packed[:0]); err == nil && !skippable {
			f.decoded = make(chan struct{})
			f.decode(dec)
			err = s.split(f)
		}
		if torn(err) || skippable || s.ended {
			return p, nil
		}
		if err != nil {
			return nil, err
		}
		if err = at.take(p, f, visit); errors.Is(err, ErrStop) {
			return p, nil
		} else if err != nil {
			return nil, err
		}
		if s.open == nil { // it ends with a whole entry
			p.frames = append(p.frames, at)
		}
	}
}

// torn reports whether an error says that a file is not whole.
func torn(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, ErrTruncated) || errors.Is(err, ErrCorrupt) || errors.Is(err, ErrRefused) || errors.Is(err, ErrNotArchive)
}

// take adds a frame to what is recovered.
func (at *partialFrame) take(p *Partial, f *scanFrame, visit func(*Entry, []byte) error) error {
	lanes.Sum(appendWhole(nil, f.content, f.parts))
	next := *at
	records := appendFrameRecord(p.records, f.info)
	for i := range f.parts {
		part := &f.parts[i]
		data := f.content[part.from:part.to]
		if !part.whole() {
			hashPart(part.entry, part.prev, part.next, data)
			data = nil
		}
		if part.next != nil {
			continue
		}
		if err := visit(part.entry, data); err != nil {
			return err
		}
		records = appendEntryRecord(records, part.entry, part.pos)
		next.entries++
	}
	p.records = records
	next.records = len(records)
	next.content += int64(f.info.content)
	next.compressed += int64(f.info.compressed)
	*at = next
	return nil
}

// Resume is NewWriter for an archive of which dst holds the beginning p already, and
// stands behind it.
func Resume(ctx context.Context, dst io.Writer, opts Options, p *Partial) (*Writer, error) {
	w, err := NewWriter(ctx, dst, opts)
	if err != nil || len(p.frames) == 0 {
		return w, err
	}
	last := p.frames[len(p.frames)-1]
	records := p.records[:last.records]
	w.sum.Write(records)
	if _, err := io.Copy(w.indexer, bytes.NewReader(records)); err != nil {
		w.Abort()
		return nil, fmt.Errorf("write index: %w", err)
	}
	w.entries, w.totals.Content, w.totals.Compressed = uint64(last.entries), last.content, last.compressed
	return w, nil
}
