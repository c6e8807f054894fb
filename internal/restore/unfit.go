package restore

import (
	"errors"
	"fmt"
	"strings"

	"hovix/internal/passage"
)

// ErrUnfit says that values would grow beyond what their columns hold.
var ErrUnfit = errors.New("with their new addresses values are longer than their columns hold")

// Unfit tells of values that would grow beyond what their columns hold.
type Unfit struct {
	Values   int64    `json:"values"` // of the rows that were looked at
	Exact    bool     `json:"exact"`  // all rows were looked at
	Examples []string `json:"examples"`
}

// unfitIn tells of what a passage has met; nil if there was nothing.
func unfitIn(way *passage.Passage, exact bool) *Unfit {
	n, which := way.Unfit()
	if n == 0 {
		return nil
	}
	return &Unfit{n, exact, which}
}

// noteUnfit writes down that a value stayed as it is because it would not have fitted: a
// run that goes on with this one does not meet it again.
func (r *run) noteUnfit() error {
	if n, _ := r.way.Unfit(); n == 0 {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.j.Unfit {
		return nil
	}
	r.j.Unfit = true
	return r.j.write(r.annex)
}

// checkUnfit stops a restore in which values do not fit, unless they may stay as they are.
func (r *run) checkUnfit() error {
	n, which := r.way.Unfit()
	switch {
	case r.opts.KeepUnfit || n == 0 && !r.j.Unfit:
		return nil
	case n == 0:
		return fmt.Errorf("%w: the interrupted run met such, in rows that are staged already", ErrUnfit)
	}
	more := ""
	if n > int64(len(which)) {
		more = "; …"
	}
	return fmt.Errorf("%w, %d in all: %s%s", ErrUnfit, n, strings.Join(which, "; "), more)
}
