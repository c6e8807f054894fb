// Package restore puts an archive on a target: another folder, database and
// address. It takes the archive as a stream, stages files and tables beside
// the live ones while it rewrites addresses on the way in, and exchanges them
// when every byte has been proved. Until then nothing of the target changes.
package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"github.com/dustin/go-humanize"

	"hovix/internal/annex"
	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/fault"
	"hovix/internal/manifest"
	"hovix/internal/passage"
	"hovix/internal/progress"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// Options names the target and what is changed on the way.
type Options struct {
	Target   string            // folder of the new site; made if it is not there
	Address  rewrite.Address   // its address; zero: that of the archive
	Database database.Location // its database; zero: that of the target's settings
	Aliases  []rewrite.Address // further addresses of the old site
	Maps     []rewrite.Mapping // further mappings
	Roots    []rewrite.RootMapping
	Texts    []rewrite.TextMapping
	// WholeWords rewrites texts only where no letter or digit stands beside them.
	WholeWords bool
	// Compressed rewrites what is inside of compressed values.
	Compressed bool
	// BareHosts rewrites host names that stand alone in prose.
	BareHosts bool
	// Files are patterns of text files among uploads and code whose addresses are rewritten,
	// as site.MatchesFile takes them.
	Files []string
	// Only and Without choose parts, paths and tables (table:PATTERN) of the archive;
	// the target keeps the rest of its own. Without nothing everything is restored.
	Only, Without []string
	// Keep names paths of the target that stay whatever the archive has there.
	Keep []string
	// StoredCode takes triggers, routines, events and rules.
	StoredCode bool
	// OldSettings takes settings that still name the source's database, server or folder.
	OldSettings bool
	// KeepUnfit leaves values as they are that would grow beyond what their columns hold;
	// else they are an error, before anything of the target is changed.
	KeepUnfit bool
	// Prefix is that of the restored tables: one of the words PrefixArchive (or nothing) and
	// PrefixKeep, or the prefix itself.
	Prefix string
	// LinksOut makes symbolic links that lead out of the site.
	LinksOut bool
	// Resume goes on with what an interrupted restore of the same archive at the same
	// target has staged, and leaves what is staged should this one be interrupted.
	Resume bool
	// Archive is the archive where it can be read at any place: a plan can tell more
	// then. nil otherwise.
	Archive *archive.Archive
	// PlanOnly ends the run with ErrPlanned when Confirm has been shown the plan: the
	// target is not even locked.
	PlanOnly bool
	// Estimate has the plan tell how much is rewritten, from a look at the archive's rows,
	// where it is shown before a question; PlanOnly does so always.
	Estimate bool
	// Confirm is asked once, before anything is staged, with what will be done
	// and lost. An error ends the restore. nil agrees.
	Confirm func(*Plan) error
	// Guard carries out the switch; nil: this process does.
	Guard    Guard
	Progress progress.Reporter
	Now      time.Time
}

// ErrPlanned says that the plan was all that was wanted.
var ErrPlanned = errors.New("planned")

// errFinished says that the archive is in place: recovery has finished the
// restore of it that was interrupted.
var errFinished = errors.New("finished")

// ErrDeclined says that the restore was not agreed to.
var ErrDeclined = errors.New("nothing was changed")

// Result tells what was restored.
type Result struct {
	Plan     *Plan             `json:"plan"`
	Tables   []TableResult     `json:"tables"`
	Rows     int64             `json:"rows"`
	Files    site.Amount       `json:"files"`
	Columns  []passage.Column  `json:"rewritten"`
	Settings []string          `json:"settings"`
	Accounts []site.Account    `json:"accounts,omitempty"`
	Touched  []string          `json:"touched,omitempty"` // what was done beside, for people
	Kept     string            `json:"kept,omitempty"`    // folder that holds what was replaced
	Point    *Point            `json:"undo,omitempty"`    // the undo point
	Dropped  []string          `json:"dropped,omitempty"` // older undo points that were removed
	Replaced *Replaced         `json:"replaced,omitempty"`
	Recovery *Recovery         `json:"recovery,omitempty"` // what became of an earlier run; if it was this restore, there is nothing else
	Warnings []string          `json:"warnings,omitempty"`
	Summary  *manifest.Summary `json:"summary"`
	Tally    rewrite.Tally     `json:"-"`
	Elapsed  time.Duration     `json:"elapsed"`
	Switch   time.Duration     `json:"switch"`
}

// Replaced tells what the switch put aside in the database.
type Replaced struct {
	Tables  map[string]string `json:"tables,omitempty"`  // name → name under which the old table is kept
	File    string            `json:"file,omitempty"`    // SQLite: where the old file is kept
	PutBack []string          `json:"putBack,omitempty"` // statements that put the old state back by hand
}

// TableResult tells of a restored table.
type TableResult struct {
	Name string `json:"name"`
	Rows int64  `json:"rows"`
}

// Findings is the number of things that a person should look at.
func (r *Result) Findings() int64 {
	return r.Tally.Findings() + int64(len(r.Warnings)) + int64(len(r.Summary.Problems))
}

// run is one restore under way.
type run struct {
	opts    Options
	rep     progress.Reporter
	pacer   pacer
	stored  *storedLog // what was found in stored rows; nil: no run will go on with this one
	res     *Result
	plan    *Plan
	m       *manifest.Manifest
	kind    site.Kind
	way     *passage.Passage
	db      database.Stage
	files   *fileStage
	annex   *annex.Annex
	j       *journal
	login   database.Location // of the database in the journal
	before  *journal          // of an interrupted run that may be gone on with
	resumed bool              // it is
	ready   chan struct{}     // closed when staging may begin

	mu       sync.Mutex
	early    chan struct{}   // closed when what tables need is there
	last     <-chan struct{} // closed when what was announced last is there
	tables   map[string]*tableState
	others   map[string]bool // entries of the database that are of no table
	sqlBytes atomic.Int64    // of SQL text that came
	room     sync.Pool       // for statements
	settings map[string]settingsFile
	partial  map[*archive.Entry]*partial
	seen     bool
	sealed   bool // the stage of the database is closed

	ends    *errgroup.Group // what stores rows, and makes the keys of tables
	endsCtx context.Context // ends with its first error
	desk    *desk           // who is next at the server
}

type settingsFile struct {
	entry   archive.Entry
	content []byte
}

// Run restores the archive that it reads from in. size is that of the archive
// in bytes, 0 if unknown. On any error before the switch the target is as it
// was.
func Run(ctx context.Context, in io.Reader, size int64, opts Options) (_ *Result, err error) {
	start := time.Now()
	if opts.Now.IsZero() {
		opts.Now = start
	}
	r := &run{opts: opts, rep: progress.Of(opts.Progress), res: &Result{}, ready: make(chan struct{}), tables: map[string]*tableState{}, others: map[string]bool{},
		settings: map[string]settingsFile{}, partial: map[*archive.Entry]*partial{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.giveUp(ctx, err))
		}
		if r.annex != nil {
			err = errors.Join(err, r.annex.Release())
		}
	}()
	r.rep.Phase("Restoring", size)
	if to, ok := r.rep.(progress.Pacer); ok && size <= 0 {
		r.pacer.to = to
	}
	if err := r.scan(ctx, in); errors.Is(err, errFinished) {
		r.res.Elapsed = time.Since(start)
		return r.res, nil
	} else if err != nil {
		return nil, err
	}
	if r.files != nil {
		r.files.warn(r.res)
	}
	fault.Point("staged")
	if r.db != nil {
		if err := r.checkUnfit(); err != nil {
			return nil, err
		}
	}
	if err := r.complete(ctx); err != nil {
		return nil, err
	}
	if err := r.verify(ctx); err != nil {
		return nil, err
	}
	if r.db != nil {
		if err := r.touch(ctx); err != nil {
			return nil, err
		}
		if err := r.db.Ready(ctx); err != nil {
			return nil, err
		}
	}
	if err := r.closeStored(true); err != nil {
		return nil, err
	}
	r.j.Sealing = true
	if err := r.j.write(r.annex); err != nil {
		return nil, err
	}
	if r.files != nil {
		if err := r.dropIns(ctx); err != nil {
			return nil, err
		}
	}
	if err := r.exchange(ctx); err != nil {
		return nil, err
	}
	r.finish(ctx)
	r.res.Columns, r.res.Tally = r.way.Account()
	r.res.Elapsed = time.Since(start)
	return r.res, nil
}

// scan stages everything, and returns when nothing is under way any more.
func (r *run) scan(ctx context.Context, in io.Reader) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r.ends, r.endsCtx = errgroup.WithContext(ctx)
	r.desk = newDesk(maxSessions, maxWaiting)
	stop := context.AfterFunc(r.endsCtx, func() { cancel(context.Cause(r.endsCtx)) })
	r.pacer.in = in
	_, err := archive.Scan(ctx, &r.pacer, archive.ScanOptions{Progress: r.rep.Add, Entry: r.announce}, r.handle)
	stop()
	// What failed first is why the rest was given up.
	first := err != nil && r.endsCtx.Err() == nil
	if err != nil {
		cancel(err)
	}
	if e := r.ends.Wait(); e != nil && !first && !errors.Is(e, err) {
		return e
	}
	return err
}

// announce hears of each entry in the order of the archive.
func (r *run) announce(e *archive.Entry) error {
	r.pacer.entry(e)
	if !r.seen {
		r.seen = true
		if e.Name != manifest.Name {
			return fmt.Errorf("%w: a tar file with Zstandard compression, but not made by Hovix (it begins with %q)", archive.ErrNotArchive, e.Name)
		}
		return nil
	}
	if e.Name == manifest.Name {
		return fmt.Errorf("%w: a second manifest", archive.ErrRefused)
	}
	if strings.HasPrefix(e.Name, manifest.DatabaseDir) {
		return r.announceSQL(e)
	}
	return nil
}

// handle takes a piece of the archive. It is called on several goroutines.
func (r *run) handle(ctx context.Context, p archive.Piece) error {
	name := p.Entry.Name
	if name == manifest.Name {
		return r.whole(ctx, p, manifest.MaxSize, r.begin)
	}
	select {
	case <-r.ready:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	switch {
	case strings.HasPrefix(name, manifest.DatabaseDir):
		if r.db == nil {
			return nil
		}
		return r.whole(ctx, p, maxSQL, r.sql)
	case strings.HasPrefix(name, manifest.FilesDir):
		if r.files == nil || !r.plan.brings(strings.TrimPrefix(name, manifest.FilesDir)) {
			return nil
		}
		if path.Base(name) == site.WebFile && p.Entry.Type == archive.TypeFile && p.Entry.Size <= site.MaxWebFile {
			return r.whole(ctx, p, site.MaxWebFile, r.webFile)
		}
		isText := p.Entry.Type == archive.TypeFile && site.IsTextFile(name) && !r.way.Idle()
		if isText && p.Entry.Size > site.MaxTextFile && p.Offset == 0 {
			r.passOver(strings.TrimPrefix(name, manifest.FilesDir))
		} else if isText && p.Entry.Size <= site.MaxTextFile {
			return r.whole(ctx, p, site.MaxTextFile, r.textFile)
		}
		return r.files.piece(strings.TrimPrefix(name, manifest.FilesDir), p)
	case strings.HasPrefix(name, manifest.SettingsDir):
		return r.whole(ctx, p, manifest.MaxSize, r.takeSettings)
	case name == manifest.SummaryName:
		return r.whole(ctx, p, manifest.MaxSize, r.takeSummary)
	}
	return nil
}

// maxSQL bounds an entry with SQL text: a chunk and one row of the largest size
// that is carried, whose literals may take two bytes for each of the values'.
const maxSQL = sqltext.DefaultMaxStatement

// partial is an entry of which pieces are still to come.
type partial struct {
	data []byte
	got  int64
}

// whole puts the pieces of an entry together and gives it to f.
func (r *run) whole(ctx context.Context, p archive.Piece, limit int64, f func(context.Context, *archive.Entry, []byte) error) error {
	e := p.Entry
	if e.Size > limit {
		return fmt.Errorf("%w: %q is %d bytes; at most %d make sense", archive.ErrRefused, e.Name, e.Size, limit)
	}
	if int64(len(p.Data)) == e.Size {
		return f(ctx, e, p.Data)
	}
	r.mu.Lock()
	w := r.partial[e]
	if w == nil {
		w = &partial{data: make([]byte, e.Size)}
		r.partial[e] = w
	}
	copy(w.data[p.Offset:], p.Data)
	w.got += int64(len(p.Data))
	done := w.got == e.Size
	if done {
		delete(r.partial, e)
	}
	r.mu.Unlock()
	if done {
		return f(ctx, e, w.data)
	}
	return nil
}

// begin takes the manifest, checks everything that can fail, asks, and prepares
// staging.
func (r *run) begin(ctx context.Context, _ *archive.Entry, content []byte) (err error) {
	if r.m, err = manifest.Parse(content); err != nil {
		return err
	}
	if r.kind, err = site.KindOf(r.m.Kind); err != nil {
		return fmt.Errorf("the archive cannot be restored: %w", err)
	}
	p := &Plan{Manifest: r.m, existing: site.Files{}}
	if p.sel, err = selectFrom(r.m, r.opts.Only, r.opts.Without, r.opts.Keep); err != nil {
		return err
	}
	r.plan, r.res.Plan = p, p
	if err := p.folder(ctx, r.opts.Target); err != nil {
		return err
	}
	if err := r.lock(ctx); err != nil {
		return err
	}
	if err := r.makePlan(ctx); err != nil {
		return err
	}
	if r.m.Database != nil {
		r.desk.apart = r.dialect() == sqltext.MySQL
	}
	order := r.order(content)
	if err := r.takeUp(ctx, order); err != nil {
		return err
	}
	if rec := r.res.Recovery; rec != nil && rec.Finished && rec.order == order {
		return errFinished
	}
	if r.opts.Confirm != nil {
		if err := r.opts.Confirm(r.plan); err != nil {
			return err
		}
	}
	if r.opts.PlanOnly {
		return ErrPlanned
	}
	if r.way, err = passage.New(r.plan.passage(r.opts)); err != nil {
		return err
	}
	r.pacer.begin(r.m)
	return r.openStages(ctx, order)
}

// lock takes the lock of the target, and takes care of what an interrupted run
// has left there. Only for a plan nothing is locked or changed.
func (r *run) lock(ctx context.Context) (err error) {
	p := r.plan
	if r.opts.PlanOnly {
		rec, err := Interrupted(p.Target)
		if rec != nil {
			p.Notes = append(p.Notes, rec.foresight())
		}
		return err
	}
	if r.annex, err = annex.Take(p.Target, "restore"); err != nil {
		return err
	}
	if r.opts.Resume {
		if err := r.resumable(ctx); err != nil || r.before != nil {
			return err
		}
	}
	return r.recover(ctx)
}

// recover takes care of what an interrupted run has left.
func (r *run) recover(ctx context.Context) (err error) {
	p := r.plan
	if r.res.Recovery, err = recoverRun(ctx, r.annex, logins(p.Target, r.opts.Database)); err != nil || r.res.Recovery == nil {
		return err
	}
	p.Notes = []string{r.res.Recovery.String()} // folder says the others anew
	p.Lose, p.Stay, p.Create = site.Amount{}, site.Amount{}, false
	return p.folder(ctx, r.opts.Target) // it may be another one now
}

// order is by what a restore is known again: what was to be put where, and how.
func (r *run) order(content []byte) string {
	p, o := r.plan, &r.opts
	how := fmt.Sprintf("%q %q %q %q %t %t %t %t %t %t %q", o.Only, o.Without, o.Keep, o.Files, o.StoredCode, o.LinksOut, o.BareHosts, o.WholeWords, o.Compressed, o.OldSettings, p.Prefix)
	sum := sha256.Sum256([]byte(strings.Join([]string{string(content), p.Target, p.Address, p.Database, strings.Join(p.Maps, "\n"), how}, "\x00")))
	return hex.EncodeToString(sum[:])
}

// openStages begins the journal, and then the stages.
func (r *run) openStages(ctx context.Context, order string) (err error) {
	p, now := r.plan, r.opts.Now.UTC()
	if r.resumed {
		return r.goOn(ctx)
	}
	id := newID()
	list, err := points(r.annex)
	if err != nil {
		return err
	}
	r.j = &journal{ID: id, What: "restore", Step: staging, Began: r.opts.Now, Order: order, Archive: r.m.Name, Parents: r.annex.Parents,
		Point: nextPoint(list) + now.Format("-20060102-150405-") + id, Stamp: now.Format("060102_150405") + "_" + id[:4]}
	if p.sel.part(site.Database) && p.inside == "" {
		r.j.Database, r.login = p.Database, p.location
	}
	if err := r.j.write(r.annex); err != nil {
		return err
	}
	fault.Point("journal")
	if err := r.annex.Mkdir(r.j.Point, 0o700); err != nil {
		return fmt.Errorf("make the folder in which the new site is staged: %w", err)
	}
	if r.annex.Inside { // it lies in what a web server shows, if it may enter it
		if err := r.annex.WriteFile(filepath.Join(r.j.Point, site.WebFile), []byte("Require all denied\n")); err != nil {
			return err
		}
	}
	return r.stages(ctx)
}

// stages opens the stages of files and tables.
func (r *run) stages(ctx context.Context) (err error) {
	p := r.plan
	if p.sel.folder() {
		if r.files, err = newFileStage(ctx, r.annex, r.j.Point, p, r.opts.LinksOut, r.resumed); err != nil {
			return err
		}
	}
	if p.sel.part(site.Database) {
		if r.db, err = r.openStage(ctx); err != nil {
			return err
		}
	}
	if r.db != nil {
		if err = r.openStored(); err != nil {
			return err
		}
	}
	close(r.ready)
	return nil
}

// webFile stages a file with rules for a web server: for the new base path, and
// with addresses and folders rewritten.
func (r *run) webFile(_ context.Context, e *archive.Entry, content []byte) error {
	rel := strings.TrimPrefix(e.Name, manifest.FilesDir)
	if old, err := rewrite.ParseAddress(r.m.Address); err == nil && !r.plan.address.IsZero() {
		content = site.RebaseWebFile(content, old.Path, r.plan.address.Path)
	}
	return r.rewritten(rel, e, r.way.TextFile(rel, content, true))
}

// textFile stages a text file of uploads or code, with its addresses rewritten if it is one
// that is to be.
func (r *run) textFile(_ context.Context, e *archive.Entry, content []byte) error {
	rel := strings.TrimPrefix(e.Name, manifest.FilesDir)
	change := site.MatchesFile(r.opts.Files, rel) || site.IsGenerated(rel, r.plan.sel.partOf(rel))
	return r.rewritten(rel, e, r.way.TextFile(rel, content, change))
}

// passOver notes a text file that is too large to be looked into.
func (r *run) passOver(rel string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.res.Warnings = append(r.res.Warnings, fmt.Sprintf("%s was not looked into for old addresses: it is a text file of more than %s", rel, humanize.Bytes(site.MaxTextFile)))
}

// rewritten stages a file that was looked into as a whole.
func (r *run) rewritten(rel string, e *archive.Entry, content []byte) error {
	if int64(len(content)) == e.Size && sha256.Sum256(content) == e.SHA256 {
		return r.files.piece(rel, archive.Piece{Entry: e, Data: content})
	}
	if err := r.files.fits(archive.Piece{Entry: e, Data: content}); err != nil {
		return err
	}
	r.files.noteScript(rel, archive.Piece{Entry: e, Data: content})
	if err := r.files.write(rel, *e, content); err != nil {
		return err
	}
	r.files.counted(rel, int64(len(content)), sha256.Sum256(content))
	return nil
}

func (r *run) takeSummary(_ context.Context, _ *archive.Entry, content []byte) error {
	s, err := parseSummary(content)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.res.Summary != nil {
		return fmt.Errorf("%w: a second summary", archive.ErrRefused)
	}
	r.res.Summary = s
	return nil
}

func (r *run) takeSettings(_ context.Context, e *archive.Entry, content []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	rel := strings.TrimPrefix(e.Name, manifest.SettingsDir)
	if !slices.Contains(r.m.Settings, rel) {
		return fmt.Errorf("%w: the settings file %s is not in the manifest", archive.ErrRefused, rel)
	}
	if _, twice := r.settings[rel]; twice {
		return fmt.Errorf("%w: %q is there twice", archive.ErrRefused, e.Name)
	}
	if r.files == nil || !r.plan.sel.file(rel) {
		return nil
	}
	r.settings[rel] = settingsFile{*e, append([]byte(nil), content...)}
	return nil
}
