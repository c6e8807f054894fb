// Package pieces takes and gives a site in three pieces, as people have it who
// have no access to the live one: its files, a dump of its database, its uploads.
// Open puts a site.Site and a database.Reader together of such pieces, for pack;
// Extract writes an archive out as three of them.
package pieces

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqlfile"
	"hovix/internal/nearest"
	"hovix/internal/progress"
	"hovix/internal/site"
)

// Given names the pieces. Files is needed, the others are not.
type Given struct {
	Files   string // folder, tar file or zip file with the site's folder
	Uploads string // the same with what people uploaded; empty: it lies among Files
	Dump    string // SQL dump; empty: no database
	Origin  string // folder in which the site lay on its server; empty: as far as Files tells
}

// Opened is a site of pieces.
type Opened struct {
	Site     *site.Site
	Database database.Reader // nil if there is no dump
	Skipped  []string        // what of the pieces is no file, folder or link, or leads out of them
	scratch  string
}

// Open looks into the pieces. What has to be unpacked goes to a new folder in
// near until Close.
func Open(ctx context.Context, g Given, near string, rep progress.Reporter) (_ *Opened, err error) {
	o := &Opened{}
	if near, err = filepath.Abs(near); err != nil {
		return nil, err
	}
	if o.scratch, err = os.MkdirTemp(near, ".hovix-pieces-"); err != nil {
		return nil, fmt.Errorf("make a folder for what is unpacked: %w", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, o.Close())
		}
	}()
	if err := o.files(ctx, &g, rep); err != nil {
		return nil, err
	}
	if err := o.uploads(ctx, g.Uploads, rep); err != nil {
		return nil, err
	}
	if g.Dump == "" {
		o.Site.Database = database.Location{}
		return o, nil
	}
	if err := isThere(g.Dump, "dump"); err != nil {
		return nil, err
	}
	if o.Database, err = sqlfile.Open(ctx, g.Dump, o.scratch, rep); err != nil {
		return nil, err
	}
	if said, is := o.Site.Database.Engine, o.Database.Info().Engine; said != "" && said != is {
		return nil, fmt.Errorf("the settings of the site name a database of the engine %s, but %s is a dump of %s", said, g.Dump, is)
	}
	return o, nil
}

// Close removes what was unpacked.
func (o *Opened) Close() error {
	var err error
	if o.Database != nil {
		err = o.Database.Close()
	}
	// Folders that nobody may write to hold up the removal.
	_ = filepath.WalkDir(o.scratch, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = os.Chmod(p, 0o700)
		}
		return nil
	})
	return errors.Join(err, os.RemoveAll(o.scratch))
}

// isThere checks that a piece is a file that can be opened.
func isThere(name, what string) error {
	_, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		if near := nearest.Path(name); near != "" {
			return fmt.Errorf("there is no %s %s; did you mean %s?", what, name, near)
		}
		return fmt.Errorf("there is no %s %s", what, name)
	}
	if err != nil {
		return fmt.Errorf("open the %s: %w", what, err)
	}
	return nil
}

// folder gives the folder that a piece is, or that it is unpacked to.
func (o *Opened) folder(ctx context.Context, piece, what string, rep progress.Reporter) (string, error) {
	if err := isThere(piece, "file or folder"); err != nil {
		return "", err
	}
	if st, err := os.Stat(piece); err == nil && st.IsDir() {
		return filepath.Abs(piece)
	}
	into := filepath.Join(o.scratch, what)
	if err := os.Mkdir(into, 0o700); err != nil {
		return "", fmt.Errorf("make a folder for what is unpacked: %w", err)
	}
	skipped, err := Unpack(ctx, piece, into, rep)
	if err != nil {
		return "", fmt.Errorf("unpack %s: %w", piece, err)
	}
	o.Skipped = append(o.Skipped, skipped...)
	return into, nil
}

// maxDepth is how far down in a piece a site is looked for.
const maxDepth = 8

// files finds the site in the piece with the files.
func (o *Opened) files(ctx context.Context, g *Given, rep progress.Reporter) error {
	root, err := o.folder(ctx, g.Files, "files", rep)
	if err != nil {
		return err
	}
	at := []string{"."}
	if !site.Is(root) {
		at = locate(root, maxDepth, func(dir string) bool { return site.Is(dir) })
	}
	switch len(at) {
	case 0:
		_, err := site.Open(root)
		return inPiece(err, root, g.Files)
	case 1:
	default:
		return fmt.Errorf("%s holds %d sites (%s); give the files of one", g.Files, len(at), strings.Join(at, ", "))
	}
	if o.Site, err = site.Open(filepath.Join(root, filepath.FromSlash(at[0]))); err != nil {
		return inPiece(err, root, g.Files)
	}
	switch unpacked := strings.HasPrefix(root, o.scratch); {
	case g.Origin != "":
		o.Site.Origin = path.Clean(g.Origin)
	case unpacked && slices.Contains([]string{"var", "home", "srv", "usr", "opt", "www", "data"}, strings.Split(at[0], "/")[0]):
		o.Site.Origin = "/" + at[0] // packed by its full path
	case unpacked:
		o.Site.Origin = ""
	}
	return nil
}

// inPiece names the piece in an error that names the folder it was unpacked to.
func inPiece(err error, root, piece string) error {
	if err == nil {
		return nil
	}
	if abs, e := filepath.Abs(piece); e == nil && abs == root {
		return err
	}
	return &pieceError{err, strings.ReplaceAll(err.Error(), root, piece)}
}

type pieceError struct {
	err  error
	text string
}

func (e *pieceError) Error() string { return e.text }
func (e *pieceError) Unwrap() error { return e.err }

// uploads has the site take its uploads from their own piece.
func (o *Opened) uploads(ctx context.Context, piece string, rep progress.Reporter) error {
	if piece == "" {
		return nil
	}
	if err := o.Site.TakeUploads(""); err != nil {
		return err
	}
	root, err := o.folder(ctx, piece, "uploads", rep)
	if err != nil {
		return err
	}
	// They may have been packed from within their folder, as their folder, or with
	// the folders above it.
	own := o.Site.Uploads[0]
	at := locate(root, maxDepth, func(dir string) bool {
		rel, err := filepath.Rel(root, dir)
		rel = filepath.ToSlash(rel)
		return err == nil && (rel == own || strings.HasSuffix(rel, "/"+own))
	})
	if len(at) == 0 {
		at = []string{"."}
		if list, err := os.ReadDir(root); err == nil && len(list) == 1 && list[0].IsDir() && list[0].Name() == path.Base(own) {
			at[0] = path.Base(own)
		}
	}
	return o.Site.TakeUploads(filepath.Join(root, filepath.FromSlash(at[0])))
}

// locate gives the folders below root, by their paths relative to it, that are
// what is looked for, and does not look into those.
func locate(root string, depth int, is func(dir string) bool) (found []string) {
	entries, err := os.ReadDir(root)
	if err != nil || depth == 0 {
		return nil
	}
	for _, e := range entries {
		sub := filepath.Join(root, e.Name())
		switch {
		case !e.IsDir():
		case is(sub):
			found = append(found, e.Name())
		default:
			for _, f := range locate(sub, depth-1, is) {
				found = append(found, e.Name()+"/"+f)
			}
		}
	}
	return found
}
