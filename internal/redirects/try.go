package redirects

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"hovix/internal/crawl"
)

// TryOptions sets how rows are tried.
type TryOptions struct {
	Site     string // address of the server that is asked for the old paths
	Client   *crawl.Client
	Workers  int       // requests at a time; 0: 4
	Rate     float64   // requests a second; 0: as fast as the server answers
	Examples []string  // old addresses by which rules are tried
	Progress string    // file in which results are kept; a run with the same file goes on from there
	Tried    func(int) // told of every row, with how many are to come
}

// Hop is one answer on the way.
type Hop struct {
	Address string `json:"address"`
	Status  int    `json:"status"`
}

// Trial is what a server does with one old address.
type Trial struct {
	From   string  `json:"from"`
	Want   string  `json:"want"`
	Status int     `json:"status"` // that the row wants
	Hops   []Hop   `json:"hops"`
	Final  string  `json:"final"` // address that answered in the end
	Code   int     `json:"code"`  // its status; 0: it did not answer
	Millis float64 `json:"ms"`    // from the first request to the last answer
	OK     bool    `json:"ok"`
	Why    string  `json:"why,omitempty"`
}

// Tried is the result for all rows.
type Tried struct {
	Trials  []Trial `json:"trials"`
	Good    int     `json:"good"`
	Bad     int     `json:"bad"`
	Earlier int     `json:"earlier"` // taken from an earlier run
}

// maxHops is where a chain counts as endless.
const maxHops = 10

// Try asks a server for every old address of a map, and follows where it leads. Rules
// are tried by the examples that they catch.
func Try(ctx context.Context, m *Map, opts TryOptions) (*Tried, error) {
	site, err := url.Parse(opts.Site)
	if err != nil || site.Host == "" {
		return nil, fmt.Errorf("%w: %q is no address of a site", ErrNoAddress, opts.Site)
	}
	set, err := NewRuleSet(m)
	if err != nil {
		return nil, err
	}
	list := trials(m, set, opts.Examples)
	t := &tryer{opts: opts, site: site, kept: map[string]Trial{}, left: len(list)}
	t.pace.Rate(opts.Rate)
	if opts.Progress != "" {
		if err := t.resume(); err != nil {
			return nil, err
		}
		defer t.file.Close()
	}
	res := &Tried{Trials: list}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, opts.Workers))
	for i := range list {
		w := &list[i]
		if k, ok := t.kept[w.From]; ok && k.Want == w.Want && k.Status == w.Status {
			*w = k
			res.Earlier++
			t.left--
			continue
		}
		g.Go(func() error {
			t.pace.Wait(ctx)
			if t.try(ctx, w); ctx.Err() != nil {
				return context.Cause(ctx)
			}
			return t.done(w)
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].OK {
			res.Good++
		} else {
			res.Bad++
		}
	}
	if t.file != nil {
		_ = os.Remove(t.file.Name())
	}
	return res, nil
}

// trials lists what is asked: rows in their order, then examples of rules.
func trials(m *Map, set *RuleSet, examples []string) (list []Trial) {
	for i := range m.Rows {
		r := &m.Rows[i]
		if IsRule(r.From) {
			continue
		}
		if t, err := ParseTarget(r.From); err == nil && set.Exact[t.Key()] == r {
			list = append(list, Trial{From: t.Key(), Want: r.To, Status: r.status()})
		}
	}
	for _, key := range examples {
		if set.Exact[key] != nil {
			continue
		}
		if to, status, ok := set.Apply(key); ok {
			list = append(list, Trial{From: key, Want: to, Status: status})
		}
	}
	return list
}

type tryer struct {
	opts TryOptions
	site *url.URL
	kept map[string]Trial
	file *os.File
	pace crawl.Pace

	mu   sync.Mutex
	left int
}

// resume takes the results of an earlier run.
func (t *tryer) resume() (err error) {
	if t.file, err = os.OpenFile(t.opts.Progress, os.O_RDWR|os.O_CREATE, 0o644); err != nil {
		return fmt.Errorf("keep what was tried: %w", err)
	}
	sc := bufio.NewScanner(t.file)
	sc.Buffer(nil, 1<<20)
	var good int64
	for sc.Scan() {
		var k Trial
		if json.Unmarshal(sc.Bytes(), &k) != nil || k.From == "" {
			if good == 0 {
				return errors.Join(fmt.Errorf("%s holds something else than what was tried; name another file", t.opts.Progress), t.file.Close())
			}
			break
		}
		good += int64(len(sc.Bytes())) + 1
		if k.OK {
			t.kept[k.From] = k // what failed is tried again
		}
	}
	if err := t.file.Truncate(good); err != nil {
		return err
	}
	_, err = t.file.Seek(good, 0)
	return err
}

func (t *tryer) done(w *Trial) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.left--
	if t.opts.Tried != nil {
		t.opts.Tried(t.left)
	}
	if t.file == nil {
		return nil
	}
	b, err := json.Marshal(w)
	if err == nil {
		_, err = t.file.Write(append(b, '\n'))
	}
	return err
}

// try asks for one address and follows it to its end.
func (t *tryer) try(ctx context.Context, w *Trial) {
	start := time.Now()
	defer func() { w.Millis = float64(time.Since(start).Microseconds()) / 1000 }()
	at, err := url.Parse(strings.TrimSuffix(t.site.Scheme+"://"+t.site.Host, "/") + w.From)
	if err != nil {
		w.Why = "no address"
		return
	}
	var seen []string
	for {
		res, err := t.opts.Client.Get(ctx, at.String(), nil)
		if err != nil {
			w.Final, w.Why = t.short(at), err.Error()
			return
		}
		w.Code, w.Final = res.Status, t.short(at)
		if res.Location == nil {
			break
		}
		w.Hops = append(w.Hops, Hop{t.short(res.Location), res.Status})
		seen = append(seen, at.String())
		if slices.Contains(seen, res.Location.String()) {
			w.Why = "it leads in a circle"
			return
		}
		if len(w.Hops) == maxHops {
			w.Why = "it leads on and on"
			return
		}
		at = res.Location
	}
	w.judge()
}

// short gives an address of the site as its path.
func (t *tryer) short(u *url.URL) string {
	s := u.String()
	if u.Scheme == t.site.Scheme && u.Host == t.site.Host {
		s = strings.TrimPrefix(s, t.site.Scheme+"://"+t.site.Host)
	}
	if n, err := ParseTarget(s); err == nil {
		return n.String()
	}
	return s
}

// judge compares what came with what the row wants.
func (w *Trial) judge() {
	switch {
	case w.Status == http.StatusGone:
		if w.OK = w.Code == http.StatusGone && len(w.Hops) == 0; !w.OK {
			w.Why = "410 is wanted"
		}
	case len(w.Hops) == 0 && w.Code == http.StatusOK:
		w.Why = "it is a page, and leads nowhere"
	case len(w.Hops) == 0:
		w.Why = fmt.Sprintf("there is no redirect: %d %s", w.Code, http.StatusText(w.Code))
	case !sameTarget(w.Hops[0].Address, w.Want):
		w.Why = "it leads to " + w.Hops[0].Address
	case len(w.Hops) > 1:
		w.Why = plural(len(w.Hops), "hop", "hops") + " instead of one"
	case w.Code != http.StatusOK:
		w.Why = fmt.Sprintf("the new page answers with %d %s", w.Code, http.StatusText(w.Code))
	case w.Hops[0].Status != w.Status:
		w.Why = fmt.Sprintf("its status is %d, not %d", w.Hops[0].Status, w.Status)
	default:
		w.OK = true
	}
}

// sameTarget compares where a server leads with where the row does. A path in the row may
// have become absolute.
func sameTarget(got, want string) bool {
	g, err1 := ParseTarget(got)
	w, err2 := ParseTarget(want)
	if err1 != nil || err2 != nil {
		return got == want
	}
	if w.Host == "" {
		g.Host, g.Scheme = "", ""
	}
	return safe(g.String()) == safe(w.String())
}

// TrialColumns are the columns of a report.
var TrialColumns = []string{"from", "wanted", "status", "ok", "hops", "final", "code", "ms", "why"}

// Cells gives a trial as a row of a report.
func (w *Trial) Cells() []string {
	ok := "no"
	if w.OK {
		ok = "yes"
	}
	var hops []string
	for _, h := range w.Hops {
		hops = append(hops, strconv.Itoa(h.Status)+" "+h.Address)
	}
	return []string{w.From, w.Want, strconv.Itoa(w.Status), ok, strings.Join(hops, " → "), w.Final, strconv.Itoa(w.Code), strconv.FormatFloat(w.Millis, 'f', 1, 64), w.Why}
}
