package database

import (
	"context"
	"fmt"
	"time"
)

// settle is how long sessions of a run that was killed may take to end.
const settle = 60 * time.Second

// EndEarlier ends what a server still does for a run that was killed: it goes on with a
// statement whose client is gone, and what it makes, or takes back, stands in the way of the
// next run. end has the server end such sessions, and gives those that there still are.
func EndEarlier(ctx context.Context, end func() (sessions [][]string, err error)) error {
	for begun := time.Now(); ; {
		sessions, err := end()
		if err != nil || len(sessions) == 0 {
			return err
		}
		if time.Since(begun) > settle {
			return fmt.Errorf("the server still works for a run that was killed, in session %s, and does not end it; wait for that, and run the command again", sessions[0][0])
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
