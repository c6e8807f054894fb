package database

import (
	"context"
	"errors"
	"slices"
)

// Column is a column whose values may hold text, and may be changed.
type Column struct {
	Name string
	// Chars and Bytes are the most that a value may have; 0: no limit.
	Chars, Bytes int64
	// Unique says that the column alone is a key whose values may not repeat.
	Unique bool
	// Keyed says that the column is part of such a key, alone or with others.
	Keyed bool
	// Raw says that values are bytes without a charset.
	Raw bool
	// Length counts the characters of a value in the column's charset.
	Length func(v []byte) int64
}

// Fits reports whether the column can hold v.
func (c *Column) Fits(v []byte) bool {
	n := int64(len(v))
	if c.Bytes > 0 && n > c.Bytes {
		return false
	}
	return c.Chars == 0 || n <= c.Chars || c.Length(v) <= c.Chars
}

// EditTable is a table as an Editor sees it.
type EditTable struct {
	Name     string
	Columns  []Column
	Lasting  bool     // its changes stay when the transaction is taken back
	Keyless  bool     // its rows have no name that lasts when they are changed
	Triggers []string // that run when a row is changed
}

// MarkKey notes a key whose values may not repeat, by the names of its columns.
func (t *EditTable) MarkKey(names []string) {
	for i := range t.Columns {
		c := &t.Columns[i]
		if slices.Contains(names, c.Name) {
			c.Keyed = true
			c.Unique = c.Unique || len(names) == 1
		}
	}
}

// Key names one row of a table.
type Key struct {
	Where string   // an SQL condition; empty in a table without a key
	Label string   // the same for people: "id=12"
	Parts []string // the values of its columns, in a form of the engine
}

// Row is one row of an EditTable.
type Row struct {
	Values [][]byte   // by Columns, nil for what is no text; valid during the call
	Raw    []bool     // by Columns, where single values are bytes without a charset; nil: as the columns are
	Key    func() Key // names the row; to be called during the call
}

// Change is a row with new values for some of its columns.
type Change struct {
	Key      Key
	Columns  []int // positions in EditTable.Columns
	Old, New [][]byte
}

// Outcome is what became of a Change.
type Outcome struct {
	Kind OutcomeKind
	Why  string // of what was refused, in the words of the engine
}

// OutcomeKind is a kind of Outcome.
type OutcomeKind int

// The outcomes.
const (
	Updated OutcomeKind = iota
	Moved               // the row has other values now, or is gone; nothing was changed
	Repeats             // a key would repeat
	Unfit               // the column does not take the value
)

// ErrNoName says that parts are none of a key of the table.
var ErrNoName = errors.New("they name no row of the table")

// PartsAfter gives the parts of a key once c is made. place tells which of them a column
// is, below 0 for none; form puts a new value into the form of a part.
func (t *EditTable) PartsAfter(parts []string, c *Change, place func(column string) int, form func(v []byte, old string) string) []string {
	if c == nil {
		return parts
	}
	parts = slices.Clone(parts)
	for i, at := range c.Columns {
		if k := place(t.Columns[at].Name); k >= 0 {
			parts[k] = form(c.New[i], parts[k])
		}
	}
	return parts
}

// ErrReadOnly says that a database or its user may only read.
var ErrReadOnly = errors.New("may only be read")

// ErrBusy says that others held what was to be changed for too long: a statement or a
// transaction of another program that has not ended.
var ErrBusy = errors.New("in use by others")

// Editor changes text in a live database, in place. Until Begin it only reads,
// from one snapshot; then it reads and changes in one transaction, which Close
// takes back where it was not committed.
type Editor interface {
	Reader
	// Editable tells what of a table may be changed. Tables whose changes last
	// are better changed after all others.
	Editable(ctx context.Context, table string) (*EditTable, error)
	// Scan shows every row of the table to yield.
	Scan(ctx context.Context, t *EditTable, yield func(*Row) error) error
	// Concurrent reports whether Update may be called while another goroutine is
	// in Scan.
	Concurrent() bool
	// Begin opens the transaction.
	Begin(ctx context.Context) error
	// Update makes the changes, each only where the row still has its old values,
	// and gives an outcome for each.
	// It may be called from within Scan.
	Update(ctx context.Context, t *EditTable, changes []Change) ([]Outcome, error)
	// Fetch gives the values that a row has now, and holds the row; nil if it is
	// gone.
	Fetch(ctx context.Context, t *EditTable, key Key) ([][]byte, error)
	// Named names the row whose key has these parts. Where c is given they are those before
	// it, and the name is that of the row once c is made.
	Named(t *EditTable, parts []string, c *Change) (Key, error)
	// Taken reports whether another row has the new value of a key.
	Taken(ctx context.Context, t *EditTable, c *Change) (bool, error)
	// Touch runs one statement of Hovix in the transaction.
	Touch(ctx context.Context, stmt string) error
	Commit(ctx context.Context) error
}
