package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/fsys"
	"hovix/internal/readdress"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// siteRun is one rewriting of a site.
type siteRun struct {
	a    *app
	f    *rewriteFlags
	path string // as it was given
	s    *site.Site
	ed   database.Editor // nil if the site has no database
	opts readdress.Options
	// recovery is an interrupted run that was taken care of first; nil if there was none.
	recovery *restore.Recovery
}

func (a *app) rewriteSite(ctx context.Context, path string, f *rewriteFlags) (err error) {
	switch {
	case f.out != "":
		return usage("%s is a folder, and a site is changed where it is; -o is for SQL dumps", path)
	case f.engine != "":
		return usage("%s is a folder, whose settings name its database; --engine is for SQL dumps", path)
	}
	r := &siteRun{a: a, f: f, path: path}
	if r.opts, err = f.options(); err != nil {
		return err
	}
	r.opts.Files = f.files
	if err := site.CheckFilePatterns(f.files); err != nil {
		return usageError{err}
	}
	if r.s, err = a.openSite(path, &f.db); err != nil {
		return err
	}
	if !f.plan {
		if r.recovery, err = restore.Recover(ctx, r.s); err != nil {
			return err
		}
	}
	if !r.s.Database.IsZero() {
		if r.ed, err = engines.Edit(ctx, r.s.Database); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, r.ed.Close()) }()
		if err := r.s.Ask(ctx, r.ed); err != nil {
			return err
		}
	}
	return r.run(ctx)
}

// run looks first, and then changes.
func (r *siteRun) run(ctx context.Context) error {
	if err := restore.Whole(r.s.Root); err != nil {
		return err
	}
	changes := &output{}
	var err error
	if r.f.changes != "" {
		if insideOf(r.s.Root, r.f.changes) {
			return fmt.Errorf("the list of changes %s would lie inside the site, where visitors could fetch it; choose a place outside of %s", r.f.changes, r.s.Root)
		}
		if changes, err = r.a.createOutput(ctx, r.f.changes, r.f.yes, r.path); err != nil {
			return err
		}
	}
	planned, err := r.pass(ctx, r.changesOf(changes, r.f.plan), false)
	if err != nil || r.f.plan {
		if err = changes.end(err); err != nil {
			return err
		}
		return r.report(planned)
	}
	acc := planned
	if n := planned.Tally.Leftovers[rewrite.Unfit]; n > 0 && r.f.unfit == unfitStop {
		err = r.unfit(planned, n)
	}
	if err == nil && planned.Tally.Changed > 0 {
		err = r.confirm(planned)
		if err == nil {
			acc, err = r.pass(ctx, r.changesOf(changes, true), true)
		}
	}
	if err = changes.end(err); err != nil {
		return err
	}
	return r.report(acc)
}

// changesOf gives where a pass lists its changes: nowhere, unless it is the last.
func (r *siteRun) changesOf(out *output, last bool) io.Writer {
	if !last || r.f.changes == "" {
		return nil
	}
	return out
}

func (r *siteRun) pass(ctx context.Context, changes io.Writer, write bool) (*readdress.Account, error) {
	bar, rep := r.a.reporter()
	defer bar.Close()
	opts := r.opts
	opts.Progress, opts.Changes, opts.Now = rep, changes, time.Now()
	return readdress.Site(ctx, r.s, r.ed, opts, write)
}

// confirm shows what would be changed and asks once.
func (r *siteRun) confirm(acc *readdress.Account) error {
	if r.f.yes {
		return nil
	}
	if !ui.IsTerminal(r.a.in) {
		return advised{fmt.Errorf("%s in %s would be changed; %w", ui.Count(acc.Tally.Changed, "value", "values"), r.s.Root, restore.ErrDeclined),
			"See them with --plan, and run the same command with --yes to change them."}
	}
	p := ui.New(r.a.err)
	r.title(p, acc, "Would rewrite ")
	printAccount(p, acc, r.f, true)
	p.Line("")
	return r.a.ask(r.a.in, "Change "+ui.Count(acc.Tally.Changed, "value", "values")+"? "+r.wayBack())
}

// unfit names values that would grow beyond what their columns hold.
func (r *siteRun) unfit(acc *readdress.Account, n int64) error {
	var which []string
	for _, c := range acc.Columns {
		for _, l := range c.Leftovers {
			if l.Reason == rewrite.Unfit {
				which = append(which, placeName(c)+", "+l.Detail)
			}
		}
	}
	return advised{fmt.Errorf("%w, %d in all: %s", restore.ErrUnfit, n, strings.Join(which[:min(len(which), 4)], "; ")),
		"Nothing was changed. Make the columns wider, or leave these values as they are with --unfit keep-old."}
}

// wayBack says how a change could be taken back.
func (r *siteRun) wayBack() string {
	if err := restore.CanKeep(r.s.Root); err != nil {
		return "There is no way back but an archive of the site: " + err.Error() + "."
	}
	return "hovix undo puts back what was there."
}

func (r *siteRun) title(p *ui.Printer, acc *readdress.Account, what string) {
	p.Title(what+r.s.Name, r.addresses())
	if r.recovery != nil {
		p.Field("Earlier", r.recovery.String())
	}
	p.Field("Folder", r.s.Root)
	var read []string
	if r.ed != nil {
		p.Field("Database", r.s.Database.String())
		read = append(read, ui.Count(acc.Read, "value", "values")+" in "+ui.Count(acc.Rows, "row", "rows")+" of "+ui.Count(int64(acc.Tables), "table", "tables"))
	}
	if acc.Files > 0 {
		read = append(read, ui.Count(int64(acc.Files), "file", "files"))
	}
	p.Field("Looked at", strings.Join(read, ", "))
}

// addresses gives the site's address, and what it becomes.
func (r *siteRun) addresses() string {
	old := r.s.Address.String()
	for _, m := range r.opts.Rewrite.Mappings {
		if m.Old == r.s.Address {
			return old + " → " + m.New.String()
		}
	}
	return old
}

func (r *siteRun) report(acc *readdress.Account) error {
	a := r.a
	a.findings(acc.Findings())
	a.log.Info("rewrote", "site", r.s.Root, "plan", r.f.plan, "changed", acc.Tally.Changed, "mentions", acc.Tally.Occurrences(), "findings", acc.Findings())
	if a.json {
		doc := rewriteDocument(acc, string(r.s.Database.Engine))
		doc.Planned = r.f.plan
		return a.document(doc)
	}
	p := ui.New(a.out)
	switch {
	case acc.Tally.Changed == 0:
		r.title(p, acc, "Nothing to change in ")
	case r.f.plan:
		r.title(p, acc, "Would rewrite ")
	default:
		r.title(p, acc, "Rewrote ")
	}
	printAccount(p, acc, r.f, r.f.plan)
	switch {
	case acc.Tally.Changed == 0:
		p.Line("")
	case r.f.plan:
		p.Next("hovix pack "+shellWord(r.path)+" -o "+archiveName(r.s), "hovix rewrite "+shellWord(r.path)+r.f.again())
	case acc.Kept == "":
		p.Next("hovix survey " + shellWord(r.path))
	default:
		p.Section("Undo point")
		p.Line("    What the changed rows and files held is kept in %s", acc.Kept)
		p.Line("    %s", p.Dim("hovix undo puts it back, and hovix undo --discard removes it."))
		p.Next("hovix survey "+shellWord(r.path), "hovix undo "+shellWord(r.path))
	}
	return nil
}

// insideOf reports whether a file lies, or would lie, in a folder.
func insideOf(root, file string) bool {
	dir, err := fsys.Resolve(filepath.Dir(file))
	if err != nil {
		return false
	}
	rel, err := filepath.Rel(root, dir)
	return err == nil && filepath.IsLocal(rel)
}

// isFolder reports whether path is a folder.
func isFolder(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.IsDir()
}
