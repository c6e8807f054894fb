package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/database/sqlite"
	"hovix/internal/site"
)

// storedCode names what the database would run by itself, which nobody may want
// of an archive that is not theirs.
func (p *Plan) storedCode(agreed bool) (string, bool, error) {
	d := p.Manifest.Database
	if d == nil || len(d.Stored) == 0 || !p.sel.part(site.Database) || p.sel.someTables() {
		return "", false, nil
	}
	var names []string
	for i, s := range d.Stored {
		if i == 5 {
			names = append(names, fmt.Sprintf("%d more", len(d.Stored)-i))
			break
		}
		names = append(names, string(s.Kind)+" "+s.Name)
	}
	list := strings.Join(names, ", ")
	switch {
	case p.sel.without.code:
		return list + " stay out", true, nil
	case agreed:
		return list, false, nil
	}
	return "", false, fmt.Errorf("%w: the archive brings code that the database runs by itself, with the rights of who restores it: %s", ErrStoredCode, list)
}

// extensions names those of PostgreSQL that are made where the target lacks them.
func (p *Plan) extensions() (string, bool, error) {
	d := p.Manifest.Database
	if d == nil || len(d.Extensions) == 0 || !p.sel.part(site.Database) {
		return "", false, nil
	}
	return strings.Join(d.Extensions, ", ") + " are made where they are not there", false, nil
}

// ErrStoredCode says that an archive holds code for the database that nobody asked
// for.
var ErrStoredCode = errors.New("refused")

// ErrLinksOut says that an archive holds symbolic links out of the site.
var ErrLinksOut = errors.New("refused")

// links names the links that lead out of the site.
func (p *Plan) links(agreed bool) (string, bool, error) {
	m := p.Manifest
	if m.Links == 0 || int64(len(m.LinksOut)) == m.Links && !slices.ContainsFunc(m.LinksOut, func(l string) bool {
		name, _, _ := strings.Cut(l, " → ")
		return p.sel.file(name)
	}) {
		return "", false, nil
	}
	list := strings.Join(m.LinksOut[:min(len(m.LinksOut), 3)], ", ")
	if n := m.Links - int64(min(len(m.LinksOut), 3)); n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	if agreed {
		return list + " lead out of the site", true, nil
	}
	return "", false, fmt.Errorf("%w: symbolic links of the archive lead out of the site: %s", ErrLinksOut, list)
}

// prefix checks that settings which stay are of the tables that come.
func (p *Plan) prefix() (string, bool, error) {
	s, err := site.Open(p.Target)
	if err != nil || p.sel.part(site.Settings) || s.Prefix == p.Prefix {
		return "", false, nil
	}
	return "", false, fmt.Errorf("the tables of the archive have the prefix %q, and the settings of %s, which stay, want %q; restore the settings too, or give the tables that prefix with --prefix keep", p.Manifest.Database.Prefix, p.Target, s.Prefix)
}

// lookAtDatabase proves that the new tables can be staged, and lists what they
// replace.
func (p *Plan) lookAtDatabase(ctx context.Context, kind site.Kind) {
	if p.location.Engine == database.SQLite {
		if _, err := os.Stat(p.location.Path); errors.Is(err, fs.ErrNotExist) {
			p.Checks = append(p.Checks, database.Check{What: "database", Found: "a new file"})
			return
		}
	}
	db, err := engines.Open(ctx, p.location)
	if err != nil {
		p.Checks = append(p.Checks, database.Failure("database", err))
		return
	}
	defer db.Close()
	info := db.Info()
	p.Checks = append(p.Checks, database.Check{What: "database", Found: strings.TrimSpace(info.Product + " " + info.Version + " answers")})
	if t, ok := db.(database.Target); ok {
		need := database.Need{Kinds: p.Manifest.Database.Objects, Collations: p.Manifest.Database.Collations, Tables: p.needs, Sessions: maxSessions}
		p.Checks = append(p.Checks, t.CanTake(ctx, need)...)
	}
	p.compareServer(info)
	p.look("old tables", func() (string, bool, error) { return "", false, p.listTables(ctx, db, kind) })
}

// listTables lists the tables that are replaced, and the accounts in them.
func (p *Plan) listTables(ctx context.Context, db database.Reader, kind site.Kind) error {
	live, err := db.Tables(ctx)
	if err != nil {
		return err
	}
	for _, t := range live {
		if p.location.Engine == database.SQLite || p.comes(t.Name) {
			p.Tables = append(p.Tables, t)
		}
	}
	if s, err := site.Open(p.Target); err == nil && s.Ask(ctx, db) == nil {
		p.live = s
	}
	if len(p.Tables) > 0 {
		p.Accounts, _ = kind.Accounts(ctx, p.Prefix, db) // tables of another program have none
	}
	if gone := p.superseded(live); len(gone) > 0 {
		p.Tables = append(p.Tables, gone...)
		accounts, _ := kind.Accounts(ctx, p.live.Prefix, db)
		p.Accounts = append(p.Accounts, accounts...)
	}
	return nil
}

// keepDatabase finds the file of SQLite in the target's folder that stays while
// what is around it is exchanged.
func (p *Plan) keepDatabase() {
	p.shared = ""
	if !p.sel.folder() || p.sel.part(site.Database) {
		return
	}
	s, err := site.Open(p.Target)
	if err != nil {
		return
	}
	if rel, in := s.ResolveSQLite(); in {
		p.shared = rel
	}
}

// givesWay reports whether what lies at a path in the target is replaced, or
// removed.
func (p *Plan) givesWay(rel string) bool {
	if p.shared != "" && strings.HasPrefix(rel, p.shared) && slices.Contains(sqlite.Files(p.shared), rel) {
		return false
	}
	return p.sel.folder() && p.sel.file(rel) && !p.sel.stays(rel) && !p.staysUnnamed(rel)
}
