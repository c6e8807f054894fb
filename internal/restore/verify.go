package restore

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"hovix/internal/archive/lanes"
	"hovix/internal/database/sqlite"
)

// setSum is a checksum of a set of files that does not depend on their order: the
// sum of a hash of each one's name, size and content. It proves in constant memory
// that two sets are the same.
type setSum [4]uint64

func (s *setSum) add(rel string, size int64, sha [32]byte) {
	h := sha256.New()
	h.Write(sha[:])
	h.Write(binary.BigEndian.AppendUint64(nil, uint64(size)))
	h.Write([]byte(rel))
	sum := h.Sum(nil)
	for i := range s {
		s[i] += binary.BigEndian.Uint64(sum[8*i:])
	}
}

// merge adds the files of another set.
func (s *setSum) merge(o setSum) {
	for i := range s {
		s[i] += o[i]
	}
}

// errStaged says that what is staged is not what was written.
var errStaged = errors.New("what is staged is not what the archive holds")

// verify reads all staged files once more and compares them with the archive's
// index, before anything of the target changes. Rows were compared while they were
// staged: their number with the engine's, each changed value by a second look.
func (r *run) verify(ctx context.Context) error {
	if r.files == nil {
		return nil
	}
	r.rep.Phase("Verifying what is staged", r.files.bytes)
	database := []string{}
	if r.plan.inside != "" {
		database = sqlite.Files(filepath.ToSlash(r.plan.inside))
	}
	v := &verifier{run: r, files: make(chan stagedFile, 64)}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(v.files)
		return r.files.dir.Walk(ctx, func(rel string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			if slices.Contains(database, rel) {
				return nil
			}
			select {
			case v.files <- stagedFile{rel}:
				return nil
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		})
	})
	sums := make([]setSum, runtime.GOMAXPROCS(0))
	for i := range sums {
		g.Go(func() error { return v.hash(&sums[i]) })
	}
	if err := g.Wait(); err != nil {
		return fmt.Errorf("verify what is staged: %w", err)
	}
	var sum setSum
	for _, s := range sums {
		sum.merge(s)
	}
	if sum != r.files.sum {
		return fmt.Errorf("%w: files that were written read back otherwise; the disk or its file system may be failing", errStaged)
	}
	return nil
}

type stagedFile struct{ rel string }

type verifier struct {
	run   *run
	files chan stagedFile
}

const (
	lanesAtOnce = 16      // files that are hashed side by side
	maxTogether = 1 << 20 // bytes of one of them
)

// hash adds up files as they come, small ones together: some processors are many
// times faster so.
func (v *verifier) hash(sum *setSum) error {
	var names []string
	var sizes []int64
	var messages []lanes.Message
	shas := make([][32]byte, lanesAtOnce)
	buffers := make([][]byte, lanesAtOnce)
	flush := func() {
		lanes.Sum(messages) // in an order of its own
		for i, name := range names {
			sum.add(name, sizes[i], shas[i])
		}
		names, sizes, messages = names[:0], sizes[:0], messages[:0]
	}
	for f := range v.files {
		n := len(messages)
		data, size, sha, err := v.read(f, buffers[n])
		if err != nil {
			return err
		}
		if data == nil {
			sum.add(f.rel, size, sha)
			continue
		}
		buffers[n] = data
		messages = append(messages, lanes.Message{Data: data, Sum: &shas[n]})
		sizes = append(sizes, size)
		if names = append(names, f.rel); len(names) == lanesAtOnce {
			flush()
		}
	}
	flush()
	return nil
}

// read gives the content of a small file, in buf if it fits there, and the hash of a
// large one.
func (v *verifier) read(f stagedFile, buf []byte) (data []byte, size int64, sha [32]byte, err error) {
	in, err := v.run.files.dir.Open(filepath.FromSlash(f.rel))
	if err != nil {
		return nil, 0, sha, err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return nil, 0, sha, err
	}
	if size = st.Size(); size <= maxTogether {
		data = slices.Grow(buf[:0], int(size)+1)[:size]
		_, err = io.ReadFull(in, data)
		v.run.rep.Add(size)
		return data, size, sha, err
	}
	h := sha256.New()
	if size, err = io.Copy(h, in); err != nil {
		return nil, 0, sha, err
	}
	v.run.rep.Add(size)
	return nil, size, [32]byte(h.Sum(nil)), nil
}
