package readdress

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"hovix/internal/rewrite"
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
	table, column = strings.ToLower(table), strings.ToLower(column)
	match := func(patterns []string, whole bool) bool {
		return slices.ContainsFunc(patterns, func(p string) bool {
			p = strings.ToLower(p)
			name := table
			if strings.Contains(p, ".") {
				name = table + "." + column
			} else if whole {
				name = column
			}
			ok, _ := path.Match(p, name)
			return ok
		})
	}
	return (len(f.Tables) == 0 || match(f.Tables, false)) && (len(f.Columns) == 0 || match(f.Columns, true)) && !match(f.Except, false)
}

// Sample is a changed value, cut to what is around its first change.
type Sample struct {
	Before string `json:"before"`
	After  string `json:"after"`
}

// Column is what happened to one column.
type Column struct {
	Table     string             `json:"table"`
	Column    string             `json:"column"`
	Tally     rewrite.Tally      `json:"-"`
	Samples   []Sample           `json:"samples,omitempty"`
	Leftovers []rewrite.Leftover `json:"-"`
	wanted    bool
}

// Account tells what a rewriting found and changed. Columns without a mention
// do not appear.
type Account struct {
	Columns []*Column     `json:"columns"`
	Tally   rewrite.Tally `json:"-"`
	byName  map[[2]string]*Column
	filter  Filter
	changes *csv.Writer
}

const (
	maxSamples = 3
	around     = 40 // bytes of a sample on either side of the change
)

func newAccount(filter Filter, changes io.Writer) (*Account, error) {
	a := &Account{byName: map[[2]string]*Column{}, filter: filter}
	if changes != nil {
		a.changes = csv.NewWriter(changes)
		return a, a.changes.Write([]string{"table", "column", "before", "after"})
	}
	return a, nil
}

// column gives the account of a column.
func (a *Account) column(table, column string) *Column {
	key := [2]string{table, column}
	c := a.byName[key]
	if c == nil {
		c = &Column{Table: table, Column: column, wanted: a.filter.Wants(table, column)}
		c.Tally.OnLeftover = func(l rewrite.Leftover) {
			if l.Reason.Finding() && len(c.Leftovers) < maxSamples {
				c.Leftovers = append(c.Leftovers, l)
			}
		}
		a.byName[key] = c
	}
	return c
}

// changed notes a changed value.
func (a *Account) changed(c *Column, before, after []byte) error {
	if len(c.Samples) < maxSamples {
		c.Samples = append(c.Samples, sampleOf(before, after))
	}
	if a.changes == nil {
		return nil
	}
	return a.changes.Write([]string{c.Table, c.Column, string(before), string(after)})
}

// end adds everything up.
func (a *Account) end() error {
	for _, c := range a.byName {
		if c.Tally.Values > 0 {
			a.Columns = append(a.Columns, c)
			a.Tally.Add(&c.Tally)
		}
	}
	slices.SortFunc(a.Columns, func(x, y *Column) int {
		return cmp.Or(strings.Compare(x.Table, y.Table), strings.Compare(x.Column, y.Column))
	})
	if a.changes == nil {
		return nil
	}
	a.changes.Flush()
	return a.changes.Error()
}

// sampleOf cuts both values to their first difference and what is around it.
func sampleOf(before, after []byte) Sample {
	from := 0
	for from < len(before) && from < len(after) && before[from] == after[from] {
		from++
	}
	cut := func(v []byte) string {
		start, end := max(0, from-around/2), min(len(v), from+around)
		text := strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return ' '
			}
			return r
		}, strings.ToValidUTF8(string(trimRunes(v[start:end])), ""))
		if start > 0 {
			text = "…" + text
		}
		if end < len(v) {
			text += "…"
		}
		return text
	}
	return Sample{cut(before), cut(after)}
}

// trimRunes cuts torn characters off both ends.
func trimRunes(v []byte) []byte {
	for len(v) > 0 && !utf8.RuneStart(v[0]) {
		v = v[1:]
	}
	if r, _ := utf8.DecodeLastRune(v); r == utf8.RuneError {
		if i := bytes.LastIndexFunc(v, func(r rune) bool { return r != utf8.RuneError }); i >= 0 {
			_, n := utf8.DecodeRune(v[i:])
			v = v[:i+n]
		}
	}
	return v
}
