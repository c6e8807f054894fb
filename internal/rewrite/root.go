package rewrite

import (
	"bytes"
	"fmt"
	"path"
	"strings"
)

// root is a folder on the old server to look for.
type root struct {
	word  []byte // the longest segment, by which it is found
	index int    // of word in words
	words []string
	to    string
}

func (rw *Rewriter) addRoot(m RootMapping) error {
	for _, p := range []string{m.Old, m.New} {
		if !strings.HasPrefix(p, "/") || path.Clean(p) != p {
			return fmt.Errorf("the folder %q is not an absolute path in its shortest form", p)
		}
	}
	words := strings.Split(m.Old[1:], "/")
	// A single top-level folder such as /srv would match far too much.
	if m.Old == m.New || len(words) < 2 {
		return nil
	}
	r := root{words: words, to: m.New}
	for i, w := range words {
		if len(w) > len(r.word) {
			r.word, r.index = []byte(w), i
		}
	}
	rw.roots = append(rw.roots, r)
	return nil
}

func (r *root) next(v []byte, from int) int {
	if from > len(v) {
		return -1
	}
	if n := bytes.Index(v[from:], r.word); n >= 0 {
		return from + n
	}
	return -1
}

// matchAt judges whether the folder stands around its longest segment at v[at:].
func (r *root) matchAt(v []byte, at, floor int) (m match, ok bool) {
	m.from = at
	for i := r.index; ; i-- {
		slash, form := slashBefore(v, m.from)
		if slash == nil || m.style.slash != nil && !bytes.EqualFold(slash, m.style.slash) {
			return match{}, false
		}
		m.style = style{slash, form}
		m.from -= len(slash)
		if i == 0 {
			break
		}
		w := r.words[i-1]
		if m.from-len(w) < floor || string(v[m.from-len(w):m.from]) != w {
			return match{}, false
		}
		m.from -= len(w)
	}
	if m.from < floor || !boundaryBefore(v, m.from) || m.from > 0 && (v[m.from-1] == '/' || v[m.from-1] == ':' && m.style.form == FormPlain && m.from > 1 && isAlnum(v[m.from-2])) {
		return match{}, false
	}
	m.to = at + len(r.word)
	end, complete := m.path(v, m.to, r.words[r.index+1:])
	if !complete || !m.style.endsPath(v, end) {
		return match{}, false
	}
	m.to, m.root = end, r
	// The new folder may lie in the old one: then it is there already.
	if rest, inside := strings.CutPrefix(r.to, "/"+strings.Join(r.words, "/")+"/"); inside {
		if end, there := m.path(v, m.to, strings.Split(rest, "/")); there {
			m.to = end
			return m, false
		}
	}
	return m, true
}

func (r *root) render(dst []byte, m *match) []byte { return appendPath(dst, r.to, m.style.slash) }
