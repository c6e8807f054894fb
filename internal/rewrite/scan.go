package rewrite

import (
	"bytes"
	"strconv"
	"strings"
)

// match is an address found in a text.
type match struct {
	from, to int // the bytes of the address
	style    style
	scheme   []byte // as it stands; nil where the address begins with //
	colon    []byte // between scheme and slashes
	target   *target
	out      []byte // what takes its place, where that is known already
	form     Form   // with out
}

// text rewrites the addresses in v, which is no serialized value, and appends
// the result to dst. It returns changed false, and dst as it was, if there was
// nothing to change.
func (rw *Rewriter) text(dst, v []byte, s scope) (out []byte, changed bool) {
	var next [12]int
	places := next[:0]
	for _, k := range rw.seekers {
		places = append(places, k.next(v, 0))
	}
	start, copied := len(dst), 0
	for {
		at := -1
		for _, p := range places {
			if p >= 0 && (at < 0 || p < at) {
				at = p
			}
		}
		if at < 0 {
			break
		}
		m, ok := rw.best(v, places, at, copied, s)
		end := max(at+1, m.to)
		if ok {
			dst = append(dst, v[copied:m.from]...)
			dst = rw.render(dst, &m, s)
			copied = m.to
		}
		for i, p := range places {
			if p >= 0 && p < end {
				places[i] = rw.seekers[i].next(v, end)
			}
		}
	}
	if copied == 0 && len(dst) == start {
		return dst, false
	}
	return append(dst, v[copied:]...), true
}

// best judges the candidates that stand at v[at:]: the longest match wins.
func (rw *Rewriter) best(v []byte, places []int, at, floor int, s scope) (best match, ok bool) {
	for i, p := range places {
		if p != at {
			continue
		}
		if m, is := rw.seekers[i].matchAt(rw, v, at, floor, s); m.to > best.to || m.to == best.to && !is {
			best, ok = m, is
		}
	}
	return best, ok
}

func (h *host) matchAt(rw *Rewriter, v []byte, at, floor int, s scope) (m match, ok bool) {
	end := at + len(h.word)
	begin := at
	www := at-4 >= floor && equalFold(v[at-4:at], "www.")
	if www {
		begin = at - 4
	}
	reason, m := h.frame(v, begin, end, floor)
	if m.style.slash == nil {
		if s.file && !h.loopback && (reason == BareHost || reason == LookAlike && begin > 0 && v[begin-1] == '.') {
			if m, ok := h.settingMatch(v, begin, end, www); ok {
				return m, true
			}
		}
		if reason == BareHost && rw.bare {
			return h.bareMatch(v, begin, end, www, s)
		}
		return h.leave(reason, v, begin, end, s)
	}
	port, after, bad := m.port(v, end)
	if bad {
		return h.leave(LookAlike, v, begin, end, s)
	}
	reason = OtherPort
	for j := range h.targets {
		c := &h.targets[j]
		if !c.fits(&m, www, port) {
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
		return h.leave(reason, v, begin, end, s)
	}
	return m, !m.target.keep
}

// leave counts a leftover, unless nothing at the host was to be changed.
func (h *host) leave(r Reason, v []byte, from, to int, s scope) (match, bool) {
	if h.mentions() && !(r == BareHost && h.server) {
		s.t.leftover(r, v, from, to, "")
	}
	return match{}, false
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
			if inCompound(v, n) {
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
func (c *target) fits(m *match, www bool, port int) bool {
	if port != 0 && m.scheme != nil && port == (Address{Scheme: string(bytes.ToLower(m.scheme))}).defaultPort() {
		port = 0
	}
	if port != c.addr.Port {
		return false
	}
	if c.keep {
		same := www == (c.twin && strings.HasPrefix(c.addr.Host, "www."))
		return same && (m.scheme == nil || equalFold(m.scheme, c.addr.Scheme))
	}
	return !www || c.twin
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

// render appends what takes the place of a match, in its style, and counts it.
func (rw *Rewriter) render(dst []byte, m *match, s scope) []byte {
	form := m.style.form
	if m.target == nil {
		form = m.form
	}
	if s.form != formAsFound {
		form = s.form
	}
	if m.form != FormBase64 { // what is inside has been counted
		s.t.Forms[form]++
	}
	if m.target == nil {
		return append(dst, m.out...)
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
	dst = append(dst, m.target.host...)
	if to.Port != 0 {
		dst = append(dst, m.portColon()...)
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

// bareMatch makes a match of a host name that stands alone, with what stands behind it
// of a port and a base path.
func (h *host) bareMatch(v []byte, begin, end int, www bool, s scope) (match, bool) {
	m := match{from: begin}
	m.style.slash, m.style.form = slashAt(v, end)
	port, after, bad := m.port(v, end)
	if port != 0 {
		m.style.slash, m.style.form = slashAt(v, after)
	}
	reason := BareHost
	for j := range h.targets {
		c := &h.targets[j]
		if bad || !c.fits(&m, www, port) && !(port != 0 && c.addr.Port == 0 && port == c.addr.defaultPort() && (c.keep || !www || c.twin)) {
			continue
		}
		to := after
		if len(c.words) > 0 {
			var ok bool
			if to, ok = m.path(v, after, c.words); m.style.slash == nil || !ok {
				continue
			}
		}
		if m.target == nil || to > m.to || to == m.to && c.keep {
			m.target, m.to = c, to
		}
	}
	if m.target == nil {
		if port != 0 {
			reason = OtherPort
		}
		return h.leave(reason, v, begin, end, s)
	}
	to := *m.target
	if m.out = appendPath([]byte(bareAuthority(&to)), to.to.Path, m.style.slash); to.keep || bytes.Equal(m.out, v[m.from:m.to]) {
		return m, false
	}
	m.target = nil
	return m, true
}

// settingMatch makes a match of a host's name that is a whole value of settings: in
// quotes, or from an equals sign or colon to the end of the line; a full stop may stand
// before it, as in the domains of cookies, and its port behind it.
func (h *host) settingMatch(v []byte, begin, end int, www bool) (match, bool) {
	from := begin
	if from > 0 && v[from-1] == '.' {
		from--
	}
	m := match{from: begin}
	port, after, bad := m.port(v, end)
	if bad || from == 0 {
		return m, false
	}
	next := byte('\n')
	if after < len(v) {
		next = v[after]
	}
	switch quote := v[from-1]; {
	case quote == '\'' || quote == '"':
		if next != quote {
			return m, false
		}
	default:
		i := from
		for i > 0 && (v[i-1] == ' ' || v[i-1] == '\t') {
			i--
		}
		if i == 0 || v[i-1] != '=' && v[i-1] != ':' || next != '\n' && next != '\r' {
			return m, false
		}
	}
	for j := range h.targets {
		c := &h.targets[j]
		if c.keep || www && !c.twin || port != c.addr.Port && !(port == c.addr.defaultPort() && c.addr.Port == 0) {
			continue
		}
		to := c.host
		if from < begin {
			to = strings.TrimPrefix(to, "www.")
		}
		if port != 0 && c.to.Port != 0 {
			to += ":" + strconv.Itoa(c.to.Port)
		}
		if m.to = after; equalFold(v[begin:after], to) {
			return m, false
		}
		m.out, m.form = []byte(to), FormPlain
		return m, true
	}
	return m, false
}

// bareAuthority gives the new host of a target with its port.
func bareAuthority(c *target) string {
	if c.to.Port == 0 {
		return c.host
	}
	return c.host + ":" + strconv.Itoa(c.to.Port)
}

// compounds are words that make another scheme of http, alone or with a plus sign.
var compounds = map[string]bool{"s": true, "git+": true, "svn+": true, "hg+": true, "bzr+": true, "fossil+": true, "darcs+": true,
	"dav+": true, "davs+": true, "webdav+": true, "caldav+": true, "carddav+": true, "coap+": true, "rtsp+": true, "unix+": true, "feed+": true}

// inCompound reports whether http at v[at:] is the end of a longer scheme that is known.
// Anything else before it is glued to an address by mistake.
func inCompound(v []byte, at int) bool {
	from := at
	for from > 0 && at-from < 10 && (isAlnum(v[from-1]) || v[from-1] == '+') {
		from--
	}
	return from < at && compounds[strings.ToLower(string(v[from:at]))] && boundaryBefore(v, from)
}
