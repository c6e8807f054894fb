package pack

import (
	"io"
	"strings"
	"time"

	"hovix/internal/archive"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/progress"
	"hovix/internal/site"
)

// Sections of a pack that differ in how far they can be compressed.
const (
	sectionDatabase = iota
	sectionFiles
	sectionPacked // files that are compressed already
)

// packedTo is what part of its size each section is thought to become.
var packedTo = []float64{sectionDatabase: 0.25, sectionFiles: 0.35, sectionPacked: 0.98}

func sectionOf(name string) int {
	switch {
	case !strings.HasPrefix(name, manifest.FilesDir):
		return sectionDatabase
	case archive.IsPacked(name):
		return sectionPacked
	}
	return sectionFiles
}

// expect counts a file that will be packed.
func (p *packer) expect(m *manifest.Manifest, f site.File) {
	size := f.Info.Size()
	m.Files.Count++
	m.Files.Bytes += size
	p.pace.Expect(sectionOf(manifest.FilesDir+f.Rel), size)
	blocks := (size + manifest.Block - 1) / manifest.Block
	if disk := fsys.OnDisk(f.Info); f.Info.Mode().IsRegular() && disk <= size-holes && len(m.Sparse) < manifest.MaxSparse {
		m.Sparse = append(m.Sparse, manifest.SparseFile{Name: f.Rel, Bytes: disk})
		blocks = disk / manifest.Block
	}
	m.Blocks += blocks
}

// holes is how much less than its size a file takes of its disk to be one with holes, in
// bytes.
const holes = 64 << 10

// paced has the pace told of what is written to dst, and the reporter of the pace.
func (p *packer) paced(opts *archive.Options, dst *io.Writer) {
	opts.Written = func(first string, content, compressed int64) {
		p.pace.Moved(sectionOf(first), content, compressed)
	}
	*dst = &pacedWriter{w: *dst, p: p}
}

// pacedWriter measures how long a run waits for what it writes to.
type pacedWriter struct {
	w io.Writer
	p *packer
}

// slice is how much is written at a time, in bytes: little enough for a slow pipe to show
// some progress every few seconds.
const slice = 256 << 10

// Write is io.Writer.
func (w *pacedWriter) Write(b []byte) (n int, err error) {
	pacer, _ := w.p.rep.(progress.Pacer)
	for n < len(b) && err == nil {
		begun, k := time.Now(), 0
		k, err = w.w.Write(b[n:min(len(b), n+slice)])
		n += k
		w.p.pace.Written(int64(k), time.Since(begun))
		if pacer != nil {
			pacer.Pace(w.p.pace.Left())
		}
	}
	return n, err
}
