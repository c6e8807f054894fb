package restore

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"hovix/internal/fsys"
	"hovix/internal/passage"
)

// What was found in rows that are stored is written down beside what is staged, so that a
// run that goes on does not look at them again. A line that is missing, or torn, costs
// nothing but that.

// storedName is the file with these lines.
const storedName = "rows.json"

// maxStored bounds it, in bytes.
const maxStored = 256 << 20

// storedRows is a line: a chunk of rows, and what rewriting did in it.
type storedRows struct {
	Table string          `json:"t"`
	Chunk int             `json:"n"`
	Found []passage.Found `json:"found,omitempty"`
}

// storedLog is the file. nil keeps nothing.
type storedLog struct {
	mu    sync.Mutex
	f     *os.File
	known map[string]map[int][]passage.Found
}

// openStored opens the file, and reads what a run before this has written.
func (r *run) openStored() error {
	if !r.opts.Resume {
		return nil
	}
	point, err := r.annex.Sub(r.j.Point)
	if err != nil {
		return fmt.Errorf("open what is staged: %w", err)
	}
	defer point.Close()
	l := &storedLog{known: map[string]map[int][]passage.Found{}}
	if r.resumed {
		l.read(point)
	}
	if l.f, err = point.OpenFile(storedName, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return fmt.Errorf("write down what is staged: %w", err)
	}
	r.stored = l
	return nil
}

func (l *storedLog) read(point *fsys.Handle) {
	content, err := point.ReadFile(storedName, maxStored)
	if err != nil {
		return
	}
	for line := range bytes.Lines(content) {
		var s storedRows
		if json.Unmarshal(line, &s) != nil {
			continue
		}
		if l.known[s.Table] == nil {
			l.known[s.Table] = map[int][]passage.Found{}
		}
		l.known[s.Table][s.Chunk] = s.Found
	}
}

// of gives what was found in a chunk.
func (l *storedLog) of(table string, chunk int) (found []passage.Found, ok bool) {
	if l == nil {
		return nil, false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	found, ok = l.known[table][chunk]
	return found, ok
}

// add writes a line, before the chunk is stored: it counts only with it.
func (l *storedLog) add(table string, chunk int, found []passage.Found) error {
	if l == nil {
		return nil
	}
	line, err := json.Marshal(storedRows{table, chunk, found})
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, err := l.f.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("write down what is staged: %w", err)
	}
	return nil
}

// closeStored closes the file, and removes it once all is staged.
func (r *run) closeStored(remove bool) error {
	if r.stored == nil {
		return nil
	}
	err := r.stored.f.Close()
	r.stored = nil
	if remove {
		if e := r.annex.Root.Remove(filepath.Join(r.j.Point, storedName)); !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return err
}

// known takes a chunk of rows that a run before this has stored and looked at; it reports
// whether it is one.
func (r *run) known(t *tableState, chunk int) bool {
	rows, done := r.db.Filled(t.name, chunk)
	if !done {
		return false
	}
	found, ok := r.stored.of(t.name, chunk)
	if !ok {
		return false
	}
	r.way.Recall(t.name, found)
	t.rows.Add(rows)
	t.chunkDone()
	return true
}
