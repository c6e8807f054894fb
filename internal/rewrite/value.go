package rewrite

import (
	"bytes"
	"errors"
	"net/url"
	"regexp"
	"sync"

	"hovix/internal/rewrite/serialized"
)

// maxNesting is how many encodings may lie one in another. Real values have
// two or three; the limit keeps a hostile one from exhausting the stack.
const maxNesting = 32

// Value rewrites the addresses in one value, such as a cell of a table. It
// returns v itself and false if nothing was to be changed, a new slice and
// true otherwise. Counts go to t.
func (rw *Rewriter) Value(v []byte, t *Tally) ([]byte, bool) { return rw.ValueIn(nil, v, t) }

// ValueIn is Value with room for the result: where v is changed, the new value
// may lie in buf, which is written over.
func (rw *Rewriter) ValueIn(buf, v []byte, t *Tally) ([]byte, bool) {
	return rw.whole(buf, v, scope{t: t, form: formAsFound})
}

// BytesIn is ValueIn for a value of a column of bytes, such as BLOB and bytea, which may
// hold anything: text in it is rewritten where the whole value is text.
func (rw *Rewriter) BytesIn(buf, v []byte, t *Tally) ([]byte, bool) {
	return rw.whole(buf, v, scope{t: t, form: formAsFound, bytes: true})
}

// Settings is Value for a file of settings, in which a host's name that is a value as a
// whole, in quotes or behind an equals sign, is an address too: cookies and accounts hang on
// it.
func (rw *Rewriter) Settings(v []byte, t *Tally) ([]byte, bool) {
	return rw.whole(nil, v, scope{t: t, form: formAsFound, file: true})
}

// Look counts the addresses in a text file that stays as it is.
func (rw *Rewriter) Look(v []byte, t *Tally) {
	var would Tally
	if _, changed := rw.Value(v, &would); !changed || would.Occurrences() == 0 {
		return
	}
	t.Values++
	at := rw.Places(v)(0)
	t.leftover(InFile, v, at, min(len(v), at+40), "")
	t.Leftovers[InFile] += would.Occurrences() - 1
}

func (rw *Rewriter) whole(buf, v []byte, s scope) ([]byte, bool) {
	t := s.t
	if looksCompressed(v) {
		if out, changed, ok := rw.compressed(v, t); ok {
			return out, changed
		}
	}
	if !rw.Mentions(v) {
		return v, false
	}
	t.Values++
	out, changed := rw.value(buf[:0], v, s)
	if !changed {
		return v, false
	}
	t.Changed++
	return out, true
}

// Keep counts the mentions in an identifier that must not change.
func (rw *Rewriter) Keep(v []byte, t *Tally) {
	if rw.Mentions(v) {
		t.Leave(Kept, v, "")
	}
}

// value rewrites v, or a part of it that stands for itself, in its format. The
// result is appended to dst, which is nil or empty, or is a slice of its own.
func (rw *Rewriter) value(dst, v []byte, s scope) ([]byte, bool) {
	if s.depth > maxNesting {
		s.t.leftover(TooDeep, v, 0, min(len(v), 40), "")
		return v, false
	}
	if serialized.Looks(v) {
		out, changed, err := rw.serialized(dst, v, s)
		if err == nil {
			return out, changed
		}
		if plausible(v) {
			return rw.notSerialized(v, s, err)
		}
	} else if looksPercentSerialized(v) {
		if out, changed, ok := rw.percent(v, s); ok {
			return out, changed
		}
		s.t.leftover(Broken, v, 0, min(len(v), 60), "serialized and percent-encoded in an unknown manner")
		return v, false
	}
	if what := notText(v, s.bytes); what != "" {
		rw.leaveBinary(v, what, s.t)
		return v, false
	}
	if holdsEscapedSerialized(v) {
		return rw.json(v, s)
	}
	return rw.text(dst, v, s)
}

func (rw *Rewriter) serialized(dst, v []byte, s scope) ([]byte, bool, error) {
	w := walkers.Get().(*walker)
	w.rw, w.v, w.s = rw, v, s.in(FormSerialized)
	w.s.bytes = false // texts of PHP
	w.start()
	out, changed, err := serialized.Rewrite(dst, v, w)
	w.rw, w.v, w.s = nil, nil, scope{}
	walkers.Put(w)
	return out, changed, err
}

// walker rewrites the strings of a serialized value.
type walker struct {
	rw  *Rewriter
	v   []byte
	s   scope
	buf []byte
	at  []int // the next mention for each seeker; -1: no more
}

var walkers = sync.Pool{New: func() any { return &walker{} }}

// String rewrites one string.
func (p *walker) String(part []byte) ([]byte, bool) {
	out, changed := p.rw.value(p.buf[:0], part, p.s)
	if changed && cap(out) > cap(p.buf) && cap(out) < 1<<16 {
		p.buf = out
	}
	return out, changed
}

// Next gives the place of the first mention at or after from, len(v) if there
// is none.
func (p *walker) Next(from int) int {
	first := len(p.v)
	for i := range p.at {
		if p.at[i] >= 0 && p.at[i] < from {
			p.at[i] = p.rw.next(i, p.v, from)
		}
		if p.at[i] >= 0 {
			first = min(first, p.at[i])
		}
	}
	return first
}

// next gives the place of the next mention for the i-th seeker, or -1.
func (rw *Rewriter) next(i int, v []byte, from int) int {
	if s := rw.seekers[i]; rw.repair || s.mentions() {
		return s.next(v, from)
	}
	return -1
}

// Places returns a function that gives the place of the first mention of
// something old in v at or after from, len(v) if there is none. It must be asked
// with ever larger places, and looks at each byte once.
func (rw *Rewriter) Places(v []byte) func(from int) int {
	w := &walker{rw: rw, v: v}
	w.start()
	return w.Next
}

// start looks for the first mention of each kind.
func (p *walker) start() {
	p.at = p.at[:0]
	for i := range p.rw.seekers {
		p.at = append(p.at, p.rw.next(i, p.v, 0))
	}
}

// notSerialized takes a value that was meant to be serialized and does not
// parse: one in which quotes are escaped, or a broken one.
func (rw *Rewriter) notSerialized(v []byte, s scope, err error) ([]byte, bool) {
	if out, changed, ok := rw.escaped(v, s); ok {
		return out, changed
	}
	if rw.repair {
		if mended, err := serialized.Repair(v); err == nil {
			s.t.Repaired++
			if out, changed, err := rw.serialized(nil, mended, s); err == nil && changed {
				return out, true
			}
			return mended, true
		}
	}
	var syntax *serialized.SyntaxError
	detail := ""
	if errors.As(err, &syntax) {
		detail = syntax.Error()
	}
	s.t.leftover(Broken, v, 0, min(len(v), 60), detail)
	return v, false
}

// escaped takes a serialized value in which quotes and backslashes are escaped
// by a backslash, as in a string of a program. ok is false if it is none.
func (rw *Rewriter) escaped(v []byte, s scope) (out []byte, changed, ok bool) {
	if !bytes.Contains(v[:min(len(v), 4096)], []byte(`\"`)) {
		return nil, false, false
	}
	plain, m, decoded := decodeString(v)
	if !decoded || !bytes.Equal(m.encode(nil, plain), v) || serialized.Valid(plain) != nil {
		return nil, false, false
	}
	s.depth++
	if out, changed = rw.value(nil, plain, s); changed {
		out = m.encode(nil, out)
	}
	return out, changed, true
}

// looksPercentSerialized reports whether v begins like a:1: or s:1: in
// percent-encoding.
func looksPercentSerialized(v []byte) bool {
	if len(v) < 8 || !serialized.Looks([]byte{v[0], ':', '1', ':'}) {
		return false
	}
	return bytes.EqualFold(v[1:4], []byte("%3a")) && v[4] >= '0' && v[4] <= '9'
}

// percent takes a serialized value that is percent-encoded as a whole. ok is
// false if encoding it again would not give the same bytes.
func (rw *Rewriter) percent(v []byte, s scope) (out []byte, changed, ok bool) {
	plain, err := url.QueryUnescape(string(v))
	if err != nil || serialized.Valid([]byte(plain)) != nil {
		return nil, false, false
	}
	for _, encode := range [...]func(string) string{url.QueryEscape, rawEscape, smallEscape} {
		if encode(plain) != string(v) {
			continue
		}
		s.depth++
		if out, changed = rw.value(nil, []byte(plain), s); changed {
			out = []byte(encode(string(out)))
		}
		return out, changed, true
	}
	return nil, false, false
}

// rawEscape is QueryEscape with %20 for a space, as RFC 3986 has it.
func rawEscape(s string) string {
	return string(bytes.ReplaceAll([]byte(url.QueryEscape(s)), []byte("+"), []byte("%20")))
}

// smallEscape is rawEscape with small letters as digits.
func smallEscape(s string) string {
	b := []byte(rawEscape(s))
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			b[i+1], b[i+2] = toLower(b[i+1]), toLower(b[i+2])
		}
	}
	return string(b)
}

// plausible reports whether a value that does not parse was nevertheless meant
// to be serialized, rather than prose that happens to begin with "a:1:{": what comes first
// in it does parse.
func plausible(v []byte) bool {
	return meant.Match(v[:min(len(v), 400)]) && (v[0]|0x20 != 's' || closesString(v))
}

// meant is the beginning of an array with its first key, of an object or a case of an
// enumeration with its name, and of a text; quotes may be escaped.
var meant = regexp.MustCompile(`^(?:a:\d+:\{(?:i:-?\d|[sS]:\d+:\\*"|\}|$)|[OCE]:\d+:\\*"[^"\s(]*(?:\\*"|$)|[sS]:\d+:\\*")`)

// closesString reports whether a text ends somewhere as serialized ones do.
func closesString(v []byte) bool { return bytes.Contains(v, []byte(`";`)) }
