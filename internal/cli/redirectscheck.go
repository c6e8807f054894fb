package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/redirects"
)

type checkFlags struct {
	reachFlags
	out, old, new, against string
	site                   string
	hosts                  []string
	fix, yes               bool
	show                   int
	front                  float64
	base                   string
}

func (a *app) checkMapCommand() *cobra.Command {
	var f checkFlags
	cmd := &cobra.Command{
		Use:   "check MAP",
		Short: "Find what is wrong in a redirect map, row by row",
		Long: `Look for everything that goes wrong with redirects: circles and chains, rows that lead to
themselves, two rows for one address, old addresses that are pages of the new site, new
pages that are not there, slashes and letter case, encodings, header rows, fragments,
too many rows to the front page, visited pages without a row. Rules are proved on every
known old address and on every page of the new site.

The new site is known from its inventory (--new), or is asked (--url). With --fix, what
needs no decision is mended: chains are flattened, doubles and circles of one dropped.
The exit status is 3 when something needs a person.`,
		Example: "  hovix redirects check map.csv --old old.csv --new new.csv\n  hovix redirects check map.csv --url https://new.example --connect new.example=192.0.2.7\n  hovix redirects check map.csv --new new.csv --fix -o mended.csv",
		Args:    args("MAP"),
		RunE:    func(cmd *cobra.Command, args []string) error { return a.checkMap(cmd.Context(), args[0], &f) },
	}
	fl := cmd.Flags()
	fl.StringVar(&f.old, "old", "", "the old inventory (`FILE`): which old pages have no row")
	fl.StringVar(&f.new, "new", "", "the new inventory (`FILE`): which pages there are")
	fl.StringVar(&f.site, "url", "", "ask the new site at this `ADDRESS` for every row")
	f.reachFlags.add(cmd, "reach a host at another address (`HOST=IP:PORT`)")
	fl.StringSliceVar(&f.hosts, "host", nil, "names of the old and the new site (`HOSTS`): addresses with them are the site's own")
	fl.StringVar(&f.against, "against", "", "prove that rules lead where the single rows of this map do (`MAP`)")
	fl.BoolVar(&f.fix, "fix", false, "mend what needs no decision; write the result with -o")
	fl.StringVarP(&f.out, "output", "o", "", "write the mended map to `FILE`")
	fl.Float64Var(&f.front, "front-page", 0.1, "the `SHARE` of rows that may lead to the front page")
	fl.StringVar(&f.base, "base-path", "/", "the `PATH` of the new site's front page")
	fl.IntVar(&f.show, "show", 8, "show this many findings of each kind (`N`); 0: all")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace FILE if it exists")
	return cmd
}

func (a *app) checkMap(ctx context.Context, name string, f *checkFlags) (err error) {
	if f.fix != (f.out != "") {
		return usage("--fix and -o FILE belong together: the mended map goes to FILE")
	}
	m, err := a.readMap(ctx, name)
	if err != nil {
		return err
	}
	opts := redirects.CheckOptions{Hosts: f.hosts, FrontShare: f.front, Base: f.base, Fix: f.fix, Workers: f.workers}
	for _, file := range []struct {
		name string
		to   **redirects.Inventory
	}{{f.old, &opts.Old}, {f.new, &opts.New}} {
		if file.name != "" {
			if *file.to, err = a.readInventory(ctx, file.name); err != nil {
				return err
			}
		}
	}
	if opts.Old != nil {
		opts.Old = withoutRoot(opts.Old, f.base)
	}
	if f.against != "" {
		if opts.Against, err = a.readMap(ctx, f.against); err != nil {
			return err
		}
	}
	if f.site != "" {
		status := ui.NewStatus(a.err)
		defer status.Close()
		if err := f.ask(&opts, status); err != nil {
			return err
		}
	}
	rep, err := redirects.Check(ctx, m, opts)
	if err != nil {
		return err
	}
	if f.fix {
		if err := a.writeMap(ctx, f.out, rep.Map, f.yes); err != nil {
			return err
		}
	}
	a.findings(int64(rep.Serious))
	if a.json {
		return a.document(rep)
	}
	printReport(ui.New(a.out), name, rep, f)
	return nil
}

// ask lets check ask the new site.
func (f *checkFlags) ask(opts *redirects.CheckOptions, status *ui.Status) error {
	site, err := url.Parse(f.site)
	if err != nil || site.Host == "" {
		return usage("%q is no address of a site, such as https://new.example", f.site)
	}
	client, err := f.client()
	if err != nil {
		return err
	}
	opts.Hosts = append(opts.Hosts, site.Host)
	origin := site.Scheme + "://" + site.Host
	opts.Ask = func(ctx context.Context, address string) redirects.Answer {
		res, err := client.Get(ctx, origin+address, nil)
		if err != nil {
			return redirects.Answer{Err: err}
		}
		out := redirects.Answer{Status: res.Status}
		if res.Location != nil {
			if out.Location = res.Location.String(); res.Location.Host == site.Host {
				out.Location = res.Location.RequestURI()
			}
		}
		return out
	}
	asked := 0
	opts.Asked = func() { asked++; status.Set("%d addresses asked", asked) }
	return nil
}

// kindTitles say what findings of a kind are.
var kindTitles = map[string]string{
	redirects.BadLoop: "In a circle", redirects.BadSelf: "To themselves", redirects.BadRoot: "The front page led away", redirects.BadLive: "Old addresses that the new site uses",
	redirects.BadContra: "Two rows for one address", redirects.BadRule: "Rules that are wrong", redirects.BadDifferent: "Rules that lead elsewhere than the rows", redirects.BadTarget: "New pages that are not there",
	redirects.BadStatus: "Status and target", redirects.BadAddress: "No addresses", redirects.BadHeader: "Names of columns among the rows", redirects.BadChain: "Chains", redirects.BadVariant: "Slash and letter case",
	redirects.BadEncoding: "Encodings", redirects.BadFragment: "Fragments", redirects.BadForm: "Written otherwise than usual", redirects.BadTwice: "Twice the same", redirects.BadFront: "To the front page",
	redirects.BadMissing: "Old pages without a row", redirects.BadDoubtful: "Doubtful pairs",
}

func printReport(p *ui.Printer, name string, rep *redirects.Report, f *checkFlags) {
	beside := ui.Count(int64(rep.Rows), "row", "rows")
	if rep.Rules > 0 {
		beside += ", " + ui.Count(int64(rep.Rules), "rule", "rules") + " among them"
	}
	p.Title("Check of "+name, beside)
	p.Field("Good", fmt.Sprintf("%s without a finding", ui.Count(int64(rep.Good), "row", "rows")))
	if rep.Covered+rep.Missing > 0 {
		p.Field("Covered", fmt.Sprintf("%s of %s old pages that are known", humanize.Comma(int64(rep.Covered)), humanize.Comma(int64(rep.Covered+rep.Missing))))
	}
	if rep.Fixed > 0 {
		p.Field("Mended", fmt.Sprintf("%s, in %s", ui.Count(int64(rep.Fixed), "finding", "findings"), f.out))
	}
	for i := 0; i < len(rep.Findings); {
		kind, first := rep.Findings[i].Kind, i
		for i < len(rep.Findings) && rep.Findings[i].Kind == kind {
			i++
		}
		list := rep.Findings[first:i]
		n := len(list)
		if kind == redirects.BadMissing {
			n = rep.Missing
		}
		p.Section(fmt.Sprintf("%s: %s", kindTitles[kind], humanize.Comma(int64(n))))
		var rows [][]string
		for _, x := range list {
			if f.show > 0 && len(rows) == f.show {
				break
			}
			line := ""
			if x.Line > 0 {
				line = p.Dim(fmt.Sprintf("line %d", x.Line))
			}
			what := ui.Short(x.From, 48)
			if x.To != "" {
				what += " → " + ui.Short(x.To, 40)
			}
			text := x.Text
			if kind == redirects.BadMissing { // the title says it
				text = strings.Trim(strings.TrimPrefix(text, "an old page without a row"), " ()")
			}
			if x.Fixed {
				text += p.Dim(" (mended)")
			}
			rows = append(rows, []string{line, what, text})
		}
		p.Table(rows)
		if more := n - len(rows); more > 0 {
			p.Line("    %s", p.Dim(fmt.Sprintf("and %s more; --show 0 shows all", humanize.Comma(int64(more)))))
		}
	}
	p.Line("")
	switch {
	case rep.Serious > 0:
		p.Warn("%s a person", ui.Count(int64(rep.Serious), "finding needs", "findings need"))
	case len(rep.Findings) > 0:
		p.Good("nothing that needs a person")
	default:
		p.Good("every row is good")
	}
	if !f.fix && slices.ContainsFunc(rep.Findings, func(x redirects.Finding) bool {
		return slices.Contains([]string{redirects.BadChain, redirects.BadSelf, redirects.BadTwice, redirects.BadFragment, redirects.BadForm, redirects.BadHeader, redirects.BadLive, redirects.BadRoot}, x.Kind)
	}) {
		p.Next(fmt.Sprintf("hovix redirects check %s%s --fix -o mended.csv", name, f.again()))
	}
}

// again gives the options that name inventories.
func (f *checkFlags) again() string {
	var b strings.Builder
	for _, o := range [][2]string{{"--old", f.old}, {"--new", f.new}, {"--url", f.site}} {
		if o[1] != "" {
			b.WriteString(" " + o[0] + " " + o[1])
		}
	}
	return b.String()
}
