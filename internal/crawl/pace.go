package crawl

import (
	"context"
	"sync"
	"time"
)

// Pace spaces requests out in time. The zero value lets all pass at once.
type Pace struct {
	mu    sync.Mutex
	every time.Duration
	slot  time.Time // of the next request
	hold  time.Time // nobody passes before
}

// Rate sets how many requests pass in a second; 0: any number.
func (p *Pace) Rate(perSecond float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.every = 0; perSecond > 0 {
		p.every = time.Duration(float64(time.Second) / perSecond)
	}
}

// Hold lets nobody pass for a while: the server asked for a rest.
func (p *Pace) Hold(d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := time.Now().Add(d); until.After(p.hold) {
		p.hold = until
	}
}

// Wait waits for the turn of a request, or for the end of ctx.
func (p *Pace) Wait(ctx context.Context) {
	p.mu.Lock()
	now := time.Now()
	at := p.hold
	if p.every > 0 {
		if p.slot.Before(now) {
			p.slot = now
		}
		if p.slot.After(at) {
			at = p.slot
		}
		p.slot = p.slot.Add(p.every)
	}
	p.mu.Unlock()
	if d := at.Sub(now); d > 0 {
		t := time.NewTimer(d)
		defer t.Stop()
		select {
		case <-t.C:
		case <-ctx.Done():
		}
	}
}
