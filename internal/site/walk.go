package site

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/fsys"
)

// File is a file, folder or link of a site.
type File struct {
	Rel  string // path relative to the root, with slashes
	Path string // where it is
	Info fs.FileInfo
	Part Part
	in   *os.Root // through which it is read, so that no link on the way is followed out of it
	at   string
}

// Open opens the file, if it is still a regular one.
func (f *File) Open() (*os.File, error) { return fsys.OpenRegular(f.in, f.at) }

// Readlink gives where a link leads.
func (f *File) Readlink() (string, error) { return f.in.Readlink(f.at) }

// Lstat looks at the file once more.
func (f *File) Lstat() (fs.FileInfo, error) { return f.in.Lstat(f.at) }

// LeftOut is something that is not carried.
type LeftOut struct {
	What   string `json:"what"` // path relative to the root
	Reason string `json:"reason"`
	Files  int64  `json:"files"`
	Rows   int64  `json:"rows,omitempty"`
	Bytes  int64  `json:"bytes"`
}

// lyingAround end the names of archives and dumps that people leave in the folder
// of a site; below it they may be what the site offers.
var lyingAround = []string{".zip", ".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tar.xz", ".7z", ".rar", ".sql", ".sql.gz", ".sql.zst", ".sql.bz2"}

func hasEnding(name string, endings []string) bool {
	return slices.ContainsFunc(endings, func(e string) bool { return strings.HasSuffix(strings.ToLower(name), e) })
}

// versionControl are folders of version-control systems.
var versionControl = []string{".git", ".svn", ".hg", ".bzr"}

// NeverPacked reports whether a file of a site's folder is of a sort that Pack never
// carries, and that the site loses for good where its folder is replaced: version control,
// archives and logs that lie around, what the settings leave out. Caches come back.
func (s *Site) NeverPacked(rel string) bool {
	parts := strings.Split(rel, "/")
	for i, name := range parts {
		dir := strings.Join(parts[:i+1], "/")
		switch {
		case i < len(parts)-1 && slices.Contains(versionControl, name):
			return true
		case slices.Contains(s.Caches, dir):
			return false
		case s.unwanted(dir, name):
			return true
		}
	}
	return s.liesAround(rel)
}

// IsCache reports whether a file lies in a folder whose content comes back by itself.
func (s *Site) IsCache(rel string) bool {
	return slices.ContainsFunc(s.Caches, func(c string) bool { return strings.HasPrefix(rel, c+"/") })
}

// unwanted reports whether the site's settings leave a file or folder out.
func (s *Site) unwanted(rel, name string) bool {
	for _, g := range s.LeaveOut {
		if ok, _ := path.Match(g, rel); ok || g == rel {
			return true
		}
		if ok, _ := path.Match(g, name); ok && !strings.Contains(g, "/") {
			return true
		}
	}
	return false
}

// liesAround reports whether a file is an archive, a dump or a log.
func (s *Site) liesAround(rel string) bool {
	name := path.Base(rel)
	return isArchive(rel, name) || s.isLog(rel, name)
}

func isArchive(rel, name string) bool {
	return strings.HasSuffix(name, ".tar.zst") || strings.HasSuffix(name, ".tar.zst.age") || !strings.Contains(rel, "/") && hasEnding(name, lyingAround)
}

func (s *Site) isLog(rel, name string) bool {
	return strings.HasSuffix(name, ".log") && s.PartOf(rel) != Uploads
}

// Walk calls visit for each file, folder and link of the site that is carried,
// in the order of their names, and leftOut for what is not. A file that cannot
// be read is given to leftOut too. Both may be nil. An error of visit ends it.
func (s *Site) Walk(ctx context.Context, visit func(File) error, leftOut func(LeftOut)) error {
	if leftOut == nil {
		leftOut = func(LeftOut) {}
	}
	err := s.walk(ctx, s.Root, ".", visit, leftOut)
	if err == nil && s.uploadsAt != "" {
		err = s.walk(ctx, s.uploadsAt, s.Uploads[0], visit, leftOut)
	}
	return err
}

// walk is Walk of one folder, whose path in the site is at.
func (s *Site) walk(ctx context.Context, root, at string, visit func(File) error, leftOut func(LeftOut)) error {
	in, err := fsys.OpenExact(root)
	if err != nil {
		return err
	}
	defer in.Close()
	return filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if e := ctx.Err(); e != nil {
			return e
		}
		rel := path.Join(at, relative(root, p))
		if err != nil {
			if p == root {
				return err
			}
			leftOut(LeftOut{What: rel, Reason: "cannot be read (" + ReasonOf(err) + ")"})
			return nil
		}
		if rel == "." {
			return nil
		}
		if s.uploadsAt != "" && root == s.Root && rel == s.Uploads[0] { // they are taken from elsewhere
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if s.isDatabaseFile(rel) { // it is packed as a database
			return nil
		}
		if reason := s.reason(rel, d); reason != "" {
			if reason == notOfSection {
				if d.IsDir() {
					return filepath.SkipDir
				}
				return nil
			}
			l := LeftOut{What: rel, Reason: reason}
			l.Files, l.Bytes = sizeOf(p)
			leftOut(l)
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it vanished since the folder was read
		}
		if err != nil {
			leftOut(LeftOut{What: rel, Reason: "cannot be read (" + ReasonOf(err) + ")"})
			return nil
		}
		if visit == nil {
			return nil
		}
		return visit(File{rel, p, info, s.PartOf(rel), in.Root, filepath.FromSlash(relative(root, p))})
	})
}

func relative(root, p string) string {
	rel, err := filepath.Rel(root, p)
	if err != nil {
		return p
	}
	return filepath.ToSlash(rel)
}

// WithoutPath gives why a file operation failed, without the path, which its
// caller tells anyway.
func WithoutPath(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// ReasonOf is the text of WithoutPath.
func ReasonOf(err error) string { return WithoutPath(err).Error() }

// reason says why a file or folder is not carried; "" if it is.
func (s *Site) reason(rel string, d fs.DirEntry) string {
	name := path.Base(rel)
	switch {
	case d.IsDir() && slices.Contains(versionControl, name):
		return "version control"
	case d.IsDir() && slices.Contains(s.Caches, rel):
		return "cache"
	case strings.Contains(name, ".hovix-stage-"), strings.Contains(name, ".hovix-before-"), d.IsDir() && annex.IsName(name):
		return "an earlier restore"
	case !d.IsDir() && !d.Type().IsRegular() && d.Type()&fs.ModeSymlink == 0:
		return "neither a file nor a folder nor a link"
	}
	switch {
	case s.unwanted(rel, name):
		return "as the site's settings say"
	case d.IsDir():
	case isArchive(rel, name):
		return "an archive"
	case s.isLog(rel, name):
		return "a log"
	}
	return s.choice.unchosen(rel, d.IsDir())
}

func (s *Site) isDatabaseFile(rel string) bool {
	if s.Database.Engine != database.SQLite {
		return false
	}
	db := relative(s.Root, s.Database.Path)
	return rel == db || rel == db+"-wal" || rel == db+"-shm" || rel == db+"-journal"
}

func sizeOf(p string) (files, bytes int64) {
	_ = filepath.WalkDir(p, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		if info, err := d.Info(); err == nil {
			files++
			bytes += info.Size()
		}
		return nil
	})
	return files, bytes
}
