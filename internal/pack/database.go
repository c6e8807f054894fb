package pack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// database packs what tables need, tables, then what depends on them. The names
// of the entries sort in the order in which the text must be loaded.
func (p *packer) database(ctx context.Context) error {
	for _, t := range p.res.Manifest.Database.Tables {
		p.pace.Expect(sectionDatabase, t.Bytes-t.Keys)
	}
	p.rep.Phase("Packing the database", 0)
	if err := p.sql("0-begin", p.db.Prologue()); err != nil {
		return err
	}
	if err := p.objects(manifest.EarlyName, p.objs, true); err != nil {
		return err
	}
	if err := p.tables(ctx); err != nil {
		return err
	}
	if err := p.objects(manifest.DatabaseDir+"z1-objects.sql", p.objs, false); err != nil {
		return err
	}
	end, err := p.db.Epilogue(ctx)
	if err != nil {
		return err
	}
	if err := p.sql("z3-end", end); err != nil {
		return err
	}
	return p.w.Flush()
}

func (p *packer) sql(name, text string) error {
	return p.bytes(manifest.DatabaseDir+name+".sql", []byte(text))
}

// fileName makes a table's name safe for file names on every system.
func fileName(table string) string {
	s := url.PathEscape(table)
	return s[:min(len(s), 100)]
}

// job is a table to be packed.
type job struct {
	database.Table
	base    string // of the names of its entries
	keys    []string
	without string // condition of rows that stay behind
}

// tables packs all definitions in their order, then the rows: the largest tables
// first, two at a time where the engine lets two read one snapshot.
func (p *packer) tables(ctx context.Context) error {
	var jobs []job
	without := map[string][]string{}
	for _, k := range p.s.Skips(p.res.Manifest.Database.Tables) {
		without[k.Table] = append(without[k.Table], "("+k.Where+")")
	}
	for i, t := range p.res.Manifest.Database.Tables {
		j := job{Table: t, base: fmt.Sprintf("t%05d-%s", i+1, fileName(t.Name)), without: strings.Join(without[t.Name], " OR ")}
		def := p.gate.tables[t.Name]
		if def.refused != "" {
			p.problem("table "+t.Name, "a restore leaves it out: "+def.refused+"; its rows are in the archive, to be loaded by hand")
		}
		j.keys = def.keys
		if p.way != nil && def.def != nil {
			p.way.Define(def.def)
			before := def.def.SQL(nil)
			def.def.MapTexts(p.way.Texts(t.Name))
			if after := def.def.SQL(nil); after != before {
				def.create = after
			}
			for k, key := range j.keys {
				if one, err := sqltree.Parse([]byte(key), p.db.Info().Engine.Dialect()); err == nil {
					one.MapTexts(p.way.Texts(t.Name))
					j.keys[k] = one.SQL(nil)
				}
			}
		}
		for _, why := range def.problems {
			p.problem("table "+t.Name, why)
		}
		if err := p.sql(j.base+".0-table", def.create+";\n"); err != nil {
			return err
		}
		jobs = append(jobs, j)
	}
	slices.SortStableFunc(jobs, func(a, b job) int { return cmp.Compare(b.Bytes, a.Bytes) })
	readers := []database.Reader{p.db}
	if f, ok := p.db.(database.Forker); ok && len(jobs) > 1 {
		other, err := f.Fork(ctx)
		switch {
		case err == nil:
			defer other.Close()
			readers = append(readers, other)
		case !errors.Is(err, database.ErrNoFork):
			return err
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	queue := make(chan job, len(jobs))
	for _, j := range jobs {
		queue <- j
	}
	close(queue)
	for _, r := range readers {
		group.Go(func() error {
			for j := range queue {
				if err := p.table(ctx, r, j); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := group.Wait()
	for _, r := range readers {
		if w, ok := r.(database.Watcher); ok && err == nil {
			var changed []string
			changed, err = w.Changed(ctx)
			for _, t := range changed {
				p.problem("table "+t, "it was changed while it was read, and its engine keeps no snapshot: some changes may be missing")
			}
		}
	}
	slices.SortFunc(p.res.Summary.Tables, func(a, b manifest.TableSummary) int { return strings.Compare(a.Name, b.Name) })
	return err
}

// table packs the rows of one table, and what makes its keys.
func (p *packer) table(ctx context.Context, r database.Reader, j job) error {
	sum := manifest.TableSummary{Name: j.Name}
	n, expected := 0, j.Bytes-j.Keys
	rows := func(yield func(database.Chunk) error) error {
		if p.s.WithoutRows(j.Name) != "" {
			return nil
		}
		return r.Rows(ctx, j.Name, j.without, manifest.ChunkSize, yield)
	}
	var buf []byte
	err := rows(func(c database.Chunk) (err error) {
		if p.way != nil {
			if c.SQL, err = p.rewritten(&buf, c.SQL, j.Name); err != nil {
				return err
			}
		}
		n++
		sum.Rows += c.Rows
		sum.Bytes += int64(len(c.SQL))
		if more := sum.Bytes - expected; more > 0 { // than the engine has counted
			p.pace.Expect(sectionDatabase, more)
			expected = sum.Bytes
		}
		return p.bytes(fmt.Sprintf("%s%s.1-rows-%07d.sql", manifest.DatabaseDir, j.base, n), c.SQL)
	})
	if errors.Is(err, database.ErrRowTooLarge) {
		return fmt.Errorf("%w; leave its rows out with --without table:%s", err, j.Name)
	}
	if err != nil {
		return err
	}
	var end strings.Builder
	for _, k := range j.keys {
		fmt.Fprintf(&end, "%s;\n", k)
	}
	fmt.Fprintf(&end, "-- rows: %d\n", sum.Rows)
	p.pace.Expect(sectionDatabase, sum.Bytes-expected)
	p.mu.Lock()
	p.res.Summary.Tables = append(p.res.Summary.Tables, sum)
	p.res.Summary.Rows += sum.Rows
	p.res.note(site.Thing{Name: "table " + j.Name, Bytes: sum.Bytes})
	p.mu.Unlock()
	return p.sql(j.base+".2-end", end.String())
}

// rewritten gives rows with what is changed on the way, in the room of buf if it
// is another text.
func (p *packer) rewritten(buf *[]byte, text []byte, table string) ([]byte, error) {
	if !p.way.Concerns(table, text) {
		return text, nil
	}
	d := p.db.Info().Engine.Dialect()
	target, end := sqltext.QuoteName(table, d), ";\n"
	if d == sqltext.Postgres {
		target, end = sqltext.QuoteRelation(table), "\\.\n"
	}
	out, rows := (*buf)[:0], p.way.Rows(text)
	for {
		next, _, err := rows.Next(out, table, target)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("rewrite %s: %w", table, err)
		}
		out = append(next, end...)
	}
	*buf = out
	return out, nil
}

// objects packs what is not a table, each as one statement that the engine's
// own client takes as one.
func (p *packer) objects(entry string, objects []database.Object, early bool) error {
	var b strings.Builder
	for _, o := range objects {
		if p.way != nil {
			o.SQL = p.way.Definition(o.SQL)
		}
		switch {
		case o.Early != early:
		case p.db.Info().Engine == database.MariaDB && (o.Kind == database.View || o.Kind.IsCode()):
			writeMade(&b, o)
		default:
			fmt.Fprintf(&b, "%s;\n", o.SQL)
		}
	}
	if b.Len() == 0 {
		return nil
	}
	return p.bytes(entry, []byte(b.String()))
}

// writeMade writes a view or stored code of MariaDB in a session like that in which it was
// made. A text beyond ASCII is in UTF-8, whatever its session had.
func writeMade(b *strings.Builder, o database.Object) {
	own := ""
	if !strings.HasPrefix(o.Charset, "utf8") && strings.IndexFunc(o.SQL, func(r rune) bool { return r >= 0x80 }) >= 0 {
		own, o.Charset = o.Charset, "utf8mb4"
	}
	for _, set := range o.Session.Statements() {
		b.WriteString(set + ";\n")
	}
	if own != "" { // for a restore: a client would take the text for one in that charset
		b.WriteString("SET @hovix_charset='" + own + "';\n")
	}
	if o.Kind == database.View {
		b.WriteString(o.SQL + ";\n")
		return
	}
	b.WriteString("DELIMITER ;;\n" + o.SQL + ";;\nDELIMITER ;\n")
}
