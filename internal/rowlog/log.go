// Package rowlog writes down the rows that a change of a live database alters, with their
// values before and after, and puts a database back from that, or forward again.
package rowlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"

	"hovix/internal/database"
)

// A log is a run of blocks. Each begins with its length in bytes, as four bytes with the
// lowest first, and is one Zstandard frame (RFC 8878) of a batch of rows of one table. In
// it stand numbers as unsigned varints, and texts behind their lengths.

// maxBlock bounds a block when it is read, in bytes: a batch is small, unless it holds a row
// of the largest that are carried, before and after.
const maxBlock = 4 * int64(database.MaxRow)

// Writer writes a log.
type Writer struct {
	w    io.Writer
	enc  *zstd.Encoder
	buf  []byte
	out  []byte
	rows int64
}

// NewWriter gives a Writer to w.
func NewWriter(w io.Writer) (*Writer, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	return &Writer{w: w, enc: enc}, err
}

// Rows is how many rows were written.
func (w *Writer) Rows() int64 { return w.rows }

// Write writes down a batch of changes of one table, whose rows still have their old keys.
func (w *Writer) Write(t *database.EditTable, changes []database.Change) error {
	b := appendText(w.buf[:0], t.Name)
	var flags uint64
	if t.Lasting {
		flags = 1
	}
	b = binary.AppendUvarint(b, flags)
	b = binary.AppendUvarint(b, uint64(len(t.Columns)))
	for _, c := range t.Columns {
		b = appendText(b, c.Name)
	}
	b = binary.AppendUvarint(b, uint64(len(changes)))
	for _, c := range changes {
		parts := c.Key.Parts
		if t.Keyless {
			parts = nil
		}
		b = binary.AppendUvarint(b, uint64(len(parts)))
		for _, p := range parts {
			b = appendText(b, p)
		}
		b = binary.AppendUvarint(b, uint64(len(c.Columns)))
		for i, at := range c.Columns {
			b = binary.AppendUvarint(b, uint64(at))
			b = appendText(appendText(b, string(c.Old[i])), string(c.New[i]))
		}
	}
	w.buf = b
	w.out = w.enc.EncodeAll(b, append(w.out[:0], 0, 0, 0, 0))
	binary.LittleEndian.PutUint32(w.out, uint32(len(w.out)-4))
	w.rows += int64(len(changes))
	_, err := w.w.Write(w.out)
	return err
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// batch is a block that was read.
type batch struct {
	table   string
	lasting bool // the table's changes stay when a transaction is taken back
	columns []string
	changes []database.Change
}

// ErrDamaged says that a log is not as a Writer writes one.
var ErrDamaged = errors.New("the record of changed rows is damaged")

// Log is a log that is read, block by block.
type Log struct {
	r      io.ReaderAt
	blocks []block
	dec    *zstd.Decoder
}

type block struct{ at, size int64 }

// Open finds the blocks of a log of so many bytes. What a run was killed over while it
// wrote it does not count.
func Open(r io.ReaderAt, size int64) (*Log, error) {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(maxBlock)))
	if err != nil {
		return nil, err
	}
	l := &Log{r: r, dec: dec}
	for at := int64(0); at+4 <= size; {
		var head [4]byte
		if _, err := r.ReadAt(head[:], at); err != nil {
			return nil, err
		}
		n := int64(binary.LittleEndian.Uint32(head[:]))
		if at+4+n > size {
			break
		}
		l.blocks = append(l.blocks, block{at + 4, n})
		at += 4 + n
	}
	return l, nil
}

// Close frees what reading took.
func (l *Log) Close() { l.dec.Close() }

// Empty reports whether nothing was changed.
func (l *Log) Empty() bool { return len(l.blocks) == 0 }

func (l *Log) read(b block) (*batch, error) {
	packed := make([]byte, b.size)
	if _, err := l.r.ReadAt(packed, b.at); err != nil {
		return nil, err
	}
	raw, err := l.dec.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	r := &decoder{b: raw}
	out := r.batch()
	if r.bad || len(r.b) > 0 {
		return nil, ErrDamaged
	}
	return out, nil
}

// decoder reads a block; bad says that it is none.
type decoder struct {
	b   []byte
	bad bool
}

func (d *decoder) number() int {
	v, n := binary.Uvarint(d.b)
	if n <= 0 || v > uint64(maxBlock) {
		d.bad, d.b = true, nil
		return 0
	}
	d.b = d.b[n:]
	return int(v)
}

// count is a number of things that are still to come, each of a byte at least.
func (d *decoder) count() int {
	n := d.number()
	if n > len(d.b) {
		d.bad, d.b = true, nil
		return 0
	}
	return n
}

func (d *decoder) text() []byte {
	n := d.count()
	v := d.b[:n:n]
	d.b = d.b[n:]
	return v
}

func (d *decoder) texts() (out []string) {
	for range d.count() {
		out = append(out, string(d.text()))
	}
	return out
}

func (d *decoder) batch() *batch {
	out := &batch{table: string(d.text()), lasting: d.number() == 1, columns: d.texts()}
	for range d.count() {
		c := database.Change{Key: database.Key{Parts: d.texts()}}
		for range d.count() {
			at := d.number()
			if at >= len(out.columns) {
				d.bad = true
				return out
			}
			c.Columns, c.Old, c.New = append(c.Columns, at), append(c.Old, d.text()), append(c.New, d.text())
		}
		out.changes = append(out.changes, c)
	}
	return out
}

// Lasting reports whether the log may hold rows of tables whose changes no transaction
// takes back.
func (l *Log) Lasting() bool {
	for _, bl := range l.blocks {
		if b, err := l.read(bl); err != nil || b.lasting {
			return true
		}
	}
	return false
}
