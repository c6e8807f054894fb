package restore

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/site"
)

// ErrOldSettings says that the restored settings would still lead to what belongs to the
// site that was packed.
var ErrOldSettings = errors.New("the restored settings would still lead to the old site")

// settingsLogin gives the database that the settings have to name: the one that is restored, or
// else the one that the target has.
func (r *run) settingsLogin() database.Location {
	p := r.plan
	if p.sel.part(site.Database) || p.live == nil {
		return p.location
	}
	l := p.live.Database
	if rel, in := p.live.ResolveSQLite(); in {
		l.Path = rel
	}
	return l
}

// checkSettings looks for what in the settings is still that of the source: the database
// that they name as a whole, and single values. A site that writes into another's database
// is worse than one that does not answer.
func (r *run) checkSettings(files site.Files) error {
	old := r.namesOther()
	p := r.plan
	src := site.Source{Root: r.m.Root}
	if r.m.Root == p.Target {
		src.Root = ""
	}
	if d := r.m.Database; d != nil && p.sel.part(site.Database) {
		to := site.SourceOf(p.location)
		if d.Name != to.Database {
			src.Database = d.Name
		}
		if host := strings.ToLower(d.Host); host != to.Host && !site.IsLocalHost(host) {
			src.Host = host
		}
	}
	for rel, content := range files {
		if what := src.OldMentions(rel, content); len(what) > 0 {
			old = append(old, fmt.Sprintf("%s names %s", rel, strings.Join(what, " and ")))
		}
	}
	if len(old) == 0 {
		return nil
	}
	slices.Sort(old)
	if r.opts.OldSettings {
		r.res.Warnings = append(r.res.Warnings, old...)
		return nil
	}
	return fmt.Errorf("%w: %s", ErrOldSettings, strings.Join(old, "; "))
}

// namesOther opens what is staged as a site, and tells if it names another database than
// it should.
func (r *run) namesOther() []string {
	root := r.files.dir.Path(".")
	s, err := site.Open(root)
	if err != nil || s.Database.IsZero() {
		return nil // parts of a site, or one whose settings stand elsewhere
	}
	want, got := r.settingsLogin(), s.Database
	if rel, in := s.ResolveSQLite(); in {
		got.Path = filepath.FromSlash(rel)
	}
	if want.Engine == database.SQLite && !filepath.IsAbs(want.Path) && r.plan.sel.part(site.Database) {
		want.Path = r.plan.inside
	}
	switch {
	case got.Engine == database.SQLite && filepath.IsLocal(got.Path) && (want.IsZero() || filepath.Clean(want.Path) == filepath.Clean(got.Path)):
		return nil
	case got.Engine == database.SQLite && want.Engine == database.SQLite && r.plan.inside != "" && filepath.Clean(got.Path) == filepath.Clean(r.plan.inside):
		return nil
	case !want.IsZero() && got.Same(want):
		return nil
	}
	return []string{"they name the database " + got.String()}
}
