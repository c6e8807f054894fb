// Package readdress changes addresses where they are: in a site's database and
// files, or in an SQL dump. It takes mappings and a source, and gives an Account
// of what was found and changed, column by column.
package readdress

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"hovix/internal/dump"
	"hovix/internal/inflate"
	"hovix/internal/progress"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Compression is how a dump is compressed.
type Compression int

// The compressions. Bzip2 is read only.
const (
	Plain Compression = iota
	Gzip
	Zstd
	Bzip2
)

// Options sets what is changed and how.
type Options struct {
	Rewrite rewrite.Options
	Filter  Filter
	// Identifiers has columns rewritten too that hold identifiers, such as those by
	// which feed readers know an article.
	Identifiers bool
	Dialect     *dump.Dialect // nil: told by the dump
	Output      Compression
	Changes     io.Writer // nil: none; gets a CSV line for every changed value
	Files       []string  // of a site: which text files besides its settings, as globs with **
	Progress    progress.Reporter
	Now         time.Time // when it is changed, for the undo point
}

// headSize is how much of a dump is looked at to tell what it is.
const headSize = 64 << 10

// Dump copies the SQL dump in r, plain or compressed, to w with its addresses
// changed, and tells what it did and in which dialect the dump is.
func Dump(ctx context.Context, w io.Writer, r io.Reader, opts Options) (*Account, dump.Dialect, error) {
	rw, err := rewrite.New(opts.Rewrite)
	if err != nil {
		return nil, 0, err
	}
	a, err := newAccount(&opts, site.Identifiers())
	if err != nil {
		return nil, 0, fmt.Errorf("write the changes: %w", err)
	}
	rep := progress.Of(opts.Progress)
	in, err := inflate.Reader(&progress.Reader{R: r, Rep: rep}, headSize)
	if err != nil {
		return nil, 0, fmt.Errorf("read the dump: %w", err)
	}
	head, err := in.Peek(headSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, fmt.Errorf("read the dump: %w", err)
	}
	if err := dump.Check(head); err != nil {
		return nil, 0, err
	}
	d := dump.Detect(head)
	if opts.Dialect != nil {
		d = *opts.Dialect
	}
	out, finish, err := compress(w, opts.Output)
	if err != nil {
		return nil, d, err
	}
	v := &values{rw: rw, a: a, blind: rewrite.Escaped(opts.Rewrite.Texts)}
	if err := dump.Rewrite(ctx, out, in, v, dump.Options{Dialect: d}); err != nil {
		return nil, d, errors.Join(err, finish())
	}
	if err := errors.Join(finish(), a.chosen.unmatched()); err != nil {
		return nil, d, err
	}
	if err := a.end(); err != nil {
		return nil, d, fmt.Errorf("write the dump: %w", err)
	}
	return a, d, nil
}

// compress returns a writer that compresses to w, and a function that ends it.
func compress(w io.Writer, c Compression) (io.Writer, func() error, error) {
	switch c {
	case Gzip:
		z := gzip.NewWriter(w)
		return z, z.Close, nil
	case Zstd:
		z, err := zstd.NewWriter(w)
		if err != nil {
			return nil, nil, fmt.Errorf("prepare compression: %w", err)
		}
		return z, z.Close, nil
	}
	return w, func() error { return nil }, nil
}

// values shows the values of a dump to a Rewriter.
type values struct {
	rw    *rewrite.Rewriter
	a     *Account
	blind bool
}

func (v *values) Places(text []byte) func(int) int {
	if v.blind {
		return func(from int) int { return from }
	}
	return v.rw.Places(text)
}

func (v *values) Batch() dump.Batch {
	return &batch{rw: v.rw, whole: v.a, part: v.a.part()}
}

// batch is the account of a stretch of a dump, which joins the whole when its
// turn comes.
type batch struct {
	rw          *rewrite.Rewriter
	whole, part *Account
	last        dump.Cell
	col         *Column
	buf         []byte // room for a value
}

func (b *batch) Value(at dump.Cell, value []byte) ([]byte, bool) {
	if b.col == nil || b.last != at {
		b.last, b.col = at, b.part.column(at.Table, at.Column)
	}
	switch {
	case !b.col.wanted:
		return value, false
	case b.col.kept:
		b.rw.Keep(value, &b.col.Tally)
		return value, false
	}
	change := b.rw.ValueIn
	if at.Bytes {
		change = b.rw.BytesIn
	}
	out, changed := change(b.buf, value, &b.col.Tally)
	if changed {
		b.buf = out
		b.part.changed(b.col, "", value, out)
	}
	return out, changed
}

func (b *batch) Done() error { return b.whole.join(b.part) }
