package restore

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What waits for the server is taken so that two sessions share a table only when no
// other waits, and a table's chunks go in their order.
func TestDesk(t *testing.T) {
	d := newDesk(2, 100)
	d.apart = true
	posts, meta := &tableState{name: "posts"}, &tableState{name: "meta"}
	queue := func(table *tableState, size int) *turn {
		w, err := d.queue(t.Context(), table, size)
		require.NoError(t, err)
		return w
	}
	has := func(w *turn) bool {
		select {
		case <-w.ready:
			return true
		default:
			return false
		}
	}
	done := func(w *turn) { require.NoError(t, d.serve(t.Context(), w, func() error { return nil })) }

	p1 := queue(posts, 10)
	p2 := queue(posts, 10)
	p3, p4, m1 := queue(posts, 10), queue(posts, 10), queue(meta, 10)
	assert.True(t, has(p1) && has(p2), "with nothing else to do both sessions fill one table")
	done(p1)
	assert.True(t, has(m1), "the other table is taken first")
	assert.False(t, has(p3))
	done(p2)
	assert.True(t, has(p3) && !has(p4), "then the chunks of the first in their order")
	done(m1)
	done(p3)
	done(p4)

	big := queue(posts, 1000) // larger than the room: it goes alone
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := d.queue(ctx, meta, 1)
	assert.ErrorIs(t, err, context.DeadlineExceeded, "no room while it waits or is worked on")
	done(big)
	done(queue(meta, 1))
}
