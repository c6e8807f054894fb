package restore

import (
	"io"
	"strings"
	"sync"
	"time"

	"hovix/internal/archive"
	"hovix/internal/manifest"
	"hovix/internal/progress"
)

// Sections of an archive, and what part of its size each is thought to be compressed to.
const (
	sectionDatabase = iota
	sectionFiles
)

var packedTo = []float64{sectionDatabase: 0.25, sectionFiles: 0.8}

// pacer tells how long it will take to read an archive of which nobody knows the size: its
// manifest says how much is in it.
type pacer struct {
	in   io.Reader
	to   progress.Pacer // nil: nobody is told
	mu   sync.Mutex
	pace *progress.Pace // nil until the manifest is known
	read int64
	last int64 // of read, when the last entry began
}

// begin takes what the manifest says.
func (p *pacer) begin(m *manifest.Manifest) {
	if p.to == nil {
		return
	}
	pace := progress.NewPace(packedTo...)
	pace.Expect(sectionFiles, m.Files.Bytes)
	if m.Database != nil {
		for _, t := range m.Database.Tables {
			pace.Expect(sectionDatabase, t.Bytes-t.Keys)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.pace, p.last = pace, p.read
}

// Read is io.Reader of the archive.
func (p *pacer) Read(b []byte) (int, error) {
	begun := time.Now()
	n, err := p.in.Read(b)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.read += int64(n)
	if p.pace != nil {
		p.pace.Written(int64(n), time.Since(begun))
		p.to.Pace(p.pace.Left())
	}
	return n, err
}

// entry hears that an entry of the archive begins.
func (p *pacer) entry(e *archive.Entry) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pace == nil {
		return
	}
	section := sectionFiles
	if strings.HasPrefix(e.Name, manifest.DatabaseDir) {
		section = sectionDatabase
	}
	p.pace.Moved(section, e.Size, p.read-p.last)
	p.last = p.read
}
