package database

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"hovix/internal/fsys"
)

// TableNeed is what is known of the size of a table before it is made.
type TableNeed struct {
	Name    string
	Bytes   int64 // with its keys, as the source's engine counted them; 0: unknown
	Keys    int64 // of those, in keys besides the primary one
	Counted int64 // rows that the source's engine took it to have at that time
	Rows    int64 // rows that the archive holds; -1: unknown
	Text    int64 // bytes of them as SQL text; -1: unknown
	Largest int64 // bytes of the largest statement that its rows need; 0: unknown
}

const (
	// fresh is how far an engine's count of rows, of which some estimate it from a few
	// pages, may be from their number for its sizes to be those of these rows.
	fresh = 3.0
	// dense and sparse are how far the bytes of rows may be from those of their text.
	dense, sparse = 6, 8
	// head and key are about what a row takes besides its values, and in each key.
	head, key = 24, 40
	page      = 16 << 10
)

// Sizes gives the bytes that the rows and the keys of the table will take. They are those
// that the engine of the source knew, unless these are of other rows: some keep statistics
// that are old.
func (t TableNeed) Sizes() (rows, keys int64) {
	rows, keys = max(0, t.Bytes-t.Keys), t.Keys
	if t.Rows < 0 {
		return rows, keys
	}
	text := max(0, t.Text) + t.Rows*head
	share := float64(t.Rows) / float64(max(1, t.Counted))
	switch {
	case t.Rows == 0:
		return 0, 0
	case t.Bytes <= 0 || t.Text >= 0 && (rows < text/dense-page || rows > text*sparse+4*page):
		// The engine knows nothing of use. In most tables what is saved in numbers, which
		// are shorter than their text, is spent on pages that are not full.
		return text, max(keys, keys/page*key*t.Rows)
	case share < fresh && share > 1/fresh:
		return rows, keys
	case share < 1 || t.Counted >= 1000:
		return int64(float64(rows) * share), int64(float64(keys) * share)
	}
	return max(text, rows), max(keys, keys/page*key*t.Rows)
}

// Room is the space that a new state of a database takes on a server's disk.
type Room struct {
	Tables  int64 // bytes of tables with their keys, beside the old ones
	Sorting int64 // bytes for a while, in which keys are sorted
	Log     int64 // bytes of the server's log of changes
}

// Sorted adds room for sorting the keys of tables, of which as many as sessions are made at
// a time: the largest may be among them.
func (r *Room) Sorted(keys []int64, sessions int) {
	largest := make([]int64, sessions)
	for _, k := range keys {
		for i := range largest {
			if k > largest[i] {
				k, largest[i] = largest[i], k
			}
		}
	}
	for _, k := range largest {
		r.Sorting += k + k/4
	}
}

func (r Room) String() string {
	s := "about " + humanize.Bytes(uint64(max(r.Tables, 0))) + " are needed"
	if r.Sorting >= r.Tables/50 && r.Sorting > 1<<20 {
		s += ", " + humanize.Bytes(uint64(r.Sorting)) + " more while keys are made"
	}
	if r.Log > 0 {
		s += ", " + humanize.Bytes(uint64(r.Log)) + " for the server's log of changes"
	}
	return s
}

// Space is the Check that what is needed fits beside what dir holds, the folder in which a
// server keeps its data; empty where that is not known, or not on this machine.
func Space(dir string, need Room) Check {
	c := Check{What: "room for tables", Found: need.String()}
	if need.Tables <= 0 {
		c.Found = "how much is needed is not known"
	}
	var d fsys.Disk
	ok := false
	if dir != "" {
		d, ok = fsys.DiskOf(dir)
	}
	switch {
	case !ok:
		c.Found += ", the server does not tell what is free"
		c.Note = need.Tables > 1<<30
	case d.Free < need.Tables+need.Sorting+need.Log:
		return Failure(c.What, fmt.Errorf("for the new tables, beside the old ones, %s, and the server's disk has %s free (%s); make room there", need, humanize.Bytes(uint64(d.Free)), dir))
	default:
		c.Found += "; " + humanize.Bytes(uint64(d.Free)) + " are free"
	}
	return c
}
