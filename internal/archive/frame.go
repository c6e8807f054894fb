package archive

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Numbers of the Zstandard format, RFC 8878 section 3.1.
const (
	zstdMagic      = 0xFD2FB528
	skippableMagic = 0x184D2A5E // one of the sixteen that the RFC reserves for skippable frames
	rawBlockMax    = 128 << 10
)

// Level chooses between speed and size of compression.
type Level int

// The levels a Writer offers.
const (
	LevelFast     Level = iota // about 300 MB/s of text a core
	LevelBalanced              // about 200 MB/s
	LevelSmall                 // about 70 MB/s
)

func (l Level) encoder() zstd.EncoderLevel {
	switch l {
	case LevelBalanced:
		return zstd.SpeedDefault
	case LevelSmall:
		return zstd.SpeedBetterCompression
	}
	return zstd.SpeedFastest
}

// frameEncoder compresses pieces of a tar stream. It is used by one goroutine
// at a time.
type frameEncoder struct {
	enc   *zstd.Encoder
	probe []byte
}

func newFrameEncoder(level Level) (*frameEncoder, error) {
	enc, err := zstd.NewWriter(nil,
		zstd.WithEncoderLevel(level.encoder()),
		zstd.WithEncoderConcurrency(1),
		zstd.WithEncoderCRC(true),
		zstd.WithSingleSegment(true),
		zstd.WithLowerEncoderMem(true),
		zstd.WithWindowSize(FrameSize))
	if err != nil {
		return nil, fmt.Errorf("prepare compression: %w", err)
	}
	return &frameEncoder{enc: enc}, nil
}

// incompressible tries three samples: photographs and films shrink by nothing,
// and to try them in full would cost more than everything else in a pack.
func (f *frameEncoder) incompressible(src []byte) bool {
	const sample = 16 << 10
	if len(src) < 8*sample {
		return false
	}
	for i := range 3 {
		at := len(src)/8 + i*(len(src)/3)
		at = min(at, len(src)-sample)
		f.probe = f.enc.EncodeAll(src[at:at+sample], f.probe[:0])
		if len(f.probe) < sample*96/100 {
			return false
		}
	}
	return true
}

// frameReader cuts a stream into Zstandard frames by their block headers,
// without decoding them.
type frameReader struct {
	r      *bufio.Reader
	offset int64 // of the next byte, from the start of the stream
}

// next appends the next frame to buf. For a skippable frame it appends only
// the eight bytes of its header and returns skippable true with its size. At
// the end of the stream it returns io.EOF.
func (f *frameReader) next(buf []byte) (frame []byte, skippable bool, size uint32, err error) {
	start := len(buf)
	if buf, err = f.take(buf, 4); err != nil {
		if errors.Is(err, io.EOF) && len(buf) == start {
			return buf, false, 0, io.EOF
		}
		return buf, false, 0, truncated(err)
	}
	magic := binary.LittleEndian.Uint32(buf[start:])
	if magic == skippableMagic {
		if buf, err = f.take(buf, 4); err != nil {
			return buf, false, 0, truncated(err)
		}
		return buf, true, binary.LittleEndian.Uint32(buf[start+4:]), nil
	}
	if magic != zstdMagic {
		return buf, false, 0, fmt.Errorf("%w: no frame begins at byte %d", ErrCorrupt, f.offset-4)
	}
	buf, err = f.body(buf, start)
	return buf, false, 0, err
}

// body reads the rest of a frame whose magic number stands at buf[start:].
func (f *frameReader) body(buf []byte, start int) ([]byte, error) {
	buf, err := f.take(buf, 1)
	if err != nil {
		return buf, truncated(err)
	}
	// Hovix writes single-segment frames with a content size and a checksum and
	// without a dictionary; anything else is not ours.
	desc := buf[start+4]
	if desc&(1<<5) == 0 || desc&(1<<2) == 0 || desc&3 != 0 || desc&(3<<3) != 0 {
		if f.offset == 5 { // the very first: it was never an archive
			return buf, NotArchive(buf[start:])
		}
		return buf, fmt.Errorf("%w: unknown kind of frame before byte %d", ErrCorrupt, f.offset)
	}
	if buf, err = f.take(buf, 1<<(desc>>6)); err != nil {
		return buf, truncated(err)
	}
	content := contentSize(buf[start:])
	if content > maxFrameContent {
		return buf, fmt.Errorf("%w: a frame before byte %d claims %d bytes", ErrCorrupt, f.offset, content)
	}
	for last := false; !last; {
		at := len(buf)
		if buf, err = f.take(buf, 3); err != nil {
			return buf, truncated(err)
		}
		head := uint32(buf[at]) | uint32(buf[at+1])<<8 | uint32(buf[at+2])<<16
		last = head&1 != 0
		n := int(head >> 3)
		switch head >> 1 & 3 {
		case 1: // one byte, repeated
			n = 1
		case 3:
			return buf, fmt.Errorf("%w: reserved block type before byte %d", ErrCorrupt, f.offset)
		}
		if n > rawBlockMax || len(buf)-start > maxFrameContent+maxFrameContent/8 {
			return buf, fmt.Errorf("%w: a frame before byte %d is larger than its content allows", ErrCorrupt, f.offset)
		}
		if buf, err = f.take(buf, n); err != nil {
			return buf, truncated(err)
		}
	}
	if buf, err = f.take(buf, 4); err != nil {
		return buf, truncated(err)
	}
	return buf, nil
}

// take appends exactly n bytes of the stream to buf.
func (f *frameReader) take(buf []byte, n int) ([]byte, error) {
	at := len(buf)
	buf = grow(buf, n)
	got, err := io.ReadFull(f.r, buf[at:])
	f.offset += int64(got)
	return buf[:at+got], err
}

// contentSize reads the content size of a single-segment frame's header.
func contentSize(frame []byte) uint64 {
	b := frame[5:]
	switch frame[4] >> 6 {
	case 0:
		return uint64(b[0])
	case 1:
		return uint64(binary.LittleEndian.Uint16(b)) + 256
	case 2:
		return uint64(binary.LittleEndian.Uint32(b))
	}
	return binary.LittleEndian.Uint64(b)
}

// grow lengthens buf by n bytes of whatever content.
func grow(buf []byte, n int) []byte {
	if need := len(buf) + n; need > cap(buf) {
		bigger := make([]byte, len(buf), max(need, 2*cap(buf)))
		copy(bigger, buf)
		buf = bigger
	}
	return buf[:len(buf)+n]
}

// truncated turns the end of the input into ErrTruncated and leaves other
// errors (a failing disk, a cut connection) as they are.
func truncated(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrTruncated
	}
	return fmt.Errorf("read archive: %w", err)
}

// appendSkippable appends the header of a skippable frame (RFC 8878, 3.1.2)
// with size bytes of content.
func appendSkippable(b []byte, size uint32) []byte {
	b = binary.LittleEndian.AppendUint32(b, skippableMagic)
	return binary.LittleEndian.AppendUint32(b, size)
}
