package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"hovix/internal/annex"
	"hovix/internal/fault"
	"hovix/internal/fsys"
)

// A folder in which a file system is mounted cannot be exchanged for another: what lies in
// it is, name by name, in a time that grows with the number of names. Which serial each
// name has on both sides is in the journal before the first is touched, so that whoever
// goes on with it knows what is done.

// move is one name in the target and in the folder that a point holds, with the serials
// of what has it on each side; 0: nothing has.
type move struct {
	Name string `json:"name"`
	Live uint64 `json:"live"`
	Held uint64 `json:"held"`
}

// contentMoves lists what is exchanged between the target and the folder of a point. Files
// come last: a visit begins with them.
func contentMoves(an *annex.Annex, point string) ([]move, error) {
	live, _ := an.Beside()
	held, err := an.Sub(filepath.Join(point, filesName))
	if err != nil {
		return nil, err
	}
	defer held.Close()
	seen, files := map[string]bool{}, map[string]bool{}
	var moves []move
	for _, side := range []*fsys.Handle{live, held} {
		entries, err := fs.ReadDir(side.FS(), ".")
		if err != nil {
			return nil, fmt.Errorf("list what is to be exchanged: %w", err)
		}
		for _, e := range entries {
			if name := e.Name(); !seen[name] && !an.IsOwn(name) {
				seen[name], files[name] = true, !e.IsDir()
				moves = append(moves, move{name, live.SerialOf(name), held.SerialOf(name)})
			}
		}
	}
	slices.SortStableFunc(moves, func(a, b move) int {
		switch {
		case files[a.Name] == files[b.Name]:
			return 0
		case files[a.Name]:
			return 1
		}
		return -1
	})
	return moves, nil
}

// exchangeContents makes sure that each name in the target has what is to be live. On an
// error all that was exchanged is back.
func exchangeContents(an *annex.Annex, j *journal) error {
	if err := finishBetween(an, j); err != nil {
		return err
	}
	for i, m := range j.Moves {
		if err := m.make(an, j, m.Held); err != nil {
			for _, m := range slices.Backward(j.Moves[:i+1]) {
				err = errors.Join(err, m.make(an, j, m.Live))
			}
			return err
		}
		fault.Point("moved")
	}
	parent, _ := an.Beside()
	return errors.Join(parent.Sync(), an.SyncOf(filepath.Join(j.Point, filesName)))
}

// contentsDone reports whether each name has what is to be live.
func contentsDone(an *annex.Annex, j *journal) bool {
	live, _ := an.Beside()
	return !slices.ContainsFunc(j.Moves, func(m move) bool { return live.SerialOf(m.Name) != m.Held })
}

// make has the name in the target lead to what has the serial want, 0: to nothing.
func (m move) make(an *annex.Annex, j *journal, want uint64) error {
	live, _ := an.Beside()
	held := filepath.Join(j.Point, filesName, m.Name)
	now := live.SerialOf(m.Name)
	switch {
	case now == want:
		return nil
	case want == 0:
		return fsys.Rename(live, m.Name, an.Handle, held)
	case an.SerialOf(held) != want:
		return fmt.Errorf("%s is not what was to be put in place", an.Shown(held))
	case now == 0:
		return fsys.Rename(an.Handle, held, live, m.Name)
	}
	err := fsys.Swap(an.Handle, held, live, m.Name)
	if !errors.Is(err, fsys.ErrNotAtOnce) {
		return err
	}
	between := filepath.Join(j.Point, filesName+".old")
	if err := fsys.Rename(live, m.Name, an.Handle, between); err != nil {
		return err
	}
	fault.Point("between")
	return errors.Join(fsys.Rename(an.Handle, held, live, m.Name), an.Rename(between, held))
}

// finishBetween ends an exchange of one name that was killed between its renames.
func finishBetween(an *annex.Annex, j *journal) error {
	between := filepath.Join(j.Point, filesName+".old")
	serial := an.SerialOf(between)
	if serial == 0 {
		return nil
	}
	live, _ := an.Beside()
	for _, m := range j.Moves {
		if m.Live != serial && m.Held != serial {
			continue
		}
		held := filepath.Join(j.Point, filesName, m.Name)
		if live.SerialOf(m.Name) == 0 {
			if err := fsys.Rename(an.Handle, held, live, m.Name); err != nil {
				return err
			}
		}
		return an.Rename(between, held)
	}
	return fmt.Errorf("nobody knows what %s is", an.Shown(between))
}
