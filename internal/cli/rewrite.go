package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/dump"
	"hovix/internal/nearest"
	"hovix/internal/outfile"
	"hovix/internal/readdress"
	"hovix/internal/rewrite"
)

type rewriteFlags struct {
	mapFlags
	bareHosts              bool
	identifiers            bool
	repair, plan, yes      bool
	out, changes, engine   string
	unfit                  string
	tables, columns, other []string
	files                  []string
	db                     databaseFlags
}

func (a *app) rewriteCommand() *cobra.Command {
	var f rewriteFlags
	cmd := &cobra.Command{
		Use:   "rewrite SITE|DUMP --map OLD=NEW",
		Short: "Change addresses where they are: in a live site, or in an SQL dump",
		Long: `Change addresses where they are. Addresses are found in every form, in serialized
values too, whose lengths stay right.

SITE is the folder of a site: all tables of its database are changed in one
transaction, and its settings and the text files that --files names with them.
It is read as a whole first, and values that would not fit their column are found
before anything is written. Columns that hold identifiers are kept.

DUMP is an SQL dump as written by the dump programs of MariaDB, MySQL, PostgreSQL
and SQLite or by a web panel, plain or compressed with gzip, zstd or bzip2; '-'
reads standard input. The changed dump goes to the file that -o names, compressed
if its name ends in .gz or .zst; '-' is standard output. What holds no old address
is copied byte for byte.`,
		Example: "  hovix rewrite /var/www/museum --map http://old.example=https://new.example --plan\n" +
			"  hovix rewrite /var/www/museum --map http://old.example=https://new.example --files '*.css,themes/**/*.html'\n" +
			"  hovix rewrite old.sql.gz --map http://old.example=https://new.example -o new.sql.gz\n" +
			"  zcat old.sql.gz | hovix rewrite - --map http://old.example=https://new.example -o - | mariadb newdb",
		Args: args("SITE or DUMP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if isFolder(args[0]) {
				return a.rewriteSite(cmd.Context(), args[0], &f)
			}
			return a.rewrite(cmd.Context(), args[0], &f)
		},
	}
	fl := cmd.Flags()
	f.mapFlags.add(cmd)
	fl.BoolVar(&f.bareHosts, "bare-hosts", false, "rewrite old host names that stand alone in prose, too")
	fl.BoolVar(&f.identifiers, "identifiers", false, "rewrite identifiers too, such as those by which feed readers know an article")
	fl.BoolVar(&f.repair, "repair", false, "mend lengths in serialized values that an earlier replacement broke")
	fl.StringVarP(&f.out, "output", "o", "", "write the changed dump to `FILE`; '-' is standard output")
	fl.BoolVar(&f.plan, "plan", false, "say what would be changed, and change nothing")
	fl.Var(list(&f.files), "files", "of a site, look into these text files too (`PATTERNS`, such as *.css or themes/**/*.html)")
	fl.StringVar(&f.changes, "changes", "", "write every changed value to `FILE`, as CSV")
	addChoice(cmd, &f.unfit, "unfit", "of a site, where a value would grow beyond what its column holds: keep-old, which leaves it as it is, or stop before anything is changed (`WORD`)", unfitKeep, unfitStop)
	fl.Var(list(&f.tables), "table", "only these tables (`PATTERNS`, such as wp_*)")
	fl.Var(list(&f.columns), "column", "only these columns (`PATTERNS`, such as body or posts.*)")
	fl.Var(list(&f.other), "except", "not these tables or columns (`PATTERNS`, such as logs or posts.guid)")
	fl.StringVar(&f.engine, "engine", "", "whose dump it is, if that is not seen: mariadb, postgres or sqlite (`NAME`)")
	complete(cmd, "engine", "mariadb", "postgres", "sqlite")
	fl.BoolVarP(&f.yes, "yes", "y", false, "change the site without asking; overwrite FILE if it exists")
	f.db.add(cmd, "change the database here instead of where the site's settings say")
	return cmd
}

func (f *rewriteFlags) options() (opts readdress.Options, err error) {
	r := &opts.Rewrite
	r.BareHosts, r.Repair = f.bareHosts, f.repair
	if f.none() {
		return opts, usage("say what to rewrite: --map http://old.example=https://new.example")
	}
	if err := f.into(r); err != nil {
		return opts, err
	}
	opts.Identifiers = f.identifiers
	opts.Filter = readdress.Filter{Tables: f.tables, Columns: f.columns, Except: f.other}
	if err := opts.Filter.Check(); err != nil {
		return opts, usage("a pattern cannot be read: %w", err)
	}
	if f.engine != "" {
		d, err := engineNamed(f.engine)
		if err != nil {
			return opts, err
		}
		opts.Dialect = &d
	}
	switch filepath.Ext(f.out) {
	case ".gz":
		opts.Output = readdress.Gzip
	case ".zst":
		opts.Output = readdress.Zstd
	case ".bz2":
		return opts, usage("a dump cannot be written as bzip2; let the name end in .gz or .zst")
	}
	return opts, nil
}

func engineNamed(name string) (dump.Dialect, error) {
	var names []string
	for _, d := range []dump.Dialect{dump.MySQL, dump.Postgres, dump.SQLite} {
		if name == d.String() {
			return d, nil
		}
		names = append(names, d.String())
	}
	if n := nearest.Of(name, names); n != "" {
		return 0, usage("there is no engine %q; did you mean %s?", name, n)
	}
	return 0, usage("there is no engine %q; the engines are %s", name, strings.Join(names, ", "))
}

func (a *app) rewrite(ctx context.Context, file string, f *rewriteFlags) error {
	if len(f.files) > 0 || f.db != (databaseFlags{}) {
		return usage("--files and --database are for the folder of a site, and %s is none", file)
	}
	if f.out == "" && !f.plan {
		return usage("say where the changed dump goes: -o FILE, or -o - for standard output; or see what would change with --plan")
	}
	opts, err := f.options()
	if err != nil {
		return err
	}
	in, size, err := a.openInput(ctx, file)
	if err != nil {
		return err
	}
	defer in.Close()
	out := &output{Writer: io.Discard}
	if !f.plan {
		if out, err = a.createOutput(ctx, f.out, f.yes, file); err != nil {
			return err
		}
	}
	changes := &output{}
	if f.changes != "" {
		if changes, err = a.createOutput(ctx, f.changes, f.yes, file); err != nil {
			return out.end(err)
		}
		opts.Changes = changes
	}
	bar, rep := a.reporter()
	opts.Progress = rep
	rep.Phase("Rewriting", size)
	acc, d, err := readdress.Dump(ctx, out, in, opts)
	bar.Close()
	if err != nil {
		err = fmt.Errorf("%s: %w", file, err)
	}
	if err = out.end(changes.end(err)); err != nil {
		return err
	}
	a.findings(acc.Tally.Findings())
	a.log.Info("rewrote", "dump", file, "engine", d.String(), "changed", acc.Tally.Changed, "mentions", acc.Tally.Occurrences(), "findings", acc.Tally.Findings())
	if a.json {
		if f.out == "-" && !f.plan {
			return nil // standard output holds the dump
		}
		return a.document(rewriteDocument(acc, d.String()))
	}
	to := a.out
	if f.out == "-" && !f.plan {
		to = a.err
	}
	printRewritten(ui.New(to), acc, d, file, f)
	return nil
}

// createOutput makes a file for a result, or takes standard output.
func (a *app) createOutput(ctx context.Context, path string, overwrite bool, input string) (*output, error) {
	if path == "-" {
		if ui.IsTerminal(a.out) {
			return nil, usage("standard output is a terminal; redirect it, or name a file")
		}
		return a.stdout(), nil
	}
	in, errIn := os.Stat(input)
	out, errOut := os.Stat(path)
	if errIn == nil && errOut == nil && os.SameFile(in, out) {
		return nil, fmt.Errorf("%s is the dump itself; the result needs a name of its own", path)
	}
	return a.createFile(ctx, path, outfile.Options{Replace: overwrite}, "file", "new.sql")
}

func printRewritten(p *ui.Printer, acc *readdress.Account, d dump.Dialect, file string, f *rewriteFlags) {
	what := "Rewrote "
	if f.plan {
		what = "Would rewrite "
	}
	name := filepath.Base(file)
	if file == "-" {
		name = "standard input"
	}
	p.Title(what+name, "a dump of "+map[dump.Dialect]string{dump.MySQL: "MariaDB or MySQL", dump.Postgres: "PostgreSQL", dump.SQLite: "SQLite"}[d])
	printAccount(p, acc, f, f.plan)
	if f.plan {
		p.Next("hovix rewrite " + shellWord(file) + f.again() + " -o FILE")
	}
}

// printAccount tells what was found and changed, or would be.
func printAccount(p *ui.Printer, acc *readdress.Account, f *rewriteFlags, planned bool) {
	p.Field("Addresses", addressLine(&acc.Tally))
	if acc.Tally.Repaired > 0 {
		p.Field("Repaired", ui.Count(acc.Tally.Repaired, "value", "values")+" with wrong lengths")
	}
	if acc.Tally.Changed > 0 {
		if planned {
			p.Section("Would change")
		} else {
			p.Section("Changed")
		}
		var rows [][]string
		for _, c := range acc.Columns {
			if c.Tally.Changed > 0 {
				rows = append(rows, []string{placeName(c), changedOf(c), ui.Count(c.Tally.Occurrences(), "mention", "mentions")})
			}
		}
		p.Table(rows, 1, 2)
		printSamples(p, acc)
	}
	printAccountLeftovers(p, acc, f)
	if acc.Tally.Leftovers[rewrite.Broken] > 0 && !f.repair {
		p.Line("    %s", p.Dim("--repair mends the lengths of broken values where that is unambiguous."))
	}
	for _, n := range acc.Notes {
		p.Warn("%s", n)
	}
	for _, n := range acc.Asides {
		p.Line("    %s", p.Dim(n))
	}
}

// again gives the options of this run but --plan and where the result goes, as
// a user would type them.
func (f *rewriteFlags) again() string {
	var b strings.Builder
	add := func(option string, values ...string) {
		for _, v := range values {
			b.WriteString(" --" + option + " " + shellWord(v))
		}
	}
	add("map", f.maps...)
	add("root", f.roots...)
	add("text", f.texts...)
	add("table", f.tables...)
	add("column", f.columns...)
	add("except", f.other...)
	add("files", f.files...)
	if f.db.url != "" {
		add("database", f.db.url)
	}
	if f.db.passwordFile != "" {
		add("database-password-file", f.db.passwordFile)
	}
	if f.engine != "" {
		add("engine", f.engine)
	}
	if f.unfit == unfitStop {
		add("unfit", f.unfit)
	}
	for _, o := range []struct {
		option string
		on     bool
	}{{"whole-words", f.wholeWords}, {"compressed", f.compressed}, {"bare-hosts", f.bareHosts}, {"identifiers", f.identifiers}, {"repair", f.repair}} {
		if o.on {
			b.WriteString(" --" + o.option)
		}
	}
	return b.String()
}

// changedOf counts the changed values of a column, beside all where that is known.
func changedOf(c *readdress.Column) string {
	if c.Read > 0 {
		return humanize.Comma(c.Tally.Changed) + " of " + ui.Count(c.Read, "value", "values")
	}
	return ui.Count(c.Tally.Changed, "value", "values")
}

func placeName(c *readdress.Column) string {
	switch {
	case c.File != "":
		return c.File
	case c.Table == "":
		return "outside of tables"
	case c.Column == "":
		return c.Table
	}
	return c.Table + "." + c.Column
}

// printSamples shows a few values before and after.
func printSamples(p *ui.Printer, acc *readdress.Account) {
	p.Section("For example")
	shown := 0
	for _, c := range acc.Columns {
		if len(c.Samples) == 0 {
			continue
		}
		if shown++; shown > 5 {
			break
		}
		p.Line("    %s", placeName(c))
		m := c.Samples[0]
		p.Line("      %s %s", p.Dim("-"), marked(p, m.Before, m.Old))
		p.Line("      %s %s", p.Dim("+"), marked(p, m.After, m.New))
	}
}

// marked makes a piece of a text stand out.
func marked(p *ui.Printer, text, piece string) string {
	before, after, _ := strings.Cut(text, piece)
	return p.Dim(before) + p.Strong(piece) + p.Dim(after)
}

func printAccountLeftovers(p *ui.Printer, acc *readdress.Account, f *rewriteFlags) {
	var l leftovers
	for _, c := range acc.Columns {
		l.columns = append(l.columns, leftoverColumn{placeName(c), &c.Tally, c.Leftovers})
	}
	l.tally = &acc.Tally
	l.advice = "rewrite --bare-hosts"
	l.chosen = len(f.tables)+len(f.columns)+len(f.other) > 0
	l.print(p)
}

// rewriteJSON is the JSON document of rewrite.
type rewriteJSON struct {
	Engine  string `json:"engine,omitempty"`
	Planned bool   `json:"planned,omitempty"` // nothing was changed
	*readdress.Account
	Columns []rewriteColumn `json:"columns"`
	Total   map[string]any  `json:"total"`
}

type rewriteColumn struct {
	*readdress.Column
	Counts map[string]any `json:"counts"`
}

func rewriteDocument(acc *readdress.Account, engine string) rewriteJSON {
	doc := rewriteJSON{Engine: engine, Account: acc, Columns: []rewriteColumn{}, Total: counts(&acc.Tally)}
	for _, c := range acc.Columns {
		doc.Columns = append(doc.Columns, rewriteColumn{c, counts(&c.Tally)})
	}
	return doc
}

// counts gives a tally as a JSON object.
func counts(t *rewrite.Tally) map[string]any {
	forms, left := formsAndLeftovers(t)
	return map[string]any{"values": t.Values, "changed": t.Changed, "repaired": t.Repaired, "mentions": t.Occurrences(), "forms": forms, "leftovers": left}
}
