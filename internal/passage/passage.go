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
	tables  map[string]*table // that were defined
}

// table is what is known of a table from its definition.
type table struct {
	bytes  map[string]bool // columns of bytes; nil: there is none, or values tell
	limits map[string]limit
	key    []string // columns that name a row for people
}

// limit is how much a column holds, in characters or bytes; 0: no limit.
type limit struct {
	characters, bytes int64
	length            func(v []byte) int64
}

// beyond says how a value is too long; "" if it is not.
func (l limit) beyond(v []byte) string {
	if n := int64(len(v)); l.bytes > 0 && n > l.bytes {
		return fmt.Sprintf("%d bytes in place of at most %d", n, l.bytes)
	}
	if l.characters == 0 || int64(len(v)) <= l.characters {
		return ""
	}
	// Servers cut off spaces that are too many.
	if n := l.length(bytes.TrimRight(v, " ")); n > l.characters {
		return fmt.Sprintf("%d characters in place of at most %d", n, l.characters)
	}
	return ""
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
	p := &Passage{rw: rw, d: opts.Dialect, keep: map[string]bool{}, moved: map[string]bool{}, columns: map[[2]string]*Column{}, tables: map[string]*table{}, blind: rewrite.Escaped(opts.Rewrite.Texts)}
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
// are no text of a charset, and how much they hold.
func (p *Passage) Define(t *sqltree.Table) {
	known := &table{limits: map[string]limit{}, key: t.KeyColumns()}
	for i := range t.Items {
		it := &t.Items[i]
		if p.d == sqltext.MySQL && it.IsBytes() {
			if known.bytes == nil {
				known.bytes = map[string]bool{}
			}
			known.bytes[it.Name] = true
		}
		if characters, bytes := t.Limit(it); characters+bytes > 0 {
			charset := "utf8mb4" // and what else there is in a dump
			if p.d == sqltext.MySQL {
				charset = cmp.Or(it.Charset, t.Charset, charset)
			}
			known.limits[it.Name] = limit{characters, bytes, sqltext.CharactersIn(charset)}
			if isWide[charset] { // such texts stand as UTF-8
				known.limits[it.Name] = limit{characters, 0, sqltext.CharactersIn("utf8mb4")}
			}
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.tables[t.Name] = known
}

// isWide are the charsets that do not hold ASCII as single bytes.
var isWide = map[string]bool{"ucs2": true, "utf16": true, "utf16le": true, "utf32": true}

// Concerns reports whether rows of a table have to be looked at one by one.
func (p *Passage) Concerns(table string, text []byte) bool {
	p.mu.Lock()
	known := p.tables[table]
	p.mu.Unlock()
	return known != nil && known.bytes != nil || p.Mentions(text)
}

// bytesOf gives the columns of bytes of a table.
func (p *Passage) bytesOf(ins *sqltext.Insert) (is []bool) {
	p.mu.Lock()
	known := p.tables[ins.Table]
	p.mu.Unlock()
	if known == nil || known.bytes == nil {
		return nil
	}
	for _, name := range ins.Columns {
		is = append(is, known.bytes[name])
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
	found  []Found
}

// Found tells what rewriting did in one column, in rows of an entry.
type Found struct {
	Column string             `json:"column"`
	Tally  rewrite.Tally      `json:"tally"`
	Sample []rewrite.Leftover `json:"sample,omitempty"`
}

// Found tells what rewriting did in the rows that were read.
func (r *Rows) Found() []Found { return r.found }

// Recall counts what was found in rows of a table when they passed in an earlier run.
func (p *Passage) Recall(table string, found []Found) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range found {
		p.add(table, found[i].Column, &found[i].Tally, found[i].Sample)
	}
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
		found := c.found()
		r.found = append(r.found, found...)
		r.p.Recall(table, found)
	}
	r.text, r.at = rest, at+len(stmt)-len(rest)
	return out, rows, nil
}

// cells rewrites the values of one statement and counts by column.
type cells struct {
	p       *Passage
	ins     *sqltext.Insert
	row     []byte // that is at work, from its first value on
	limits  []limit
	key     []string
	columns []string
	keep    []bool
	moved   []bool
	tallies []rewrite.Tally
	samples [][]rewrite.Leftover
	buf     []byte // room for a new value
}

func (p *Passage) newCells(ins *sqltext.Insert) *cells {
	n := len(ins.Columns)
	c := &cells{p: p, ins: ins, limits: make([]limit, n), columns: ins.Columns, keep: make([]bool, n), moved: make([]bool, n), tallies: make([]rewrite.Tally, n), samples: make([][]rewrite.Leftover, n)}
	for i, name := range ins.Columns {
		c.keep[i], c.moved[i] = p.keep[ins.Table+"."+name], p.moved[ins.Table+"."+name]
		c.tallies[i].KeepFindings(&c.samples[i], maxSamples)
	}
	p.mu.Lock()
	known := p.tables[ins.Table]
	p.mu.Unlock()
	if known != nil {
		for i, name := range ins.Columns {
			c.limits[i] = known.limits[name]
		}
		c.key = known.key
	}
	ins.Begin = func(row []byte) { c.row = row }
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
	if why := c.limits[column].beyond(out); why != "" {
		c.tallies[column] = before
		c.tallies[column].Leave(rewrite.Unfit, v, c.label()+why)
		return nil, false, nil
	}
	if !c.p.proved(v, out, change) {
		c.tallies[column] = before
		c.tallies[column].Leave(rewrite.Unproved, v, "")
		return nil, false, nil
	}
	return out, true, nil
}

// Unfit is how many values stayed as they are, for what they should become does not fit, with
// the first of them.
func (p *Passage) Unfit() (n int64, which []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.columns {
		n += c.Tally.Leftovers[rewrite.Unfit]
		for _, s := range c.Sample {
			if s.Reason == rewrite.Unfit {
				which = append(which, c.Table+"."+c.Column+", "+s.Detail)
			}
		}
	}
	slices.Sort(which)
	return n, which[:min(len(which), maxSamples)]
}

// label names the row at work: "id=12: ".
func (c *cells) label() (s string) {
	for _, name := range c.key {
		at := slices.Index(c.columns, name)
		if at < 0 {
			return ""
		}
		v := c.ins.Cell(c.row, at, c.p.d)
		if len(v) > 60 {
			v = v[:60] + "…"
		}
		s += name + "=" + rewrite.Printable([]byte(v)) + " "
	}
	return strings.TrimSuffix(s, " ") + ": "
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
// found tells of the columns in which anything was.
func (c *cells) found() (found []Found) {
	for i := range c.tallies {
		if c.tallies[i].Values > 0 {
			found = append(found, Found{c.columns[i], c.tallies[i], c.samples[i]})
		}
	}
	return found
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
