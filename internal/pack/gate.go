package pack

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/manifest"
)

// A restore makes nothing that its grammar does not know, or that refers to what the
// archive does not bring. So that this does not come to light on the new host, what is
// packed goes through the same gate, and what would be refused is named now.

// gate decides which definitions go into an archive.
type gate struct {
	d      sqltext.Dialect
	judge  database.Judge  // nil: the engine has nothing beyond what is in the archive
	known  map[string]bool // names of what the archive brings
	tables map[string]*table

	extensions []string // that objects make
	onlyMySQL  []string // what MariaDB has not
}

// table is a table's definition as it is packed.
type table struct {
	create   string
	def      *sqltree.Table // nil: it cannot be read
	keys     []string
	problems []string // what of it was left out
	refused  string   // why a restore leaves it out; empty: it does not
}

// readTables reads the definitions of all tables.
func (p *packer) readTables(ctx context.Context, tables []database.Table) error {
	g := &gate{d: p.db.Info().Engine.Dialect(), known: map[string]bool{}, tables: map[string]*table{}}
	g.judge, _ = p.db.(database.Judge)
	p.gate = g
	for _, t := range tables {
		create, keys, err := p.db.Definition(ctx, t.Name)
		if err != nil && ctx.Err() != nil {
			return err
		}
		if err != nil { // one that the server itself cannot read
			g.tables[t.Name] = &table{refused: reason(err)}
			continue
		}
		tab := &table{create: create, keys: keys}
		g.tables[t.Name] = tab
		if tab.def, err = sqltree.ParseTable([]byte(create), g.d); err != nil {
			tab.refused = reason(err)
			continue
		}
		g.know(t.Name)
		if p.db.Info().Product == mySQL {
			g.onlyMySQL = append(g.onlyMySQL, tab.def.OnlyMySQL()...)
		}
	}
	return nil
}

// mySQL is the product whose definitions MariaDB does not all have.
const mySQL = "MySQL"

// noteMySQL tells what a restore to the other product would leave out.
func (g *gate) noteMySQL(m *manifest.Manifest) {
	const named = 5
	if n := len(g.onlyMySQL); n > 0 {
		list := strings.Join(g.onlyMySQL[:min(n, named)], "; ")
		if n > named {
			list += fmt.Sprintf("; and %d more", n-named)
		}
		m.Notes = append(m.Notes, "MySQL alone can have some of what is in the database, which a restore to MariaDB leaves out: "+list+".")
	}
}

func (g *gate) know(name string) {
	if g.d != sqltext.Postgres {
		name = strings.ToLower(name)
	}
	if name != "" {
		g.known[name] = true
	}
}

func (g *gate) knows(r sqltree.Reference) bool {
	name := r.Joined()
	if g.d != sqltext.Postgres {
		name = strings.ToLower(name)
	}
	return g.known[name] || r.Kind == sqltree.Mention || r.Kind == sqltree.Extension
}

// missing gives the first thing that is referred to and that a restore would not let
// stand; "" if there is none.
func (g *gate) missing(ctx context.Context, refs []sqltree.Reference) (string, error) {
	for _, r := range refs {
		if g.knows(r) {
			continue
		}
		if g.judge != nil && r.Kind != sqltree.Relation {
			ok, err := g.judge.Harmless(ctx, r)
			if err != nil {
				return "", err
			}
			if ok {
				continue
			}
		}
		return r.Joined(), nil
	}
	return "", nil
}

// objects gives the objects that a restore makes, and names the others.
func (g *gate) objects(ctx context.Context, all []database.Object) (kept []database.Object, left []string, err error) {
	parsed := map[int]*sqltree.Statement{}
	gone := map[int]string{}
	for i, o := range all {
		if strings.Contains(o.Session.Mode, "NO_BACKSLASH_ESCAPES") && strings.Contains(o.SQL, `\`) {
			gone[i] = "it was made under the SQL mode NO_BACKSLASH_ESCAPES, in which its backslashes mean something else"
			continue
		}
		one, err := sqltree.Parse([]byte(o.SQL), g.d)
		if err != nil {
			gone[i] = reason(err)
			continue
		}
		parsed[i] = one
		if one.Shape != sqltree.ShapeTrigger {
			g.know(one.Name)
		}
	}
	g.takeTables()
	for changed := true; changed; {
		if changed, err = g.refuseTables(ctx); err != nil {
			return nil, nil, err
		}
		for i := range all {
			one := parsed[i]
			if one == nil || gone[i] != "" {
				continue
			}
			missing, err := g.missing(ctx, one.References())
			if err != nil {
				return nil, nil, err
			}
			if missing != "" {
				gone[i] = "it refers to " + missing + ", which is not in the archive and not known to be harmless"
				delete(g.known, one.Name)
				changed = true
			}
		}
	}
	for i, o := range all {
		switch why := gone[i]; {
		case why == "":
			kept = append(kept, o)
			if parsed[i].Shape == sqltree.ShapeExtension {
				g.extensions = append(g.extensions, parsed[i].Name)
			}
		case o.Kind == database.Other && parsed[i] != nil && strings.HasPrefix(o.SQL, "COMMENT"): // of what is named already
		default:
			left = append(left, fmt.Sprintf("%s %s: a restore would refuse it: %s", o.Kind, o.Name, why))
		}
	}
	return kept, left, g.checkTables(ctx)
}

// reason gives an error without the words that every refusal begins with.
func reason(err error) string {
	return strings.Replace(err.Error(), sqltext.ErrRefused.Error()+": ", "", 1)
}

// takeTables notes what the definitions of tables bring.
func (g *gate) takeTables() {
	for _, t := range g.tables {
		if t.refused != "" {
			continue
		}
		for _, s := range t.def.Sequences() {
			g.know(s)
		}
		for _, k := range t.keys {
			if one, err := sqltree.Parse([]byte(k), g.d); err == nil {
				g.know(one.Name)
			}
		}
	}
}

// refuseTables finds tables that refer to what is not brought, so that they are not brought
// either. It reports whether there was one.
func (g *gate) refuseTables(ctx context.Context) (found bool, err error) {
	if g.d == sqltext.SQLite { // whose file is made anew as a whole
		return false, nil
	}
	for name, t := range g.tables {
		if t.refused != "" {
			continue
		}
		for _, it := range t.def.Items {
			missing, err := g.missing(ctx, it.References())
			if err != nil {
				return found, err
			}
			if missing == "" || it.Kind == sqltree.ForeignKey && g.d == sqltext.MySQL {
				continue
			}
			t.refused = "it refers to " + missing + ", which is not in the archive and not known to be harmless"
			delete(g.known, strings.ToLower(name))
			delete(g.known, name)
			found = true
			break
		}
	}
	return found, nil
}

// checkTables leaves out keys that would be refused.
func (g *gate) checkTables(ctx context.Context) error {
	for _, t := range g.tables {
		if t.refused != "" {
			continue
		}
		if err := g.checkTable(ctx, t); err != nil {
			return err
		}
		var failed error
		t.keys = slices.DeleteFunc(t.keys, func(k string) bool {
			one, err := sqltree.Parse([]byte(k), g.d)
			why := ""
			if err != nil {
				why = reason(err)
			} else if missing, err := g.missing(ctx, one.References()); err != nil {
				failed = err
			} else if missing != "" {
				why = "it refers to " + missing
			}
			if why != "" {
				t.problems = append(t.problems, "a key stays behind: "+why)
			}
			return why != ""
		})
		if failed != nil {
			return failed
		}
	}
	return nil
}

// checkTable leaves out foreign keys that point to what is not in the archive.
func (g *gate) checkTable(ctx context.Context, t *table) error {
	if g.d != sqltext.MySQL {
		return nil
	}
	dropped := map[string]bool{}
	for _, it := range t.def.Items {
		missing, err := g.missing(ctx, it.References())
		if err != nil {
			return err
		}
		if missing != "" && it.Kind == sqltree.ForeignKey {
			dropped[it.Text] = true
			t.problems = append(t.problems, fmt.Sprintf("the foreign key %s stays behind: it points to %s, which is not in the archive", it.Name, missing))
		}
	}
	if len(dropped) > 0 {
		t.create = t.def.Render(sqltext.QuoteName(t.def.Name, g.d), func(it sqltree.Item) bool { return !dropped[it.Text] })
	}
	return nil
}
