package pack

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"hovix/internal/archive"
	"hovix/internal/database/sqlite"
	"hovix/internal/site"
)

// logSuffixes end the names of files that belong to a database of SQLite.
var logSuffixes = []string{"-wal", "-shm", "-journal"}

// isLog reports whether a file belongs to a database beside it, which is packed with what
// the file holds.
func (p *packer) isLog(f site.File) bool {
	for _, suffix := range logSuffixes {
		path, ok := strings.CutSuffix(f.Path, suffix)
		if !ok {
			continue
		}
		if db, err := os.Open(path); err == nil {
			is := sqlite.IsDatabase(db)
			_ = db.Close()
			return is && !p.unread[path]
		}
	}
	return false
}

// snapshot packs a further database of SQLite that the site has, as it is at one moment. ok
// is false if it could not be read so: its files are packed as they lie then, and named.
func (p *packer) snapshot(ctx context.Context, e archive.Entry, f site.File) (ok bool, err error) {
	dir, err := os.MkdirTemp("", "hovix-")
	if err != nil {
		return false, nil
	}
	defer os.RemoveAll(dir)
	to := filepath.Join(dir, "copy")
	if err := sqlite.Snapshot(ctx, f.Path, to); err != nil {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		p.unread[f.Path] = true
		p.problem(f.Rel, fmt.Sprintf("it is a database of SQLite that cannot be read at one moment (%v), and its files are packed as they lie", err))
		return false, nil
	}
	in, err := os.Open(to)
	if err != nil {
		return false, err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return false, err
	}
	e.Type, e.Size = archive.TypeFile, st.Size()
	if _, err := p.w.Add(e, &fileReader{r: in}); err != nil {
		return false, err
	}
	p.res.Summary.Files.Count++
	p.res.Summary.Files.Bytes += e.Size
	p.res.note(site.Thing{Name: f.Rel, Bytes: e.Size})
	return true, nil
}
