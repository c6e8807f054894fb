package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/annex"
	"hovix/internal/fsys"
	"hovix/internal/manifest"
	"hovix/internal/site"
)

// folder checks the target folder and its parent.
func (p *Plan) folder(ctx context.Context, target string) (err error) {
	if p.Target, err = fsys.Resolve(target); err != nil {
		return fmt.Errorf("the target %w", err)
	}
	p.parent = filepath.Dir(p.Target)
	if p.parent == p.Target {
		return fmt.Errorf("the target %s is the root of the file system; name a folder for the site", p.Target)
	}
	if inside(p.Manifest.Root, p.Target) && isSameSite(p.Manifest) {
		return fmt.Errorf("the target %s lies inside the folder of the site that was packed (%s); choose a folder beside it", p.Target, p.Manifest.Root)
	}
	st, err := os.Stat(p.Target)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.Create = true
		return p.makeable()
	case err != nil:
		return fmt.Errorf("look at the target: %w", err)
	case !st.IsDir():
		return fmt.Errorf("the target %s is a file; name a folder", p.Target)
	}
	if why := site.NotOfASite(p.Target); why != "" && p.sel.folder() {
		return fmt.Errorf("the target %s %s, and a restore replaces the whole folder; name a folder of its own for the site, such as %s", p.Target, why, filepath.Join(p.Target, "site"))
	}
	p.annex = annex.Of(p.Target)
	if p.annex.Inside {
		p.parent = p.Target
		p.Notes = append(p.Notes, "The folder is a mount point and stays: what lies in it is exchanged name by name, so that for a moment a visitor may meet files of both sites. It is staged and kept in "+p.annex.Dir+", which no web server may show.")
	}
	if err := p.writable(p.parent); err != nil {
		return err
	}
	p.keepDatabase()
	p.knowTarget()
	if err := p.countFiles(ctx, st); err != nil {
		return err
	}
	return p.sel.unkept()
}

// countFiles counts what gives way in the target folder, and what stays.
func (p *Plan) countFiles(ctx context.Context, root fs.FileInfo) error {
	target, err := fsys.OpenHandle(p.Target)
	if err != nil {
		return nil // as with what cannot be seen in it
	}
	defer target.Close()
	return target.Walk(ctx, func(rel string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it counts what can be seen
		}
		if d.IsDir() && p.annex.IsOwn(rel) {
			return fs.SkipDir
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		if d.IsDir() {
			if fsys.Device(info) != fsys.Device(root) {
				return fmt.Errorf("%s, in the target, is a mounted file system, which would go away with the old folder; unmount it, or restore beside it", filepath.Join(p.Target, rel))
			}
			return nil
		}
		if p.givesWay(rel) {
			p.Lose.Count++
			p.Lose.Bytes += info.Size()
		} else {
			p.Stay.Count++
			p.Stay.Bytes += info.Size()
		}
		return nil
	})
}

// knowTarget finds out what of the target stays without being named: other sites in it,
// and what is never packed, so that no archive can bring it back.
func (p *Plan) knowTarget() {
	s, err := site.Open(p.Target)
	if err != nil {
		s = &site.Site{Uploads: p.Manifest.Uploads}
	}
	p.packs, p.nested = s, nil
	for _, dir := range site.Below(p.Target, 3) {
		if s.Contains(dir) {
			continue
		}
		p.nested = append(p.nested, dir)
		p.Notes = append(p.Notes, fmt.Sprintf("Another site lies in %s: it stays as it is.", filepath.Join(p.Target, dir)))
	}
}

// staysUnnamed reports whether a file of the target stays although nobody has named it.
func (p *Plan) staysUnnamed(rel string) bool {
	return p.isNested(rel) || p.packs != nil && p.packs.NeverPacked(rel)
}

// isNested reports whether a path lies in another site in the target.
func (p *Plan) isNested(rel string) bool {
	return slices.ContainsFunc(p.nested, func(dir string) bool { return rel == dir || strings.HasPrefix(rel, dir+"/") })
}

// brings reports whether a file, folder or link of the archive is restored.
func (p *Plan) brings(rel string) bool { return p.sel.file(rel) && !p.isNested(rel) }

// inside reports whether path lies in dir, but is not dir itself.
func inside(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != "." && filepath.IsLocal(rel)
}

// isSameSite reports whether the packed site is (still) on this machine: the
// same path on another machine says nothing.
func isSameSite(m *manifest.Manifest) bool {
	s, err := site.Open(m.Root)
	return err == nil && s.Kind == m.Kind
}

// makeable checks that a folder that is not there can be made.
func (p *Plan) makeable() error {
	dir := p.parent
	for {
		st, err := os.Stat(dir)
		if err == nil {
			if !st.IsDir() {
				return fmt.Errorf("the folder %s cannot be made: %s is a file", p.Target, dir)
			}
			return p.writable(dir)
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("look at the target: %w", err)
		}
		p.Makes = append(p.Makes, dir)
		dir = filepath.Dir(dir)
	}
}

// writable proves that files can be made in dir.
func (p *Plan) writable(dir string) error {
	if err := fsys.Writable(dir); err != nil {
		return fmt.Errorf("the new site is staged beside the target, but nothing can be written in %s: %w", dir, err)
	}
	return nil
}
