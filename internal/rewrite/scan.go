package rewrite

import (
	"bytes"
	"strconv"
)

// match is an address found in a text.
type match struct {
	from, to int // the bytes of the address
	style    style
	scheme   []byte // as it stands; nil where the address begins with //
	colon    []byte // between scheme and slashes
	target   *target
	root     *root
}

// text rewrites the addresses in v, which is no serialized value, and appends
// the result to dst. It returns changed false, and dst as it was, if there was
// nothing to change.
func (rw *Rewriter) text(dst, v []byte, t *Tally, nested bool) (out []byte, changed bool) {
	var next [8]int
	places := next[:0]
	n := len(rw.hosts) + len(rw.roots)
	for i := range n {
		places = append(places, rw.find(i, v, 0))
	}
	start, copied := len(dst), 0
	for {
		first := -1
		for i, p := range places {
			if p >= 0 && (first < 0 || p < places[first]) {
				first = i
			}
		}
		if first < 0 {
			break
		}
		at := places[first]
		m, ok := rw.matchAt(first, v, at, copied, t)
		end := at + 1
		if ok {
			dst = append(dst, v[copied:m.from]...)
			dst = rw.render(dst, v, &m)
			copied, end = m.to, m.to
			form := m.style.form
			if m.root != nil {
				form = FormPath
			}
			if nested {
				form = FormSerialized
			}
			t.Forms[form]++
		} else if m.target != nil || m.root != nil { // to keep
			end = m.to
		}
		for i, p := range places {
			if p >= 0 && p < end {
				places[i] = rw.find(i, v, end)
			}
		}
	}
	if copied == 0 && len(dst) == start {
		return dst, false
	}
	return append(dst, v[copied:]...), true
}

func (rw *Rewriter) find(i int, v []byte, from int) int {
	if i < len(rw.hosts) {
		return rw.hosts[i].next(v, from)
	}
	return rw.roots[i-len(rw.hosts)].next(v, from)
}

// matchAt judges the i-th word at v[at:]. Bytes before floor are written
// already. It returns ok true for an address to rewrite; an address to keep
// comes back with its target and ok false. What is neither is counted as a
// leftover where it mentions an old address.
func (rw *Rewriter) matchAt(i int, v []byte, at, floor int, t *Tally) (m match, ok bool) {
	if i >= len(rw.hosts) {
		return rw.roots[i-len(rw.hosts)].matchAt(v, at, floor)
	}
	h := &rw.hosts[i]
	end := at + len(h.word)
	begin := at
	www := at-4 >= floor && equalFold(v[at-4:at], "www.")
	if www {
		begin = at - 4
	}
	reason, m := h.frame(v, begin, end, floor)
	if m.style.slash == nil {
		if reason == BareHost && rw.bare {
			return rw.bareMatch(h, v, begin, end, www)
		}
		rw.note(h, reason, v, begin, end, t)
		return match{}, false
	}
	port, after, bad := m.port(v, end)
	if bad {
		rw.note(h, LookAlike, v, begin, end, t)
		return match{}, false
	}
	reason = OtherPort
	for j := range h.targets {
		c := &h.targets[j]
		if !c.fits(&m, v[begin:end], www, port) {
			continue
		}
		to, ok := m.path(v, after, c.words)
		if !ok {
			reason = OtherPath
			continue
		}
		if m.target == nil || to > m.to || to == m.to && c.keep {
			m.target, m.to = c, to
		}
	}
	if m.target == nil {
		rw.note(h, reason, v, begin, end, t)
		return match{}, false
	}
	return m, !m.target.keep
}

// note counts a leftover, unless nothing at the host was to be changed.
func (rw *Rewriter) note(h *host, r Reason, v []byte, from, to int, t *Tally) {
	if !h.onlyKeeps() {
		t.leftover(r, v, from, to, "")
	}
}

// frame reads what stands around a host name: the slashes and the scheme
// before it, and whether the name ends where it seems to. Without slashes it
// gives the reason why this is no address.
func (h *host) frame(v []byte, begin, end, floor int) (Reason, match) {
	if !endsHost(v, end) {
		return LookAlike, match{}
	}
	slash, form := slashBefore(v, begin)
	if slash == nil {
		switch {
		case begin > 0 && v[begin-1] == '@', begin > 2 && equalFold(v[begin-2:begin], "40") && percentBefore(v, begin-2) >= 0:
			return Email, match{}
		case !boundaryBefore(v, begin):
			return LookAlike, match{}
		}
		return BareHost, match{}
	}
	first, _ := slashBefore(v, begin-len(slash))
	if !bytes.EqualFold(first, slash) {
		return BareHost, match{}
	}
	m := match{from: begin - 2*len(slash), style: style{slash, form}}
	if m.from < floor {
		return BareHost, match{}
	}
	if m.colon = m.style.colonBefore(v, m.from); m.colon == nil {
		if !boundaryBefore(v, m.from) || m.from > 0 && v[m.from-1] == '/' {
			return BareHost, match{}
		}
		return 0, m
	}
	at := m.from - len(m.colon)
	for _, s := range [...]string{"https", "http"} {
		if n := at - len(s); n >= floor && equalFold(v[n:at], s) {
			if !boundaryBefore(v, n) {
				break
			}
			m.scheme, m.from = v[n:at], n
			return 0, m
		}
	}
	return OtherScheme, match{}
}

// port reads a port after the host. bad says that a user name, not a host, was
// read.
func (m *match) port(v []byte, at int) (port, after int, bad bool) {
	c := m.style.colonAfter(v, at)
	if c == nil {
		return 0, at, at < len(v) && v[at] == '@'
	}
	i := at + len(c)
	for i < len(v) && i-at-len(c) < 6 && v[i] >= '0' && v[i] <= '9' {
		port = port*10 + int(v[i]-'0')
		i++
	}
	if i < len(v) && v[i] == '@' {
		return 0, at, true
	}
	if i == at+len(c) {
		return 0, at, false // a colon of the text
	}
	return port, i, false
}

// fits reports whether scheme, host and port of the match are those of c.
func (c *target) fits(m *match, host []byte, www bool, port int) bool {
	if port != 0 && m.scheme != nil && port == (Address{Scheme: string(bytes.ToLower(m.scheme))}).defaultPort() {
		port = 0
	}
	if port != c.addr.Port {
		return false
	}
	if c.keep {
		return equalFold(host, c.addr.Host) && (m.scheme == nil || equalFold(m.scheme, c.addr.Scheme))
	}
	return !www || c.twin || equalFold(host, c.addr.Host)
}

// path reads the base path words after v[:at] and gives its end.
func (m *match) path(v []byte, at int, words []string) (int, bool) {
	for _, w := range words {
		s := m.style.slashAfter(v, at)
		if s == nil || !bytes.HasPrefix(v[at+len(s):], []byte(w)) {
			return 0, false
		}
		at += len(s) + len(w)
	}
	return at, len(words) == 0 || m.style.endsPath(v, at)
}

// render appends the new address in the style of the old.
func (rw *Rewriter) render(dst, v []byte, m *match) []byte {
	if m.root != nil {
		return m.root.render(dst, m)
	}
	to := m.target.to
	if m.scheme != nil {
		dst = append(dst, to.Scheme...)
		dst = append(dst, m.colon...)
	}
	if m.style.slash != nil {
		dst = append(dst, m.style.slash...)
		dst = append(dst, m.style.slash...)
	}
	dst = append(dst, to.Host...)
	if to.Port != 0 {
		dst = append(dst, m.style.colon()...)
		dst = strconv.AppendInt(dst, int64(to.Port), 10)
	}
	return appendPath(dst, to.Path, m.style.slash)
}

func appendPath(dst []byte, path string, slash []byte) []byte {
	if slash == nil {
		slash = []byte("/")
	}
	for i := range len(path) {
		if path[i] == '/' {
			dst = append(dst, slash...)
		} else {
			dst = append(dst, path[i])
		}
	}
	return dst
}

// bareMatch makes a match of a host name that stands alone.
func (rw *Rewriter) bareMatch(h *host, v []byte, begin, end int, www bool) (match, bool) {
	for j := range h.targets {
		c := &h.targets[j]
		if c.keep || c.addr.Path != "" || c.addr.Port != 0 || www && !c.twin {
			continue
		}
		to := *c
		to.to.Path, to.to.Port = "", 0
		return match{from: begin, to: end, target: &to}, true
	}
	return match{}, false
}
