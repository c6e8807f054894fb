// Package progress is how the core tells of its work while it goes on. It
// knows nothing of terminals.
package progress

import "io"

// Reporter is told what is being done. Its methods may be called from several
// goroutines at once and must not block.
type Reporter interface {
	// Phase begins a phase of the work. total is its size in bytes, 0 if unknown.
	Phase(name string, total int64)
	// Add tells that n more bytes of the phase are done.
	Add(n int64)
}

// None is a Reporter that keeps quiet.
type None struct{}

// Phase does nothing.
func (None) Phase(string, int64) {}

// Add does nothing.
func (None) Add(int64) {}

// Of returns r, or None if r is nil.
func Of(r Reporter) Reporter {
	if r == nil {
		return None{}
	}
	return r
}

// Reader reports what is read through it.
type Reader struct {
	R   io.Reader
	Rep Reporter
}

// Read is io.Reader.
func (r *Reader) Read(b []byte) (int, error) {
	n, err := r.R.Read(b)
	r.Rep.Add(int64(n))
	return n, err
}
