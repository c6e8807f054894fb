package archive

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"hash"
	"hash/crc32"
	"io"
	"sync"

	"github.com/cespare/xxhash/v2"

	"hovix/internal/archive/lanes"
)

// frame is a piece of tar stream on its way to the file.
type frame struct {
	base      []byte // content with room around it for what a raw frame adds
	content   []byte
	parts     []part
	hashLater bool // hashWhole hashes the entries that lie in it whole

	raw      bool   // stored, not compressed
	packed   []byte // unless raw
	checksum uint32 // of a raw frame
	info     frameInfo
	ready    sync.WaitGroup // compressed and hashed
}

// part is an entry, or a piece of one, in a frame.
type part struct {
	entry    *Entry
	pos      position
	from, to int            // content bytes in the frame
	prev     chan hash.Hash // state after the pieces before; nil in the first
	next     chan hash.Hash // state for the pieces after; nil in the last
}

// compress is what a worker does with a frame: it compresses and hashes it.
func (f *frame) compress(enc *frameEncoder) {
	if f.raw = enc.incompressible(f.content); f.raw {
		f.prepareRaw()
	} else {
		if f.packed == nil {
			f.packed = make([]byte, 0, FrameSize/2)
		}
		f.packed = enc.enc.EncodeAll(f.content, f.packed[:0])
		f.info = frameInfo{uint64(len(f.packed)), uint64(len(f.content)), frameSum(f.packed)}
	}
	for _, p := range f.parts {
		if p.whole() && f.hashLater {
			continue
		}
		hashPart(p.entry, p.prev, p.next, f.content[p.from:p.to])
	}
	f.ready.Done()
}

// whole reports whether the part is all of an entry.
func (p *part) whole() bool { return p.prev == nil && p.next == nil }

// hashPart takes one piece of an entry into its hash. Pieces of a large entry
// arrive on several workers; each waits for the state of the piece before.
func hashPart(e *Entry, prev, next chan hash.Hash, data []byte) {
	if prev == nil && next == nil {
		e.SHA256 = sha256.Sum256(data)
		return
	}
	h := sha256.New()
	if prev != nil {
		h = <-prev
	}
	h.Write(data)
	if next != nil {
		next <- h
		return
	}
	h.Sum(e.SHA256[:0])
}

// hashWhole hashes the entries that lie whole in one of the frames.
func hashWhole(frames []*frame) {
	var messages []lanes.Message
	for _, f := range frames {
		messages = appendWhole(messages, f.content, f.parts)
	}
	lanes.Sum(messages)
	for _, f := range frames {
		f.ready.Done()
	}
}

func appendWhole(messages []lanes.Message, content []byte, parts []part) []lanes.Message {
	for i := range parts {
		if p := &parts[i]; p.whole() {
			messages = append(messages, lanes.Message{Data: content[p.from:p.to], Sum: &p.entry.SHA256})
		}
	}
	return messages
}

// fill appends n bytes from r, zero bytes where it ends early.
func (f *frame) fill(r io.Reader, n int64) (short int64, err error) {
	if n == 0 {
		return 0, nil
	}
	at := len(f.content)
	f.content = grow(f.content, int(n))
	got, err := io.ReadFull(r, f.content[at:])
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		clear(f.content[at+got:])
		return n - int64(got), nil
	}
	if err != nil {
		f.content = f.content[:at]
	}
	return 0, err
}

var zeros [2 * blockSize]byte

func (f *frame) pad(size int64) {
	f.content = append(f.content, zeros[:padded(size)-size]...)
}

func padded(size int64) int64 { return (size + blockSize - 1) &^ (blockSize - 1) }

const (
	rawHead      = 4 + 1 + 4 + rawBlockHead // what stands before the content of a raw frame
	rawBlockHead = 3
	checksumSize = 4
)

// appendRawHead appends what stands before the block of a raw frame that begins
// at byte at of its content (RFC 8878, 3.1.1): a single-segment header with a
// content size of four bytes, before the first block, and the header of the block.
func appendRawHead(b []byte, content, at int) []byte {
	if at == 0 {
		b = binary.LittleEndian.AppendUint32(b, zstdMagic)
		b = append(b, 2<<6|1<<5|1<<2)
		b = binary.LittleEndian.AppendUint32(b, uint32(content))
	}
	n := min(content-at, rawBlockMax)
	head := uint32(n) << 3
	if at+n == content {
		head |= 1
	}
	return append(b, byte(head), byte(head>>8), byte(head>>16))
}

// prepareRaw computes the checksums of a raw frame.
func (f *frame) prepareRaw() {
	var head [rawHead]byte
	size, sum := uint64(0), uint32(0)
	add := func(b []byte) {
		size += uint64(len(b))
		sum = crc32.Update(sum, castagnoli, b)
	}
	for at := 0; at < len(f.content); at += rawBlockMax {
		add(appendRawHead(head[:0], len(f.content), at))
		add(f.content[at:min(at+rawBlockMax, len(f.content))])
	}
	f.checksum = uint32(xxhash.Sum64(f.content))
	add(binary.LittleEndian.AppendUint32(head[:0], f.checksum))
	f.info = frameInfo{size, uint64(len(f.content)), sum}
}

// write writes the frame to dst. The headers of a raw frame's blocks are put
// over the content that has gone out before: that costs nothing, a copy of
// everything would. The content is worth nothing afterwards.
func (f *frame) write(dst io.Writer) error {
	if !f.raw {
		_, err := dst.Write(f.packed)
		return err
	}
	n := len(f.content)
	for at := 0; at < n; at += rawBlockMax {
		from, to := rawHead+at-rawBlockHead, rawHead+min(at+rawBlockMax, n)
		if at == 0 {
			from = 0
		}
		appendRawHead(f.base[from:from], n, at)
		if to == rawHead+n {
			binary.LittleEndian.PutUint32(f.base[to:], f.checksum)
			to += checksumSize
		}
		if _, err := dst.Write(f.base[from:to]); err != nil {
			return err
		}
	}
	return nil
}
