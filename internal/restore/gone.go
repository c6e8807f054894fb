package restore

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io/fs"
	"path"
	"slices"
	"strings"

	"hovix/internal/archive"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// Gone is what of a target's folder has no counterpart in the archive, so that after the
// restore it is in the undo point alone.
type Gone struct {
	site.Amount
	Items []GoneItem  `json:"items"` // the largest, those of one folder together
	More  site.Amount `json:"more"`
}

// GoneItem is a file, or a folder of which the archive has nothing.
type GoneItem struct {
	Name string `json:"name"` // a folder's ends with a slash
	site.Amount
}

const (
	mostGone   = 12    // items that are listed
	mostGroups = 10000 // that are told apart
)

// pathSet knows paths by their hashes, eight bytes each, and which of them were seen
// elsewhere.
type pathSet struct {
	seed   maphash.Seed
	hashes []uint64
	marked []bool
}

func (s *pathSet) add(rel string) { s.hashes = append(s.hashes, maphash.String(s.seed, rel)) }

// end is called when all paths are added.
func (s *pathSet) end() {
	slices.Sort(s.hashes)
	s.marked = make([]bool, len(s.hashes))
}

func (s *pathSet) mark(rel string) {
	if i, ok := slices.BinarySearch(s.hashes, maphash.String(s.seed, rel)); ok {
		s.marked[i] = true
	}
}

func (s *pathSet) isMarked(rel string) bool {
	i, ok := slices.BinarySearch(s.hashes, maphash.String(s.seed, rel))
	return ok && s.marked[i]
}

// gone finds what only the target has. a is nil where the archive is read as it comes: then
// nobody knows yet.
func (p *Plan) gone(ctx context.Context, a *archive.Archive) error {
	if a == nil || p.Lose.Count == 0 {
		return nil
	}
	target, err := fsys.OpenHandle(p.Target)
	if err != nil {
		return nil // as with what cannot be seen in it
	}
	defer target.Close()
	s := &pathSet{seed: maphash.MakeSeed()}
	if err := target.Walk(ctx, func(rel string, _ fs.DirEntry, err error) error {
		if err == nil {
			s.add(rel)
		}
		return nil
	}); err != nil {
		return err
	}
	s.end()
	if err := a.Entries(func(e archive.Entry) error {
		rel, ok := strings.CutPrefix(e.Name, manifest.FilesDir)
		if !ok {
			if rel, ok = strings.CutPrefix(e.Name, manifest.SettingsDir); !ok {
				return nil
			}
		}
		for ; rel != "."; rel = path.Dir(rel) {
			s.mark(rel)
		}
		return nil
	}); err != nil {
		return err
	}
	p.Gone, err = p.onlyIn(ctx, target, s.isMarked)
	return err
}

// onlyIn lists what gives way in the target and is not there on the other side.
func (p *Plan) onlyIn(ctx context.Context, target *fsys.Handle, there func(rel string) bool) (*Gone, error) {
	g, groups := &Gone{}, map[string]*GoneItem{}
	err := target.Walk(ctx, func(rel string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && p.annex.IsOwn(rel) {
			return fs.SkipDir
		}
		if err != nil || d.IsDir() || !p.givesWay(rel) || there(rel) || p.isDatabaseFile(rel) || p.packs.IsCache(rel) {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		g.Count++
		g.Bytes += info.Size()
		name := topmost(rel, there)
		if groups[name] == nil && len(groups) < mostGroups {
			groups[name] = &GoneItem{Name: name}
		}
		if it := groups[name]; it != nil {
			it.Count++
			it.Bytes += info.Size()
		}
		return nil
	})
	if err != nil || g.Count == 0 {
		return nil, err
	}
	g.list(groups)
	return g, nil
}

// isDatabaseFile reports whether a file of the target is that of its database.
func (p *Plan) isDatabaseFile(rel string) bool {
	at, in := p.packs.ResolveSQLite()
	return in && strings.HasPrefix(rel, at)
}

// topmost gives the highest folder above a file that is not there on the other side, with
// a slash behind it, or the file.
func topmost(rel string, there func(rel string) bool) string {
	for i := range len(rel) {
		if rel[i] == '/' && !there(rel[:i]) {
			return rel[:i+1]
		}
	}
	return rel
}

// list puts the largest items into the list.
func (g *Gone) list(groups map[string]*GoneItem) {
	for _, it := range groups {
		g.Items = append(g.Items, *it)
	}
	slices.SortFunc(g.Items, func(a, b GoneItem) int {
		if a.Bytes != b.Bytes {
			return int(min(1, max(-1, b.Bytes-a.Bytes)))
		}
		return strings.Compare(a.Name, b.Name)
	})
	g.More = g.Amount
	g.Items = g.Items[:min(len(g.Items), mostGone)]
	for _, it := range g.Items {
		g.More.Count -= it.Count
		g.More.Bytes -= it.Bytes
	}
}

// goneAfter is gone for an archive that was read as it came: what is staged tells. It is
// called when everything is staged and before the target's files are brought.
func (r *run) goneAfter(ctx context.Context) error {
	p := r.plan
	if p.Gone != nil || r.opts.Archive != nil || p.Lose.Count == 0 {
		return nil
	}
	beside, name := r.annex.Beside()
	target, err := beside.Sub(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look at the target: %w", err)
	}
	defer target.Close()
	p.Gone, err = p.onlyIn(ctx, target, func(rel string) bool {
		_, err := r.files.dir.Lstat(rel)
		return err == nil
	})
	return err
}
