package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"hovix/internal/nearest"
)

// openInput opens a file to read, or standard input for '-', and tells its size, 0 if that
// is unknown. It may be a pipe: what waits there for a writer ends with ctx.
func (a *app) openInput(ctx context.Context, file string) (io.ReadCloser, int64, error) {
	if file == "-" {
		return patient(ctx, func() (io.ReadCloser, error) { return io.NopCloser(a.in), nil }), 0, nil
	}
	st, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		if near := nearest.Path(file); near != "" {
			return nil, 0, fmt.Errorf("there is no file %s; did you mean %s?", file, near)
		}
		return nil, 0, fmt.Errorf("there is no file %s", file)
	}
	if err != nil {
		return nil, 0, err
	}
	open := func() (io.ReadCloser, error) { return os.Open(file) }
	if !st.Mode().IsRegular() {
		return patient(ctx, open), 0, nil
	}
	in, err := open()
	return in, st.Size(), err
}

// patient reads what open opens, and stops waiting for it when ctx is done: neither the
// opening nor the reading of a pipe can be cut short otherwise.
func patient(ctx context.Context, open func() (io.ReadCloser, error)) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		in, err := open()
		if err == nil {
			_, err = io.Copy(w, in)
			err = errors.Join(err, in.Close())
		}
		_ = w.CloseWithError(err) // never fails
	}()
	context.AfterFunc(ctx, func() { _ = w.CloseWithError(ctx.Err()) })
	return r
}

// patientWriter writes to what may be a pipe, and stops waiting for its reader when ended
// is closed: writing to a pipe cannot be cut short otherwise.
type patientWriter struct {
	w     io.Writer
	ended <-chan struct{}
}

func (p patientWriter) Write(b []byte) (int, error) {
	type result struct {
		n   int
		err error
	}
	done := make(chan result, 1)
	go func() {
		n, err := p.w.Write(b)
		done <- result{n, err}
	}()
	select {
	case r := <-done:
		return r.n, r.err
	case <-p.ended:
	}
	select {
	case r := <-done:
		return r.n, r.err
	case <-time.After(grace / 2): // it may just have been under way
		return 0, context.Canceled
	}
}
