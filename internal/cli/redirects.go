package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/nearest"
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
func (a *app) beginOutput(name string, yes bool, example string) (*output, error) {
	if name == "" || name == "-" {
		return &output{Writer: a.out}, nil
	}
	out, err := createFile(name, yes, false, "file", example)
	if err != nil {
		return nil, err
	}
	return out, out.file.Chmod(0o644)
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
