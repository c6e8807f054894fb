package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"hovix/internal/annex"
	"hovix/internal/database"
	"hovix/internal/site"
)

// pointName is the file that describes an undo point, in its folder.
const pointName = "point.json"

// Point is a state of a target that is not live and is kept: what a restore
// replaced, or what an undo took away.
type Point struct {
	ID       string          `json:"id"` // its folder in the annex; later ones sort behind
	Made     time.Time       `json:"made"`
	Undone   bool            `json:"undone"` // it holds the newer of its two states
	Holds    Held            `json:"holds"`
	Other    Held            `json:"other"` // what is live, or was when the point was used last
	Folder   bool            `json:"folder"`
	Shared   string          `json:"shared,omitempty"` // path of an SQLite file that lies in both folders
	Database string          `json:"database,omitempty"`
	State    *database.State `json:"state,omitempty"`
	InPlace  *InPlace        `json:"inPlace,omitempty"` // rows and files that were changed where they are; nil: whole states
	Bytes    int64           `json:"bytes,omitempty"`   // on disk and in the database, once somebody has asked
}

// Held describes a state for people.
type Held struct {
	Name     string      `json:"name,omitempty"`
	Address  string      `json:"address,omitempty"`
	Files    site.Amount `json:"files"`
	Tables   int         `json:"tables"`
	NoFolder bool        `json:"noFolder,omitempty"` // there was none
}

// IsNothing reports whether there was no site: what a restore onto nothing leaves to be put back.
func (h Held) IsNothing() bool { return h.Name == "" && h.Address == "" && h.NoFolder && h.Tables == 0 }

// String describes the state in a few words.
func (h Held) String() string {
	s := h.Name
	if h.Address != "" {
		s = strings.TrimSpace(s + " (" + h.Address + ")")
	}
	switch {
	case s != "":
		return s
	case h.IsNothing():
		return "no site"
	case h.NoFolder:
		return fmt.Sprintf("no folder, and %d tables", h.Tables)
	}
	return fmt.Sprintf("a folder with %d files, and %d tables", h.Files.Count, h.Tables)
}

// settlePoint writes down what is kept once the switch is done: also nothing, which an
// undo puts in the place of what is new.
func settlePoint(ctx context.Context, an *annex.Annex, j *journal, ex database.Exchanger) error {
	p := j.Record
	if p == nil {
		return nil
	}
	held := filepath.Join(p.ID, filesName)
	p.State = j.Aside
	_, err := an.Lstat(held)
	p.Folder = err == nil
	if err := an.Write(filepath.Join(p.ID, pointName), p); err != nil {
		return err
	}
	text, err := p.byHand(ctx, an, ex)
	if err != nil {
		return err
	}
	return an.WriteFile(filepath.Join(p.ID, byHandName), text)
}

// points reads the points of a target, oldest first.
func points(an *annex.Annex) ([]*Point, error) {
	entries, err := an.Entries()
	if err != nil {
		return nil, fmt.Errorf("look at what is kept for %s: %w", an.Target, err)
	}
	var list []*Point
	for _, e := range entries {
		if !pointForm.MatchString(e.Name()) {
			continue
		}
		if !e.IsDir() {
			return nil, fmt.Errorf("%s is no folder, and is in the place of an undo point: %w", an.Shown(e.Name()), errStrange)
		}
		p := &Point{}
		err := an.Read(filepath.Join(e.Name(), pointName), p)
		if errors.Is(err, fs.ErrNotExist) { // of a run that is at work
			continue
		}
		if err != nil {
			return nil, err
		}
		p.ID = e.Name()
		if err := p.check(); err != nil {
			return nil, fmt.Errorf("%s: %w", an.Shown(p.ID, pointName), err)
		}
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b *Point) int { return strings.Compare(a.ID, b.ID) })
	return list, nil
}

// nextPoint gives the number with which the folder of a further point begins:
// clocks go back, and two restores may begin in one second.
func nextPoint(list []*Point) string {
	n := 0
	if len(list) > 0 {
		number, _, _ := strings.Cut(list[len(list)-1].ID, "-")
		n, _ = strconv.Atoi(number)
	}
	return fmt.Sprintf("%05d", n+1)
}

// byHandName is the text that says how to put a point back without Hovix.
const byHandName = "PUT-BACK.txt"

// byHand says how to exchange the point back by hand.
func (p *Point) byHand(ctx context.Context, an *annex.Annex, ex database.Exchanger) ([]byte, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "What a restore replaced on %s, or an undo took back\n\n", p.Made.UTC().Format("2 January 2006 at 15:04:05 UTC"))
	if p.Folder && an.Inside {
		fmt.Fprintf(&b, "What lay in %s is in %s/ beside this text. To put it back, move away all that lies\nin %s but for %s, and move there what lies in %s/.\n\n", an.Target, filesName, an.Target, filepath.Base(an.Dir), filesName)
	} else if p.Folder {
		fmt.Fprintf(&b, "The folder that was %s is in %s/ beside this text. To put it back:\n\n", an.Target, filesName)
		if an.TargetSerial() != 0 {
			fmt.Fprintf(&b, "    mv %s %s\n", shellQuote(an.Target), shellQuote(an.Target+".new"))
		}
		fmt.Fprintf(&b, "    mv %s %s\n\n", shellQuote(an.Shown(p.ID, filesName)), shellQuote(an.Target))
	}
	var kept []string
	if ex != nil && p.State != nil {
		statements, err := ex.ByHand(ctx, p.State)
		if err != nil {
			return nil, err
		}
		if len(statements) > 0 {
			fmt.Fprintf(&b, "The old state of %s is kept beside the new. To put it back, run there:\n\n    %s\n\n", p.Database, strings.Join(statements, "\n    "))
		}
		for _, as := range p.State.Tables {
			kept = append(kept, as)
		}
	}
	b.WriteString("Simpler: hovix undo " + shellQuote(an.Target) + "\n\nIf the new site is as it should be, this folder can be removed")
	if len(kept) > 0 {
		slices.Sort(kept)
		b.WriteString(", and the tables:\n\n    " + strings.Join(kept, "\n    ") + "\n\nhovix undo --discard does both")
	}
	b.WriteString(".\n")
	return []byte(b.String()), nil
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
