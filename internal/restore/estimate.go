package restore

import (
	"errors"
	"io"
	"strings"

	"hovix/internal/archive"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/manifest"
	"hovix/internal/passage"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Estimate says how many values the mappings touch, from a look at some of the
// archive's rows.
type Estimate struct {
	Values int64 `json:"values"` // that would be changed
	Exact  bool  `json:"exact"`  // all rows were looked at
}

// samples is how many chunks of rows an estimate looks at, of half a megabyte each:
// a second's work.
const samples = 40

// planned is how many it looks at where a plan is all that is wanted: seconds.
const planned = 2000

// estimate looks at rows from all over the archive, where it can be read at any
// place.
func (p *Plan) estimate(opts Options) error {
	a := opts.Archive
	if a == nil || !p.sel.part(site.Database) || len(p.maps)+len(p.roots)+len(opts.Texts) == 0 || !opts.PlanOnly && !(opts.Estimate && p.Overwrites()) {
		return nil
	}
	way, err := passage.New(p.passage(opts))
	if err != nil {
		return err
	}
	isRows := func(e *archive.Entry) bool {
		m := entryName.FindStringSubmatch(e.Name)
		return m != nil && strings.HasPrefix(m[2], "1-rows-") && e.Size <= 4<<20
	}
	var chunks, total int64
	if err := a.Entries(func(e archive.Entry) error {
		if isRows(&e) {
			chunks++
			total += e.Size
		}
		return nil
	}); err != nil || chunks == 0 {
		return err
	}
	isTable := func(e *archive.Entry) bool {
		m := entryName.FindStringSubmatch(e.Name)
		return m != nil && m[2] == "0-table" && e.Size <= 4<<20
	}
	most := int64(samples)
	if opts.PlanOnly {
		most = planned
	}
	step, at, seen := max(1, (chunks+most-1)/most), int64(0), int64(0)
	err = a.Each(func(e *archive.Entry) bool {
		if !isRows(e) {
			return isTable(e)
		}
		at++
		return (at-1)%step == step/2
	}, func(e archive.Entry, r io.Reader) error {
		if isTable(&e) {
			return p.lookAtTable(way, r)
		}
		seen += e.Size
		return p.lookAtRows(way, r)
	})
	if err != nil || seen == 0 {
		return err
	}
	_, sum := way.Account()
	p.Estimate = &Estimate{Values: int64(float64(sum.Changed) * float64(total) / float64(seen)), Exact: seen == total}
	p.Unfit = unfitIn(way, seen == total)
	return nil
}

// lookAtTable tells of a table whose rows come later. What cannot be read is refused
// when it is restored.
func (p *Plan) lookAtTable(way *passage.Passage, r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	d := p.Manifest.Database.Engine.Dialect()
	if st, err := sqltext.SplitBytes(text, d).Next(); err == nil {
		if def, err := sqltree.ParseTable(st.Text, d); err == nil {
			way.Define(def)
		}
	}
	return nil
}

// lookAtRows has a chunk of rows pass, as if it were staged.
func (p *Plan) lookAtRows(way *passage.Passage, r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	d := p.Manifest.Database.Engine.Dialect()
	head := text
	if d == sqltext.Postgres {
		st, err := sqltext.SplitBytes(text, d).Next()
		if err != nil {
			return err
		}
		head = st.Text
	}
	ins, err := sqltext.ParseInsert(head, d)
	if err != nil {
		return err
	}
	rows := way.Rows(text)
	var buf []byte
	for {
		if buf, _, err = rows.Next(buf[:0], ins.Table, "x"); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// InFiles says how many addresses stand in text files of uploads and code, which are not
// rewritten there unless they are named.
type InFiles struct {
	Addresses int64    `json:"addresses"`
	Exact     bool     `json:"exact"` // all text files were looked at
	Examples  []string `json:"examples,omitempty"`
}

// lookedInto is how many bytes of text files an estimate looks at.
const lookedInto = 64 << 20

// estimateFiles looks at text files from all over the archive.
func (p *Plan) estimateFiles(opts Options) error {
	a := opts.Archive
	if a == nil || !p.sel.folder() || !opts.PlanOnly && !opts.Estimate {
		return nil
	}
	way, err := passage.New(p.passage(opts))
	if err != nil || way.Idle() {
		return err
	}
	stays := func(e *archive.Entry) bool {
		rel, ok := strings.CutPrefix(e.Name, manifest.FilesDir)
		return ok && e.Type == archive.TypeFile && site.IsTextFile(rel) && e.Size <= site.MaxTextFile && p.brings(rel) &&
			!site.IsGenerated(rel, p.sel.partOf(rel)) && !site.MatchesFile(opts.Files, rel)
	}
	var total int64
	if err := a.Entries(func(e archive.Entry) error {
		if stays(&e) {
			total += e.Size
		}
		return nil
	}); err != nil || total == 0 {
		return err
	}
	// Of more than that, pieces at equal distances: files that lie side by side are unpacked
	// at once.
	const piece = 1 << 20
	distance := max(piece, total/(lookedInto/piece))
	var at, seen int64
	err = a.Each(func(e *archive.Entry) bool {
		if !stays(e) {
			return false
		}
		at += e.Size
		return (at-e.Size)%distance < piece
	}, func(e archive.Entry, r io.Reader) error {
		seen += e.Size
		content, err := io.ReadAll(r)
		if err == nil {
			way.TextFile(strings.TrimPrefix(e.Name, manifest.FilesDir), content, false)
		}
		return err
	})
	if err != nil || seen == 0 {
		return err
	}
	columns, sum := way.Account()
	n := sum.Leftovers[rewrite.InFile]
	if n == 0 {
		return nil
	}
	p.InFiles = &InFiles{Addresses: int64(float64(n) * float64(total) / float64(seen)), Exact: seen == total}
	for _, c := range columns[:min(len(columns), 3)] {
		p.InFiles.Examples = append(p.InFiles.Examples, c.Column)
	}
	return nil
}

// passage says what is rewritten on the way.
func (p *Plan) passage(opts Options) passage.Options {
	way := passage.Options{Rewrite: p.rewriting(opts), Keep: p.Manifest.Keep, Moved: p.Manifest.Moved}
	if p.Manifest.Database != nil {
		way.Dialect = p.Manifest.Database.Engine.Dialect()
	}
	return way
}
