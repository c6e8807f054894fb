package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"hovix/internal/annex"
	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/fault"
	"hovix/internal/fsys"
	"hovix/internal/rewrite"
	"hovix/internal/rowlog"
	"hovix/internal/site"
)

// InPlace says what an undo point holds of a change that was made in the site where it
// is: single rows and files, and not a whole state.
type InPlace struct {
	Rows  int64         `json:"rows"`
	Files []ChangedFile `json:"files,omitempty"`
	Maps  [][2]string   `json:"maps,omitempty"` // old addresses and new ones
}

// ChangedFile is a file of which the point holds what is not live.
type ChangedFile struct {
	Path string `json:"path"` // below the target
	Held string `json:"held"` // SHA-256 of what the point holds
	Live string `json:"live"` // of what was live when the point was used last
}

// rowsName is the file of a point that tells which rows were changed.
const rowsName = "rows"

// Change is a change of a site where it is, of rows in one transaction and of files, that
// is kept so that an undo takes it back. It holds the lock of the target.
type Change struct {
	an       *annex.Annex
	j        *journal
	root     *fsys.Handle // of the target
	log      *os.File
	rows     *rowlog.Writer
	maps     []rewrite.Mapping
	site     *site.Site
	unkept   *unkept   // nil: it is kept
	Recovery *Recovery // an interrupted run that was taken care of first
}

// ErrStagedRestore says that a restore waits to be gone on with.
var ErrStagedRestore = errors.New("was interrupted, and what it has staged waits to be gone on with")

// BeginChange takes the lock of a site, takes care of an interrupted run, and begins a
// change of it by the named command.
func BeginChange(ctx context.Context, s *site.Site, maps []rewrite.Mapping, now time.Time) (_ *Change, err error) {
	if rec, err := Interrupted(s.Root); err == nil && rec != nil && rec.What == "restore" && !rec.Finished {
		return nil, fmt.Errorf("a restore into %s, which began on %s, %w: do that (hovix restore … --resume), or remove it with hovix undo %s --discard", s.Root, rec.Began.Local().Format("2 January 2006 at 15:04:05"), ErrStagedRestore, shellQuote(s.Root))
	}
	c := &Change{maps: maps, site: s}
	if c.an, err = annex.Take(s.Root, "rewrite"); err != nil {
		c.an = nil
		if c.unkept = maybeUnkept(err); c.unkept == nil {
			return nil, err
		}
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, c.close())
		}
	}()
	if c.root, err = fsys.OpenExact(s.Root); err != nil {
		return nil, err
	}
	if c.unkept != nil {
		return c, c.unkept.sweep(ctx, c.root)
	}
	var known []database.Location
	if !s.Database.IsZero() {
		known = append(known, s.Database)
	}
	if c.Recovery, err = recoverRun(ctx, c.an, known); err != nil {
		return nil, err
	}
	return c, c.begin(now)
}

// Recover takes care of a run at a site that was interrupted in a change in place, before
// the database is looked at; nil if there is none. Others stay as they are.
func Recover(ctx context.Context, s *site.Site) (_ *Recovery, err error) {
	an, err := look(s.Root)
	if an == nil || err != nil {
		return nil, err
	}
	j, err := readJournal(an)
	if err = errors.Join(err, an.Close()); err != nil || j == nil || j.Record == nil || j.Record.InPlace == nil {
		return nil, err
	}
	if an, err = annex.Take(s.Root, "rewrite"); err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, an.Release()) }()
	return recoverRun(ctx, an, logins(s.Root, s.Database))
}

// begin writes the journal, and makes the undo point.
func (c *Change) begin(now time.Time) error {
	s := c.site
	list, err := points(c.an)
	if err != nil {
		return err
	}
	id := newID()
	utc := now.UTC()
	c.j = &journal{ID: id, What: "rewrite", Step: staging, Began: now, Archive: s.Name, Point: nextPoint(list) + utc.Format("-20060102-150405-") + id, Stamp: utc.Format("060102_150405") + "_" + id[:4]}
	held := Held{Name: s.Name}
	if !s.Address.IsZero() {
		held.Address = s.Address.String()
	}
	c.j.Record = &Point{ID: c.j.Point, Made: now, Holds: held, Other: held, InPlace: &InPlace{}}
	if !s.Database.IsZero() {
		c.j.Database = s.Database.String()
		c.j.Record.Database = c.j.Database
	}
	for _, m := range c.maps {
		c.j.Record.InPlace.Maps = append(c.j.Record.InPlace.Maps, [2]string{m.Old.String(), m.New.String()})
		if m.Old == s.Address {
			c.j.Record.Other.Address = m.New.String()
		}
	}
	if err := c.j.write(c.an); err != nil {
		return err
	}
	return c.makePoint()
}

// makePoint makes the folder in which the change is kept.
func (c *Change) makePoint() (err error) {
	for _, dir := range []string{c.j.Point, filepath.Join(c.j.Point, filesName)} {
		if err := c.an.Mkdir(dir, 0o700); err != nil {
			return fmt.Errorf("make the folder of the undo point: %w", err)
		}
	}
	if c.an.Inside {
		if err := c.an.WriteFile(filepath.Join(c.j.Point, site.WebFile), []byte("Require all denied\n")); err != nil {
			return err
		}
	}
	if c.log, err = c.an.OpenFile(filepath.Join(c.j.Point, rowsName), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
		return fmt.Errorf("begin the record of changed rows: %w", err)
	}
	c.rows, err = rowlog.NewWriter(c.log)
	return err
}

// Rows writes down rows that are about to be changed.
func (c *Change) Rows(t *database.EditTable, changes []database.Change) error {
	if c.unkept != nil {
		if t.Lasting {
			c.unkept.rows += int64(len(changes))
		}
		return nil
	}
	if err := c.rows.Write(t, changes); err != nil {
		return fmt.Errorf("write down the changed rows for an undo: %w", site.WithoutPath(err))
	}
	fault.Point("rows")
	return nil
}

// heldName is the name of the n-th changed file in a point.
func heldName(point string, n int) string {
	return filepath.Join(point, filesName, fmt.Sprintf("%06d", n+1))
}

// File stages the new content of a file, with the mode and the owner of the old one. path
// is below the site's folder.
func (c *Change) File(path string, old fs.FileInfo, content []byte) error {
	if c.unkept != nil {
		return c.unkept.file(c.root, path, old, content)
	}
	list := &c.j.Record.InPlace.Files
	out, err := c.an.OpenFile(heldName(c.j.Point, len(*list)), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(content)
	*list = append(*list, ChangedFile{Path: path, Held: hex.EncodeToString(sum[:])})
	return writeLike(out, old, content)
}

// Ready writes down that all is staged, and the transaction is about to be committed.
func (c *Change) Ready() error {
	if c.unkept != nil {
		return nil
	}
	p := c.j.Record.InPlace
	p.Rows = c.rows.Rows()
	for i := range p.Files {
		var err error
		if p.Files[i].Live, err = sumOf(c.root, filepath.FromSlash(p.Files[i].Path)); err != nil {
			return fmt.Errorf("read %s again: %w", p.Files[i].Path, err)
		}
	}
	if err := errors.Join(c.log.Sync(), c.an.SyncOf(filepath.Join(c.j.Point, rowsName)), c.an.SyncOf(heldName(c.j.Point, 0))); err != nil {
		return fmt.Errorf("write down the changed rows for an undo: %w", site.WithoutPath(err))
	}
	c.j.Step = switching
	if err := c.j.write(c.an); err != nil {
		return err
	}
	fault.Point("switching")
	return nil
}

// End puts the files in place once the transaction is committed, and gives the folder of
// the undo point. With an error the next run at the site finishes it.
func (c *Change) End(ctx context.Context) (kept string, warnings []string, err error) {
	ctx = context.WithoutCancel(ctx)
	defer func() { err = errors.Join(err, c.close()) }()
	if c.unkept != nil {
		return "", nil, c.unkept.put(c.root)
	}
	fault.Point("committed")
	if err := putFiles(c.an, c.root, c.j); err != nil {
		return "", nil, fmt.Errorf("%w; the next run of hovix at this site finishes it", err)
	}
	if err := c.j.settleInPlace(ctx, c.an, c.root); err != nil {
		return "", nil, err
	}
	_, err = trim(ctx, c.an, c.j.Point, logins(c.an.Target, c.site.Database))
	if err != nil {
		warnings, err = append(warnings, err.Error()), nil
	}
	return c.an.Shown(c.j.Point), warnings, nil
}

// Abort gives the change up: rows of tables that no transaction takes back are put back,
// and what was staged is removed.
func (c *Change) Abort(ctx context.Context) (err error) {
	ctx = context.WithoutCancel(ctx)
	defer func() { err = errors.Join(err, c.close()) }()
	if c.unkept != nil {
		return c.unkept.abort(c.root)
	}
	c.j.Step = staging
	if err := errors.Join(c.j.write(c.an), c.log.Sync()); err != nil {
		return err
	}
	if err := takeBack(ctx, c.an, c.j, c.site.Database); err != nil {
		return &UnremovedError{err}
	}
	return nil
}

// close releases the lock.
func (c *Change) close() (err error) {
	if c.log != nil {
		err = c.log.Close()
		c.log = nil
	}
	if c.root != nil {
		err = errors.Join(err, c.root.Close())
		c.root = nil
	}
	if c.an != nil {
		err = errors.Join(err, c.an.Release())
		c.an = nil
	}
	return err
}

// sumOf hashes a file below a folder.
func sumOf(dir *fsys.Handle, name string) (string, error) {
	f, err := fsys.OpenRegular(dir.Root, name)
	if err != nil {
		return "", site.WithoutPath(err)
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", site.WithoutPath(err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// putFiles makes sure that the files are exchanged which a change has changed. What a
// point holds nobody else touches: as long as it is what the journal says, the file was
// not exchanged.
func putFiles(an *annex.Annex, root *fsys.Handle, j *journal) error {
	for i, f := range j.Record.InPlace.Files {
		held, path := heldName(j.Point, i), filepath.FromSlash(f.Path)
		if err := putRemains(an, held); err != nil {
			return err
		}
		sum, err := sumOf(an.Handle, held)
		if err != nil {
			return fmt.Errorf("read %s: %w", an.Shown(held), err)
		}
		if sum != f.Held {
			continue
		}
		if err := exchangeFile(an, held, root, path); err != nil {
			return fmt.Errorf("put the file %s in place: %w", f.Path, site.WithoutPath(err))
		}
		fault.Point("file")
	}
	return nil
}

// oldSuffix ends the name of what was live, until the point holds it.
const oldSuffix = ".old"

// exchangeFile exchanges a file that is held for one that is live.
func exchangeFile(an *annex.Annex, held string, root *fsys.Handle, path string) error {
	err := fsys.Swap(an.Handle, held, root, path)
	if err == nil {
		return errors.Join(an.SyncOf(held), syncFolder(root, path))
	}
	if errors.Is(err, fs.ErrNotExist) { // it was removed since: the new one stands in its place all the same
		if _, e := root.Lstat(path); !errors.Is(e, fs.ErrNotExist) {
			return err
		}
	}
	// Another file system is mounted in the site, or files cannot be exchanged at once.
	if err := copyInto(root, path, an.Handle, held+oldSuffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	beside := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".hovix-stage")
	_ = root.Remove(beside)
	if err := copyInto(an.Handle, held, root, beside); err != nil {
		return err
	}
	if err := root.Rename(beside, path); err != nil {
		return errors.Join(err, root.Remove(beside))
	}
	return errors.Join(syncFolder(root, path), putRemains(an, held))
}

// putRemains finishes an exchange that had to be made by copies: the point holds what was
// live.
func putRemains(an *annex.Annex, held string) error {
	err := an.Rename(held+oldSuffix, held)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// copyInto copies a file from one folder to another, in the place of what is there.
func copyInto(from *fsys.Handle, a string, to *fsys.Handle, b string) error {
	in, err := fsys.OpenRegular(from.Root, a)
	if err != nil {
		return err
	}
	defer in.Close()
	st, err := in.Stat()
	if err != nil {
		return err
	}
	_ = to.Remove(b)
	out, err := to.OpenFile(b, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = fsys.GiveOwner(out, st)
	}
	if err == nil {
		err = errors.Join(out.Chmod(st.Mode().Perm()), out.Sync())
	}
	return errors.Join(err, out.Close())
}

// syncFolder makes the name of a file durable.
func syncFolder(root *fsys.Handle, path string) error {
	dir, err := root.Open(filepath.Dir(path))
	if err != nil {
		return nil // not every system lets a folder be opened
	}
	_ = dir.Sync()
	return dir.Close()
}

// settleInPlace writes down what the point holds now.
func (j *journal) settleInPlace(ctx context.Context, an *annex.Annex, root *fsys.Handle) error {
	if j.Step != completing {
		j.Step = completing
		if err := j.write(an); err != nil {
			return err
		}
	}
	p := *j.Record
	in := *p.InPlace
	p.InPlace, in.Files = &in, nil
	for i, f := range j.Record.InPlace.Files {
		var err error
		if f.Held, err = sumOf(an.Handle, heldName(p.ID, i)); err != nil {
			return err
		}
		if f.Live, err = sumOf(root, filepath.FromSlash(f.Path)); err != nil {
			return err
		}
		in.Files = append(in.Files, f)
	}
	if err := an.Write(filepath.Join(p.ID, pointName), &p); err != nil {
		return err
	}
	if err := an.WriteFile(filepath.Join(p.ID, byHandName), p.inPlaceByHand(an)); err != nil {
		return err
	}
	fault.Point("point")
	return an.Remove(ctx, journalName)
}

// checkInPlace insists that what an undo point says of a change is as Hovix writes it.
func (p *InPlace) check() error {
	for _, f := range p.Files {
		if archive.CheckName(f.Path) != nil {
			return fmt.Errorf("%w (path %.80q)", errStrange, f.Path)
		}
	}
	for _, m := range p.Maps {
		for _, text := range m {
			if _, err := rewrite.ParseAddress(text); err != nil {
				return fmt.Errorf("%w (address %.80q)", errStrange, text)
			}
		}
	}
	return nil
}

// mappings gives the addresses as they were changed, or the other way round.
func (p *InPlace) mappings(back bool) (maps []rewrite.Mapping) {
	for _, m := range p.Maps {
		old, errOld := rewrite.ParseAddress(m[0])
		now, errNew := rewrite.ParseAddress(m[1])
		switch {
		case errOld != nil || errNew != nil:
		case back:
			maps = append(maps, rewrite.Mapping{Old: now, New: old})
		default:
			maps = append(maps, rewrite.Mapping{Old: old, New: now})
		}
	}
	return maps
}

// openLog opens the record of changed rows of a point; nil if there is none.
func openLog(an *annex.Annex, point string) (*rowlog.Log, *os.File, error) {
	f, err := fsys.OpenRegular(an.Root, filepath.Join(point, rowsName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	l, err := rowlog.Open(f, st.Size())
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	if l.Empty() {
		l.Close()
		return nil, nil, f.Close()
	}
	return l, f, nil
}

// withLog has a transaction of the database under way for something to be done with the
// record of changed rows of a point; commit has it committed. Where no row was changed
// nothing is done.
func withLog(ctx context.Context, an *annex.Annex, point string, l database.Location, commit bool, do func(*rowlog.Log, database.Editor) error) (err error) {
	log, f, err := openLog(an, point)
	if log == nil {
		return err
	}
	defer func() { log.Close(); err = errors.Join(err, f.Close()) }()
	if l.IsZero() {
		return fmt.Errorf("rows of the database were changed, and its login is not known; name it with --database")
	}
	ed, err := engines.Edit(ctx, l)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, ed.Close()) }()
	if err := ed.Begin(ctx); err != nil {
		return err
	}
	if err := do(log, ed); err != nil || !commit {
		return err
	}
	return ed.Commit(context.WithoutCancel(ctx))
}
