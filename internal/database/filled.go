package database

import (
	"errors"
	"strconv"
	"sync"
)

// ErrNotResumed says that a stage which was interrupted is not in a state in which
// it could be gone on with.
var ErrNotResumed = errors.New("what was staged cannot be gone on with")

// Filled remembers what of a stage is done, by table and a number. A stage keeps it
// in the database too, and writes it there together with what is done, so that one
// that was interrupted goes on at the right place.
type Filled struct {
	mu   sync.Mutex
	done map[string]map[int]int64
}

// The numbers of what is done beside chunks of rows, which count from 1.
const (
	KeysMade = 0  // the keys of a table
	Defined  = -1 // the table
)

// Add notes that something is done, with the number of rows that it stored.
func (f *Filled) Add(table string, n int, rows int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.done == nil {
		f.done = map[string]map[int]int64{}
	}
	if f.done[table] == nil {
		f.done[table] = map[int]int64{}
	}
	f.done[table][n] = rows
}

// AddAll notes what a stage has kept: rows of table, number and rows stored.
func (f *Filled) AddAll(kept [][]string) {
	for _, row := range kept {
		n, _ := strconv.Atoi(row[1])
		stored, _ := strconv.ParseInt(row[2], 10, 64)
		f.Add(row[0], n, stored)
	}
}

// Rows reports whether something is done, and how many rows it stored.
func (f *Filled) Rows(table string, n int) (rows int64, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	rows, ok = f.done[table][n]
	return rows, ok
}

// Forget forgets all of a table.
func (f *Filled) Forget(table string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.done, table)
}
