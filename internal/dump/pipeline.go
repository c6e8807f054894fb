package dump

import (
	"context"
	"fmt"
	"io"
	"runtime"
	"sync"
)

// batchSize is how much of a dump one goroutine rewrites at a time.
const batchSize = 256 << 10

// kind is what a piece of a dump is.
type kind int

const (
	textPiece kind = iota // a literal in quotes
	hexPiece              // a literal of hexadecimal digits
	callPiece             // replace(…)
	copyPiece             // a row of COPY
)

// piece is something in a batch that may have to be rewritten. What lies between
// pieces passes as it is.
type piece struct {
	from, to  int // in the batch
	kind      kind
	backslash bool     // of a text: escapes count
	skip      int      // of digits: bytes before them
	cell      Cell     // where it stands
	names     []string // of a row: its columns
}

// batch is a stretch of a dump on its way.
type batch struct {
	in     []byte
	pieces []piece
	out    []byte // in, rewritten
	vals   Batch
	ready  chan struct{}
}

// pipeline takes a dump as pieces and what is between them, has batches of it
// rewritten side by side, and writes them in order.
type pipeline struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	w      io.Writer
	vals   Values
	now    *batch // being filled
	work   chan *batch
	queue  chan *batch // the same, in order
	free   chan *batch
	done   sync.WaitGroup
}

func newPipeline(ctx context.Context, w io.Writer, vals Values) *pipeline {
	n := runtime.GOMAXPROCS(0)
	p := &pipeline{w: w, vals: vals, work: make(chan *batch, 2*n), queue: make(chan *batch, 2*n), free: make(chan *batch, 4*n)}
	p.ctx, p.cancel = context.WithCancelCause(ctx)
	p.next()
	for range n {
		p.done.Go(func() {
			for b := range p.work {
				wk := worker{vals: b.vals, places: vals.Places}
				b.out = wk.rewrite(b.out[:0], b)
				close(b.ready)
			}
		})
	}
	p.done.Go(p.write)
	return p
}

// next begins a new batch.
func (p *pipeline) next() {
	select {
	case p.now = <-p.free:
	default:
		p.now = &batch{in: make([]byte, 0, batchSize+batchSize/4)}
	}
	p.now.ready = make(chan struct{})
}

// pass adds what passes as it is.
func (p *pipeline) pass(b []byte) { p.now.in = append(p.now.in, b...) }

// piece adds something to be rewritten.
func (p *pipeline) piece(b []byte, pc piece) {
	pc.from = len(p.now.in)
	p.now.in = append(p.now.in, b...)
	pc.to = len(p.now.in)
	p.now.pieces = append(p.now.pieces, pc)
}

func (p *pipeline) sendIfFull() error {
	if len(p.now.in) < batchSize {
		return nil
	}
	return p.send()
}

func (p *pipeline) send() error {
	if p.ctx.Err() != nil {
		return context.Cause(p.ctx)
	}
	b := p.now
	b.vals = p.vals.Batch()
	p.queue <- b
	p.work <- b
	p.next()
	return nil
}

// write takes the batches in order to the writer.
func (p *pipeline) write() {
	for b := range p.queue {
		<-b.ready
		if p.ctx.Err() == nil {
			if _, err := p.w.Write(b.out); err != nil {
				p.cancel(fmt.Errorf("write the dump: %w", err))
			} else if err := b.vals.Done(); err != nil {
				p.cancel(err)
			}
		}
		b.in, b.pieces = b.in[:0], b.pieces[:0]
		select {
		case p.free <- b:
		default:
		}
	}
}

// end sends what is left, waits, and gives the first error; err is one that the
// reading met.
func (p *pipeline) end(err error) error {
	if err == nil {
		err = p.send()
	}
	if err != nil {
		p.cancel(err)
	}
	close(p.work)
	close(p.queue)
	p.done.Wait()
	if err == nil {
		err = context.Cause(p.ctx)
	}
	p.cancel(nil)
	return err
}

// worker rewrites the pieces of batches.
type worker struct {
	vals    Batch
	places  func([]byte) func(int) int
	manner  manner
	decoded []byte // room for one literal
	encoded []byte
}

func (w *worker) rewrite(out []byte, b *batch) []byte {
	last := 0
	for i := range b.pieces {
		p := &b.pieces[i]
		out = append(out, b.in[last:p.from]...)
		out = append(out, w.one(b.in[p.from:p.to], p)...)
		last = p.to
	}
	return append(out, b.in[last:]...)
}

// one gives what takes the place of a piece, the piece itself if nothing does.
func (w *worker) one(text []byte, p *piece) []byte {
	switch p.kind {
	case hexPiece:
		return w.hex(text, p)
	case callPiece:
		return w.call(text, p)
	case copyPiece:
		return w.copyLine(text, p)
	}
	return w.text(text, p)
}
