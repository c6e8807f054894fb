// Package passage rewrites the addresses in a site's rows, definitions and
// settings while they pass into an archive or out of one, and counts column by
// column what it found and changed. It takes a rewrite.Rewriter and SQL text.
package passage

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/rewrite"
	"hovix/internal/rewrite/serialized"
)

// Options sets what is changed and what is kept.
type Options struct {
	Rewrite rewrite.Options
	Dialect sqltext.Dialect
	Keep    []string // columns that hold identifiers, as table.column: they stay, and are counted
	Moved   []string // columns that somebody else gives their new values
}

// Passage rewrites what passes. Its methods may be called from several goroutines
// at once.
type Passage struct {
	rw      *rewrite.Rewriter
	d       sqltext.Dialect
	keep    map[string]bool
	moved   map[string]bool
	blind   bool // a text that is looked for may look different inside of a literal
	stable  bool // what has been rewritten holds nothing more to be rewritten
	mu      sync.Mutex
	files   int // with addresses in them
	columns map[[2]string]*Column
	bytes   map[string]map[string]bool // by table, the columns of bytes
}

// Column tells what rewriting did in one column, or in one file.
type Column struct {
	Table  string             `json:"table"` // SettingsTable or FilesTable for a file
	Column string             `json:"column"`
	Tally  rewrite.Tally      `json:"-"`
	Sample []rewrite.Leftover `json:"leftovers,omitempty"`
}

// maxSamples is how many leftovers of one column are remembered.
const maxSamples = 4

// New returns a Passage. The error is that of rewrite.New.
func New(opts Options) (*Passage, error) {
	rw, err := rewrite.New(opts.Rewrite)
	if err != nil {
		return nil, err
	}
	p := &Passage{rw: rw, d: opts.Dialect, keep: map[string]bool{}, moved: map[string]bool{}, columns: map[[2]string]*Column{}, bytes: map[string]map[string]bool{}, blind: rewrite.Escaped(opts.Rewrite.Texts)}
	p.stable = isStable(rw, &opts.Rewrite)
	for _, k := range opts.Keep {
		p.keep[k] = true
	}
	for _, m := range opts.Moved {
		p.moved[m] = true
	}
	return p, nil
}

// Idle reports whether there is nothing to rewrite, so that nothing has to be looked at.
func (p *Passage) Idle() bool { return p.rw.Idle() }

// Mentions reports whether rows may hold anything to be looked at. Hexadecimal
// digits hide what they mean, so that they are always decoded.
func (p *Passage) Mentions(text []byte) bool {
	return p.blind || p.rw.Mentions(text) || bytes.Contains(text, []byte("x'")) || bytes.Contains(text, []byte("X'")) ||
		p.d == sqltext.Postgres && bytes.Contains(text, []byte(`\\x`))
}

// Define tells of a table before its rows pass: which of its columns hold bytes that
// are no text of a charset.
func (p *Passage) Define(t *sqltree.Table) {
	columns := map[string]bool{}
	for i := range t.Items {
		if it := &t.Items[i]; it.IsBytes() {
			columns[it.Name] = true
		}
	}
	if len(columns) > 0 && p.d == sqltext.MySQL {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.bytes[t.Name] = columns
	}
}

// Concerns reports whether rows of a table have to be looked at one by one.
func (p *Passage) Concerns(table string, text []byte) bool {
	p.mu.Lock()
	isBytes := p.bytes[table] != nil
	p.mu.Unlock()
	return isBytes || p.Mentions(text)
}

// bytesOf gives the columns of bytes of a table.
func (p *Passage) bytesOf(ins *sqltext.Insert) (is []bool) {
	p.mu.Lock()
	columns := p.bytes[ins.Table]
	p.mu.Unlock()
	if columns == nil {
		return nil
	}
	for _, name := range ins.Columns {
		is = append(is, columns[name])
	}
	return is
}

// Rows goes through the statements of an entry with rows.
type Rows struct {
	p      *Passage
	text   []byte // what has not been read
	at     int    // where it begins in the entry
	split  *sqltext.Splitter
	change bool
	places func(from int) int // nil: every text is looked at
}

// Rows returns the reader of an entry with rows: INSERT statements, or COPY.
func (p *Passage) Rows(text []byte) *Rows {
	r := &Rows{p: p, text: text, change: p.Mentions(text)}
	if p.d == sqltext.Postgres {
		r.split = sqltext.SplitBytes(text, p.d)
	}
	if r.change && !p.blind {
		r.places = p.rw.Places(text)
	}
	return r
}

// Next appends the next statement to dst, for the quoted table target and with its
// addresses rewritten, and counts its rows; io.EOF after the last. It must be of
// the given table and hold literals alone, or the error wraps sqltext.ErrRefused.
func (r *Rows) Next(dst []byte, table, target string) (out []byte, rows int64, err error) {
	stmt := bytes.TrimLeft(r.text, " \t\r\n")
	at := r.at + len(r.text) - len(stmt)
	if r.split != nil {
		st, err := r.split.Next()
		if err != nil {
			return nil, 0, err
		}
		stmt, at = st.Text, int(st.Offset)
	} else if len(stmt) == 0 {
		return nil, 0, io.EOF
	}
	ins, err := sqltext.ParseInsert(stmt, r.p.d)
	if err != nil {
		return nil, 0, err
	}
	if ins.Table != table {
		return nil, 0, fmt.Errorf("%w: rows of table %s among those of %s", sqltext.ErrRefused, ins.Table, table)
	}
	var c *cells
	var change sqltext.Rewrite
	var places sqltext.Places
	ins.Bytes = r.p.bytesOf(ins)
	if r.change || ins.Bytes != nil {
		c = r.p.newCells(ins)
		change = c.rewrite
	}
	if r.places != nil {
		places = func(from int) int { return r.places(at+from) - at }
	}
	out, rest, rows, err := ins.AppendFirst(dst, stmt, r.p.d, target, change, places)
	if err != nil {
		return nil, 0, err
	}
	if c != nil {
		c.done(table)
	}
	r.text, r.at = rest, at+len(stmt)-len(rest)
	return out, rows, nil
}

// cells rewrites the values of one statement and counts by column.
type cells struct {
	p       *Passage
	columns []string
	keep    []bool
	moved   []bool
	tallies []rewrite.Tally
	samples [][]rewrite.Leftover
	buf     []byte // room for a new value
}

func (p *Passage) newCells(ins *sqltext.Insert) *cells {
	n := len(ins.Columns)
	c := &cells{p: p, columns: ins.Columns, keep: make([]bool, n), moved: make([]bool, n), tallies: make([]rewrite.Tally, n), samples: make([][]rewrite.Leftover, n)}
	for i, name := range ins.Columns {
		c.keep[i], c.moved[i] = p.keep[ins.Table+"."+name], p.moved[ins.Table+"."+name]
		c.tallies[i].KeepFindings(&c.samples[i], maxSamples)
	}
	return c
}

func (c *cells) rewrite(column int, raw []byte, isBytes bool, value func() ([]byte, error)) ([]byte, bool, error) {
	change := c.p.rw.ValueIn
	if isBytes {
		change = c.p.rw.BytesIn
	}
	if column >= len(c.columns) || c.moved[column] || !c.p.blind && !(isBytes && rewrite.MayBeCompressed(raw)) && !c.p.rw.Mentions(raw) {
		return nil, false, nil
	}
	v, err := value()
	if err != nil {
		return nil, false, err
	}
	if c.keep[column] {
		c.p.rw.Keep(v, &c.tallies[column])
		return nil, false, nil
	}
	before := c.tallies[column]
	out, changed := change(c.buf, v, &c.tallies[column])
	if !changed {
		return out, false, nil
	}
	c.buf = out
	if !c.p.proved(v, out, change) {
		c.tallies[column] = before
		c.tallies[column].Leave(rewrite.Unproved, v, "")
		return nil, false, nil
	}
	return out, true, nil
}

// isStable reports whether a second run changes nothing: texts may stand in the new
// ones too, and where addresses or folders are exchanged, or move up in a row, a new
// one is an old one.
func isStable(rw *rewrite.Rewriter, o *rewrite.Options) bool {
	var news []string
	for _, m := range o.Mappings {
		news = append(news, m.New.String()+"/x")
	}
	for _, r := range o.Roots {
		news = append(news, r.New+"/x")
	}
	return len(o.Texts) == 0 && !slices.ContainsFunc(news, func(s string) bool {
		var t rewrite.Tally
		_, changed := rw.Value([]byte(s), &t)
		return changed
	})
}

// proved looks at a changed value once more: one that was serialized must be so
// still, and must hold nothing more that is to be changed.
func (p *Passage) proved(old, changed []byte, change func(buf, v []byte, t *rewrite.Tally) ([]byte, bool)) bool {
	if serialized.Looks(old) && serialized.Valid(old) == nil && serialized.Valid(changed) != nil {
		return false
	}
	if !p.stable {
		return true
	}
	var t rewrite.Tally
	_, again := change(nil, changed, &t)
	return !again
}

// done adds the counts to those of the whole.
func (c *cells) done(table string) {
	c.p.mu.Lock()
	defer c.p.mu.Unlock()
	for i := range c.tallies {
		if c.tallies[i].Values > 0 {
			c.p.add(table, c.columns[i], &c.tallies[i], c.samples[i])
		}
	}
}

// add counts for a column; callers hold p.mu.
func (p *Passage) add(table, column string, t *rewrite.Tally, sample []rewrite.Leftover) {
	k := [2]string{table, column}
	c := p.columns[k]
	if c == nil {
		c = &Column{Table: table, Column: column}
		p.columns[k] = c
	}
	c.Tally.Add(t)
	c.Sample = append(c.Sample, sample...)
	c.Sample = c.Sample[:min(len(c.Sample), maxSamples)]
}

// Definition gives a definition, such as that of a view, with the addresses
// rewritten that stand in it as literals. It does not count them.
func (p *Passage) Definition(stmt string) string {
	if !p.blind && !p.rw.Mentions([]byte(stmt)) {
		return stmt
	}
	var t rewrite.Tally
	if out, changed := p.rw.Value([]byte(stmt), &t); changed {
		return string(out)
	}
	return stmt
}

// Texts gives a function for the texts in a definition, such as a default or a comment,
// which gives each with its addresses rewritten and counts them under the name.
func (p *Passage) Texts(name string) func(text string) (string, bool) {
	return func(text string) (string, bool) {
		var t rewrite.Tally
		var sample []rewrite.Leftover
		t.KeepFindings(&sample, maxSamples)
		out, changed := p.rw.Value([]byte(text), &t)
		if t.Values > 0 {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.add(name, DefinitionColumn, &t, sample)
		}
		return string(out), changed
	}
}

// DefinitionColumn stands for the column of what was found in a definition.
const DefinitionColumn = "(definition)"

// File gives a file of settings with its addresses rewritten.
func (p *Passage) File(name string, content []byte) []byte {
	var t rewrite.Tally
	var sample []rewrite.Leftover
	t.KeepFindings(&sample, maxSamples)
	if out, changed := p.rw.Settings(content, &t); changed {
		content = out
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.add(SettingsTable, name, &t, sample)
	return content
}

// What stands for the table of a file in the account.
const (
	SettingsTable = "settings"
	FilesTable    = "files"
)

// maxFiles is how many files are accounted for by their names.
const maxFiles = 1000

// TextFile gives a text file of uploads or code: with its addresses rewritten if change is
// set, else as it is, and the addresses in it are counted.
func (p *Passage) TextFile(name string, content []byte, change bool) []byte {
	var t rewrite.Tally
	var sample []rewrite.Leftover
	t.KeepFindings(&sample, 1)
	if change {
		if out, changed := p.rw.Value(content, &t); changed {
			content = out
		}
	} else {
		p.rw.Look(content, &t)
	}
	if t.Values == 0 {
		return content
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.files++; p.files > maxFiles {
		name = "others"
	}
	p.add(FilesTable, name, &t, sample)
	return content
}

// Account gives the counts of all columns and files, in the order of their names,
// and their sum.
func (p *Passage) Account() (columns []Column, sum rewrite.Tally) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.columns {
		sum.Add(&c.Tally)
		columns = append(columns, *c)
	}
	slices.SortFunc(columns, func(a, b Column) int {
		return cmp.Or(strings.Compare(a.Table, b.Table), strings.Compare(a.Column, b.Column))
	})
	return columns, sum
}
