package restore

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"hovix/internal/annex"
	"hovix/internal/archive"
	"hovix/internal/database"
)

// What a journal or an undo point says is believed only where the folder that it lies in
// is ours (see annex), and even then its names are checked as those in archives are:
// nothing that it names may lie outside of the annex, the target's database objects that
// Hovix itself has put aside, and the folders above the target.

var (
	pointForm = regexp.MustCompile(`^\d{5}-\d{8}-\d{6}-[0-9a-f]{8}$`)
	idForm    = regexp.MustCompile(`^[0-9a-f]{8}$`)
	stampForm = regexp.MustCompile(`^\d{6}_\d{6}_[0-9a-f]{4}$`)
)

// errStrange says that a note is not one that Hovix writes.
var errStrange = errors.New("it is not as Hovix writes it, and nothing of it was done; move it away if you do not know where it comes from")

// check insists that a journal is as Hovix writes one.
func (j *journal) check(an *annex.Annex) error {
	strange := func(what, value string) error { return fmt.Errorf("%w (%s %.80q)", errStrange, what, value) }
	switch {
	case j.What != "restore" && j.What != "undo" && j.What != "rewrite":
		return strange("command", j.What)
	case j.Step != staging && j.Step != switching && j.Step != reverting && j.Step != completing:
		return strange("step", string(j.Step))
	case !pointForm.MatchString(j.Point):
		return strange("point", j.Point)
	case !idForm.MatchString(j.ID):
		return strange("id", j.ID)
	case !stampForm.MatchString(j.Stamp):
		return strange("stamp", j.Stamp)
	case j.Shared != "" && archive.CheckName(j.Shared) != nil:
		return strange("path", j.Shared)
	case j.What == "rewrite" && (j.Record == nil || j.Record.InPlace == nil):
		return strange("command", j.What)
	case j.Record != nil && j.Record.ID != j.Point:
		return strange("point", j.Record.ID)
	}
	for _, dir := range j.Parents {
		if rel, err := filepath.Rel(dir, an.Target); err != nil || rel == "." || !filepath.IsLocal(rel) {
			return strange("folder", dir)
		}
	}
	for _, m := range j.Moves {
		if archive.CheckName(m.Name) != nil || strings.ContainsAny(m.Name, `/\`) || an.IsOwn(m.Name) {
			return strange("name", m.Name)
		}
	}
	for _, n := range j.Notes {
		if n.Kind != database.Sequence && n.Kind != database.Type && n.Kind != database.Extension {
			return strange("note", string(n.Kind))
		}
	}
	for _, s := range []*database.State{j.State, j.Aside, j.Back} {
		if name := oddName(s, j.Database); name != "" {
			return strange("name", name)
		}
	}
	if j.Record != nil {
		return j.Record.check()
	}
	return nil
}

// check insists that an undo point is as Hovix writes one.
func (p *Point) check() error {
	if p.Shared != "" && archive.CheckName(p.Shared) != nil {
		return fmt.Errorf("%w (path %.80q)", errStrange, p.Shared)
	}
	if p.InPlace != nil {
		return p.InPlace.check()
	}
	if name := oddName(p.State, p.Database); name != "" {
		return fmt.Errorf("%w (name %.80q)", errStrange, name)
	}
	return nil
}

// asideName begins the names of what stands aside in a database.
const asideName = "_hovix_"

// oddName gives a name of a state under which nothing of Hovix can stand, "" if there is
// none.
func oddName(s *database.State, location string) string {
	if s == nil {
		return ""
	}
	for name, as := range s.Tables {
		if as != name && !strings.HasPrefix(as, asideName) {
			return as
		}
	}
	for _, as := range s.Views {
		if !strings.HasPrefix(as, asideName) {
			return as
		}
	}
	for _, as := range s.Schemas {
		if !strings.HasPrefix(as, asideName) {
			return as
		}
	}
	if path, ok := strings.CutPrefix(location, "sqlite:"); s.File != "" && (!ok || !strings.HasPrefix(s.File, path+".hovix-")) {
		return s.File
	}
	return ""
}
