package rewrite

import (
	"bytes"
	"fmt"
	"path"
	"strings"
)

// root is a folder on the old server to look for.
type root struct {
	word    string // the longest segment, by which it is found
	index   int    // of word in words
	words   []string
	windows bool // begins with a drive; letter case does not count, and both slashes serve
	to      string
}

func (rw *Rewriter) addRoot(m RootMapping) error {
	old, oldDrive, err := cleanRoot(m.Old)
	if err != nil {
		return err
	}
	to, _, err := cleanRoot(m.New)
	if err != nil {
		return err
	}
	words := strings.Split(strings.TrimPrefix(old, "/"), "/")
	// A single top-level folder such as /srv would match far too much.
	if old == to || len(words) < 2 {
		return nil
	}
	r := &root{words: words, windows: oldDrive, to: to}
	for i, w := range words {
		if len(w) > len(r.word) && (i > 0 || !oldDrive) {
			r.word, r.index = w, i
		}
	}
	rw.seekers = append(rw.seekers, r)
	return nil
}

// cleanRoot checks an absolute path and gives it with slashes.
func cleanRoot(p string) (clean string, drive bool, err error) {
	if len(p) > 2 && isAlnum(p[0]) && p[1] == ':' && (p[2] == '\\' || p[2] == '/') {
		return strings.TrimRight(strings.ReplaceAll(p, `\`, "/"), "/"), true, nil
	}
	if !strings.HasPrefix(p, "/") || path.Clean(p) != p {
		return "", false, fmt.Errorf("the folder %q is not an absolute path in its shortest form", p)
	}
	return p, false, nil
}

func (r *root) mentions() bool { return true }

func (r *root) next(v []byte, from int) int {
	if from <= len(v) {
		if n := bytes.Index(v[from:], []byte(r.word)); n >= 0 {
			return from + n
		}
	}
	return -1
}

// separatorBefore reads the spelling of a separator that ends at v[:end].
func (r *root) separatorBefore(v []byte, end int) ([]byte, Form) {
	if sep, form := slashBefore(v, end); sep != nil || !r.windows {
		return sep, form
	}
	i := end
	for i > 0 && v[i-1] == '\\' {
		i--
	}
	if i == end {
		return nil, 0
	}
	return v[i:end], FormPlain
}

func (r *root) same(v []byte, word string) bool {
	if r.windows {
		return bytes.EqualFold(v, []byte(word))
	}
	return string(v) == word
}

// matchAt judges whether the folder stands around its longest segment at v[at:].
func (r *root) matchAt(_ *Rewriter, v []byte, at, floor int, _ scope) (m match, ok bool) {
	m.from = at
	first := 0
	if r.windows {
		first = 1 // nothing stands before the drive
	}
	for i := r.index; ; i-- {
		if i >= first {
			sep, form := r.separatorBefore(v, m.from)
			if sep == nil || m.style.slash != nil && !bytes.EqualFold(sep, m.style.slash) {
				return match{}, false
			}
			m.style = style{sep, form}
			m.from -= len(sep)
		}
		if i == 0 {
			break
		}
		w := r.words[i-1]
		if m.from-len(w) < floor || !r.same(v[m.from-len(w):m.from], w) {
			return match{}, false
		}
		m.from -= len(w)
	}
	if m.from < floor || !r.begins(v, &m) {
		return match{}, false
	}
	end, complete := m.path(v, at+len(r.word), r.words[r.index+1:])
	if !complete || !m.style.endsPath(v, end) {
		return match{}, false
	}
	m.to = end
	// The new folder may lie in the old one: then it is there already.
	if rest, inside := strings.CutPrefix(r.to+"/", r.whole()+"/"); inside && rest != "" {
		if end, there := m.path(v, m.to, strings.Split(strings.TrimSuffix(rest, "/"), "/")); there {
			m.to = end
			return m, false
		}
	}
	m.out, m.form = appendPath(nil, r.to, m.style.slash), FormPath
	return m, true
}

// whole is the old folder as a path with slashes.
func (r *root) whole() string {
	if r.windows {
		return strings.Join(r.words, "/")
	}
	return "/" + strings.Join(r.words, "/")
}

// begins reports whether a path can begin at the match: neither a longer path
// nor an address stands before it.
func (r *root) begins(v []byte, m *match) bool {
	if m.from == 0 {
		return true
	}
	if behindFile(v, m) {
		return true
	}
	if !boundaryBefore(v, m.from) {
		return false
	}
	c := v[m.from-1]
	if r.windows { // file:///C:/sites is as good as C:/sites
		return c != ':'
	}
	return c != '/' && (c != ':' || m.style.form != FormPlain || m.from < 2 || !isAlnum(v[m.from-2]))
}

// behindFile reports whether file:// stands before a path, its slashes spelled like
// those of the path.
func behindFile(v []byte, m *match) bool {
	at := m.from
	for range 2 {
		slash, _ := slashBefore(v, at)
		if slash == nil || !bytes.EqualFold(slash, m.style.slash) {
			return false
		}
		at -= len(slash)
	}
	colon := m.style.colonBefore(v, at)
	at -= len(colon)
	return colon != nil && at >= 4 && equalFold(v[at-4:at], "file") && boundaryBefore(v, at-4)
}
