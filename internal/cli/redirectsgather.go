package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hovix/internal/archive"
	"hovix/internal/cli/ui"
	"hovix/internal/crawl"
	"hovix/internal/database/engines"
	"hovix/internal/inflate"
	"hovix/internal/redirects"
)

type gatherFlags struct {
	reachFlags
	out            string
	base           string
	hosts          []string
	documents, yes bool
	notFound       bool
	noRobots       bool
	sitemapsOnly   bool
	noSitemaps     bool
	limit, depth   int
	rate           float64
	resume         string
	since, until   string
	db             databaseFlags
	keys           openFlags
	period         redirects.Period
	crawled        []*crawl.Result
	started        time.Time
}

func (a *app) gatherCommand() *cobra.Command {
	var f gatherFlags
	cmd := &cobra.Command{
		Use:   "gather SOURCE...",
		Short: "List the pages of a site, out of any sources",
		Long: `List the pages of a site, from any mixture of sources:

  an address        follow its links, sitemaps too; robots.txt is obeyed
  a sitemap         its address or its file, plain or with gzip; indexes too
  an access log     of Apache or nginx, plain, gzip, zstd; with the visits of each page
  a site's folder   its pages out of its database, without a web server
  an archive        the same out of an archive that hovix pack wrote
  a list            CSV or TSV with any columns, as a crawler, a statistics program or
                    a colleague made it; an inventory of hovix too

Pages are kept, each once, under its canonical address. Dropped and counted are other
hosts, images, styles, scripts, tracking parameters, errors, redirects and the front
page. The inventory is a CSV file, or JSON if its name ends so.`,
		Example: "  hovix redirects gather https://old.example -o old.csv\n" +
			"  hovix redirects gather old.tar.zst access.log access.log.1 'access.log.*.gz' -o old.csv\n" +
			"  hovix redirects gather https://new.example --connect new.example=192.0.2.7 -o new.csv",
		Args: func(cmd *cobra.Command, given []string) error {
			if len(given) == 0 {
				return usage("a SOURCE is missing; the command is: %s", cmd.UseLine())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.gather(cmd.Context(), args, &f) },
	}
	fl := cmd.Flags()
	fl.StringVarP(&f.out, "output", "o", "", "write the inventory to `FILE`, as CSV, or JSON if its name ends in .json; without it, to standard output")
	fl.StringSliceVar(&f.hosts, "host", nil, "further names of the site (`HOSTS`); other hosts are dropped")
	fl.StringVar(&f.base, "base-path", "", "only what is under this `PATH`")
	fl.BoolVar(&f.documents, "documents", false, "keep documents such as PDF files, too")
	fl.BoolVar(&f.notFound, "not-found", false, "keep addresses that are asked for but not found (404), too: what still wants a redirect")
	f.reachFlags.add(cmd, "reach a host at another address (`HOST=IP:PORT`), before its name points there")
	fl.IntVar(&f.limit, "limit", 100_000, "ask at most this many addresses (`N`)")
	fl.IntVar(&f.depth, "depth", 60, "follow at most this many links from the start (`N`)")
	fl.Float64Var(&f.rate, "rate", 0, "ask at most this many addresses a second (`N`); 0: as fast as the server answers")
	fl.BoolVar(&f.noRobots, "ignore-robots", false, "ask what robots.txt forbids, too: for your own site")
	fl.BoolVar(&f.sitemapsOnly, "sitemaps-only", false, "ask what sitemaps name, and follow no links")
	fl.BoolVar(&f.noSitemaps, "no-sitemaps", false, "follow links only")
	fl.StringVar(&f.resume, "progress", "", "keep the crawl's progress in `FILE`, and go on from there when run again")
	fl.StringVar(&f.since, "since", "", "of logs, count visits from this `DATE` on (2026-01-31)")
	fl.StringVar(&f.until, "until", "", "of logs, count visits before this `DATE`")
	fl.BoolVarP(&f.yes, "yes", "y", false, "replace FILE if it exists")
	f.db.add(cmd, "read the database here instead of where the site's settings say")
	f.keys.add(cmd)
	return cmd
}

// gathering is what gather reports as JSON.
type gathering struct {
	Output string `json:"output,omitempty"`
	*redirects.Gathered
	Pages   int     `json:"count"`
	Asked   int     `json:"asked,omitempty"`
	Seconds float64 `json:"seconds"`
}

func (a *app) gather(ctx context.Context, sources []string, f *gatherFlags) (err error) {
	f.started = time.Now()
	if _, err = f.client(); err != nil { // before anything is read
		return err
	}
	for _, d := range []struct {
		text string
		to   *time.Time
	}{{f.since, &f.period.Since}, {f.until, &f.period.Until}} {
		if d.text != "" {
			if *d.to, err = time.Parse(time.DateOnly, d.text); err != nil {
				return usage("%q is no date; write it as 2026-01-31", d.text)
			}
		}
	}
	if sources, err = expand(sources); err != nil {
		return err
	}
	hosts := f.hosts
	for _, s := range sources {
		if u, err := url.Parse(s); err == nil && u.Host != "" {
			hosts = append(hosts, u.Host)
		}
	}
	toStdout := f.out == "" || f.out == "-"
	if a.json && toStdout {
		f.out = ""
	}
	var out *output
	if !a.json || !toStdout {
		if out, err = a.beginOutput(ctx, f.out, f.yes, "old.csv"); err != nil {
			return err
		}
		defer func() { err = out.end(err) }()
	}
	g := redirects.NewGatherer(redirects.GatherOptions{Hosts: hosts, BasePath: f.base, Documents: f.documents, NotFound: f.notFound})
	for _, s := range sources {
		if err := a.gatherFrom(ctx, g, s, f, hosts); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	res := g.Result()
	switch {
	case out == nil:
	case strings.EqualFold(filepath.Ext(f.out), ".json"):
		err = res.WriteJSON(out)
	default:
		err = res.WriteCSV(out)
	}
	if err != nil {
		return err
	}
	if len(res.Pages) == 0 {
		a.findings(1)
	}
	d := gathering{Output: f.out, Gathered: res, Pages: len(res.Pages), Seconds: time.Since(f.started).Seconds()}
	for _, c := range f.crawled {
		d.Asked += c.Asked
	}
	if a.json {
		if out != nil { // the pages are in the file
			short := *res
			short.Inventory = redirects.Inventory{}
			d.Gathered = &short
			return a.document(d)
		}
		return a.document(gatheredJSON{res, d.Asked, d.Seconds})
	}
	w := a.out
	if toStdout {
		w = a.err
	}
	printGathered(ui.New(w), &d)
	return nil
}

// expand takes the place of a shell for names with stars.
func expand(sources []string) (out []string, err error) {
	for _, s := range sources {
		if strings.Contains(s, "://") || !strings.ContainsAny(s, "*?[") {
			out = append(out, s)
			continue
		}
		found, err := filepath.Glob(s)
		if err != nil || len(found) == 0 {
			return nil, usage("no file is named like %s", s)
		}
		out = append(out, found...)
	}
	return out, nil
}

// gatherFrom finds out what a source is, and takes its pages.
func (a *app) gatherFrom(ctx context.Context, g *redirects.Gatherer, source string, f *gatherFlags, hosts []string) error {
	switch {
	case strings.HasPrefix(source, "http://"), strings.HasPrefix(source, "https://"):
		return a.gatherCrawl(ctx, g, source, f, hosts)
	case source == "-":
		in, _, err := a.openInput(ctx, source)
		if err != nil {
			return err
		}
		defer in.Close()
		return a.gatherText(g, in, f)
	case isFolder(source):
		s, err := a.openSite(source, &f.db)
		if err != nil {
			return err
		}
		r, err := engines.Open(ctx, s.Database)
		if err != nil {
			return err
		}
		defer r.Close()
		return g.Site(ctx, s, r)
	}
	in, _, err := a.openInput(ctx, source)
	if err != nil {
		return err
	}
	defer in.Close()
	if yes, err := isArchive(in, source); err != nil {
		return err
	} else if yes {
		fl, err := a.openToRead(source, &f.keys)
		if err != nil {
			return err
		}
		defer fl.Close()
		ar, err := archive.Open(fl, fl.size)
		if err != nil {
			return err
		}
		return g.Archive(ctx, ar)
	}
	return a.gatherText(g, in, f)
}

// isArchive tells an archive from a log or a list with the same compression.
func isArchive(in io.Reader, name string) (bool, error) {
	s, ok := in.(io.Seeker)
	if !ok {
		return false, nil // an archive is read by its index, not from a pipe
	}
	head := make([]byte, 32)
	n, _ := io.ReadFull(in, head)
	if _, err := s.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	if bytes.HasPrefix(head[:n], []byte("age-encryption.org/")) {
		return true, nil
	}
	if !bytes.HasPrefix(head[:n], []byte("\x28\xb5\x2f\xfd")) {
		return false, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	z, err := inflate.Reader(f, 64<<10)
	if err != nil {
		return false, err
	}
	tar, _ := z.Peek(262)
	return len(tar) == 262 && string(tar[257:262]) == "ustar", nil
}

// gatherText takes a log, a sitemap or a list, by what it begins with.
func (a *app) gatherText(g *redirects.Gatherer, in io.Reader, f *gatherFlags) error {
	b, err := inflate.Reader(in, 64<<10)
	if err != nil {
		return err
	}
	head, _ := b.Peek(4 << 10)
	switch text := bytes.TrimSpace(bytes.TrimPrefix(head, []byte("\ufeff"))); {
	case len(text) == 0:
		return fmt.Errorf("it is empty")
	case text[0] == '<':
		return g.Sitemap(b)
	case redirects.LooksLikeLog(text):
		return g.Log(b, f.period)
	case text[0] == '{' || text[0] == '[':
		return g.JSON(b)
	}
	return g.List(bufio.NewReader(b))
}

func (a *app) gatherCrawl(ctx context.Context, g *redirects.Gatherer, start string, f *gatherFlags, hosts []string) error {
	client, err := f.client()
	if err != nil {
		return err
	}
	status := ui.NewStatus(a.err)
	defer status.Close()
	asked := 0
	opts := crawl.Options{Start: start, BasePath: f.base, Hosts: hosts, Workers: f.workers, Rate: f.rate, MaxPages: f.limit, MaxDepth: f.depth, NoLinks: f.sitemapsOnly, NoSitemaps: f.noSitemaps && !f.sitemapsOnly,
		IgnoreRobots: f.noRobots, Journal: f.resume,
		Client: client,
		Asked: func(waiting int) {
			asked++
			status.Set("%d addresses asked, %d more known", asked, waiting)
		}}
	res, err := g.Crawl(ctx, opts)
	f.crawled = append(f.crawled, res)
	if err != nil && f.resume != "" && ctx.Err() != nil {
		return advised{err, "What was found is kept in " + f.resume + "; the same command goes on from there."}
	}
	return err
}

func printGathered(p *ui.Printer, d *gathering) {
	where := d.Output
	if where == "" || where == "-" {
		where = "standard output"
	}
	beside := ""
	if d.Asked > 0 {
		beside = fmt.Sprintf("%s asked in %.1f s", ui.Count(int64(d.Asked), "address", "addresses"), d.Seconds)
	}
	p.Title("Inventory "+where, beside)
	p.Field("Kept", ui.Count(int64(d.Pages), "page", "pages"))
	if len(d.Seen) > 0 {
		p.Section("Found in")
		printCounts(p, d.Seen)
	}
	if len(d.Dropped) > 0 {
		p.Section("Not kept")
		printCounts(p, d.Dropped)
	}
	if len(d.Notes) > 0 {
		p.Section("Notes")
		for _, n := range d.Notes {
			p.Warn("%s", n)
		}
	}
	if d.Pages == 0 {
		p.Line("")
		p.Bad("no page was found")
		return
	}
	if where != "standard output" {
		p.Next("hovix redirects gather https://new.example -o new.csv", "hovix redirects pair "+shellWord(where)+" new.csv -o map.csv")
	}
}
