package archive

import (
	"bufio"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"time"

	"github.com/klauspost/compress/zstd"
)

// The index is a sequence of records, compressed as one Zstandard frame: a
// frame record for each frame, and after it an entry record for each entry
// that ends in that frame. A fixed trailer follows it at the very end of the
// file. docs/archive-format.md gives the fields.
const (
	recordFrame = 'F'
	recordEntry = 'E'

	trailerMagic  = "HOVIXIDX"
	formatVersion = 1
	trailerSize   = 112
	// maxIndex bounds the compressed index that a reader takes into memory.
	maxIndex = 1 << 30
)

// frameInfo is what the index knows of a frame.
type frameInfo struct {
	compressed uint64 // bytes in the file
	content    uint64 // bytes of tar stream
	sum        uint32 // CRC-32C of the compressed bytes
}

// castagnoli is the polynomial of CRC-32C (RFC 3720, appendix B.4), which
// processors compute in hardware.
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func frameSum(packed []byte) uint32 { return crc32.Checksum(packed, castagnoli) }

// position says where an entry begins.
type position struct {
	back   uint64 // how many frames before the one it ends in
	offset uint64 // of its first tar header in that frame
	data   uint64 // of its content in that frame
}

func appendFrameRecord(b []byte, f frameInfo) []byte {
	b = append(b, recordFrame)
	b = binary.AppendUvarint(b, f.compressed)
	b = binary.AppendUvarint(b, f.content)
	return binary.LittleEndian.AppendUint32(b, f.sum)
}

func appendEntryRecord(b []byte, e *Entry, p position) []byte {
	b = append(b, recordEntry, byte(e.Type))
	b = appendString(b, e.Name)
	b = binary.AppendUvarint(b, p.back)
	b = binary.AppendUvarint(b, p.offset)
	b = binary.AppendUvarint(b, p.data)
	b = binary.AppendUvarint(b, uint64(e.Size))
	b = binary.AppendUvarint(b, uint64(e.Mode))
	b = binary.AppendVarint(b, e.ModTime.Unix())
	b = binary.AppendUvarint(b, uint64(e.ModTime.Nanosecond()))
	b = appendString(b, e.Link)
	return append(b, e.SHA256[:]...)
}

func appendString(b []byte, s string) []byte {
	b = binary.AppendUvarint(b, uint64(len(s)))
	return append(b, s...)
}

// recordReader decodes index records.
type recordReader struct{ r *bufio.Reader }

// next returns the record's type and its content, io.EOF after the last.
func (rr recordReader) next(f *frameInfo, e *Entry, p *position) (byte, error) {
	kind, err := rr.r.ReadByte()
	if err != nil {
		return 0, err
	}
	switch kind {
	case recordFrame:
		err = rr.frame(f)
	case recordEntry:
		err = rr.entry(e, p)
	default:
		return 0, fmt.Errorf("%w: unknown index record %q", ErrCorrupt, kind)
	}
	if err != nil {
		return 0, fmt.Errorf("%w: index record: %w", ErrCorrupt, err)
	}
	return kind, nil
}

func (rr recordReader) frame(f *frameInfo) error {
	var sum [4]byte
	err := errors.Join(rr.uvarint(&f.compressed), rr.uvarint(&f.content))
	if err == nil {
		_, err = io.ReadFull(rr.r, sum[:])
		f.sum = binary.LittleEndian.Uint32(sum[:])
	}
	return err
}

func (rr recordReader) entry(e *Entry, p *position) error {
	t, err := rr.r.ReadByte()
	if err != nil {
		return err
	}
	e.Type = Type(t)
	if e.Name, err = rr.string(); err != nil {
		return err
	}
	var size, mode, nanos uint64
	for _, v := range []*uint64{&p.back, &p.offset, &p.data, &size, &mode} {
		if err := rr.uvarint(v); err != nil {
			return err
		}
	}
	secs, err := binary.ReadVarint(rr.r)
	if err != nil {
		return err
	}
	if err := rr.uvarint(&nanos); err != nil {
		return err
	}
	if e.Link, err = rr.string(); err != nil {
		return err
	}
	if size > 1<<62 || mode > 0o7777 || nanos > 999_999_999 {
		return fmt.Errorf("number out of range in %q", e.Name)
	}
	e.Size, e.Mode, e.ModTime = int64(size), uint32(mode), time.Unix(secs, int64(nanos)).UTC()
	_, err = io.ReadFull(rr.r, e.SHA256[:])
	return err
}

func (rr recordReader) uvarint(v *uint64) (err error) {
	*v, err = binary.ReadUvarint(rr.r)
	return err
}

func (rr recordReader) string() (string, error) {
	var n uint64
	if err := rr.uvarint(&n); err != nil {
		return "", err
	}
	if n > 1<<16 {
		return "", fmt.Errorf("name of %d bytes", n)
	}
	b := make([]byte, n)
	_, err := io.ReadFull(rr.r, b)
	return string(b), err
}

// trailer is the fixed end of an archive.
type trailer struct {
	volume, volumes uint16   // 0, 0: the archive is one file
	stream          uint64   // bytes before the skippable frame
	index           uint64   // bytes of compressed index
	entries         uint64   // entry records
	content         uint64   // bytes of tar stream
	records         [32]byte // SHA-256 of the index records, uncompressed
}

// encode gives the trailer's bytes; the last 32 are the SHA-256 of the
// compressed index and of the trailer's own bytes before them.
func (t trailer) encode(indexHash hash.Hash) []byte {
	b := make([]byte, 0, trailerSize)
	b = append(b, trailerMagic...)
	b = binary.LittleEndian.AppendUint16(b, formatVersion)
	b = binary.LittleEndian.AppendUint16(b, 0) // flags, none defined
	b = binary.LittleEndian.AppendUint16(b, t.volume)
	b = binary.LittleEndian.AppendUint16(b, t.volumes)
	b = binary.LittleEndian.AppendUint64(b, t.stream)
	b = binary.LittleEndian.AppendUint64(b, t.index)
	b = binary.LittleEndian.AppendUint64(b, t.entries)
	b = binary.LittleEndian.AppendUint64(b, t.content)
	b = append(b, t.records[:]...)
	indexHash.Write(b)
	return indexHash.Sum(b)
}

// decodeTrailer checks b, which is trailerSize bytes long, against the hash of
// the index so far.
func decodeTrailer(b []byte, indexHash hash.Hash) (trailer, error) {
	t, err := parseTrailer(b)
	if err != nil {
		return t, err
	}
	indexHash.Write(b[:trailerSize-32])
	if string(indexHash.Sum(nil)) != string(b[trailerSize-32:]) {
		return t, fmt.Errorf("%w: the index does not match its checksum", ErrCorrupt)
	}
	return t, nil
}

func parseTrailer(b []byte) (t trailer, err error) {
	if len(b) != trailerSize || string(b[:8]) != trailerMagic {
		return t, fmt.Errorf("%w: no index at its end", ErrCorrupt)
	}
	le := binary.LittleEndian
	if v := le.Uint16(b[8:]); v != formatVersion {
		return t, fmt.Errorf("%w: format version %d; this Hovix reads version %d", ErrNotArchive, v, formatVersion)
	}
	t.volume, t.volumes = le.Uint16(b[12:]), le.Uint16(b[14:])
	t.stream, t.index = le.Uint64(b[16:]), le.Uint64(b[24:])
	t.entries, t.content = le.Uint64(b[32:]), le.Uint64(b[40:])
	copy(t.records[:], b[48:])
	if t.volumes != 0 || t.volume != 0 {
		return t, fmt.Errorf("%w: it is volume %d of %d; this Hovix reads whole archives", ErrNotArchive, t.volume, t.volumes)
	}
	if t.index > maxIndex {
		return t, fmt.Errorf("%w: the index claims %d bytes", ErrCorrupt, t.index)
	}
	return t, nil
}

// maxRatio is how many times its compressed size an index may unpack to. A quarter of
// an honest one are hashes, which do not compress.
const maxRatio = 100

// openIndex gives the records of a compressed index of size bytes.
func openIndex(r io.Reader, size int64) (io.ReadCloser, error) {
	d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20))
	if err != nil {
		return nil, fmt.Errorf("%w: index: %w", ErrCorrupt, err)
	}
	return &boundedIndex{d.IOReadCloser(), maxRatio*size + 1<<20}, nil
}

// boundedIndex is an index that may have left more bytes.
type boundedIndex struct {
	io.ReadCloser
	left int64
}

func (b *boundedIndex) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, fmt.Errorf("%w: the index unpacks to more than %d times its size", ErrRefused, maxRatio)
	}
	return n, err
}

// recordsSum reads a compressed index to its end and returns the SHA-256 of
// its records.
func recordsSum(r io.Reader, size int64) (sum [32]byte, err error) {
	d, err := openIndex(r, size)
	if err != nil {
		return sum, err
	}
	defer d.Close()
	h := sha256.New()
	if _, err := io.Copy(h, d); err != nil {
		if !errors.Is(err, ErrRefused) {
			err = fmt.Errorf("%w: index: %w", ErrCorrupt, err)
		}
		return sum, err
	}
	h.Sum(sum[:0])
	return sum, nil
}
