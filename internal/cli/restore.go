package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hovix/internal/archive"
	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/passage"
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
	fl.BoolVar(&f.bareHosts, "bare-hosts", false, "rewrite old host names that stand alone in prose, too")
	fl.StringArrayVar(&f.only, "only", nil, "restore this alone: a part, a path or pattern, or table:PATTERN (`WHAT`, may be given again)")
	fl.StringArrayVar(&f.without, "without", nil, "leave this out: a part, a path or pattern, table:PATTERN, or stored-code (`WHAT`, may be given again)")
	fl.StringArrayVar(&f.keep, "keep", nil, "leave these files of the target as they are: a path or pattern (`PATH`, may be given again)")
	fl.BoolVar(&f.code, "stored-code", false, "take the archive's triggers, routines and events, which the database runs by itself")
	fl.BoolVar(&f.links, "links-out", false, "make the archive's symbolic links that lead out of the site")
	fl.BoolVar(&f.resume, "resume", false, "go on with what an interrupted restore of this archive has staged, and leave what is staged should this one be interrupted")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace what is on the target without asking")
	fl.BoolVar(&f.plan, "plan", false, "say what would be done, and do nothing")
	f.keys.add(cmd)
	f.db.add(cmd, "put the database here instead of where the target's settings say")
	return cmd
}

func (f *restoreFlags) options(a *app, target string) (restore.Options, error) {
	opts := restore.Options{Target: target, BareHosts: f.bareHosts, Only: f.only, Without: f.without, Keep: f.keep, StoredCode: f.code, LinksOut: f.links, Resume: f.resume}
	var err error
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
	opts.Maps, opts.Roots, opts.Texts, opts.WholeWords = more.Mappings, more.Roots, more.Texts, more.WholeWords
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
	in, size, end, err := a.archiveInput(file, f, &opts)
	if err != nil {
		return err
	}
	defer end()
	bar, rep := a.reporter()
	defer bar.Close()
	opts.Progress, opts.PlanOnly, opts.Estimate, opts.Guard = rep, f.plan, f.plan || !f.yes, guard()
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
	a.findings(res.Findings())
	a.log.Info("restored", "target", res.Plan.Target, "address", res.Plan.Address, "rows", res.Rows, "files", res.Files.Count,
		"addresses", res.Tally.Occurrences(), "findings", res.Findings(), "seconds", res.Elapsed.Seconds())
	if a.json {
		return a.document(restoreDocument(res))
	}
	printRestored(ui.New(a.out), res)
	return nil
}

// archiveInput gives the archive that FILE names, opened if it is encrypted, and its
// size, 0 if unknown.
func (a *app) archiveInput(file string, f *restoreFlags, opts *restore.Options) (in io.Reader, size int64, end func(), err error) {
	if file == "-" {
		keys, err := f.keys.keys(a)
		if err != nil {
			return nil, 0, nil, err
		}
		in, err := openStream(a.in, keys)
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
		return nil
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

// ask asks once whether to go on.
func (a *app) ask(tty io.Reader, question string) error {
	fmt.Fprintf(a.err, "  %s Type yes to go on: ", question)
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

func printPlan(p *ui.Printer, plan *restore.Plan) {
	m := plan.Manifest
	p.Title("Restore "+m.Name, plan.Address)
	p.Field("From", fmt.Sprintf("%s, packed %s", orNone(m.Address), m.Made.Local().Format("2 January 2006, 15:04")))
	p.Field("Brings", bringsLine(plan))
	folder := plan.Target
	if plan.Create {
		folder += " (will be made)"
	}
	p.Field("Folder", folder)
	if plan.Database != "" {
		p.Field("Database", plan.Database)
	}
	if len(plan.Maps) > 0 && rewrites(plan) {
		lines := slices.Clone(plan.Maps)
		if e := plan.Estimate; e != nil {
			lines = append(lines, p.Dim(estimateLine(e)))
		}
		p.Field("Rewrites", lines...)
	}
	if !plan.Overwrites() {
		p.Field("Replaces", "nothing")
	}
	if plan.Stay.Count > 0 {
		p.Field("Stay", fmt.Sprintf("%s (%s) of the target", ui.Count(plan.Stay.Count, "file", "files"), ui.Bytes(plan.Stay.Bytes)))
	}
	for _, n := range plan.Notes {
		p.Warn("%s", n)
	}
	printChecks(p, plan.Checks)
	printReplaced(p, plan)
}

// rewrites reports whether anything is restored in which addresses are rewritten.
func rewrites(plan *restore.Plan) bool {
	return slices.Contains(plan.Parts, site.Database) || slices.Contains(plan.Parts, site.Settings)
}

// bringsLine says what of the archive is restored.
func bringsLine(plan *restore.Plan) string {
	m := plan.Manifest
	var parts []string
	for _, part := range plan.Parts {
		parts = append(parts, string(part))
	}
	line := strings.Join(parts, ", ")
	if len(parts) == 0 {
		line = "nothing"
	}
	files, tables := m.Files, 0
	if m.Database != nil {
		tables = len(m.Database.Tables)
	}
	if c := plan.Chosen; c != nil {
		files, tables = c.Files, c.Tables
	}
	var counts []string
	if tables > 0 {
		counts = append(counts, ui.Count(int64(tables), "table", "tables"))
	}
	if files.Count > 0 {
		counts = append(counts, ui.Count(files.Count, "file", "files")+" ("+ui.Bytes(files.Bytes)+")")
	}
	if len(counts) > 0 {
		line += ": " + strings.Join(counts, ", ")
	}
	if plan.Chosen != nil {
		line += ", as chosen"
	}
	return line
}

func estimateLine(e *restore.Estimate) string {
	if e.Exact {
		return "in " + ui.Count(e.Values, "value", "values") + " of the database"
	}
	return "in about " + ui.Count(roughly(e.Values), "value", "values") + " of the database, as some of its rows tell"
}

// roughly gives a number with two digits that mean something.
func roughly(n int64) int64 {
	step := int64(1)
	for n/step >= 100 {
		step *= 10
	}
	return (n + step/2) / step * step
}

// printChecks lists what was looked at, what stands in the way last.
func printChecks(p *ui.Printer, checks []database.Check) {
	if len(checks) == 0 {
		return
	}
	p.Section("Checked")
	for _, c := range checks {
		switch {
		case c.Err != nil:
			p.Bad("%s: %s", c.What, c.Failed)
		case c.Note:
			p.Warn("%s: %s", c.What, c.Found)
		default:
			p.Good("%s: %s", c.What, c.Found)
		}
	}
}

// printReplaced lists what gives way, and what stays.
func printReplaced(p *ui.Printer, plan *restore.Plan) {
	if plan.Overwrites() {
		p.Section("Replaces")
		if plan.Lose.Count > 0 {
			p.Warn("%s (%s) in %s", ui.Count(plan.Lose.Count, "file", "files"), ui.Bytes(plan.Lose.Bytes), plan.Target)
		}
		for i, t := range plan.Tables {
			if i == manyTables {
				p.Warn("and %d more tables", len(plan.Tables)-i)
				break
			}
			p.Warn("table %s, %s", t.Name, ui.Count(t.Rows, "row", "rows"))
		}
		if len(plan.Accounts) > 0 {
			var names []string
			for _, a := range plan.Accounts {
				names = append(names, a.Login)
			}
			p.Warn("the accounts of administrators: %s", listOf(names, 6))
		}
		p.Line("    %s", p.Dim("What is replaced is kept as an undo point: hovix undo puts it back."))
	}
}

func orNone(s string) string {
	if s == "" {
		return "a site without address"
	}
	return s
}

func printRestored(p *ui.Printer, res *restore.Result) {
	m := res.Plan.Manifest
	p.Title("Restored "+m.Name, res.Plan.Address)
	p.Field("Folder", res.Plan.Target)
	if res.Plan.Database != "" {
		p.Field("Database", res.Plan.Database)
	}
	p.Field("Brought", broughtLine(res))
	p.Field("Time", fmt.Sprintf("%s, of which %s to switch", seconds(res.Elapsed), seconds(res.Switch)))
	if len(res.Plan.Maps) > 0 && rewrites(res.Plan) {
		p.Field("Rewrote", append([]string{addressLine(&res.Tally)}, res.Plan.Maps...)...)
	}
	if len(res.Accounts) > 0 {
		p.Field("Log in as", accountLines(res.Accounts)...)
		p.Field("", p.Dim("Accounts came from the archive; those of the target are gone."))
	}
	if len(res.Touched) > 0 {
		p.Field("Beside", res.Touched...)
	}
	printLeftovers(p, res)
	printNotes(p, append(slices.Clone(res.Plan.Notes), m.Notes...))
	for _, w := range res.Warnings {
		p.Warn("%s", w)
	}
	for _, pr := range res.Summary.Problems {
		p.Warn("%s: %s", pr.What, pr.Why)
	}
	if res.Kept != "" {
		p.Section("Undo point")
		p.Line("    What was replaced (%s) is kept in %s", ui.Bytes(res.Point.Bytes), res.Kept)
		p.Line("    %s", p.Dim("hovix undo puts it back, and hovix undo --discard removes it."))
		if n := len(res.Dropped); n > 0 {
			p.Line("    %s", p.Dim(ui.Count(int64(n), "older undo point was", "older undo points were")+" removed: three are kept, and none of what was undone before."))
		}
		p.Next("hovix survey "+shellWord(res.Plan.Target), "hovix undo "+shellWord(res.Plan.Target))
		return
	}
	p.Next("hovix survey " + shellWord(res.Plan.Target))
}

func broughtLine(res *restore.Result) string {
	var parts []string
	if len(res.Tables) > 0 {
		parts = append(parts, ui.Count(int64(len(res.Tables)), "table", "tables")+" with "+ui.Count(res.Rows, "row", "rows"))
	}
	if res.Files.Count > 0 || len(parts) == 0 {
		parts = append(parts, ui.Count(res.Files.Count, "file", "files")+" ("+ui.Bytes(res.Files.Bytes)+")")
	}
	return strings.Join(parts, ", ")
}

// addressLine counts what was rewritten, by form.
func addressLine(t *rewrite.Tally) string {
	n := t.Occurrences()
	if n == 0 {
		return "no mention of the old address was found"
	}
	var forms []string
	for f, c := range t.Forms {
		if c > 0 {
			forms = append(forms, ui.Count(c, rewrite.Form(f).String(), rewrite.Form(f).String()))
		}
	}
	return fmt.Sprintf("%s in %s: %s", ui.Count(n, "mention", "mentions"), ui.Count(t.Changed, "value", "values"), strings.Join(forms, ", "))
}

// printLeftovers lists mentions of old addresses that stand as they were.
func printLeftovers(p *ui.Printer, res *restore.Result) {
	if (len(res.Plan.Maps) == 0 || !rewrites(res.Plan)) && res.Tally.Values == 0 {
		return
	}
	printColumns(p, &res.Tally, res.Columns, "restore --bare-hosts")
}

// printColumns lists the leftovers of columns that passed.
func printColumns(p *ui.Printer, tally *rewrite.Tally, columns []passage.Column, advice string) {
	l := leftovers{tally: tally, advice: advice}
	for i := range columns {
		c := &columns[i]
		l.columns = append(l.columns, leftoverColumn{c.Table + "." + c.Column, &c.Tally, c.Sample})
	}
	l.print(p)
}

// leftovers are mentions of old addresses that stand as they were.
type leftovers struct {
	tally   *rewrite.Tally
	columns []leftoverColumn
	advice  string // the command that rewrites bare hosts
	chosen  bool   // only some columns were looked at
}

type leftoverColumn struct {
	name   string
	tally  *rewrite.Tally
	sample []rewrite.Leftover
}

func (l *leftovers) print(p *ui.Printer) {
	var rows [][]string
	for r, n := range l.tally.Leftovers {
		if n == 0 {
			continue
		}
		where := []string{}
		for _, c := range l.columns {
			if c.tally.Leftovers[r] > 0 {
				where = append(where, c.name)
			}
		}
		mark := "  "
		if rewrite.Reason(r).Finding() {
			mark = p.Mark() + " "
		}
		rows = append(rows, []string{mark + ui.Count(n, rewrite.Reason(r).String(), plural(rewrite.Reason(r))), p.Dim(listOf(where, 3))})
	}
	if len(rows) == 0 {
		p.Line("")
		if l.chosen {
			p.Good("No old address is left over in the columns that were chosen")
		} else {
			p.Good("No old address is left over")
		}
		return
	}
	p.Section("Left as they are")
	p.Table(rows)
	if l.tally.Findings() == 0 {
		p.Line("    %s", p.Dim("These are as they should be."))
		return
	}
	if l.tally.Leftovers[rewrite.BareHost] > 0 {
		p.Line("    %s", p.Dim("A bare host name stands in prose, not as an address; "+l.advice+" rewrites it too:"))
	}
	for _, c := range l.columns {
		for _, s := range c.sample {
			line := fmt.Sprintf("%s: “%s”", c.name, s.Excerpt)
			if s.Detail != "" {
				line += " (" + s.Detail + ")"
			}
			p.Line("      %s", p.Dim(line))
		}
	}
}

func plural(r rewrite.Reason) string {
	switch r {
	case rewrite.OtherPort, rewrite.OtherPath, rewrite.OtherScheme, rewrite.TooDeep:
		return "mentions, " + r.String()
	case rewrite.Email:
		return "e-mail addresses"
	}
	return r.String() + "s"
}

func listOf(words []string, n int) string {
	slices.Sort(words)
	if len(words) > n {
		return strings.Join(words[:n], ", ") + fmt.Sprintf(" and %d more", len(words)-n)
	}
	return strings.Join(words, ", ")
}

// restoreJSON is the JSON document of restore.
type restoreJSON struct {
	*restore.Result
	Mentions  int64            `json:"mentions"`
	Changed   int64            `json:"changedValues"`
	Forms     map[string]int64 `json:"forms"`
	Leftovers map[string]int64 `json:"leftovers"`
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
