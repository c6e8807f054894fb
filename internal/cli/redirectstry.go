package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/redirects"
)

type tryFlags struct {
	reachFlags
	site, out, progress, old string
	yes                      bool
	show                     int
	rate                     float64
}

func (a *app) tryCommand() *cobra.Command {
	var f tryFlags
	cmd := &cobra.Command{
		Use:   "try MAP --url ADDRESS",
		Short: "Ask a server for every row of a redirect map",
		Long: `Ask a running server for the old address of every row, and follow where it leads. A row is
good when one hop with its status leads to its new page, and that answers with 200. With
--connect a server can be tried that the name does not point to yet. Rules are tried by
the addresses of the old inventory (--old). The exit status is 3 when a row fails.`,
		Example: "  hovix redirects try map.csv --url https://old.example\n  hovix redirects try rules.csv --url https://old.example --old old.csv --connect old.example=192.0.2.7:443 -o tried.csv",
		Args:    args("MAP"),
		RunE:    func(cmd *cobra.Command, args []string) error { return a.try(cmd.Context(), args[0], &f) },
	}
	fl := cmd.Flags()
	fl.StringVar(&f.site, "url", "", "the `ADDRESS` of the server that is asked for old paths")
	f.reachFlags.add(cmd, "reach a host at another address (`HOST=IP:PORT`), before its name points there")
	fl.StringVar(&f.old, "old", "", "the old inventory (`FILE`), whose addresses try the rules")
	fl.StringVarP(&f.out, "output", "o", "", "write the report to `FILE`, as CSV, or JSON if its name ends in .json")
	fl.StringVar(&f.progress, "progress", "", "keep what was tried in `FILE`, and go on from there when run again")
	fl.Float64Var(&f.rate, "rate", 0, "try at most this many rows a second (`N`); 0: as fast as the server answers")
	fl.IntVar(&f.show, "show", 20, "show this many rows that fail (`N`); 0: all")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace FILE if it exists")
	return cmd
}

func (a *app) try(ctx context.Context, name string, f *tryFlags) error {
	if f.site == "" {
		return usage("say which server to ask: --url https://old.example")
	}
	client, err := f.client()
	if err != nil {
		return err
	}
	m, err := a.readMap(ctx, name)
	if err != nil {
		return err
	}
	status := ui.NewStatus(a.err)
	defer status.Close()
	opts := redirects.TryOptions{Site: f.site, Workers: f.workers, Rate: f.rate, Progress: f.progress, Tried: func(left int) { status.Set("%d rows to go", left) },
		Client: client}
	if f.old != "" {
		inv, err := a.readInventory(ctx, f.old)
		if err != nil {
			return err
		}
		for _, e := range inv.Pages {
			opts.Examples = append(opts.Examples, e.Path)
		}
	}
	res, err := redirects.Try(ctx, m, opts)
	if err != nil {
		if errors.Is(err, redirects.ErrNoAddress) {
			return usageError{err}
		}
		if f.progress != "" && ctx.Err() != nil {
			return advised{err, "What was tried is kept in " + f.progress + "; the same command goes on from there."}
		}
		return err
	}
	if f.out != "" {
		if err := a.writeTrials(ctx, f, res); err != nil {
			return err
		}
	}
	a.findings(int64(res.Bad))
	if a.json {
		return a.document(res)
	}
	status.Close()
	rules := slices.ContainsFunc(m.Rows, func(r redirects.Row) bool { return redirects.IsRule(r.From) })
	printTried(ui.New(a.out), name, res, f, rules)
	return nil
}

func (a *app) writeTrials(ctx context.Context, f *tryFlags, res *redirects.Tried) error {
	if strings.EqualFold(filepath.Ext(f.out), ".json") {
		out, err := a.beginOutput(ctx, f.out, f.yes, "tried.csv")
		if err != nil {
			return err
		}
		e := json.NewEncoder(out)
		e.SetEscapeHTML(false)
		e.SetIndent("", " ")
		return out.end(e.Encode(res))
	}
	return a.writeTable(ctx, f.out, f.yes, "tried.csv", redirects.TrialColumns, len(res.Trials), func(i int) []string { return res.Trials[i].Cells() })
}

func printTried(p *ui.Printer, name string, res *redirects.Tried, f *tryFlags, rules bool) {
	p.Title(fmt.Sprintf("Tried %s at %s", name, f.site), ui.Count(int64(len(res.Trials)), "address", "addresses"))
	p.Field("Good", fmt.Sprintf("%s: one hop, the right page, 200", humanize.Comma(int64(res.Good))))
	if res.Bad > 0 {
		p.Field("Failed", humanize.Comma(int64(res.Bad)))
	}
	if res.Earlier > 0 {
		p.Field("Earlier", fmt.Sprintf("%s were good in the run before", humanize.Comma(int64(res.Earlier))))
	}
	var times []float64
	for _, w := range res.Trials {
		times = append(times, w.Millis)
	}
	if slices.Sort(times); len(times) > 0 {
		p.Field("Time", fmt.Sprintf("%.0f ms in the middle, %.0f ms at most", times[len(times)/2], times[len(times)-1]))
	}
	var rows [][]string
	for _, w := range res.Trials {
		if !w.OK && (f.show == 0 || len(rows) < f.show) {
			rows = append(rows, []string{ui.Short(w.From, 48), "→ " + ui.Short(w.Want, 40), w.Why})
		}
	}
	if len(rows) > 0 {
		p.Section("Failed")
		p.Table(rows)
		if more := res.Bad - len(rows); more > 0 {
			p.Line("    %s", p.Dim(fmt.Sprintf("and %s more; --show 0 shows all", humanize.Comma(int64(more)))))
		}
	}
	p.Line("")
	if rules && f.old == "" {
		p.Warn("the map holds rules; --old FILE tries them with the old addresses")
	}
}
