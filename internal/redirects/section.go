package redirects

import (
	"path"
	"strings"
)

// learn finds out where sections have gone, by the pairs that are sure without it.
func (p *pairer) learn() {
	p.sections, p.moves = map[string]*votes{}, map[string]*votes{}
	right, wrong := 0, 0
	for i, f := range p.old {
		if len(p.found[i]) == 0 || p.settle(p.found[i]) < 0.8 {
			continue
		}
		to := p.found[i][0].to
		for dir := f.dir; ; {
			vote(p.sections, dir, to.dir) // and where what lies deeper has gone
			up := strings.LastIndexByte(dir, '/')
			if up < 0 {
				break
			}
			dir = dir[:up]
		}
		from, into := f.dir, to.dir
		for from != "" && into != "" && path.Base(from) == path.Base(into) {
			from, into = parent(from), parent(into)
			vote(p.moves, from, into)
		}
		if f.id != "" && p.ids[f.id] == 1 && p.index.ids[f.id] == 1 && f.title != "" {
			if to.id == f.id {
				right++
			} else {
				wrong++
			}
		}
	}
	if right+wrong >= 5 {
		p.trust = float64(right+1) / float64(right+wrong+2)
	}
	p.whither = map[string]map[string]float64{}
	for _, f := range p.old {
		if p.whither[f.dir] == nil {
			p.whither[f.dir] = p.goes(f.dir)
		}
	}
}

func vote(m map[string]*votes, from, to string) {
	if m[from] == nil {
		m[from] = &votes{}
	}
	m[from].add(to)
}

// parent gives the folder of a folder; "" is that of all.
func parent(dir string) string { return dir[:max(0, strings.LastIndexByte(dir, '/'))] }

// goes tells where the pages of an old folder are expected: where others of it have
// gone, or, if too few have, those of the folders above.
func (p *pairer) goes(dir string) map[string]float64 {
	out := map[string]float64{}
	take := func(v *votes, rest string) bool {
		if v == nil || v.all < 3 {
			return false
		}
		for to, n := range v.to {
			if n*10 >= v.all {
				to = strings.Trim(to+"/"+rest, "/")
				out[to] = max(out[to], float64(n)/float64(v.all))
			}
		}
		return true
	}
	for d := dir; ; d = parent(d) {
		if take(p.sections[d], "") || d == "" {
			break
		}
	}
	for d := parent(dir); dir != ""; d = parent(d) {
		if take(p.moves[d], strings.TrimPrefix(dir[len(d):], "/")) || d == "" {
			break
		}
	}
	return out
}

// expected gives the new pages that stand where an old page's section has gone.
func (p *pairer) expected(f *feature) (out []*feature) {
	for dir := range p.whither[f.dir] {
		out = append(out, p.index.bare[strings.Trim(dir+"/"+f.lastName(), "/")]...)
	}
	return out
}
