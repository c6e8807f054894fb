package ui

import (
	"fmt"
	"io"
	"sync"
	"time"
)

// Status shows how a count goes on: one changing line on a terminal, a line now and
// then elsewhere.
type Status struct {
	w        io.Writer
	terminal bool
	mu       sync.Mutex
	said     time.Time
	shown    bool
}

// NewStatus returns a Status on w.
func NewStatus(w io.Writer) *Status { return &Status{w: w, terminal: IsTerminal(w), said: time.Now()} }

// Set shows a line, if it is time for one.
func (s *Status) Set(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	wait := quiet
	if s.terminal {
		wait = 200 * time.Millisecond
	}
	if time.Since(s.said) < wait {
		return
	}
	s.said, s.shown = time.Now(), true
	if s.terminal {
		_ = Fprintf(s.w, "\r\x1b[K  "+format, args...)
	} else {
		_ = Fprintf(s.w, format+"\n", args...)
	}
}

// Close takes the line from a terminal.
func (s *Status) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.terminal && s.shown {
		fmt.Fprint(s.w, "\r\x1b[K")
	}
	s.shown = false
}
