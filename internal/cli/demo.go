package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/redirects"
	"hovix/internal/rewrite"
)

type demoFlags struct {
	db    databaseFlags
	newDB string
	serve bool
}

func (a *app) demoCommand() *cobra.Command {
	var f demoFlags
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Move the demo site, the Brackwater Ferry Museum, and compare",
		Long: `Do the whole job on a demo site, with nothing else installed: build the website
of the Brackwater Ferry Museum, serve it, survey, pack and inspect it, restore
it in another folder at another address, serve that, and compare every page,
picture and link of both. Then a copy of it is redesigned, and the old addresses are
led to its pages: redirects are made, proved and tried. The sites and the archive stay in FOLDER, by default
a new folder, to look at and to try commands on.

With --serve the sites have addresses that a browser on this machine can open, and
stay up until Ctrl-C.`,
		Example: "  hovix demo\n  hovix demo /tmp/museum --serve",
		Args: func(cmd *cobra.Command, given []string) error {
			if len(given) > 1 {
				return usage("%q is one argument too many; the command is: %s", given[1], cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.demo(cmd.Context(), args, &f) },
	}
	f.db.add(cmd, "build the old site in this MariaDB or PostgreSQL database instead of SQLite")
	cmd.Flags().StringVar(&f.newDB, "new-database", "", "restore into this database of the same engine; belongs to --database (`URL`)")
	cmd.Flags().BoolVar(&f.serve, "serve", false, "keep the sites up for a browser until Ctrl-C")
	return cmd
}

func (a *app) demo(ctx context.Context, args []string, f *demoFlags) error {
	opts := demo.TourOptions{By: "hovix " + version}
	var err error
	if opts.Folder, err = demoFolder(args); err != nil {
		return err
	}
	if err := f.databases(a, &opts); err != nil {
		return err
	}
	var listeners []net.Listener
	if f.serve {
		if listeners, err = listenAll(&opts); err != nil {
			return err
		}
	}
	opts.Step = func(name string) {
		a.log.Info("step", "name", name)
		switch {
		case a.json:
		case ui.IsTerminal(a.err): // each takes the place of the one before
			_ = ui.Fprintf(a.err, "\r\x1b[K%s …", name)
		default:
			_ = ui.Fprintf(a.err, "%s …\n", name)
		}
	}
	rep, err := demo.Tour(ctx, opts)
	if ui.IsTerminal(a.err) && !a.json {
		fmt.Fprint(a.err, "\r\x1b[K")
	}
	if err != nil {
		return err
	}
	if !rep.Comparison.Good() || rep.Lead != nil && !rep.Lead.Good() {
		a.status = exitFailed
	}
	if a.json {
		if err := a.document(rep); err != nil {
			return err
		}
	} else {
		printTour(ui.New(a.out), rep)
	}
	if f.serve {
		return a.serveAll(ctx, rep, opts.Redesigned.String(), listeners)
	}
	return nil
}

func demoFolder(args []string) (string, error) {
	if len(args) == 1 {
		return filepath.Abs(args[0])
	}
	dir, err := os.MkdirTemp("", "brackwater-")
	if err != nil {
		return "", fmt.Errorf("make a folder for the demo: %w", err)
	}
	return dir, nil
}

func (f *demoFlags) databases(a *app, opts *demo.TourOptions) (err error) {
	if (f.db.url == "") != (f.newDB == "") {
		return usage("--database and --new-database belong together: one for the old site, one for the new")
	}
	if f.db.url == "" {
		return nil
	}
	if opts.Database, err = f.db.location(a, database.Location{}); err != nil {
		return err
	}
	if opts.NewDatabase, err = database.ParseURL(f.newDB); err != nil {
		return usageError{err}
	}
	if opts.Database.Engine == database.SQLite || opts.Database.Engine != opts.NewDatabase.Engine {
		return usage("the demo uses SQLite unless --database and --new-database name two MariaDB or two PostgreSQL databases")
	}
	if opts.Database.Same(opts.NewDatabase) {
		return usage("--database and --new-database name the same database")
	}
	opts.NewDatabase.Password = opts.Database.Password
	return nil
}

// listenAll finds ports for the sites and makes their addresses.
func listenAll(opts *demo.TourOptions) ([]net.Listener, error) {
	var out []net.Listener
	for _, to := range []*rewrite.Address{&opts.Old, &opts.New, &opts.Redesigned} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, fmt.Errorf("serve the demo: %w", err)
		}
		*to = rewrite.Address{Scheme: "http", Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}
		out = append(out, l)
	}
	return out, nil
}

func (a *app) serveAll(ctx context.Context, rep *demo.TourReport, redesigned string, listeners []net.Listener) error {
	failed := make(chan error, 3)
	serve := func(i int, folder string, rules *redirects.RuleSet) (func(), error) {
		s, err := demo.NewServer(folder)
		if err != nil {
			return nil, err
		}
		var h http.Handler = s
		if rules != nil {
			h = demo.Led(rules, s)
		}
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
		go func() { failed <- srv.Serve(listeners[i]) }()
		return func() { _, _ = srv.Close(), s.Close() }, nil
	}
	sites := []struct {
		folder string
		rules  *redirects.RuleSet
	}{{rep.OldFolder, nil}, {rep.NewFolder, nil}}
	_ = ui.Fprintf(a.err, "  The sites are up until Ctrl-C:\n    old         %s/\n    new         %s/\n", rep.Old, rep.New)
	if rep.Lead != nil {
		rules, err := redirects.NewRuleSet(rep.Lead.Compact.Map)
		if err != nil {
			return err
		}
		sites = append(sites, struct {
			folder string
			rules  *redirects.RuleSet
		}{rep.Lead.Folder, rules})
		_ = ui.Fprintf(a.err, "    redesigned  %s/  with the redirects of rules.csv\n", redesigned)
	}
	for i, s := range sites {
		stop, err := serve(i, s.folder, s.rules)
		if err != nil {
			return err
		}
		defer stop()
	}
	select {
	case <-ctx.Done():
		return nil
	case err := <-failed:
		if errors.Is(err, http.ErrServerClosed) {
			return nil
		}
		return err
	}
}

func printTour(p *ui.Printer, r *demo.TourReport) {
	s, c := r.Survey, r.Comparison
	p.Title("The Brackwater Ferry Museum has moved", "in "+seconds(r.Elapsed))
	p.Field("from", r.Old)
	p.Field("to", p.Strong(r.New))
	p.Line("")
	rows := [][]string{
		{"1", "built", fmt.Sprintf("%d pages, %d news items, %d pictures, %d comments and %d spam", r.Built.Pages, r.Built.News, r.Built.Pictures+1, r.Built.Comments, r.Built.Spam), seconds(r.Times["Building the museum's site"])},
		{"2", "surveyed", fmt.Sprintf("%s site on %s %s, %s, %s of uploads", s.Site.Kind, s.Info.Product, s.Info.Version, ui.Count(int64(len(s.Tables)), "table", "tables"), ui.Bytes(s.Parts["uploads"].Bytes)), seconds(r.Times["Surveying it"])},
		{"3", "packed", fmt.Sprintf("%s, %s, into one archive of %s; the cache stayed behind", ui.Count(r.Packed.Summary.Files.Count, "file", "files"), ui.Count(r.Packed.Summary.Rows, "row", "rows"), ui.Bytes(r.Packed.Totals.Compressed)), seconds(r.Times["Packing it"])},
		{"4", "inspected", fmt.Sprintf("%s and every byte of it proved intact", ui.Count(r.Checked.Entries, "entry", "entries")), seconds(r.Times["Inspecting the archive"])},
		{"5", "restored", fmt.Sprintf("in another folder; the switch itself took %.1f ms", float64(r.Restored.Switch.Microseconds())/1000), seconds(r.Times["Restoring it at the new address"])},
		{"6", "rewrote", strings.Replace(addressLine(&r.Restored.Tally), ": ", ":\n", 1), ""},
		{"7", "visited", fmt.Sprintf("%s, %s and %s, on the old site and on the new", ui.Count(int64(c.Pages), "page", "pages"), ui.Count(int64(c.Pictures), "picture and style", "pictures and styles"), ui.Count(int64(c.Links), "link", "links")), seconds(r.Times["Visiting every page of it"] + r.Times["Visiting every page of the new site"])},
	}
	if l := r.Lead; l != nil {
		rows = append(rows, []string{"8", "redirected", leadLine(l), seconds(r.Times["Leading the old addresses to the new pages"])})
	}
	p.Table(splitLines(rows), 3)
	p.Line("")
	printVerdict(p, c)
	printLead(p, r.Lead)
	printLeftovers(p, r.Restored)
	p.Next("cd "+shellWord(r.Folder)+"        # old site, new site, archive",
		"hovix survey old", "hovix inspect museum.tar.zst --check", "hovix restore museum.tar.zst third --url https://www.brackwater.example/museum", "hovix redirects check rules.csv --old old.csv --new new.csv --against map.csv")
}

// leadLine tells in short how the old addresses of a redesigned copy were led on.
func leadLine(l *demo.Lead) string {
	return fmt.Sprintf("%s of the old site to a redesigned copy of the new one:\n%d keep their address, %d are led on: %d surely, %d doubtful", ui.Count(int64(l.Old), "page", "pages"), l.Paired.Unchanged, l.Paired.Rows, l.Paired.Sure, l.Paired.Doubtful)
}

// printLead shows how good the redirects are.
func printLead(p *ui.Printer, l *demo.Lead) {
	if l == nil {
		return
	}
	if !l.Good() {
		p.Bad("redirects: %d wrong, %d missing, %d fail", len(l.Wrong)+len(l.Unknown), len(l.Missing), l.Tried.Bad)
		return
	}
	p.Good("All %s land on their page in one hop; no sure one is wrong; %s and %s say it all", ui.Count(int64(l.Tried.Good), "redirect", "redirects"), ui.Count(int64(len(l.Compact.Patterns)), "rule", "rules"), ui.Count(int64(l.Compact.Single), "single row", "single rows"))
	var rows []string
	for _, r := range l.Doubtful {
		rows = append(rows, r.From)
	}
	if len(rows) > 0 {
		p.Warn("%s a person's look, at the top of map.csv: %s", ui.Count(int64(len(rows)), "redirect wants", "redirects want"), ui.Short(strings.Join(rows, ", "), 110))
	}
}

// splitLines moves what stands behind a line break in a cell to a row of its own.
func splitLines(rows [][]string) (out [][]string) {
	for _, r := range rows {
		first, rest, ok := strings.Cut(r[2], "\n")
		out = append(out, []string{r[0], r[1], first, r[3]})
		if ok {
			out = append(out, []string{"", "", rest, ""})
		}
	}
	return out
}

func printVerdict(p *ui.Printer, c *demo.Comparison) {
	say := func(list []string, good, bad string) {
		if len(list) == 0 {
			p.Good("%s", good)
			return
		}
		p.Warn("%s: %s", bad, listOf(list, 4))
	}
	say(c.Broken, "Every page, picture and link of the new site answers", "These do not answer on the new site")
	say(append(c.Missing, c.Different...), "Every page says what it said before, every picture is the same byte for byte", "These differ from the old site")
	say(c.OldMentions, "No page leads to the old address", "These still lead to the old address")
	say(c.Outside, "No link leaves the new site's own address by mistake", "These lie on the new host, but outside the site")
}

func seconds(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
