package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"hovix/internal/archive"
	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/nearest"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

type restoreFlags struct {
	url     string
	aliases []string
	mapFlags
	bareHosts     bool
	yes, plan     bool
	only, without []string
	keep          []string
	code, links   bool
	oldSettings   bool
	unfit, prefix string
	login         string
	files         []string
	resume        bool
	keys          openFlags
	db            databaseFlags
}

func (a *app) restoreCommand() *cobra.Command {
	var f restoreFlags
	cmd := &cobra.Command{
		Use:   "restore FILE TARGET --url ADDRESS",
		Short: "Put an archive on a host: another folder, database and address",
		Long: `Restore the archive FILE in the folder TARGET, for the public address ADDRESS.
FILE '-' reads standard input. The new files and tables are staged beside the
live ones, every embedded address is rewritten on the way in, and when every
byte has been proved, files and tables are exchanged in one short step. Until
then nothing on the target changes.

Besides the site's own address and folder, --map, --root and --text rewrite what
else has to change on the way.

--only and --without choose what of the archive is restored: parts (database,
uploads, code, settings), paths and patterns, tables (table:PATTERN). The target
keeps the rest of its own; --keep names files that stay in any case, as its
.well-known folder does. Triggers, routines and events, which the database runs by
itself, are taken with --stored-code only; so are symbolic links that lead out of
the site with --links-out.

The database is the one in the target's own settings, or the one named with
--database. What the restore replaces is kept as an undo point: hovix undo puts
it back. A restore that was killed leaves the old site, and the next run at the
target removes what it had staged, or goes on with it where --resume is given.`,
		Example: "  hovix restore museum.tar.zst /var/www/new --url https://new.example\n  hovix restore museum.tar.zst /var/www/new --url https://new.example --database mariadb://user@localhost/newdb",
		Args:    args("FILE", "TARGET"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.restore(cmd.Context(), args[0], args[1], &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.url, "url", "", "public `ADDRESS` of the restored site, such as https://new.example; without it the address stays")
	fl.StringArrayVar(&f.aliases, "alias", nil, "a further old `ADDRESS` of the site, rewritten like its main one (may be given again)")
	f.mapFlags.add(cmd)
	fl.Var(list(&f.files), "files", "rewrite addresses in these text files of uploads and code too (`PATTERNS`, such as *.js or themes/**/*.html)")
	fl.BoolVar(&f.bareHosts, "bare-hosts", false, "rewrite old host names that stand alone in prose, too")
	fl.Var(list(&f.only), "only", "restore this alone: a part, a path or pattern, or table:PATTERN (`WHAT`, several with commas, or given again)")
	fl.Var(list(&f.without), "without", "leave this out: a part, a path or pattern, table:PATTERN, or stored-code (`WHAT`, several with commas, or given again)")
	fl.Var(list(&f.keep), "keep", "leave these files of the target as they are: a path or pattern (`PATH`, several with commas, or given again)")
	fl.BoolVar(&f.code, "stored-code", false, "take the archive's triggers, routines and events, which the database runs by itself")
	fl.BoolVar(&f.oldSettings, "old-settings", false, "take settings that still name the old site's database, server or folder")
	fl.StringVar(&f.prefix, "prefix", "", "what the names of the restored tables begin with: archive, as in the archive; keep, as the target's settings say; or this `PREFIX`")
	complete(cmd, "prefix", restore.PrefixArchive, restore.PrefixKeep)
	addChoice(cmd, &f.unfit, "unfit", "where a value would grow beyond what its column holds: stop before anything is changed, or keep-old, which leaves it as it is (`WORD`)", unfitStop, unfitKeep)
	fl.StringVar(&f.login, "new-password", "", "give this account of the restored site a new password, asked for or made up (`LOGIN`)")
	fl.BoolVar(&f.links, "links-out", false, "make the archive's symbolic links that lead out of the site")
	fl.BoolVar(&f.resume, "resume", false, "go on with what an interrupted restore of this archive has staged, and leave what is staged should this one be interrupted")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace what is on the target without asking")
	fl.BoolVar(&f.plan, "plan", false, "say what would be done, and do nothing")
	f.keys.add(cmd)
	f.db.add(cmd, "put the database here instead of where the target's settings say")
	return cmd
}

func (f *restoreFlags) options(a *app, target string) (restore.Options, error) {
	opts := restore.Options{Target: target, BareHosts: f.bareHosts, Only: f.only, Without: f.without, Keep: f.keep, StoredCode: f.code, LinksOut: f.links, Files: f.files, OldSettings: f.oldSettings, KeepUnfit: f.unfit == unfitKeep, Prefix: f.prefix, Resume: f.resume}
	err := site.CheckFilePatterns(f.files)
	if err != nil {
		return opts, usageError{err}
	}
	if f.url != "" {
		if opts.Address, err = rewrite.ParseAddress(f.url); err != nil {
			return opts, usageError{err}
		}
	}
	for _, s := range f.aliases {
		alias, err := rewrite.ParseAddress(s)
		if err != nil {
			return opts, usage("--alias: %w", err)
		}
		opts.Aliases = append(opts.Aliases, alias)
	}
	var more rewrite.Options
	if err := f.into(&more); err != nil {
		return opts, err
	}
	opts.Maps, opts.Roots, opts.Texts, opts.WholeWords, opts.Compressed = more.Mappings, more.Roots, more.Texts, more.WholeWords, more.Compressed
	var known database.Location
	if s, err := site.Open(target); err == nil {
		known = s.Database
	}
	opts.Database, err = f.db.location(a, known)
	return opts, err
}

func (a *app) restore(ctx context.Context, file, target string, f *restoreFlags) error {
	opts, err := f.options(a, target)
	if err != nil {
		return err
	}
	in, size, end, err := a.archiveInput(ctx, file, f, &opts)
	if err != nil {
		return err
	}
	defer end()
	var account passwordJSON
	var password string
	if f.login != "" && !f.plan {
		if account, password, err = a.newPassword(f.login); err != nil {
			return err
		}
	}
	bar, rep := a.reporter()
	defer bar.Close()
	opts.Progress, opts.PlanOnly, opts.Estimate, opts.Guard = rep, f.plan, f.plan || !f.yes, a.guard()
	opts.Confirm = func(p *restore.Plan) error {
		bar.Pause()
		if err := a.confirm(p, file, f); err != nil {
			return err
		}
		rep.Phase("Restoring", size)
		return nil
	}
	res, err := restore.Run(ctx, in, size, opts)
	bar.Close()
	if errors.Is(err, restore.ErrPlanned) {
		return nil
	}
	var check *restore.CheckError
	if errors.As(err, &check) && f.plan && a.json {
		if e := a.document(check.Plan); e != nil {
			return e
		}
	} else if errors.As(err, &check) && f.plan {
		printPlan(ui.New(a.out), check.Plan)
		fmt.Fprintln(a.out)
	}
	if err != nil {
		if file != "-" {
			return fmt.Errorf("%s: %w", file, err)
		}
		return err
	}
	if rec := res.Recovery; rec != nil && res.Summary == nil {
		return a.finished(res)
	}
	var changed *passwordJSON
	if f.login != "" {
		if err := restoredPassword(ctx, res.Plan.Target, opts.Database, f.login, password); err != nil {
			res.Warnings = append(res.Warnings, fmt.Sprintf("%s has its old password: %v", f.login, err))
		} else {
			changed = &account
		}
	}
	a.findings(res.Findings())
	a.log.Info("restored", "target", res.Plan.Target, "address", res.Plan.Address, "rows", res.Rows, "files", res.Files.Count,
		"addresses", res.Tally.Occurrences(), "findings", res.Findings(), "seconds", res.Elapsed.Seconds())
	if a.json {
		doc := restoreDocument(res)
		doc.NewPassword = changed
		return a.document(doc)
	}
	printRestored(ui.New(a.out), res, changed)
	return nil
}

// archiveInput gives the archive that FILE names, opened if it is encrypted, and its
// size, 0 if unknown.
func (a *app) archiveInput(ctx context.Context, file string, f *restoreFlags, opts *restore.Options) (in io.Reader, size int64, end func(), err error) {
	if file == "-" {
		keys, err := f.keys.keys(a)
		if err != nil {
			return nil, 0, nil, err
		}
		all, _, err := a.openInput(ctx, file)
		if err != nil {
			return nil, 0, nil, err
		}
		in, err := openStream(all, keys)
		return in, 0, func() {}, err
	}
	fl, err := a.openToRead(file, &f.keys)
	if err != nil {
		return nil, 0, nil, err
	}
	if opts.Archive, err = archive.Open(fl, fl.size); err != nil { // a torn file is told at once
		return nil, 0, nil, errors.Join(fmt.Errorf("%s: %w", file, err), fl.Close())
	}
	return fl.stream(), fl.size, func() { _ = fl.Close() }, nil
}

// finished tells that an earlier run had come so far that there was no more to do
// than to finish it.
func (a *app) finished(res *restore.Result) error {
	a.findings(int64(len(res.Recovery.Warnings)))
	a.log.Info("finished", "target", res.Plan.Target, "began", res.Recovery.Began)
	if a.json {
		return a.document(res)
	}
	p := ui.New(a.out)
	p.Title("Finished the restore of "+res.Plan.Manifest.Name, res.Plan.Address)
	p.Field("Folder", res.Plan.Target)
	p.Field("Earlier", res.Recovery.String())
	for _, w := range res.Recovery.Warnings {
		p.Warn("%s", w)
	}
	p.Next("hovix survey "+shellWord(res.Plan.Target), "hovix undo "+shellWord(res.Plan.Target))
	return nil
}

// confirm shows the plan and asks once if anything is to be lost.
func (a *app) confirm(p *restore.Plan, file string, f *restoreFlags) error {
	if f.plan {
		if a.json {
			return a.document(p)
		}
		out := ui.New(a.out)
		printPlan(out, p)
		out.Next(a.withoutPlan())
		return nil
	}
	if !p.Overwrites() {
		return a.confirmParents(p, file, f)
	}
	printPlan(ui.New(a.err), p)
	fmt.Fprintln(a.err)
	if f.yes {
		return nil
	}
	const advice = "Run the same command with --yes to replace it, or choose another folder or database."
	tty, closeTTY := a.terminal(file)
	if tty == nil {
		return advised{fmt.Errorf("the target is not empty: %s; %w", lossLine(p), restore.ErrDeclined), advice}
	}
	defer closeTTY()
	return a.ask(tty, "Replace it?")
}

// confirmParents asks before folders are made above the target: its path may be misspelt.
func (a *app) confirmParents(p *restore.Plan, file string, f *restoreFlags) error {
	if len(p.Makes) == 0 || f.yes {
		return nil
	}
	first := p.Makes[len(p.Makes)-1]
	what := fmt.Sprintf("the folder %s, in which %s would lie, does not exist", first, p.Target)
	if near := nearest.Path(p.Target); near != "" {
		what += "; did you mean " + near + "?"
	}
	tty, closeTTY := a.terminal(file)
	if tty == nil {
		return advised{fmt.Errorf("%s; %w", what, restore.ErrDeclined), "Run the same command with --yes to have it made, or name another folder."}
	}
	defer closeTTY()
	_ = ui.Fprintf(a.err, "\n  %s.\n", strings.ToUpper(what[:1])+strings.TrimSuffix(what[1:], "."))
	return a.ask(tty, "Make it?")
}

// ask asks once whether to go on.
func (a *app) ask(tty io.Reader, question string) error {
	_ = ui.Fprintf(a.err, "  %s Type yes to go on: ", question)
	answer, _ := bufio.NewReader(tty).ReadString('\n')
	if strings.TrimSpace(strings.ToLower(answer)) != "yes" {
		return fmt.Errorf("not agreed to; %w", restore.ErrDeclined)
	}
	return nil
}

// terminal gives where a question can be answered; nil if nobody is there.
func (a *app) terminal(file string) (io.Reader, func()) {
	if file != "-" && ui.IsTerminal(a.in) {
		return a.in, func() {}
	}
	if file == "-" && ui.IsTerminal(a.err) {
		if tty, err := os.Open("/dev/tty"); err == nil {
			return tty, func() { _ = tty.Close() }
		}
	}
	return nil, nil
}

func lossLine(p *restore.Plan) string {
	var parts []string
	if p.Lose.Count > 0 {
		parts = append(parts, ui.Count(p.Lose.Count, "file", "files")+" ("+ui.Bytes(p.Lose.Bytes)+") in "+p.Target)
	}
	if len(p.Tables) > 0 {
		var rows int64
		for _, t := range p.Tables {
			rows += t.Rows
		}
		parts = append(parts, fmt.Sprintf("%s (%s) in %s", ui.Count(int64(len(p.Tables)), "table", "tables"), ui.Count(rows, "row", "rows"), p.Database))
	}
	return strings.Join(parts, " and ") + " would be replaced"
}

// restoreJSON is the JSON document of restore.
type restoreJSON struct {
	*restore.Result
	Mentions  int64            `json:"mentions"`
	Changed   int64            `json:"changedValues"`
	Forms     map[string]int64 `json:"forms"`
	Leftovers map[string]int64 `json:"leftovers"`
	// NewPassword is that which an account was given.
	NewPassword *passwordJSON `json:"newPassword,omitempty"`
}

func restoreDocument(res *restore.Result) restoreJSON {
	d := restoreJSON{Result: res, Mentions: res.Tally.Occurrences(), Changed: res.Tally.Changed}
	d.Forms, d.Leftovers = formsAndLeftovers(&res.Tally)
	return d
}

// formsAndLeftovers gives the counts that are not zero, by name.
func formsAndLeftovers(t *rewrite.Tally) (forms, left map[string]int64) {
	forms, left = map[string]int64{}, map[string]int64{}
	for f, n := range t.Forms {
		if n > 0 {
			forms[rewrite.Form(f).String()] = n
		}
	}
	for r, n := range t.Leftovers {
		if n > 0 {
			left[rewrite.Reason(r).String()] = n
		}
	}
	return forms, left
}
