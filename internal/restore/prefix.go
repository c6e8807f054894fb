package restore

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/site"
)

// Words for the prefix of the restored tables.
const (
	PrefixArchive = "archive" // that of the archive
	PrefixKeep    = "keep"    // that of the target's settings
)

// prefixForm is what a prefix may be.
var prefixForm = regexp.MustCompile(`^[A-Za-z0-9_$]{1,32}$`)

// maxTableName is how long the name of a table may be, in bytes, on every server.
const maxTableName = 63

// choosePrefix decides which prefix the restored tables have.
func (p *Plan) choosePrefix(word string) error {
	d := p.Manifest.Database
	p.Prefix = d.Prefix
	switch word {
	case "", PrefixArchive:
		return nil
	case PrefixKeep:
		if p.live == nil || p.live.Kind != p.Manifest.Kind {
			return fmt.Errorf("the target %s has no settings of the same kind of site that name a prefix to keep; name one with --prefix NAME", p.Target)
		}
		p.Prefix = p.live.Prefix
	default:
		if !prefixForm.MatchString(word) {
			return fmt.Errorf("the prefix %q cannot be one: it has up to 32 letters, digits and underscores, or is one of the words %s and %s", word, PrefixKeep, PrefixArchive)
		}
		p.Prefix = word
	}
	if p.Prefix == d.Prefix {
		return nil
	}
	if !p.sel.part(site.Settings) && (p.live == nil || p.live.Prefix != p.Prefix) {
		return fmt.Errorf("the tables get the prefix %q, but the settings, which name it, are not restored; restore them too", p.Prefix)
	}
	for _, t := range d.Tables {
		if name := p.renamed(t.Name); len(name) > maxTableName {
			return fmt.Errorf("with the prefix %q the table %s would be called %s, which is longer than the %d bytes that names may have", p.Prefix, t.Name, name, maxTableName)
		}
	}
	return nil
}

// renamed gives the name under which a table, view or sequence of the archive is restored.
func (p *Plan) renamed(name string) string {
	d := p.Manifest.Database
	if p.Prefix == d.Prefix {
		return name
	}
	schema, base := "", name
	if d.Engine == database.Postgres {
		schema, base = sqltext.SplitName(name)
	}
	rest, ok := strings.CutPrefix(base, d.Prefix)
	if !ok || d.Prefix == "" && !slices.ContainsFunc(d.Tables, func(t database.Table) bool { return t.Name == name }) {
		return name
	}
	if d.Engine == database.Postgres {
		return sqltext.JoinName(schema, p.Prefix+rest)
	}
	return p.Prefix + rest
}

// reference is renamed for a Renamer.
func (p *Plan) reference(r sqltree.Reference) sqltree.Reference {
	if r.Kind != sqltree.Relation {
		return r
	}
	if r.Schema == "" {
		r.Name = p.renamed(r.Name)
		return r
	}
	_, r.Name = sqltext.SplitName(p.renamed(sqltext.JoinName(r.Schema, r.Name)))
	return r
}

// reprefixed is a stage in which everything gets another prefix.
type reprefixed struct {
	database.Stage
	p    *Plan
	mu   sync.Mutex
	left []string // what could not be made with it, and why
}

func (s *reprefixed) dialect() sqltext.Dialect { return s.p.Manifest.Database.Engine.Dialect() }

func (s *reprefixed) Target(table string) string { return s.Stage.Target(s.p.renamed(table)) }

func (s *reprefixed) Define(ctx context.Context, def *sqltree.Table) error {
	again, err := sqltree.ParseTable([]byte(def.SQL(s.p.reference)), s.dialect())
	if err != nil {
		return err
	}
	return s.Stage.Define(ctx, again)
}

func (s *reprefixed) Filled(table string, chunk int) (int64, bool) {
	return s.Stage.Filled(s.p.renamed(table), chunk)
}

func (s *reprefixed) Fill(table string, chunk int, rows int64, stmts [][]byte) func(context.Context) (int64, error) {
	return s.Stage.Fill(s.p.renamed(table), chunk, rows, stmts)
}

// renamedSQL gives a statement with the new prefix.
func (s *reprefixed) renamedSQL(stmt string) (string, error) {
	one, err := sqltree.Parse([]byte(stmt), s.dialect())
	if err != nil {
		return "", err
	}
	return one.SQL(s.p.reference), nil
}

func (s *reprefixed) Finish(ctx context.Context, table string, keys []string) (err error) {
	keys = slices.Clone(keys)
	for i := range keys {
		if keys[i], err = s.renamedSQL(keys[i]); err != nil {
			return err
		}
	}
	return s.Stage.Finish(ctx, s.p.renamed(table), keys)
}

func (s *reprefixed) Positions(ctx context.Context, stmt []byte) error {
	text, err := s.renamedSQL(string(stmt))
	if err != nil || text == "" {
		return err
	}
	return s.Stage.Positions(ctx, []byte(text))
}

// AddObject takes an object. The text of stored code is nobody's to change: what names a
// table with the old prefix stays out, and is named.
func (s *reprefixed) AddObject(ctx context.Context, o database.Object) error {
	one, err := sqltree.Parse([]byte(o.SQL), s.dialect())
	if err != nil {
		return err
	}
	text := one.SQL(s.p.reference)
	if one.IsCode() {
		if table := s.p.mentioned(text); table != "" {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.left = append(s.left, fmt.Sprintf("%s %s is not there: its text names %s, which has another prefix now; make it by hand", o.Kind, o.Name, table))
			return nil
		}
	}
	if o.Kind == database.View {
		if text, err = s.p.qualified(text); err != nil {
			return err
		}
	}
	o.SQL, o.Name = text, s.p.renamed(o.Name)
	return s.Stage.AddObject(ctx, o)
}

func (s *reprefixed) Seal(ctx context.Context) (*database.State, []string, error) {
	state, warnings, err := s.Stage.Seal(ctx)
	return state, append(warnings, s.left...), err
}

// qualified gives the text of a view in which columns are qualified by the new names of
// their tables: "old_posts"."id" is of no reference of its own.
func (p *Plan) qualified(text string) (string, error) {
	d := p.Manifest.Database.Engine.Dialect()
	l := sqltext.NewLexer([]byte(text), d)
	var out strings.Builder
	var last sqltext.Token // that may be a qualifier
	at, behindDot := 0, false
	for {
		t, err := l.Skip()
		if err != nil {
			return "", err
		}
		if t.Kind == sqltext.End {
			out.WriteString(text[at:])
			return out.String(), nil
		}
		isDot := t.Kind == sqltext.Punct && t.Text[0] == '.'
		if isDot && last.Text != nil {
			name, err := sqltext.Unquote(nil, last, d)
			if err != nil {
				return "", err
			}
			if as := p.renamed(string(name)); as != string(name) {
				out.WriteString(text[at:last.At] + sqltext.QuoteName(as, d))
				at = last.At + len(last.Text)
			}
		}
		last = sqltext.Token{}
		if !behindDot && (t.Kind == sqltext.Name || t.Kind == sqltext.Word) {
			last = t
		}
		behindDot = isDot
	}
}

// mentioned gives a table of the archive whose old name stands in a text.
func (p *Plan) mentioned(text string) string {
	for _, t := range p.Manifest.Database.Tables {
		if p.renamed(t.Name) == t.Name {
			continue
		}
		if regexp.MustCompile(`(^|[^\w$])` + regexp.QuoteMeta(t.Name) + `($|[^\w$])`).MatchString(text) {
			return t.Name
		}
	}
	return ""
}

// superseded finds the tables of the site at the target that the archive replaces in
// meaning, though not in name: those of its own prefix of which the archive has the like.
// Other tables of that site stay, and are told of.
func (p *Plan) superseded(live []database.Table) (gone []database.Table) {
	d := p.Manifest.Database
	s := p.live
	if s == nil || s.Kind != p.Manifest.Kind || s.Prefix == p.Prefix || s.Prefix == "" || d.Engine != database.MariaDB || !p.sel.part(site.Settings) || p.sel.someTables() || !s.Database.Same(p.location) {
		return nil
	}
	like := map[string]bool{}
	for _, t := range d.Tables {
		like[strings.TrimPrefix(t.Name, d.Prefix)] = true
	}
	var stay []string
	for _, t := range live {
		rest, ok := strings.CutPrefix(t.Name, s.Prefix)
		switch {
		case !ok || p.comes(t.Name):
		case like[rest]:
			gone = append(gone, t)
		default:
			stay = append(stay, t.Name)
		}
	}
	for _, t := range gone {
		p.absent = append(p.absent, t.Name)
	}
	if len(stay) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("Tables of the site at the target stay, for the archive has none like them: %s.", listed(stay, 5)))
	}
	return gone
}

// comes reports whether a table of this name is restored.
func (p *Plan) comes(name string) bool {
	return slices.ContainsFunc(p.Manifest.Database.Tables, func(t database.Table) bool { return p.sel.table(t.Name) && p.renamed(t.Name) == name })
}

// listed gives the first of some names.
func listed(names []string, n int) string {
	if len(names) > n {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:n], ", "), len(names)-n)
	}
	return strings.Join(names, ", ")
}
