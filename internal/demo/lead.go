package demo

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"hovix/internal/crawl"
	"hovix/internal/database"
	"hovix/internal/redirects"
	"hovix/internal/restore"
	"hovix/internal/rewrite"
)

// Lead tells how the old addresses were led to the pages of the redesigned site.
type Lead struct {
	Folder   string             `json:"folder"` // of the redesigned site
	Old      int                `json:"old"`    // pages that were gathered
	New      int                `json:"new"`
	Paired   *redirects.Paired  `json:"paired"`
	Compact  *redirects.Compact `json:"compact"`
	Report   *redirects.Report  `json:"report"`
	Tried    *redirects.Tried   `json:"tried"`
	Doubtful []redirects.Row    `json:"doubtful"`
	Right    int                `json:"right"`   // rows that the key confirms
	Wrong    []string           `json:"wrong"`   // sure rows that it does not
	Unknown  []string           `json:"unknown"` // rows that it does not hold
	Missing  []string           `json:"missing"` // pages of the key without a row
	Files    []string           `json:"files"`   // that were written
}

// Good reports whether every page of the key has a row, no sure row is wrong, and all
// rows do on a server what they say.
func (l *Lead) Good() bool {
	return len(l.Wrong)+len(l.Unknown)+len(l.Missing)+l.Tried.Bad == 0
}

// Led answers old addresses with their redirects, and leaves the others to next.
func Led(set *redirects.RuleSet, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if t, err := redirects.ParseTarget(r.URL.RequestURI()); err == nil {
			if to, status, ok := set.Apply(t.Key()); ok {
				if to != "" {
					w.Header().Set("Location", to)
				}
				w.WriteHeader(status)
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// serving is a site that is up for the tour.
type serving struct {
	addr string
	srv  *http.Server
	site *Server
}

func (s *serving) Close() {
	_ = s.srv.Close()
	_ = s.site.Close()
}

func serveFolder(folder string, wrap func(http.Handler) http.Handler) (*serving, error) {
	s, err := NewServer(folder)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		_ = s.Close()
		return nil, err
	}
	out := &serving{addr: l.Addr().String(), site: s, srv: &http.Server{Handler: wrap(s), ReadHeaderTimeout: 10 * time.Second}}
	go func() { _ = out.srv.Serve(l) }()
	return out, nil
}

// redesign restores the archive once more and changes that site.
func (t *tour) redesign(ctx context.Context) error {
	if !t.opts.Database.IsZero() {
		return nil // the databases given are for the old and the moved site
	}
	t.rep.Lead = &Lead{Folder: filepath.Join(t.opts.Folder, "redesigned")}
	f, err := os.Open(t.rep.Archive)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := restore.Run(ctx, f, t.rep.Checked.Size, restore.Options{Target: t.rep.Lead.Folder, Address: t.opts.Redesigned, Database: database.Location{}}); err != nil {
		return err
	}
	t.key, err = Redesign(ctx, t.rep.Lead.Folder)
	return err
}

// lead makes the redirect map, and tries it on the redesigned site.
func (t *tour) lead(ctx context.Context) error {
	if t.rep.Lead == nil {
		return nil
	}
	old, err := t.gather(ctx, t.rep.OldFolder, hostPort(t.opts.Old), "old.csv")
	if err != nil {
		return err
	}
	new, err := t.gather(ctx, t.rep.Lead.Folder, hostPort(t.opts.Redesigned), "new.csv")
	if err != nil {
		return err
	}
	l := t.rep.Lead
	l.Old, l.New = len(old.Pages), len(new.Pages)
	if l.Paired, err = redirects.Pair(ctx, old, new, redirects.PairOptions{}); err != nil {
		return err
	}
	m := l.Paired.Map
	var live []string
	for _, e := range new.Pages {
		live = append(live, e.Path)
	}
	l.Compact = redirects.Patterns(m, live)
	if l.Report, err = redirects.Check(ctx, l.Compact.Map, redirects.CheckOptions{Old: old, New: new, Against: m}); err != nil {
		return err
	}
	t.judge(m)
	if err := t.writeLead(); err != nil {
		return err
	}
	return t.try(ctx, m)
}

func hostPort(a rewrite.Address) string {
	if a.Port != 0 {
		return net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	}
	return a.Host
}

// gather follows the links of a site that is served for it.
func (t *tour) gather(ctx context.Context, folder, host, file string) (*redirects.Inventory, error) {
	s, err := serveFolder(folder, func(h http.Handler) http.Handler { return h })
	if err != nil {
		return nil, err
	}
	defer s.Close()
	g := redirects.NewGatherer(redirects.GatherOptions{Hosts: []string{host}, Documents: true})
	if _, err := g.Crawl(ctx, crawl.Options{Start: "http://" + host + "/", Client: crawl.NewClient(crawl.ClientOptions{Connect: map[string]string{host: s.addr}})}); err != nil {
		return nil, err
	}
	inv := &g.Result().Inventory
	return inv, t.write(file, inv.WriteCSV)
}

func (t *tour) write(name string, write func(io.Writer) error) error {
	f, err := os.Create(filepath.Join(t.opts.Folder, name))
	if err != nil {
		return err
	}
	t.rep.Lead.Files = append(t.rep.Lead.Files, name)
	if err := write(f); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

// judge compares the map with the key of the redesign, which pairing has not seen.
func (t *tour) judge(m *redirects.Map) {
	l := t.rep.Lead
	for _, r := range m.Rows {
		right, known := t.key[r.From]
		sure := r.Score >= redirects.Sure
		if !sure {
			l.Doubtful = append(l.Doubtful, r)
		}
		switch {
		case slices.Contains(right, r.To):
			l.Right++
		case !known && sure:
			l.Unknown = append(l.Unknown, r.From)
		case sure:
			l.Wrong = append(l.Wrong, r.From)
		}
	}
	for from := range t.key {
		if !slices.ContainsFunc(m.Rows, func(r redirects.Row) bool { return r.From == from }) {
			l.Missing = append(l.Missing, from)
		}
	}
}

func (t *tour) writeLead() error {
	l := t.rep.Lead
	if err := t.write("map.csv", l.Paired.Map.Write); err != nil {
		return err
	}
	if err := t.write("rules.csv", l.Compact.Map.Write); err != nil {
		return err
	}
	return t.write("redirects.conf", func(w io.Writer) error {
		_, err := redirects.Write(l.Compact.Map, redirects.WriteOptions{For: "nginx", Map: "rules.csv", Now: time.Now()}, func(string) (io.WriteCloser, error) { return nopCloser{w}, nil })
		return err
	})
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// try asks the redesigned site, which answers to the old name now, for every old address.
func (t *tour) try(ctx context.Context, m *redirects.Map) error {
	l := t.rep.Lead
	set, err := redirects.NewRuleSet(l.Compact.Map)
	if err != nil {
		return err
	}
	s, err := serveFolder(l.Folder, func(h http.Handler) http.Handler { return Led(set, h) })
	if err != nil {
		return err
	}
	defer s.Close()
	host := hostPort(t.opts.Old)
	l.Tried, err = redirects.Try(ctx, m, redirects.TryOptions{Site: "http://" + host, Workers: 4, Client: crawl.NewClient(crawl.ClientOptions{Connect: map[string]string{host: s.addr}})})
	return err
}
