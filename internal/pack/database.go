package pack

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"hovix/internal/database"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// chunkSize is about how much SQL text goes into one entry, in bytes: one
// statement, well below the packet size of any server in use. Several entries
// share a frame of the archive and are hashed side by side.
const chunkSize = 512 << 10

// database packs tables, then what depends on them. The names of the entries
// sort in the order in which the text must be loaded.
func (p *packer) database(ctx context.Context) error {
	var total int64
	for _, t := range p.res.Manifest.Database.Tables {
		total += t.Bytes
	}
	p.rep.Phase("Packing the database", total)
	if err := p.sql("0-begin", p.db.Prologue()); err != nil {
		return err
	}
	objects, err := p.db.Objects(ctx)
	if err != nil {
		return err
	}
	if err := p.objects(manifest.EarlyName, objects, true); err != nil {
		return err
	}
	for i, t := range p.res.Manifest.Database.Tables {
		if err := p.table(ctx, fmt.Sprintf("t%05d-%s", i+1, fileName(t.Name)), t); err != nil {
			return err
		}
	}
	if err := p.objects(manifest.DatabaseDir+"z1-objects.sql", objects, false); err != nil {
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

func (p *packer) table(ctx context.Context, base string, t database.Table) error {
	create, keys, err := p.db.Definition(ctx, t.Name)
	if err != nil {
		return err
	}
	if err := p.sql(base+".0-table", create+";\n"); err != nil {
		return err
	}
	sum := manifest.TableSummary{Name: t.Name}
	n := 0
	err = p.db.Rows(ctx, t.Name, chunkSize, func(c database.Chunk) error {
		n++
		sum.Rows += c.Rows
		sum.Bytes += int64(len(c.SQL))
		p.rep.Add(int64(len(c.SQL)))
		return p.bytes(fmt.Sprintf("%s%s.1-rows-%07d.sql", manifest.DatabaseDir, base, n), c.SQL)
	})
	if err != nil {
		return err
	}
	var end strings.Builder
	for _, k := range keys {
		fmt.Fprintf(&end, "%s;\n", k)
	}
	fmt.Fprintf(&end, "-- rows: %d\n", sum.Rows)
	p.res.Summary.Tables = append(p.res.Summary.Tables, sum)
	p.res.Summary.Rows += sum.Rows
	p.res.note(site.Thing{Name: "table " + t.Name, Bytes: sum.Bytes})
	return p.sql(base+".2-end", end.String())
}

// objects packs what is not a table, each as one statement that the engine's
// own client takes as one.
func (p *packer) objects(entry string, objects []database.Object, early bool) error {
	var b strings.Builder
	for _, o := range objects {
		switch {
		case o.Early != early:
		case p.db.Info().Engine == database.MariaDB && (o.Kind == database.Trigger || o.Kind == database.Routine || o.Kind == database.Event):
			fmt.Fprintf(&b, "DELIMITER ;;\n%s;;\nDELIMITER ;\n", o.SQL)
		default:
			fmt.Fprintf(&b, "%s;\n", o.SQL)
		}
	}
	if b.Len() == 0 {
		return nil
	}
	return p.bytes(entry, []byte(b.String()))
}
