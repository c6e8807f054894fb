package database

import (
	"bytes"
	"fmt"
)

// MaxRow bounds what the values of a row may hold together, in bytes. More is not carried:
// a row is in memory as a whole, more than once.
const MaxRow = 256 << 20

// ErrRowTooLarge says that a row holds more than MaxRow.
var ErrRowTooLarge = fmt.Errorf("a row of it holds more than %d MB, which is the most that can be carried", MaxRow/1_000_000)

// CheckRow gives ErrRowTooLarge for a row whose values hold more than MaxRow bytes.
func CheckRow(bytes int) error {
	if bytes > MaxRow {
		return ErrRowTooLarge
	}
	return nil
}

// ChunkWriter makes chunks of rows: INSERT statements of about one size,
// collected in chunks of about another. It reuses its memory.
type ChunkWriter struct {
	head      string
	statement int
	size      int
	yield     func(Chunk) error
	buf       []byte
	begun     int // where the open statement begins; -1 if none is open
	rows      int64
}

// NewChunkWriter returns a ChunkWriter for statements that begin with head
// ("INSERT INTO t (a,b) VALUES"), both sizes in bytes.
func NewChunkWriter(head string, statement, size int, yield func(Chunk) error) *ChunkWriter {
	return &ChunkWriter{head: head, statement: statement, size: size, yield: yield, begun: -1, buf: make([]byte, 0, size+size/8)}
}

// Begin gives the buffer to which the values of a row are appended.
func (w *ChunkWriter) Begin() []byte {
	if w.begun < 0 {
		w.begun = len(w.buf)
		w.buf = append(append(w.buf, w.head...), "\n("...)
	} else {
		w.buf = append(w.buf, ",\n("...)
	}
	return w.buf
}

// End takes the buffer back, with the row in it.
func (w *ChunkWriter) End(b []byte) error {
	w.buf = append(b, ')')
	w.rows++
	if len(w.buf)-w.begun >= w.statement {
		w.endStatement()
	}
	if len(w.buf) >= w.size {
		return w.flush()
	}
	return nil
}

func (w *ChunkWriter) endStatement() {
	if w.begun >= 0 {
		w.buf = append(w.buf, ";\n"...)
		w.begun = -1
	}
}

func (w *ChunkWriter) flush() error {
	w.endStatement()
	if w.rows == 0 {
		return nil
	}
	err := w.yield(Chunk{w.buf, w.rows})
	w.buf, w.rows = w.buf[:0], 0
	if cap(w.buf) > 8*w.size { // a giant row must not cost its memory for ever
		w.buf = make([]byte, 0, w.size+w.size/8)
	}
	return err
}

// Close gives out the rest.
func (w *ChunkWriter) Close() error { return w.flush() }

// CopyWriter makes chunks of the rows of COPY, each a statement of its own. It
// reuses its memory.
type CopyWriter struct {
	head  string
	size  int
	yield func(Chunk) error
	buf   []byte
	rows  int64
	err   error
}

// NewCopyWriter returns a CopyWriter for statements of about size bytes that begin
// with the line head ("COPY t (a,b) FROM stdin;\n").
func NewCopyWriter(head string, size int, yield func(Chunk) error) *CopyWriter {
	return &CopyWriter{head: head, size: size, yield: yield, buf: make([]byte, 0, size+size/8)}
}

// Write takes whole rows, each with its line break, as servers send them.
func (w *CopyWriter) Write(b []byte) (int, error) {
	if len(w.buf)+len(b) > 2*MaxRow {
		w.err = ErrRowTooLarge
		return 0, w.err
	}
	if len(w.buf) == 0 {
		w.buf = append(w.buf, w.head...)
	}
	w.buf = append(w.buf, b...)
	w.rows += int64(bytes.Count(b, []byte{'\n'}))
	if len(w.buf) >= w.size && w.buf[len(w.buf)-1] == '\n' {
		if err := w.Close(); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

// Err is the error of yield, which whoever writes may have wrapped in another.
func (w *CopyWriter) Err() error { return w.err }

// Close gives out the rest.
func (w *CopyWriter) Close() error {
	if w.rows == 0 {
		return nil
	}
	w.err = w.yield(Chunk{SQL: append(w.buf, "\\.\n"...), Rows: w.rows})
	w.buf, w.rows = w.buf[:0], 0
	if cap(w.buf) > 8*w.size { // a giant row must not cost its memory for ever
		w.buf = make([]byte, 0, w.size+w.size/8)
	}
	return w.err
}
