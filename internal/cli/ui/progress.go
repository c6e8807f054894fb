package ui

import (
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// Progress shows the phases of a run: bars on a terminal, a line now and then
// elsewhere. It is a progress.Reporter, and a progress.Pacer.
type Progress struct {
	w     io.Writer
	bars  *mpb.Progress
	mu    sync.Mutex
	bar   *mpb.Bar
	name  string
	total int64
	done  int64
	paced bool // it is told of the whole run
	left  time.Duration
	begun time.Time // of the phase
	said  time.Time
	shown atomic.Pointer[string] // what the bar says, which is drawn while others hold mu
}

// quiet is how long a run without a terminal goes on between two lines.
const quiet = 15 * time.Second

// NewProgress returns a Progress on w.
func NewProgress(w io.Writer) *Progress {
	p := &Progress{w: w, said: time.Now()}
	if IsTerminal(w) {
		p.bars = mpb.New(mpb.WithOutput(w), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	}
	return p
}

// Phase begins a phase of total bytes; 0 means that nobody knows.
func (p *Progress) Phase(name string, total int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.name, p.begun = name, time.Now()
	if !p.paced || total > 0 {
		p.total, p.done, p.paced = total, 0, false
	}
	if p.bars == nil {
		return
	}
	p.endBar()
	state := p.state()
	p.shown.Store(&state)
	p.bar = p.bars.New(0, mpb.BarStyle().Lbound("").Filler("█").Tip("█").Padding("░").Rbound(""),
		mpb.PrependDecorators(decor.Name("  "+Neutral(name)+"  ", decor.WCSyncSpaceR)),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string { return "  " + *p.shown.Load() })))
	p.show()
}

// state says how far the phase, or the run, has come.
func (p *Progress) state() string {
	of := " of "
	if p.paced {
		of = " of about "
	}
	if p.total <= 0 {
		return Bytes(p.done)
	}
	s := Bytes(p.done) + of + Bytes(max(p.total, p.done))
	if left := p.timeLeft(); left >= 0 {
		s += ", " + Span(left) + " left"
	}
	return s
}

// timeLeft is negative where it is not known.
func (p *Progress) timeLeft() time.Duration {
	if p.paced {
		return p.left
	}
	took := time.Since(p.begun)
	if p.done <= 0 || p.total <= 0 || took < time.Second {
		return -1
	}
	return time.Duration(float64(took) * float64(max(0, p.total-p.done)) / float64(p.done))
}

// Span says how long something takes, as people do: "40 s", "3 min", "2 h 5 min".
func Span(d time.Duration) string {
	switch s := int64((d + time.Second/2) / time.Second); {
	case s < 90:
		return fmt.Sprintf("%d s", s)
	case s < 90*60:
		return fmt.Sprintf("%d min", (s+30)/60)
	default:
		return fmt.Sprintf("%d h %d min", s/3600, s%3600/60)
	}
}

func (p *Progress) endBar() {
	if p.bar != nil {
		p.bar.Abort(true) // whether it is full or not, and without leaving a line
		p.bar = nil
	}
}

// Add tells that n more bytes of the phase are done.
func (p *Progress) Add(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.paced {
		return
	}
	p.done += n
	p.show()
}

// Pace tells of the whole run.
func (p *Progress) Pace(done, total int64, left time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.paced, p.done, p.total, p.left = true, done, total, left
	p.show()
}

// show brings the bar to where the run is, or says so now and then.
func (p *Progress) show() {
	if p.bar != nil { // one that is made with a total ends by itself when that is reached
		state := p.state()
		p.shown.Store(&state)
		p.bar.SetTotal(max(p.total, p.done+1), false)
		p.bar.SetCurrent(p.done)
		return
	}
	if p.bars == nil && time.Since(p.said) > quiet {
		p.said = time.Now()
		_ = Fprintf(p.w, "%s: %s\n", p.name, p.state())
	}
}

// Pause takes the bar from the terminal, for a question.
func (p *Progress) Pause() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bars != nil {
		p.endBar()
		p.bars.Wait()
		p.bars = mpb.New(mpb.WithOutput(p.w), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	}
}

// Close ends the display.
func (p *Progress) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bars != nil {
		p.endBar()
		p.bars.Wait()
		p.bars = nil
	}
}
