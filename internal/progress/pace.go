package progress

import (
	"sync"
	"time"
)

// Pacer is a Reporter that is told of a whole run: how many bytes are written of how many
// there are thought to be, and the time that is thought to be left; a negative one is not
// known.
type Pacer interface {
	Pace(done, total int64, left time.Duration)
}

// Pace finds out how long a run will take yet that packs sections one after the other or
// mixed, and writes them to what may be slow. Sections differ in how far they can be
// compressed, and in how fast that goes; so what is left of each is added up. A run that
// mostly waits for its output takes as long as that takes the bytes that are left, and any
// other as long as its sections did so far.
type Pace struct {
	mu       sync.Mutex
	now      func() time.Time
	begun    time.Time
	last     time.Time // when something was written last
	waited   time.Duration
	written  int64
	sections []section
}

type section struct {
	total  int64 // of content, in bytes
	moved  int64 // of that, what has been written
	packed int64 // that is as compressed
	took   time.Duration
	prior  float64 // what the ratio of packed to moved is thought to be before anything is
}

const (
	// trusted is how much of a section has to be written until its own ratio counts as
	// much as what was thought of it before: a share, and bytes at least.
	trusted      = 0.02
	trustedBytes = 1 << 20
	// usual is the speed of a section of which nothing is known, in bytes a second.
	usual = 200e6
)

// NewPace begins a run whose sections are thought to be compressed to these parts of their
// size.
func NewPace(ratios ...float64) *Pace {
	p := &Pace{now: time.Now}
	p.begun = p.now()
	p.last = p.begun
	for _, r := range ratios {
		p.sections = append(p.sections, section{prior: r})
	}
	return p
}

// Expect adds n bytes to the content of a section; a negative n takes them away.
func (p *Pace) Expect(s int, n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sections[s].total += n
}

// Moved tells that content of a section has been written, as packed bytes.
func (p *Pace) Moved(s int, content, packed int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now()
	sec := &p.sections[s]
	sec.moved += content
	sec.packed += packed
	sec.took += now.Sub(p.last)
	p.last = now
}

// Written tells that n bytes were written, for which the run has waited so long.
func (p *Pace) Written(n int64, waited time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.written += n
	p.waited += waited
}

// Left gives how many bytes are written, how many there will be, and the time that it will
// take until they are; negative where that cannot be known yet.
func (p *Pace) Left() (done, total int64, left time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	elapsed := p.now().Sub(p.begun)
	seconds := 0.0
	for _, s := range p.sections {
		rest := float64(max(0, s.total-s.moved))
		weight := max(trusted*float64(s.total), trustedBytes)
		ratio := (float64(s.packed) + weight*s.prior) / (float64(s.moved) + weight)
		total += s.packed + int64(rest*ratio)
		speed := usual
		if s.moved > 0 && s.took > 0 {
			speed = float64(s.moved) / s.took.Seconds()
		}
		seconds += rest / speed
		done += s.packed
	}
	done = max(done, p.written) // some of a piece that is not yet written whole
	total = max(total, done)
	switch {
	case done == 0 || elapsed < time.Second:
		return done, total, -1
	case p.waited > elapsed/2:
		return done, total, time.Duration(float64(elapsed) * float64(total-done) / float64(done))
	}
	return done, total, time.Duration(seconds * float64(time.Second))
}
