package restore

import (
	"context"
	"sync"

	"golang.org/x/sync/semaphore"
)

const (
	// maxSessions is how many statements the server works on at a time: more than it
	// has processors cost it more than they bring.
	maxSessions = 2
	// maxWaiting is how many bytes of statements may wait for the server. It must
	// reach over the stretches of an archive that hold one table only.
	maxWaiting = 48 << 20
)

// desk decides what the server does next. Where rows are kept in the order of their key,
// as InnoDB keeps them, they go to the end of a table; two sessions that fill the same
// table get in each other's way there, and leave its pages half empty. So a session takes
// the first chunk whose table nobody fills, and joins another only when no other table
// waits. Where rows lie as they come (PostgreSQL), the first is next.
type desk struct {
	room  *semaphore.Weighted
	most  int64
	apart bool // sessions keep to different tables

	mu      sync.Mutex
	free    int // sessions
	waiting []*turn
	busy    map[*tableState]int // sessions that work on a table
}

// turn is a place in the queue.
type turn struct {
	table *tableState
	size  int64
	ready chan struct{}
}

func newDesk(sessions int, bytes int64) *desk {
	return &desk{room: semaphore.NewWeighted(bytes), most: bytes, free: sessions, busy: map[*tableState]int{}}
}

// queue takes a place for work on a table. It waits while statements of too many bytes
// stand before it.
func (d *desk) queue(ctx context.Context, t *tableState, size int) (*turn, error) {
	w := &turn{table: t, size: min(int64(size), d.most), ready: make(chan struct{})}
	if err := d.room.Acquire(ctx, w.size); err != nil {
		return nil, context.Cause(ctx)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.waiting = append(d.waiting, w)
	d.next()
	return w, nil
}

// next gives free sessions to who waits.
func (d *desk) next() {
	for d.free > 0 && len(d.waiting) > 0 {
		i := 0
		for n, w := range d.waiting {
			if !d.apart || d.busy[w.table] == 0 {
				i = n
				break
			}
		}
		w := d.waiting[i]
		d.waiting = append(d.waiting[:i], d.waiting[i+1:]...)
		d.free--
		d.busy[w.table]++
		close(w.ready)
	}
}

// serve runs f when it is w's turn.
func (d *desk) serve(ctx context.Context, w *turn, f func() error) error {
	defer d.room.Release(w.size)
	if err := waitFor(ctx, w.ready); err != nil {
		return err
	}
	defer func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.free++
		d.busy[w.table]--
		d.next()
	}()
	return f()
}
