package restore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/database/engines"
)

// serverPatience is how long a switch waits for a database server that is gone.
const serverPatience = 60 * time.Second

type noticeKey struct{}

// WithNotices gives a context in which f is told what people should know while they wait.
func WithNotices(ctx context.Context, f func(text string)) context.Context {
	return context.WithValue(ctx, noticeKey{}, f)
}

func notice(ctx context.Context, format string, args ...any) {
	if f, ok := ctx.Value(noticeKey{}).(func(string)); ok {
		f(fmt.Sprintf(format, args...))
	}
}

// HalfwayError says that an exchange began and could not be finished: the next run at the
// target finishes it.
type HalfwayError struct {
	What string // "the switch", "the exchange"
	Err  error
}

// Error says why, and what to do.
func (e *HalfwayError) Error() string {
	return fmt.Sprintf("%s began, but could not be finished: %v", e.What, e.Err)
}

// Unwrap gives why.
func (e *HalfwayError) Unwrap() error { return e.Err }

// advance carries out the switch that the journal tells of, from wherever it stands, and
// waits for a database server that goes away meanwhile. With a *notSwitchedError everything
// is as it was; with another error the journal stays, and the next run goes on.
func advance(ctx context.Context, an *annex.Annex, j *journal, l database.Location) (warnings []string, err error) {
	const tries = 5
	for try := 1; ; try++ {
		warnings, err = advanceOnce(ctx, an, j, l)
		if err == nil || l.IsZero() || try == tries || !engines.Lost(err) {
			return warnings, err
		}
		notice(ctx, "the database server is gone in the middle of the exchange (%v); waiting up to %d seconds for it", err, int(serverPatience.Seconds()))
		if e := awaitServer(ctx, l); e != nil {
			return warnings, err
		}
		notice(ctx, "the database server is there again; going on")
	}
}

// awaitServer waits until a database can be used again.
func awaitServer(ctx context.Context, l database.Location) error {
	for begun := time.Now(); ; {
		ex, err := engines.Exchange(ctx, l)
		if err == nil {
			return ex.Close()
		}
		if time.Since(begun) > serverPatience {
			return err
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		}
	}
}
