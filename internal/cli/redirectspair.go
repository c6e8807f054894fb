package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/redirects"
)

type pairFlags struct {
	out, alternatives, patterns string
	base                        string
	status, doubtful            int
	yes                         bool
}

func (a *app) pairCommand() *cobra.Command {
	var f pairFlags
	cmd := &cobra.Command{
		Use:   "pair OLD NEW -o MAP",
		Short: "Make the redirect map out of an old and a new inventory",
		Long: `Find for every old page what became of it: by its path, name, number, title and text,
and by where other pages of its section have gone. Each row says why, and how surely, as
a score from 0 to 1; from 0.9 on it needs no look. Doubtful rows come first, the most
visited before others. A page without a counterpart leads to its section.

Edit the map in a spreadsheet. When the command is run again, rows whose target or status
you have changed stay, as do those without a score, and your further columns.

--patterns writes the same map with rules in the place of the rows that they explain.`,
		Example: "  hovix redirects pair old.csv new.csv -o map.csv\n  hovix redirects pair old.csv new.csv -o map.csv --alternatives others.csv --patterns rules.csv",
		Args:    args("OLD", "NEW"),
		RunE:    func(cmd *cobra.Command, args []string) error { return a.pair(cmd.Context(), args[0], args[1], &f) },
	}
	fl := cmd.Flags()
	fl.StringVarP(&f.out, "output", "o", "", "write the map to `FILE`; if it is there, your own rows in it are kept")
	fl.StringVar(&f.alternatives, "alternatives", "", "write the other candidates of doubtful rows to `FILE`")
	fl.StringVar(&f.patterns, "patterns", "", "write the map with rules for many rows to `FILE`")
	fl.StringVar(&f.base, "base-path", "/", "the `PATH` of the new site's front page")
	fl.IntVar(&f.status, "status", 301, "the status of the rows (`CODE`): 301, 302, 307 or 308")
	complete(cmd, "status", "301", "302", "307", "308")
	fl.IntVar(&f.doubtful, "doubtful", 10, "show this many doubtful rows (`N`)")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace the files of --alternatives and --patterns if they exist")
	return cmd
}

// readInventory reads an inventory or a list.
func (a *app) readInventory(ctx context.Context, name string) (*redirects.Inventory, error) {
	in, _, err := a.openInput(ctx, name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	inv, _, err := redirects.ReadInventory(in)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return inv, nil
}

// readMap reads a redirect map.
func (a *app) readMap(ctx context.Context, name string) (*redirects.Map, error) {
	in, _, err := a.openInput(ctx, name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	m, err := redirects.ReadMap(in)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return m, nil
}

type pairing struct {
	Output string `json:"output,omitempty"`
	*redirects.Paired
	Compact *redirects.Compact `json:"compact,omitempty"`
}

func (a *app) pair(ctx context.Context, oldName, newName string, f *pairFlags) error {
	if !slices.Contains([]int{301, 302, 307, 308}, f.status) {
		return usage("--status is 301 (for good), 302 (for now), 307 or 308, not %d", f.status)
	}
	if f.out == "" {
		return usage("name the map: -o map.csv")
	}
	old, err := a.readInventory(ctx, oldName)
	if err != nil {
		return err
	}
	new, err := a.readInventory(ctx, newName)
	if err != nil {
		return err
	}
	opts := redirects.PairOptions{Base: f.base, Status: f.status}
	if _, err := os.Stat(f.out); err == nil {
		if opts.Known, err = a.readMap(ctx, f.out); err != nil {
			return fmt.Errorf("%w; name another file", err)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	res, err := redirects.Pair(ctx, withoutRoot(old, f.base), new, opts)
	if err != nil {
		return err
	}
	if err := a.writeMap(ctx, f.out, res.Map, true); err != nil {
		return err
	}
	d := pairing{Output: f.out, Paired: res}
	if f.alternatives != "" {
		if err := a.writeAlternatives(ctx, f, res.Alternatives); err != nil {
			return err
		}
	}
	var live []string
	for _, e := range new.Pages {
		live = append(live, e.Path)
	}
	d.Compact = redirects.Patterns(res.Map, live)
	if f.patterns != "" {
		if err := a.writeMap(ctx, f.patterns, d.Compact.Map, f.yes); err != nil {
			return err
		}
	}
	if a.json {
		return a.document(d)
	}
	a.printPaired(ui.New(a.out), &d, f, oldName, newName)
	return nil
}

// withoutRoot takes the front page out of the old pages: it stays where it is.
func withoutRoot(inv *redirects.Inventory, base string) *redirects.Inventory {
	return &redirects.Inventory{Pages: slices.DeleteFunc(slices.Clone(inv.Pages), func(e redirects.Entry) bool {
		return e.Path == "/" || e.Path == base || e.Status >= 300 && e.Status != http.StatusNotFound
	})}
}

func (a *app) writeMap(ctx context.Context, name string, m *redirects.Map, yes bool) error {
	out, err := a.beginOutput(ctx, name, yes, "map.csv")
	if err != nil {
		return err
	}
	return out.end(m.Write(out))
}

func (a *app) writeAlternatives(ctx context.Context, f *pairFlags, list []redirects.Alternative) error {
	return a.writeTable(ctx, f.alternatives, f.yes, "others.csv", []string{"from", "to", "score", "reason"}, len(list), func(i int) []string {
		return []string{list[i].From, list[i].To, redirects.ScoreText(list[i].Score), list[i].Reason}
	})
}

func (a *app) printPaired(p *ui.Printer, d *pairing, f *pairFlags, oldName, newName string) {
	p.Title("Redirect map "+d.Output, fmt.Sprintf("%s · %s keep their address", ui.Count(int64(d.Rows), "row", "rows"), humanize.Comma(int64(d.Unchanged))))
	share := func(n int) string {
		return fmt.Sprintf("%s  (%.0f %%)", humanize.Comma(int64(n)), 100*float64(n)/float64(max(d.Rows, 1)))
	}
	p.Field("Sure", share(d.Sure)+p.Dim("  score 0.90 and better"))
	p.Field("Doubtful", share(d.Doubtful)+p.Dim("  at the top of the map"))
	if d.Sections > 0 {
		p.Field("", p.Dim(fmt.Sprintf("%s of them have no counterpart: to their section, or the front page", humanize.Comma(int64(d.Sections)))))
	}
	if d.ByHand > 0 {
		p.Field("Your own", share(d.ByHand)+p.Dim("  kept as you set them"))
	}
	if d.Visits > 0 {
		p.Field("Visits", fmt.Sprintf("%.0f %% go to pages that are sure", 100*float64(d.SureVisits)/float64(d.Visits)))
	}
	if c := d.Compact; len(c.Patterns) > 0 {
		p.Section(fmt.Sprintf("Patterns: %s and %s stand for all %s rows", ui.Count(int64(len(c.Patterns)), "rule", "rules"), ui.Count(int64(c.Single), "single row", "single rows"), humanize.Comma(int64(c.Rows))))
		var rows [][]string
		for _, r := range c.Patterns[:min(len(c.Patterns), 8)] {
			rows = append(rows, []string{humanize.Comma(int64(r.Rows)), r.From, "→ " + r.To})
		}
		p.Table(rows, 0)
	}
	a.printDoubtful(p, d, f.doubtful)
	next := []string{}
	if d.Doubtful > 0 {
		next = append(next, "open "+d.Output+" in a spreadsheet; the doubtful rows come first")
	}
	p.Next(append(next, fmt.Sprintf("hovix redirects check %s --old %s --new %s", d.Output, oldName, newName), fmt.Sprintf("hovix redirects write %s --for nginx -o redirects.conf", d.Output))...)
}

func (a *app) printDoubtful(p *ui.Printer, d *pairing, n int) {
	var rows [][]string
	for _, r := range d.Map.Rows {
		if len(rows) == n || r.Score >= redirects.Sure || r.Score == redirects.ByHand {
			break
		}
		row := []string{redirects.ScoreText(r.Score), ui.Short(r.From, 44), "→ " + ui.Short(r.To, 40), p.Dim(ui.Short(r.Reason, 60))}
		if d.Visits > 0 {
			row = slices.Insert(row, 1, humanize.Comma(r.Visits))
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		columns := "score, row, reason"
		if d.Visits > 0 {
			columns = "score, visits, row, reason"
		}
		p.Section("Doubtful, the most visited first: " + columns)
		if d.Visits > 0 {
			p.Table(rows, 0, 1)
		} else {
			p.Table(rows, 0)
		}
	}
}
