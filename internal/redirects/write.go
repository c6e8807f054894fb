package redirects

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"hovix/internal/webpath"
)

// WriteOptions sets what is written.
type WriteOptions struct {
	For      string    // one of Targets
	Site     string    // the new site's address: new paths become absolute
	OldSite  string    // the old site's address: in CSV, old paths become absolute
	Map      string    // name of the map, for the comment
	File     string    // name of the first file as it will be called
	Now      time.Time // for the comment
	Comma    rune      // of CSV
	NoHeader bool      // of CSV
}

// Target is something that rules are written for.
type WriteTarget struct {
	Name    string
	Means   string
	Install string // how to put it in its place; %s is the file
	Comment string // what begins a line that is not read; empty: there is none
	write   func(w *ruleWriter) error
}

// Targets are all that rules are written for.
var Targets = []WriteTarget{
	{"apache", "Apache's configuration: RedirectMatch, and rewrite rules for queries", "put it into the site's <VirtualHost>:  Include %s  — then: apachectl configtest && apachectl graceful", "#", (*ruleWriter).apache},
	{"htaccess", "an .htaccess file: rewrite rules", "put it at the top of the .htaccess in the site's folder, above what is there", "#", (*ruleWriter).htaccess},
	{"nginx", "nginx, in a server block: exact locations, and conditions for queries and rules", "put it into the site's server { … }:  include %s;  — then: nginx -t && nginx -s reload", "#", (*ruleWriter).nginx},
	{"nginx-map", "nginx, in the http block: a map, for very many rows", "put it into http { … }:  include %s;  and into the site's server { … } the lines at the end of it; then: nginx -t && nginx -s reload", "#", (*ruleWriter).nginxMap},
	{"caddy", "a Caddyfile: maps", "put it into the site's block:  import %s  — then: caddy reload", "#", (*ruleWriter).caddy},
	{"haproxy", "HAProxy: a map file, and one for rules", "put the lines with which it begins into the frontend, with the path where the file lies; then: haproxy -c -f haproxy.cfg and reload", "#", (*ruleWriter).haproxy},
	{"iis", "IIS: a web.config with the URL Rewrite module", "put it into the site's folder, or its <rewrite> into the web.config that is there", "", (*ruleWriter).iis},
	{"static", "pages that send their reader on, for hosts without rules", "upload the folder's content into the site's root, beside its own files", "", (*ruleWriter).static},
	{"csv", "two columns, old and new, for an import", "", "", (*ruleWriter).csv},
}

// TargetNamed gives a target by its name; nil if there is none.
func TargetNamed(name string) *WriteTarget {
	for i := range Targets {
		if Targets[i].Name == name {
			return &Targets[i]
		}
	}
	return nil
}

// Skipped is a row that cannot be written, and why.
type Skipped struct {
	From string `json:"from"`
	Why  string `json:"why"`
}

// Rules is what was written.
type Rules struct {
	Rows    int       `json:"rows"`  // for single addresses
	Rules   int       `json:"rules"` // for many
	Skipped []Skipped `json:"skipped,omitempty"`
	Files   []string  `json:"files"`
}

// ErrTarget says that there are no rules of a name.
var ErrTarget = errors.New("unknown kind of rules")

// Write writes a map as rules. Each file is made by create, the first under the name "",
// others under the end of their name, or under their path in a folder.
func Write(m *Map, opts WriteOptions, create func(name string) (io.WriteCloser, error)) (*Rules, error) {
	t := TargetNamed(opts.For)
	if t == nil {
		return nil, fmt.Errorf("%w: %q", ErrTarget, opts.For)
	}
	w := &ruleWriter{opts: opts, target: t, create: create, res: &Rules{}}
	if err := w.sort(m); err != nil {
		return nil, err
	}
	if err := t.write(w); err != nil {
		return nil, err
	}
	if w.out != nil {
		if err := w.out.Close(); err != nil {
			return nil, err
		}
	}
	return w.res, w.err
}

// exact is a row for one address.
type exact struct {
	key    string
	path   string // normal
	query  string
	has    bool // a query
	to     string
	status int
}

// raw reports whether servers that decode paths cannot tell the row's from another: it
// has an encoded slash, or empty segments, which they join.
func (e *exact) raw() bool { return strings.Contains(e.path, "%2F") || strings.Contains(e.path, "//") }

type ruleWriter struct {
	opts   WriteOptions
	target *WriteTarget
	create func(string) (io.WriteCloser, error)
	out    io.WriteCloser
	res    *Rules
	rows   []exact
	rules  []*Rule
	err    error
}

// sort takes the rows apart: the first of each address, in the order of addresses, and
// the rules in their own.
func (w *ruleWriter) sort(m *Map) error {
	seen := map[string]bool{}
	for i := range m.Rows {
		row := &m.Rows[i]
		if row.Bad != "" {
			w.skip(row.From, row.Bad)
			continue
		}
		if IsRule(row.From) {
			r, err := ParseRule(row.From, w.absolute(row.To), row.status())
			if err != nil {
				w.skip(row.From, err.Error())
				continue
			}
			w.rules = append(w.rules, r)
			continue
		}
		t, err := ParseTarget(row.From)
		if err == nil && row.To == "" && row.status() != 410 {
			err = errors.New("it has no target")
		}
		if err != nil {
			w.skip(row.From, err.Error())
			continue
		}
		e := exact{key: t.Key(), path: t.Path, query: t.Query, has: t.HasQuery, status: row.status()}
		if seen[e.key] {
			w.skip(row.From, "there is a row for this address before")
			continue
		}
		if e.status != 410 {
			to, err := ParseTarget(row.To)
			if err != nil {
				w.skip(row.From, err.Error())
				continue
			}
			if to.Host == "" && to.Key() == e.key && w.opts.Site == "" {
				w.skip(row.From, "it leads to itself, for ever")
				continue
			}
			e.to = w.absolute(safe(to.String()))
		}
		seen[e.key] = true
		w.rows = append(w.rows, e)
	}
	slices.SortFunc(w.rows, func(a, b exact) int { return strings.Compare(a.key, b.key) })
	w.res.Rows, w.res.Rules = len(w.rows), len(w.rules)
	return nil
}

// absolute puts the new site's address before a path.
func (w *ruleWriter) absolute(to string) string {
	if w.opts.Site != "" && strings.HasPrefix(to, "/") {
		return strings.TrimSuffix(w.opts.Site, "/") + to
	}
	return to
}

// safe encodes what configurations give a meaning, in an address where it has none.
func safe(to string) string {
	return strings.NewReplacer(" ", "%20", `"`, "%22", "$", "%24", "{", "%7B", "}", "%7D", "`", "%60", `\`, "%5C", "<", "%3C", ">", "%3E", "^", "%5E", "|", "%7C").Replace(to)
}

func (w *ruleWriter) skip(from, why string) {
	w.res.Skipped = append(w.res.Skipped, Skipped{from, why})
}

// file begins a file with its comment.
func (w *ruleWriter) file(name string) {
	if w.out != nil && w.err == nil {
		w.err = w.out.Close()
	}
	if w.err != nil {
		return
	}
	if w.out, w.err = w.create(name); w.err != nil {
		w.out = nil
		return
	}
	w.res.Files = append(w.res.Files, name)
	if c := w.target.Comment; c != "" {
		for _, l := range w.about() {
			w.line("%s %s", c, commentText(l))
		}
		w.line("")
	}
}

// commentText gives a text as it can stand in a comment, which ends with its line.
func commentText(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return '\ufffd'
		}
		return r
	}, s)
}

// about says from which map a file was made, when, how much is in it, and where it goes.
func (w *ruleWriter) about() []string {
	out := []string{fmt.Sprintf("Redirects made by Hovix from %s on %s: %s, %s.", cmp.Or(w.opts.Map, "a map"), w.opts.Now.Format("2 January 2006, 15:04"), plural(w.res.Rows, "address", "addresses"), plural(w.res.Rules, "rule", "rules"))}
	if w.target.Install != "" {
		install := w.target.Install
		if strings.Contains(install, "%s") {
			install = fmt.Sprintf(install, cmp.Or(w.opts.File, "this file"))
		}
		out = append(out, "To install: "+install)
	}
	return append(out, "Change the map and write this anew rather than editing it here.")
}

// ErrUnprovable says that a line of rules would not be one line to the server.
var ErrUnprovable = errors.New("an address would end the line in which it stands; nothing of the map is to be used before this is mended")

// ownText is text of several lines that is ours.
type ownText string

// joined puts lines together, none of which may hold another.
func (w *ruleWriter) joined(lines []string, separator string) ownText {
	for _, l := range lines {
		w.prove(l)
	}
	return ownText(strings.Join(lines, separator))
}

// prove notes a text that would end the line in which it is to stand.
func (w *ruleWriter) prove(s string) {
	if w.err == nil && strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }) {
		w.err = fmt.Errorf("%w: %q", ErrUnprovable, s)
	}
}

// line writes lines as format has them: what is put into them can add none.
func (w *ruleWriter) line(format string, args ...any) {
	for _, a := range args {
		if s, ok := a.(string); ok {
			w.prove(s)
		}
	}
	if w.err == nil && w.out != nil {
		_, w.err = fmt.Fprintf(w.out, format+"\n", args...)
	}
}

// rawPattern gives a regular expression for an address as browsers send it: encoded, its
// hexadecimal digits in either case.
func rawPattern(address string) string {
	return hexDigits.ReplaceAllStringFunc(regexp.QuoteMeta(address), func(s string) string {
		var b strings.Builder
		b.WriteByte('%')
		for _, c := range s[1:] {
			if c >= 'A' && c <= 'F' {
				fmt.Fprintf(&b, "[%c%c]", c, c|0x20)
			} else {
				b.WriteRune(c)
			}
		}
		return b.String()
	})
}

var hexDigits = regexp.MustCompile(`%[0-9A-F]{2}`)

// rulePattern gives the expression of a rule, with literals as literal makes them.
func rulePattern(r *Rule, literal func(string) string) string {
	var b strings.Builder
	for _, p := range r.parts {
		if p.name == "" {
			b.WriteString(literal(p.text))
		} else {
			b.WriteString("(" + patternOf(p.name) + ")")
		}
	}
	return b.String()
}

// ruleTarget gives the new address of a rule, with group naming what a placeholder took.
func ruleTarget(r *Rule, group func(n int) string) string {
	number := map[string]int{}
	for _, p := range r.parts {
		if p.name != "" {
			number[p.name] = len(number) + 1
		}
	}
	var b strings.Builder
	at := 0
	query := false // a query stays as it is
	literal := func(s string) {
		if query {
			b.WriteString(safe(s))
			return
		}
		b.WriteString(safe(normalTarget(s)))
		query = strings.ContainsAny(s, "?#")
	}
	for _, m := range placeholderIn.FindAllStringSubmatchIndex(r.To, -1) {
		literal(r.To[at:m[0]])
		b.WriteString(group(number[r.To[m[2]:m[3]]]))
		at = m[1]
	}
	literal(r.To[at:])
	return b.String()
}

// normalTarget encodes what must be in a piece of an address.
func normalTarget(s string) string {
	if strings.Contains(s, "://") {
		return s
	}
	path, rest := s, ""
	if at := strings.IndexAny(s, "?#"); at >= 0 {
		path, rest = s[:at], s[at:]
	}
	p := normalPart(path)
	if strings.HasPrefix(path, "/") && !strings.HasPrefix(p, "/") {
		p = "/" + p
	}
	return p + rest
}

// hasQuery reports whether a rule is for addresses with a query.
func (r *Rule) hasQuery() bool {
	return slices.ContainsFunc(r.parts, func(p part) bool { return p.name == "" && strings.Contains(p.text, "?") })
}

// csv writes two columns.
func (w *ruleWriter) csv() error {
	w.file("")
	if w.err != nil {
		return w.err
	}
	f := DefaultFormat
	if w.opts.Comma != 0 {
		f.Comma = w.opts.Comma
	}
	t, err := NewTableWriter(w.out, f)
	if err != nil {
		return err
	}
	if !w.opts.NoHeader {
		if err := t.Write([]string{"from", "to"}); err != nil {
			return err
		}
	}
	for _, e := range w.rows {
		if e.status == 410 {
			w.skip(e.key, "a page that is gone has no target")
			continue
		}
		if err := t.Write([]string{strings.TrimSuffix(w.opts.OldSite, "/") + e.key, e.to}); err != nil {
			return err
		}
	}
	for _, r := range w.rules {
		w.skip(r.From, "a list of addresses holds no rules; write it of the map with single rows")
	}
	return t.Flush()
}

// static writes a page for each old address, which sends its reader on.
func (w *ruleWriter) static() error {
	for _, e := range w.rows {
		switch {
		case e.has:
			w.skip(e.key, "a host of files does not look at queries")
			continue
		case e.status == 410:
			w.skip(e.key, "a host of files answers with 404 by itself")
			continue
		case e.raw(), strings.Contains(e.path, "%00"):
			w.skip(e.key, "its name cannot be that of a file")
			continue
		}
		name := strings.TrimPrefix(webpath.Decoded(e.path), "/")
		if strings.HasSuffix(name, "/") || !strings.Contains(path.Base(name), ".") {
			name = path.Join(name, "index.html")
		}
		if !filepath.IsLocal(filepath.FromSlash(name)) {
			w.skip(e.key, "its name cannot be that of a file")
			continue
		}
		w.file(name)
		w.line("<!doctype html>\n<html>\n<meta charset=\"utf-8\">\n<title>This page has moved</title>\n<link rel=\"canonical\" href=\"%[1]s\">\n<meta name=\"robots\" content=\"noindex\">\n<meta http-equiv=\"refresh\" content=\"0; url=%[1]s\">\n<p>This page has moved: <a href=\"%[1]s\">%[1]s</a>.</p>\n</html>", htmlText(e.to))
	}
	for _, r := range w.rules {
		w.skip(r.From, "a host of files follows no rules; write it of the map with single rows")
	}
	return w.err
}

func htmlText(s string) string {
	return strings.NewReplacer("&", "&amp;", `"`, "&#34;", "<", "&lt;", ">", "&gt;").Replace(s)
}
