// Package rewrite changes embedded addresses in values: the cells of a
// database, the text of settings. It takes mappings from old addresses to new
// ones and gives changed bytes with a count of what it did.
//
// One pass applies all mappings at once, the longest first, and the new
// addresses take part as "keep", so that swaps are safe and a second run
// changes nothing. An address is found in whatever form it stands, plain,
// JSON-escaped, percent-encoded, with HTML entities, and in PHP-serialized
// values at any depth; the bytes around it stay as they were.
package rewrite

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Mapping is one old address and the new one that takes its place.
type Mapping struct{ Old, New Address }

// RootMapping is one old folder on a server, as an absolute path with slashes,
// or one such as C:\sites\old with either slash, and the new one that takes its
// place.
type RootMapping struct{ Old, New string }

// TextMapping is one old text and the new one that takes its place, byte for byte.
type TextMapping struct{ Old, New string }

// Options names what a Rewriter changes.
type Options struct {
	Mappings []Mapping
	Roots    []RootMapping
	Texts    []TextMapping
	// WholeWords takes Texts only where no letter or digit stands beside them.
	WholeWords bool
	// Repair mends lengths in serialized values that an earlier replacement broke,
	// where exactly one reading is consistent.
	Repair bool
	// Servers are hosts that are named as servers of databases too: their names alone are no
	// addresses that are left over. So it is with those of the machine itself.
	Servers []string
	// BareHosts rewrites old host names that stand alone in prose too.
	BareHosts bool
	// Compressed rewrites text in values that are gzip or zlib data as a whole, and
	// compresses it again. Without it such values stay, and are counted.
	Compressed bool
}

// Form is the encoding in which an address stood.
type Form int

// The forms that are told apart in a Tally.
const (
	FormPlain      Form = iota
	FormJSON            // slashes escaped by backslashes, or as \u002f
	FormPercent         // percent-encoded, once or more
	FormEntity          // HTML entities
	FormSerialized      // in any form, inside a PHP-serialized value
	FormPath            // a folder on the server
	FormBase64          // in any form, inside a base64 value
	FormText            // a text that a mapping names
	numForms
)

// String names the form for people.
func (f Form) String() string {
	return [...]string{"plain", "JSON-escaped", "percent-encoded", "HTML entities", "serialized", "folder path", "base64", "text"}[f]
}

// Reason says why a mention of an old address was not rewritten.
type Reason int

// The reasons for a leftover.
const (
	BareHost    Reason = iota // the host name alone, in prose
	Email                     // behind an @
	LookAlike                 // part of another name: notold.example, old.example.org, sub.old.example
	OtherPort                 // the same host with another port
	OtherPath                 // the same host outside the mapping's base path
	OtherScheme               // neither http nor https
	Broken                    // a value that looks serialized but is not
	Kept                      // an identifier that must not change
	TooDeep                   // nested deeper than anybody nests
	Signed                    // in a token whose signature a change would break
	Unfit                     // the changed value does not fit where it belongs
	Repeats                   // the changed value would repeat a key that is there once
	Binary                    // in a value or a file that is no text
	Compressed                // in a compressed value
	InFile                    // an address in a text file that was not to be changed
	Unproved                  // the changed value did not stand a second look
	numReasons
)

// String names the reason for people.
func (r Reason) String() string { return reasons[r] }

var reasons = [...]string{"bare host name", "e-mail address", "look-alike host", "other port", "outside the base path",
	"other scheme", "broken serialized value", "kept identifier", "nested too deeply", "signed token",
	"value that does not fit", "key that would repeat", "binary data", "compressed value", "address in a text file", "value that could not be proved"}

// MarshalText gives the name of the reason.
func (r Reason) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText takes such a name.
func (r *Reason) UnmarshalText(name []byte) error {
	i := slices.Index(reasons[:], string(name))
	if i < 0 {
		return fmt.Errorf("unknown reason %q", name)
	}
	*r = Reason(i)
	return nil
}

// Finding reports whether a person should look at leftovers of this reason.
// E-mail addresses, look-alikes and kept identifiers are as they should be.
func (r Reason) Finding() bool {
	return r != Email && r != Kept && r != LookAlike
}

// Leftover is one mention that was not rewritten.
type Leftover struct {
	Reason  Reason `json:"reason"`
	Excerpt string `json:"excerpt"`          // the mention with a little around it, in printable characters
	Detail  string `json:"detail,omitempty"` // more on the reason, such as where a broken value breaks
}

// Tally counts what a Rewriter did. The zero value is ready; several can be
// added up.
type Tally struct {
	Values    int64 // values that mention an old address in any way
	Changed   int64 // values that were changed
	Repaired  int64 // values with lengths mended
	Forms     [numForms]int64
	Leftovers [numReasons]int64
	// OnLeftover, if set, is told of each leftover.
	OnLeftover func(Leftover) `json:"-"`
}

// KeepFindings has the first n leftovers that a person should look at put into
// list.
func (t *Tally) KeepFindings(list *[]Leftover, n int) {
	t.OnLeftover = func(l Leftover) {
		if len(*list) < n && l.Reason.Finding() {
			*list = append(*list, l)
		}
	}
}

// Add adds the counts of o.
func (t *Tally) Add(o *Tally) {
	t.Values += o.Values
	t.Changed += o.Changed
	t.Repaired += o.Repaired
	for i, n := range o.Forms {
		t.Forms[i] += n
	}
	for i, n := range o.Leftovers {
		t.Leftovers[i] += n
	}
}

// Remove takes the counts of o back.
func (t *Tally) Remove(o *Tally) {
	t.Values -= o.Values
	t.Changed -= o.Changed
	t.Repaired -= o.Repaired
	for i, n := range o.Forms {
		t.Forms[i] -= n
	}
	for i, n := range o.Leftovers {
		t.Leftovers[i] -= n
	}
}

// Leave counts a value that mentions something old and stays as it is. where, if
// not empty, says where it stands and why in detail.
func (t *Tally) Leave(r Reason, v []byte, where string) {
	t.Values++
	t.leftover(r, v, 0, min(len(v), 80), where)
}

// Occurrences is the number of addresses that were rewritten.
func (t *Tally) Occurrences() (n int64) {
	for _, c := range t.Forms {
		n += c
	}
	return n
}

// Findings is the number of leftovers that a person should look at.
func (t *Tally) Findings() (n int64) {
	for r, c := range t.Leftovers {
		if Reason(r).Finding() {
			n += c
		}
	}
	return n
}

func (t *Tally) leftover(r Reason, text []byte, from, to int, detail string) {
	t.Leftovers[r]++
	if t.OnLeftover != nil {
		t.OnLeftover(Leftover{r, excerpt(text, from, to), detail})
	}
}

// excerpt cuts text around a mention, at spaces, for a person to recognise.
func excerpt(text []byte, from, to int) string {
	const around = 30
	start, end := max(0, from-around), min(len(text), to+around)
	before, after := Printable(text[start:from]), Printable(text[to:end])
	if start > 0 {
		if i := strings.IndexByte(before, ' '); i >= 0 {
			before = before[i+1:]
		}
		before = "…" + before
	}
	if end < len(text) {
		if i := strings.LastIndexByte(after, ' '); i >= 0 {
			after = after[:i]
		}
		after += "…"
	}
	return before + Printable(text[from:to]) + after
}

// Printable gives v for a person to read: control characters become spaces,
// torn characters are dropped.
func Printable(v []byte) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(string(v), ""))
}

// Rewriter applies mappings. It holds no state of a run: one Rewriter serves
// several goroutines.
type Rewriter struct {
	seekers []seeker
	bare    bool
	repair  bool
	unpack  bool
}

// seeker finds one kind of thing that may have to be rewritten.
type seeker interface {
	// next gives the place of the next candidate in v at or after from, or -1.
	next(v []byte, from int) int
	// mentions reports whether a candidate counts as a mention of something old.
	mentions() bool
	// matchAt judges the candidate at v[at:]. Bytes before floor are written
	// already. ok is true for something to rewrite; what is to be kept as it is
	// comes back with a place behind it and ok false.
	matchAt(rw *Rewriter, v []byte, at, floor int, s scope) (m match, ok bool)
}

// scope is where in a value the scanner is.
type scope struct {
	t     *Tally
	depth int
	bytes bool // the value is of a column without charset
	file  bool // a host that is a whole value of settings is an address
	form  Form // what counts as the form of everything here; formAsFound: what is seen
}

const formAsFound Form = -1

func (s scope) in(f Form) scope {
	s.depth++
	if s.form == formAsFound {
		s.form = f
	}
	return s
}

// host is a host name to look for, and what there is at it.
type host struct {
	finder
	targets []target
	old     bool // one of them is not a keep
	// loopback says that it is the machine itself, server that it is one of something else too.
	loopback, server bool
}

// target is an address at a host: an old one with its new one, or a new one to
// keep.
type target struct {
	addr  Address
	twin  bool
	keep  bool
	to    Address
	host  string   // of to, in the spelling in which the old one is found
	words []string // segments of addr.Path
}

// New returns a Rewriter for the options. The error says which mappings
// contradict each other.
func New(opts Options) (*Rewriter, error) {
	rw := &Rewriter{bare: opts.BareHosts, repair: opts.Repair, unpack: opts.Compressed}
	seen := map[Address]Address{}
	for _, m := range opts.Mappings {
		if m.Old.IsZero() || m.New.IsZero() {
			return nil, errors.New("a mapping needs an old and a new address")
		}
		if to, ok := seen[m.Old]; ok && to != m.New {
			return nil, fmt.Errorf("%s is mapped to both %s and %s; keep one", m.Old, to, m.New)
		}
		seen[m.Old] = m.New
		if m.Old != m.New {
			rw.add(target{addr: m.Old, to: m.New})
		}
	}
	for _, m := range opts.Mappings {
		if _, old := seen[m.New]; !old || m.Old == m.New {
			rw.add(target{addr: m.New, keep: true})
		}
	}
	for _, m := range opts.Roots {
		if err := rw.addRoot(m); err != nil {
			return nil, err
		}
	}
	rw.markServers(opts.Servers)
	if err := rw.addTexts(opts.Texts, opts.WholeWords); err != nil {
		return nil, err
	}
	if len(opts.Roots)+len(opts.Texts) == 0 && !opts.Repair {
		rw.dropIdle()
	}
	rw.addBlobs()
	return rw, nil
}

// markServers notes which hosts are servers too.
func (rw *Rewriter) markServers(servers []string) {
	for _, s := range rw.seekers {
		h, ok := s.(*host)
		if !ok {
			continue
		}
		name := strings.Trim(h.word, "[]")
		h.loopback = name == "localhost" || name == "::1" || strings.HasPrefix(name, "127.")
		h.server = h.loopback || slices.ContainsFunc(servers, func(s string) bool { return strings.EqualFold(s, name) })
	}
}

// dropIdle spares the search for new hosts, which is there to keep what is inside
// of new addresses, where these cannot hold an old host.
func (rw *Rewriter) dropIdle() {
	var olds []string
	for _, s := range rw.seekers {
		if h := s.(*host); h.old {
			olds = append(olds, h.word)
		}
	}
	rw.seekers = slices.DeleteFunc(rw.seekers, func(s seeker) bool {
		h := s.(*host)
		return !h.old && !slices.ContainsFunc(olds, func(old string) bool {
			return strings.Contains(h.word, old) || slices.ContainsFunc(h.targets, func(t target) bool {
				return strings.Contains(strings.ToLower(t.addr.Path), old)
			})
		})
	})
}

// add looks for an address in every spelling of its host.
func (rw *Rewriter) add(t target) {
	var name string
	name, t.twin = t.addr.bare()
	if t.addr.Path != "" {
		t.words = strings.Split(t.addr.Path[1:], "/")
	}
	for _, sp := range spellings(name, t.to.Host) {
		t.host = sp.to
		h := rw.hostOf(sp.from)
		h.targets = append(h.targets, t)
		h.old = h.old || !t.keep
	}
}

// hostOf gives the seeker of a host name, a new one if need be.
func (rw *Rewriter) hostOf(name string) *host {
	for _, s := range rw.seekers {
		if h, ok := s.(*host); ok && h.word == name {
			return h
		}
	}
	h := &host{finder: newFinder(name)}
	rw.seekers = append(rw.seekers, h)
	return h
}

// mentions reports whether there is anything to change at the host.
func (h *host) mentions() bool { return h.old }

// Idle reports whether there is nothing to look for.
func (rw *Rewriter) Idle() bool { return len(rw.seekers) == 0 }

// Mentions reports whether v holds the bytes of an old host, folder or text
// anywhere. It is the cheap test before anything is parsed.
func (rw *Rewriter) Mentions(v []byte) bool {
	for i := range rw.seekers {
		if rw.next(i, v, 0) >= 0 {
			return true
		}
	}
	return false
}
