package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/nearest"
	"hovix/internal/redirects"
)

type writeFlags struct {
	out, target, site, oldSite, separator string
	noHeader, yes                         bool
}

func (a *app) writeRulesCommand() *cobra.Command {
	var f writeFlags
	var kinds strings.Builder
	var names []string
	for _, t := range redirects.Targets {
		names = append(names, t.Name)
		fmt.Fprintf(&kinds, "  %-10s %s\n", t.Name, t.Means)
	}
	cmd := &cobra.Command{
		Use:   "write MAP --for SERVER -o FILE",
		Short: "Write a redirect map as rules for a web server",
		Long: "Write a redirect map as rules, each quoted as its server needs it. SERVER is one of\n\n" + kinds.String() + `
A comment on top says from which map, when, how many, and how to install it. The same
map may hold rules for many addresses, as pair --patterns writes them:
/news/{year}/{name}.html leads to /journal/{name}/.`,
		Example: "  hovix redirects write map.csv --for nginx -o redirects.conf\n  hovix redirects write map.csv --for apache --site https://new.example -o redirects.conf\n" +
			"  hovix redirects write map.csv --for csv --separator tab --no-header -o import.tsv",
		Args: args("MAP"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.writeRules(cmd.Context(), args[0], &f) },
	}
	fl := cmd.Flags()
	fl.StringVar(&f.target, "for", "", "what to write for (`SERVER`)")
	complete(cmd, "for", names...)
	fl.StringVarP(&f.out, "output", "o", "", "write to `FILE`, for static a folder; without it, to standard output")
	fl.StringVar(&f.site, "site", "", "put this `ADDRESS` before new paths, where the new site has another name than the old")
	fl.StringVar(&f.oldSite, "old-site", "", "of csv: put this `ADDRESS` before old paths")
	fl.StringVar(&f.separator, "separator", "comma", "of csv: comma, semicolon or tab (`NAME`)")
	complete(cmd, "separator", "comma", "semicolon", "tab")
	fl.BoolVar(&f.noHeader, "no-header", false, "of csv: no names of columns")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace FILE if it exists")
	return cmd
}

type written struct {
	Output string `json:"output,omitempty"`
	For    string `json:"for"`
	*redirects.Rules
}

func (a *app) writeRules(ctx context.Context, name string, f *writeFlags) error {
	opts, err := f.options(name)
	if err != nil {
		return err
	}
	m, err := a.readMap(ctx, name)
	if err != nil {
		return err
	}
	create, end, err := a.rulesFiles(ctx, f)
	if err != nil {
		return err
	}
	res, err := redirects.Write(m, opts, create)
	if err = end(err); err != nil {
		return err
	}
	a.findings(int64(len(res.Skipped)))
	for i, name := range res.Files {
		if res.Files[i] = f.out + name; f.target == "static" {
			res.Files[i] = filepath.Join(f.out, filepath.FromSlash(name))
		}
	}
	d := written{f.out, f.target, res}
	toStdout := f.out == "" || f.out == "-"
	switch {
	case a.json && toStdout: // standard output holds the rules
		return nil
	case a.json:
		return a.document(d)
	}
	to := a.out
	if toStdout {
		to = a.err
	}
	printWritten(ui.New(to), &d, name)
	return nil
}

func (f *writeFlags) options(name string) (opts redirects.WriteOptions, err error) {
	t := redirects.TargetNamed(f.target)
	if t == nil {
		var names []string
		for _, t := range redirects.Targets {
			names = append(names, t.Name)
		}
		if f.target == "" {
			return opts, usage("say what to write for: --for %s", strings.Join(names, "|"))
		}
		err := fmt.Errorf("there are no rules for %q; there are %s", f.target, strings.Join(names, ", "))
		if n := nearest.Of(f.target, names); n != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, n)
		}
		return opts, usageError{err}
	}
	for _, s := range []string{f.site, f.oldSite} {
		if u, err := url.Parse(s); s != "" && (err != nil || u.Host == "" || u.RawQuery != "") {
			return opts, usage("%q is no address of a site, such as https://new.example", s)
		}
	}
	comma, ok := map[string]rune{"comma": ',', "semicolon": ';', "tab": '\t', ",": ',', ";": ';', "\t": '\t'}[f.separator]
	if !ok {
		return opts, usage("--separator is comma, semicolon or tab, not %q", f.separator)
	}
	file := f.out
	if file != "" && file != "-" {
		if abs, err := filepath.Abs(file); err == nil {
			file = abs
		}
	} else {
		file = ""
	}
	return redirects.WriteOptions{For: f.target, Site: f.site, OldSite: f.oldSite, Map: filepath.Base(name), File: file, Now: time.Now(), Comma: comma, NoHeader: f.noHeader}, nil
}

// closing lets files of rules be closed by who wrote them, and put in their places when
// all are written.
type closing struct{ io.Writer }

func (closing) Close() error { return nil }

// rulesFiles gives what makes the files, and what puts them in their places.
func (a *app) rulesFiles(ctx context.Context, f *writeFlags) (create func(string) (io.WriteCloser, error), end func(error) error, err error) {
	if f.out == "" || f.out == "-" {
		if f.target == "static" {
			return nil, nil, usage("static writes many files: name a folder with -o")
		}
		return func(string) (io.WriteCloser, error) { return closing{a.stdout()}, nil }, func(err error) error { return err }, nil
	}
	if f.target == "static" {
		if entries, err := os.ReadDir(f.out); err == nil && len(entries) > 0 && !f.yes {
			return nil, nil, fmt.Errorf("the folder %s is not empty; name another one, or write into it with --yes", f.out)
		}
		return func(name string) (io.WriteCloser, error) {
			path := filepath.Join(f.out, filepath.FromSlash(name))
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return nil, err
			}
			out, err := a.beginOutput(ctx, path, true, name)
			if err != nil {
				return nil, err
			}
			return &oneOfMany{output: out}, nil
		}, func(err error) error { return err }, nil
	}
	var made []*output
	return func(name string) (io.WriteCloser, error) {
			out, err := a.beginOutput(ctx, f.out+name, f.yes, "redirects.conf")
			if err != nil {
				return nil, err
			}
			made = append(made, out)
			return closing{out}, nil
		}, func(err error) error {
			for _, out := range made {
				err = out.end(err) // which has err in it
			}
			return err
		}, nil
}

// oneOfMany is a file of so many that each gets its name when it is closed: there may be
// more of them than a process may hold open.
type oneOfMany struct {
	*output
	err error // of writing, with which it is no whole file
}

func (o *oneOfMany) Write(b []byte) (int, error) {
	n, err := o.output.Write(b)
	o.err = errors.Join(o.err, err)
	return n, err
}

// Close gives the file its name if all of it was written.
func (o *oneOfMany) Close() error { return o.end(o.err) }

func printWritten(p *ui.Printer, d *written, name string) {
	where := d.Output
	if where == "" || where == "-" {
		where = "standard output"
	}
	t := redirects.TargetNamed(d.For)
	p.Title("Rules in "+where, t.Means)
	p.Field("Addresses", humanize.Comma(int64(d.Rows)))
	if d.Rules.Rules > 0 {
		p.Field("Rules", humanize.Comma(int64(d.Rules.Rules)))
	}
	if n := len(d.Files); n > 1 && where == d.Output {
		if d.For == "static" {
			p.Field("Files", humanize.Comma(int64(n)))
		} else {
			p.Field("Also", d.Files[n-1])
		}
	}
	if len(d.Skipped) > 0 {
		p.Section(fmt.Sprintf("Not written: %s", humanize.Comma(int64(len(d.Skipped)))))
		var rows [][]string
		for _, s := range d.Skipped[:min(len(d.Skipped), 8)] {
			rows = append(rows, []string{ui.Short(s.From, 60), s.Why})
		}
		p.Table(rows)
		if more := len(d.Skipped) - len(rows); more > 0 {
			p.Line("    %s", p.Dim(fmt.Sprintf("and %s more", humanize.Comma(int64(more)))))
		}
	}
	if t.Install != "" && where != "standard output" {
		install := t.Install
		if strings.Contains(install, "%s") {
			install = fmt.Sprintf(install, where)
		}
		p.Section("To install")
		p.Line("    %s", install)
	}
	if slices.Contains([]string{"csv", "static"}, d.For) {
		return
	}
	old := ""
	if d.Rules.Rules > 0 {
		old = " --old old.csv"
	}
	p.Next(fmt.Sprintf("hovix redirects try %s --url https://old.example%s", name, old))
}
