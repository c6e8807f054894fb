package ui

import (
	"io"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// Progress shows the phases of a run: bars on a terminal, a line now and then
// elsewhere. It is a progress.Reporter.
type Progress struct {
	w     io.Writer
	bars  *mpb.Progress
	mu    sync.Mutex
	bar   *mpb.Bar
	name  string
	total int64
	done  int64
	said  time.Time
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
	p.name, p.total, p.done = name, total, 0
	if p.bars == nil {
		return
	}
	p.endBar()
	p.bar = p.bars.New(0, mpb.BarStyle().Lbound("").Filler("█").Tip("█").Padding("░").Rbound(""),
		mpb.PrependDecorators(decor.Name("  "+Neutral(name)+"  ", decor.WCSyncSpaceR)),
		mpb.AppendDecorators(decor.Name("  "), decor.CountersKibiByte("% .1f / % .1f"), decor.Name("  "), decor.AverageETA(decor.ET_STYLE_GO)))
	p.bar.SetTotal(total, false) // a bar that is made with a total ends by itself when that is reached
}

func (p *Progress) endBar() {
	if p.bar != nil {
		p.bar.Abort(true) // whether it is full or not, and without leaving a line
		p.bar = nil
	}
}

// Add tells that n more bytes are done.
func (p *Progress) Add(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done += n
	if p.bar != nil {
		if p.done > p.total {
			p.bar.SetTotal(p.done+1, false)
		}
		p.bar.IncrInt64(n)
		return
	}
	if p.bars == nil && time.Since(p.said) > quiet {
		p.said = time.Now()
		if p.total > 0 {
			_ = Fprintf(p.w, "%s: %s of %s\n", p.name, Bytes(p.done), Bytes(max(p.total, p.done)))
		} else {
			_ = Fprintf(p.w, "%s: %s\n", p.name, Bytes(p.done))
		}
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
