package restore

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/database/engines"
	"hovix/internal/fsys"
	"hovix/internal/site"
)

// journalName is the file of the annex in which a run writes down what it is
// about to do, so that another can finish it or take it back.
const journalName = "journal.json"

// step is how far a run has come.
type step string

const (
	staging    step = "staging"    // nothing of the target is changed
	switching  step = "switching"  // what is staged takes its place
	reverting  step = "reverting"  // the tables go back, for the folders could not be exchanged
	completing step = "completing" // the new state is in place
)

// journal is what is written down of a run that changes a target.
type journal struct {
	ID       string          `json:"id"`
	What     string          `json:"what"` // the command: restore, undo, rewrite
	Step     step            `json:"step"`
	Began    time.Time       `json:"began"`
	Order    string          `json:"order,omitempty"`   // what was to be restored where, to know it again
	Archive  string          `json:"archive,omitempty"` // for people: the name of the site in it
	Unfit    bool            `json:"unfit,omitempty"`   // rows with values are staged that stayed as they are, for they would not fit
	Sealing  bool            `json:"sealing,omitempty"` // what is staged is being completed: nobody can go on with it
	Parents  []string        `json:"parents,omitempty"` // folders above the target that were made
	Point    string          `json:"point"`             // folder of the annex that holds what is not live
	Folder   uint64          `json:"folder"`            // serial of the folder that is to be live; 0: none
	Moves    []move          `json:"moves,omitempty"`   // of a target that is a mount point: what in it is exchanged
	Shared   string          `json:"shared,omitempty"`  // path of an SQLite file that lies in both folders
	Database string          `json:"database,omitempty"`
	Notes    []database.Note `json:"notes,omitempty"` // what staging made outside of the stage
	Stamp    string          `json:"stamp"`
	State    *database.State `json:"state,omitempty"` // that is to be live
	Aside    *database.State `json:"aside,omitempty"` // that is put aside for it
	Back     *database.State `json:"back,omitempty"`  // that is put aside when the tables go back
	Record   *Point          `json:"record,omitempty"`
}

// newID gives a name that no other run has.
func newID() string {
	b := make([]byte, 4)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

func (j *journal) write(an *annex.Annex) error { return an.Write(journalName, j) }

// readJournal gives the journal of an annex, nil if there is none.
func readJournal(an *annex.Annex) (*journal, error) {
	j := &journal{}
	err := an.Read(journalName, j)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = j.check(an)
	}
	if err != nil {
		return nil, fmt.Errorf("the journal of an interrupted run: %w", err)
	}
	return j, nil
}

// filesName is the folder of a point that holds the files which are not live.
const filesName = "files"

// Recovery tells of a run that was interrupted, and what became of it.
type Recovery struct {
	What     string    `json:"what"` // the command
	Began    time.Time `json:"began"`
	Archive  string    `json:"archive,omitempty"`
	Finished bool      `json:"finished"` // it was in its switch, which is finished now; else it was taken back
	Warnings []string  `json:"warnings,omitempty"`

	order string
	undid bool // an undo, not one that was taken back
}

// String tells it in a sentence.
func (r *Recovery) String() string {
	s := "A " + r.What
	if r.What == "undo" {
		s = "An undo"
	}
	if r.Archive != "" {
		s += " of " + r.Archive
	}
	s += " was interrupted that began on " + r.Began.Local().Format("2 January 2006 at 15:04:05") + ": "
	if r.Finished && r.What == "rewrite" {
		return s + "its change was made, and its undo point is complete now."
	}
	if r.Finished {
		return s + "it was exchanging the old state for the new, which is finished now."
	}
	return s + "nothing of the target had been changed, and what it had staged is removed."
}

// foresight says what the next run does about an interrupted one.
func (r *Recovery) foresight() string {
	if r.Finished {
		return "An interrupted " + r.What + " was exchanging the old state for the new; that would be finished first."
	}
	return "An interrupted " + r.What + " has changed nothing; what it had staged would be removed first."
}

// look opens what is kept for a target; nil if nothing is.
func look(target string) (*annex.Annex, error) {
	target, err := fsys.Resolve(target)
	if err != nil {
		return nil, err
	}
	an, err := annex.Look(target)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return an, err
}

// Interrupted tells of a run at the target that was interrupted and has not been
// taken up since; nil if there is none, or if it is still at work. It changes
// nothing. Where what is kept for the target is not to be believed, the error says so.
func Interrupted(target string) (*Recovery, error) {
	an, err := look(target)
	if an == nil || err != nil {
		return nil, err
	}
	defer an.Close()
	if an.Busy() {
		return nil, nil
	}
	j, err := readJournal(an)
	if err != nil || j == nil {
		return nil, err
	}
	return &Recovery{What: j.What, Began: j.Began, Archive: j.Archive, Finished: j.Step != staging, order: j.Order}, nil
}

// ErrHalfway says that a site is partly exchanged.
var ErrHalfway = errors.New("was interrupted while it exchanged the old state for the new")

// Whole gives an error that wraps ErrHalfway if a run at a site was interrupted in its
// switch, and is to be finished before anything else.
func Whole(target string) error {
	rec, err := Interrupted(target)
	if err != nil || rec == nil || !rec.Finished {
		return err
	}
	return fmt.Errorf("a hovix %s at %s, which began on %s, %w; finish it with hovix undo or with the same hovix restore", rec.What, target, rec.Began.Local().Format("2 January 2006 at 15:04:05"), ErrHalfway)
}

// login gives the login to a database that a journal or an undo point names, from
// those that are known.
func login(name string, known []database.Location) (database.Location, error) {
	l, err := database.ParseURL(name)
	if err != nil {
		return l, err
	}
	for _, k := range known {
		if k.Same(l) {
			return k, nil
		}
	}
	return database.Location{}, fmt.Errorf("the database %s is named by what is kept for the target, but neither by its settings nor on the command line; name it with --database %s", l, l)
}

// logins are those that may be of use at a target: the one given, and that of its
// settings.
func logins(target string, given database.Location) (known []database.Location) {
	if !given.IsZero() {
		known = append(known, given)
	}
	if s, err := site.Open(target); err == nil && !s.Database.IsZero() {
		known = append(known, s.Database)
	}
	return known
}

// heldLogins are those of the settings in the folder that a point holds.
func heldLogins(an *annex.Annex, point string) []database.Location {
	held, err := an.Sub(filepath.Join(point, filesName))
	if err != nil {
		return nil
	}
	defer held.Close()
	return logins(held.Path("."), database.Location{})
}

// recoverRun finishes what an interrupted run has begun to exchange, or takes
// back what it has staged. It gives nil where there is nothing to do.
func recoverRun(ctx context.Context, an *annex.Annex, known []database.Location) (*Recovery, error) {
	j, err := readJournal(an)
	if err != nil {
		return nil, err
	}
	if j == nil {
		return nil, sweepAnnex(ctx, an)
	}
	rec := &Recovery{What: j.What, Began: j.Began, Archive: j.Archive, order: j.Order, undid: j.Record != nil && j.Record.Undone}
	var l database.Location
	if j.Database != "" {
		if l, err = login(j.Database, append(known, heldLogins(an, j.Point)...)); err != nil {
			return nil, err
		}
	}
	if j.Step != staging {
		rec.Warnings, err = advance(ctx, an, j, l)
		var not *notSwitchedError
		if err == nil {
			rec.Finished = true
			return rec, nil
		}
		if !errors.As(err, &not) {
			return nil, fmt.Errorf("an interrupted %s has to be finished first: %w", j.What, err)
		}
	}
	if err := takeBack(ctx, an, j, l); err != nil {
		return nil, &UnremovedError{fmt.Errorf("what an interrupted %s has staged has to be removed first: %w", j.What, err)}
	}
	return rec, nil
}

// takeBack removes what a run has staged that did not come to its switch.
func takeBack(ctx context.Context, an *annex.Annex, j *journal, l database.Location) error {
	if j.What == "restore" {
		if j.Database != "" {
			ex, err := engines.Exchange(ctx, l)
			if err != nil {
				return err
			}
			if err := errors.Join(ex.Sweep(ctx, j.ID, j.Notes), ex.Close()); err != nil {
				return err
			}
		}
		if err := an.Remove(ctx, j.Point); err != nil {
			return err
		}
		an.Parents = j.Parents
	}
	if j.What == "rewrite" {
		if err := errors.Join(takeBackInPlace(ctx, an, j, l), an.Remove(ctx, j.Point)); err != nil {
			return err
		}
	}
	return errors.Join(an.Remove(ctx, journalName), sweepAnnex(ctx, an))
}

// goneSuffix ends the name of a point that is being removed.
const goneSuffix = ".gone"

// sweepAnnex removes what a run was killed over that removed a point or wrote a
// note.
func sweepAnnex(ctx context.Context, an *annex.Annex) error {
	entries, err := an.Entries()
	if err != nil {
		return fmt.Errorf("look at what is kept for the target: %w", err)
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), goneSuffix) || strings.HasSuffix(e.Name(), annex.NewSuffix) {
			if err := an.Remove(ctx, e.Name()); err != nil {
				return err
			}
		}
	}
	return nil
}
