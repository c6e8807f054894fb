package redirects

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// Site takes the pages of a live site out of its database.
func (g *Gatherer) Site(ctx context.Context, s *site.Site, r database.Reader) error {
	if err := s.Ask(ctx, r); err != nil {
		return err
	}
	dialect := s.Database.Engine.Dialect()
	tables, err := r.Tables(ctx)
	if err != nil {
		return err
	}
	rows := func(ctx context.Context, table string, columns []string, row func([]string) error) error {
		at := slices.IndexFunc(tables, func(t database.Table) bool { return sameTable(t.Name, table) })
		if at < 0 {
			return nil
		}
		table = tables[at].Name
		return r.Rows(ctx, table, "", 1<<20, func(c database.Chunk) error {
			return eachRow(c.SQL, dialect, nil, columns, row)
		})
	}
	file, err := os.ReadFile(filepath.Join(s.Root, site.SiteFile))
	if err != nil {
		file = nil
	}
	return g.fromDatabase(ctx, s.Kind, s.Prefix, s.Address.Path, file, rows)
}

// sameTable compares a table's name with one that may lack the schema.
func sameTable(name, wanted string) bool {
	_, bare := sqltext.SplitName(name)
	return name == wanted || bare == wanted
}

// tableEntry is database/t00001-name.0-table.sql and the like.
var tableEntry = regexp.MustCompile(`^(database/t\d{5}-[^/]*)\.(0-table|1-rows-\d+)\.sql$`)

// Archive takes the pages of the site in an archive out of its database; no server is
// needed.
func (g *Gatherer) Archive(ctx context.Context, a *archive.Archive) error {
	b, err := a.ReadFile(manifest.Name, manifest.MaxSize)
	if err != nil {
		return err
	}
	m, err := manifest.Parse(b)
	if err != nil {
		return err
	}
	if m.Database == nil {
		return fmt.Errorf("the archive holds no database, so that its pages cannot be told; give the address of the site to follow its links")
	}
	dialect := m.Database.Engine.Dialect()
	defs := map[string]*sqltree.Table{} // by the beginning of entries' names
	if err := a.Each(func(e *archive.Entry) bool {
		part := tableEntry.FindStringSubmatch(e.Name)
		return part != nil && part[2] == "0-table" && e.Size < 4<<20
	}, func(e archive.Entry, r io.Reader) error {
		text, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		st, err := sqltext.SplitBytes(text, dialect).Next()
		if err != nil {
			return err
		}
		def, err := sqltree.ParseTable(st.Text, dialect)
		if err == nil { // one that is not known to be harmless is not one of the site's own kind
			defs[tableEntry.FindStringSubmatch(e.Name)[1]] = def
		}
		return nil
	}); err != nil {
		return err
	}
	rows := func(ctx context.Context, table string, columns []string, row func([]string) error) error {
		return a.Each(func(e *archive.Entry) bool {
			part := tableEntry.FindStringSubmatch(e.Name)
			return part != nil && part[2] != "0-table" && defs[part[1]] != nil && sameTable(defs[part[1]].Name, table)
		}, func(e archive.Entry, r io.Reader) error {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			text, err := io.ReadAll(r)
			if err != nil {
				return err
			}
			return eachRow(text, dialect, defs[tableEntry.FindStringSubmatch(e.Name)[1]].Columns(), columns, row)
		})
	}
	file, err := a.ReadFile(manifest.SettingsDir+site.SiteFile, manifest.MaxSize)
	if err != nil {
		file = nil
	}
	base := ""
	if u, err := url.Parse(m.Address); err == nil {
		base = u.Path
	}
	return g.fromDatabase(ctx, m.Kind, m.Database.Prefix, base, file, rows)
}

func (g *Gatherer) fromDatabase(ctx context.Context, kind, prefix, base string, file []byte, rows site.Rows) error {
	notes, err := site.Pages(ctx, kind, prefix, base, file, rows, func(p site.WebPage) {
		e := Entry{Title: p.Title, Modified: p.Modified, Language: p.Language, Words: p.Words, Sources: []string{"database"}}
		if p.Fingerprint != "" {
			e.Fingerprint = p.Fingerprint.String()
		}
		g.Add(p.Path, e)
	})
	g.res.Notes = append(g.res.Notes, notes...)
	return err
}

// eachRow gives some columns of the rows in a chunk of SQL text.
func eachRow(text []byte, d sqltext.Dialect, has, want []string, row func([]string) error) error {
	values := make([]string, len(want))
	for st, err := range sqltext.SplitBytes(text, d).All() {
		if err != nil {
			return err
		}
		if one, err := sqltree.Parse(st.Text, d); err != nil || one.Shape != sqltree.ShapeInsert {
			continue // what prepares the session
		}
		ins, err := sqltext.ParseInsert(st.Text, d)
		if err != nil {
			return err
		}
		columns := has
		if len(ins.Columns) > 0 {
			columns = ins.Columns
		}
		at := make([]int, len(want))
		for i, w := range want {
			at[i] = slices.Index(columns, w)
		}
		err = ins.EachRow(st.Text, d, nil, func(raw []byte) error {
			fields, err := sqltext.Fields(raw, d)
			if err != nil {
				return err
			}
			for i, n := range at {
				if values[i] = ""; n >= 0 && n < len(fields) {
					values[i] = string(fields[n])
				}
			}
			return row(values)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
