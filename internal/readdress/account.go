package readdress

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"hovix/internal/nearest"
	"hovix/internal/rewrite"
	"hovix/internal/site"
	"hovix/internal/spreadsheet"
)

// Filter chooses columns by patterns, as of path.Match. A pattern without a
// full stop stands for a table, one with it for table.column. Letter case does
// not count.
type Filter struct {
	Tables  []string // only these; empty: all
	Columns []string // only these, by their names or as table.column; empty: all
	Except  []string // not these
}

// Check returns an error for a pattern that cannot be read.
func (f *Filter) Check() error {
	for _, p := range slices.Concat(f.Tables, f.Columns, f.Except) {
		if _, err := path.Match(p, ""); err != nil {
			return err
		}
	}
	return nil
}

// Wants reports whether a column is chosen. Text outside of rows has neither
// table nor column, and is chosen unless tables or columns are named.
func (f *Filter) Wants(table, column string) bool {
	match := func(patterns []string, columns bool) bool {
		return slices.ContainsFunc(patterns, func(p string) bool { return matches(p, table, column, columns) })
	}
	if table == "" && len(f.Tables)+len(f.Columns) > 0 {
		return false
	}
	return (len(f.Tables) == 0 || match(f.Tables, false)) && (len(f.Columns) == 0 || match(f.Columns, true)) && !match(f.Except, false)
}

// matches reports whether a pattern is of a column. One without a full stop stands for a
// table, or for a column where columns are named.
func matches(pattern, table, column string, columns bool) bool {
	name := table
	if strings.Contains(pattern, ".") {
		name = table + "." + column
	} else if columns {
		name = column
	}
	ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name))
	return ok
}

// ErrUnmatched says that a pattern of tables, columns or files is of none.
var ErrUnmatched = errors.New("there is nothing of the name")

// chosen notes which patterns are of something.
type chosen struct {
	filter *Filter
	globs  []string // of files
	hit    map[string]bool
	names  []string // of tables and columns, for the nearest
}

// see notes that a column is there.
func (c *chosen) see(table, column string) {
	for i, list := range [][]string{c.filter.Tables, c.filter.Columns, c.filter.Except} {
		for _, p := range list {
			if !c.hit[p] && matches(p, table, column, i == 1) {
				c.hit[p] = true
			}
		}
	}
	if len(c.filter.Tables)+len(c.filter.Columns)+len(c.filter.Except) > 0 && len(c.names) < 10_000 {
		c.names = append(c.names, table, column, table+"."+column)
	}
}

// seeFile notes that a file is there.
func (c *chosen) seeFile(rel string) {
	for _, g := range c.globs {
		if !c.hit[g] && site.MatchesFile([]string{g}, rel) {
			c.hit[g] = true
		}
	}
}

// unmatched gives an error for a pattern that is of nothing.
func (c *chosen) unmatched() error {
	for _, p := range slices.Concat(c.filter.Tables, c.filter.Columns, c.filter.Except, c.globs) {
		if c.hit[p] || p == "*" {
			continue
		}
		err := fmt.Errorf("%w %s", ErrUnmatched, p)
		if n := nearest.Of(p, c.names); n != "" && !slices.Contains(c.globs, p) {
			err = fmt.Errorf("%w; did you mean %s?", err, n)
		}
		return err
	}
	return nil
}

// Sample is a changed value, cut to what is around its first change.
type Sample struct {
	Before string `json:"before"`
	After  string `json:"after"`
	Old    string `json:"old"` // the piece of Before that changed
	New    string `json:"new"` // what took its place in After
}

// Column is what happened to one column, or to one file.
type Column struct {
	Table     string             `json:"table"`
	Column    string             `json:"column"`
	File      string             `json:"file,omitempty"` // path below the site's folder
	Read      int64              `json:"read,omitempty"` // values that were looked at, of a live database
	Tally     rewrite.Tally      `json:"-"`
	Samples   []Sample           `json:"samples,omitempty"`
	Leftovers []rewrite.Leftover `json:"leftovers,omitempty"` // the first that a person should look at
	wanted    bool
	kept      bool // its addresses are identifiers
}

// Account tells what a rewriting found and changed. Columns without a mention
// do not appear.
type Account struct {
	Columns []*Column     `json:"columns"`
	Tally   rewrite.Tally `json:"-"`
	Tables  int           `json:"tables,omitempty"` // of a live database: tables, rows and values that were looked at
	Rows    int64         `json:"rows,omitempty"`
	Read    int64         `json:"read,omitempty"`
	Files   int           `json:"files,omitempty"`  // that were looked at
	Notes   []string      `json:"notes,omitempty"`  // what a person should look at besides
	Asides  []string      `json:"asides,omitempty"` // what is good to know
	Kept    string        `json:"kept,omitempty"`   // the folder of the undo point
	byName  map[[2]string]*Column
	filter  Filter
	chosen  chosen
	keep    []string // columns with identifiers, as patterns of table.column
	changes *csv.Writer
	listed  bool       // changes are wanted
	pending [][]string // lines of changes that are still to be written
}

const (
	maxSamples = 3
	around     = 56 // bytes of a sample behind the place where the change begins, half of it before
)

func newAccount(opts *Options, keep []string) (*Account, error) {
	a := &Account{byName: map[[2]string]*Column{}, filter: opts.Filter, keep: keep}
	a.chosen = chosen{filter: &a.filter, globs: opts.Files, hit: map[string]bool{}}
	if opts.Identifiers {
		a.keep = nil
	}
	if opts.Changes != nil {
		a.changes, a.listed = csv.NewWriter(opts.Changes), true
		return a, a.changes.Write([]string{"table", "column", "row", "before", "after"})
	}
	return a, nil
}

// Findings is the number of things that a person should look at.
func (a *Account) Findings() int64 { return a.Tally.Findings() + int64(len(a.Notes)) }

// column gives the account of a column.
func (a *Account) column(table, column string) *Column {
	key := [2]string{table, column}
	c := a.byName[key]
	if c == nil {
		c = &Column{Table: table, Column: column, wanted: a.filter.Wants(table, column)}
		c.kept = slices.ContainsFunc(a.keep, func(p string) bool {
			ok, _ := path.Match(strings.ToLower(p), strings.ToLower(table+"."+column))
			return ok
		})
		c.Tally.KeepFindings(&c.Leftovers, maxSamples)
		a.byName[key] = c
		if a.chosen.filter != nil && table != "" {
			a.chosen.see(table, column)
		}
	}
	return c
}

// file gives the account of a file, by its path below the site's folder.
func (a *Account) file(rel string) *Column {
	c := a.column("", rel)
	c.File, c.Column = rel, ""
	return c
}

// part gives an empty account of the same filter, to be joined later.
func (a *Account) part() *Account {
	return &Account{byName: map[[2]string]*Column{}, filter: a.filter, keep: a.keep, listed: a.listed}
}

// changed notes a changed value. row says in which row or line it stands.
func (a *Account) changed(c *Column, row string, before, after []byte) {
	if len(c.Samples) < maxSamples {
		c.Samples = append(c.Samples, sampleOf(before, after))
	}
	if a.listed {
		a.pending = append(a.pending, []string{c.Table, c.Column + c.File, row, string(before), string(after)})
	}
}

// flush writes the pending lines of changes.
func (a *Account) flush() error {
	if a.changes == nil {
		return nil
	}
	for _, row := range a.pending {
		spreadsheet.GuardAll(row)
	}
	if err := a.changes.WriteAll(a.pending); err != nil {
		return fmt.Errorf("write the changes: %w", err)
	}
	a.pending = a.pending[:0]
	return nil
}

// join adds a part.
func (a *Account) join(part *Account) error {
	for key, c := range part.byName {
		whole := a.column(key[0], key[1])
		whole.Tally.Add(&c.Tally)
		whole.Read += c.Read
		whole.Samples = firsts(whole.Samples, c.Samples)
		whole.Leftovers = firsts(whole.Leftovers, c.Leftovers)
	}
	a.pending = part.pending
	return a.flush()
}

// firsts joins two lists up to maxSamples.
func firsts[T any](a, b []T) []T {
	a = append(a, b...)
	return a[:min(len(a), maxSamples)]
}

// end adds everything up.
func (a *Account) end() error {
	for _, c := range a.byName {
		if c.Tally.Values > 0 {
			a.Columns = append(a.Columns, c)
			a.Tally.Add(&c.Tally)
		}
		a.Read += c.Read
	}
	slices.SortFunc(a.Columns, func(x, y *Column) int {
		return cmp.Or(strings.Compare(x.File, y.File), strings.Compare(x.Table, y.Table), strings.Compare(x.Column, y.Column))
	})
	if a.changes == nil {
		return nil
	}
	a.changes.Flush()
	return a.changes.Error()
}

// sampleOf cuts both values to their first change and what is around it.
func sampleOf(before, after []byte) Sample {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	for n := 0; n < 8 && from > 0 && wordByte(before[from-1]); n++ {
		from--
	}
	oldEnd, newEnd := resume(before, after, from)
	cut := func(v []byte, end int) (whole, piece string) {
		start, stop := max(0, from-around/2), min(len(v), max(end, from+around)+around/4)
		piece = rewrite.Printable(v[from:min(end, stop)])
		whole = rewrite.Printable(v[start:from]) + piece + rewrite.Printable(v[min(end, stop):stop])
		if start > 0 {
			whole = "…" + whole
		}
		if stop < len(v) {
			whole += "…"
		}
		return whole, piece
	}
	var s Sample
	s.Before, s.Old = cut(before, oldEnd)
	s.After, s.New = cut(after, newEnd)
	return s
}

func wordByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// resume gives the places behind the first change, where both values go on
// alike.
func resume(before, after []byte, from int) (oldEnd, newEnd int) {
	const alike, far = 16, 150
	for i := 1; i <= far && from+i <= len(before); i++ {
		same := before[from+i : min(len(before), from+i+alike)]
		if len(same) == 0 {
			break
		}
		if j := bytes.Index(after[from:min(len(after), from+far)], same); j >= 0 {
			return from + i, from + j
		}
	}
	return min(len(before), from+far), min(len(after), from+far)
}
