package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/crawl"
	"hovix/internal/nearest"
	"hovix/internal/outfile"
	"hovix/internal/redirects"
)

func (a *app) redirectsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "redirects",
		Short: "From old addresses to tested rules for a web server",
		Long: `Lead every old address of a site to its new page.

gather lists the pages of the old and of the new site, pair makes the redirect map
out of both lists, check finds what is wrong in it, write makes rules for a web
server, and try asks the server for every row. The map is a CSV file that people
edit: from, to, status, score, reason, visits. docs/redirects.md goes through it.`,
		Example: "  hovix redirects gather https://old.example -o old.csv\n" +
			"  hovix redirects gather https://new.example -o new.csv\n" +
			"  hovix redirects pair old.csv new.csv -o map.csv\n" +
			"  hovix redirects check map.csv --old old.csv --new new.csv\n" +
			"  hovix redirects write map.csv --for nginx -o redirects.conf\n" +
			"  hovix redirects try map.csv --url https://new.example",
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			var names []string
			for _, c := range cmd.Commands() {
				names = append(names, c.Name())
			}
			err := fmt.Errorf("hovix redirects has no command %q", args[0])
			if n := nearest.Of(args[0], names); n != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, n)
			}
			return usageError{err}
		},
	}
	cmd.AddCommand(a.gatherCommand(), a.pairCommand(), a.checkMapCommand(), a.writeRulesCommand(), a.tryCommand())
	return cmd
}

// beginOutput begins to write a file; "" and "-" are standard output. A file that is
// there is replaced only with yes.
func (a *app) beginOutput(ctx context.Context, name string, yes bool, example string) (*output, error) {
	if name == "" || name == "-" {
		return a.stdout(), nil
	}
	return a.createFile(ctx, name, outfile.Options{Replace: yes, Mode: 0o644}, "file", example)
}

// reachFlags say how a web server is reached.
type reachFlags struct {
	connect  []string
	insecure bool
	workers  int
}

// add adds them to a command; connect is what its help says of --connect.
func (f *reachFlags) add(cmd *cobra.Command, connect string) {
	fl := cmd.Flags()
	fl.StringSliceVar(&f.connect, "connect", nil, connect)
	fl.BoolVar(&f.insecure, "any-certificate", false, "accept certificates that cannot be proved, with --connect")
	fl.IntVar(&f.workers, "at-once", 4, "ask this many addresses at the same time (`N`)")
}

// client makes what fetches addresses so.
func (f *reachFlags) client() (*crawl.Client, error) {
	connect, err := crawl.ParseConnect(f.connect)
	if err != nil {
		return nil, usageError{err}
	}
	return crawl.NewClient(crawl.ClientOptions{Connect: connect, Insecure: f.insecure, Workers: f.workers}), nil
}

// writeTable writes a table of n rows into a file.
func (a *app) writeTable(ctx context.Context, name string, yes bool, example string, header []string, n int, row func(i int) []string) error {
	out, err := a.beginOutput(ctx, name, yes, example)
	if err != nil {
		return err
	}
	t, err := redirects.NewTableWriter(out, redirects.DefaultFormat)
	if err != nil {
		return out.end(err)
	}
	err = t.Write(header)
	for i := 0; i < n && err == nil; i++ {
		err = t.Write(row(i))
	}
	if err == nil {
		err = t.Flush()
	}
	return out.end(err)
}

// printCounts prints what was counted by reason, the largest first.
func printCounts(p *ui.Printer, counts map[string]int64) {
	var rows [][]string
	for _, reason := range slices.SortedFunc(maps.Keys(counts), func(x, y string) int {
		if counts[x] != counts[y] {
			return int(counts[y] - counts[x])
		}
		return strings.Compare(x, y)
	}) {
		rows = append(rows, []string{humanize.Comma(counts[reason]), reason})
	}
	p.Table(rows, 0)
}
