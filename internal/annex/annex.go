// Package annex is the hidden folder beside a target, .NAME.hovix, in which
// everything lies that Hovix keeps for it: the lock that lets one run at a time
// at the target, the journal of that run, the new state while it is staged, and
// the states that were replaced. The folder lies on the same file system as the
// target, so that folders are exchanged with it by a rename, and only its owner
// can enter it. When nothing is left in it, it is removed.
package annex

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hovix/internal/fault"
	"hovix/internal/fsys"
)

const lockName = "lock"

// NewSuffix ends the name of a file that is being written; one that is found with
// it comes from a run that was killed.
const NewSuffix = ".new"

// Annex is the folder of one target.
type Annex struct {
	Dir     string   // its path
	Target  string   // whose it is
	Parents []string // folders above it that were made for it, innermost first
	lock    *os.File
}

// Holder is who holds a lock, as the lock says.
type Holder struct {
	PID     int       `json:"pid"`
	Host    string    `json:"host"`
	Command string    `json:"command"` // of Hovix
	Since   time.Time `json:"since"`
}

// BusyError says that another run works on the target.
type BusyError struct {
	Target string
	Holder Holder
}

// Error says who.
func (e *BusyError) Error() string {
	if e.Holder.PID == 0 {
		return fmt.Sprintf("another run of Hovix is at work on %s", e.Target)
	}
	return fmt.Sprintf("another run of Hovix is at work on %s: hovix %s, process %d on %s, since %s", e.Target, e.Holder.Command, e.Holder.PID, e.Holder.Host, e.Holder.Since.Local().Format("15:04:05 on 2 January 2006"))
}

// IsName reports whether a file of this name is an annex, by its form.
func IsName(name string) bool {
	return strings.HasPrefix(name, ".") && strings.HasSuffix(name, ".hovix") && len(name) > len("..hovix")
}

// Of gives the annex of a target without making or locking it: to look at.
// target is an absolute path.
func Of(target string) *Annex {
	return &Annex{Dir: filepath.Join(filepath.Dir(target), "."+filepath.Base(target)+".hovix"), Target: target}
}

// Take makes the annex of a target, and the folders above it, and locks it for
// the named command. Where another run holds the lock the error is a *BusyError.
// The lock of a process that is gone is none: the system frees it.
func Take(target, command string) (*Annex, error) {
	a := Of(target)
	for dir := filepath.Dir(a.Dir); ; dir = filepath.Dir(dir) {
		if _, err := os.Lstat(dir); !errors.Is(err, fs.ErrNotExist) {
			break
		}
		a.Parents = append(a.Parents, dir)
	}
	if err := os.MkdirAll(filepath.Dir(a.Dir), 0o755); err != nil {
		return nil, fmt.Errorf("make the folder for the new site: %w", err)
	}
	for range 100 { // another run may remove the folder at its end, just now
		err := a.take(command)
		switch {
		case err == nil:
			return a, nil
		case errors.Is(err, fs.ErrNotExist):
			continue
		}
		a.removeParents()
		return nil, err
	}
	return nil, fmt.Errorf("lock %s: it comes and goes", a.Dir)
}

func (a *Annex) take(command string) error {
	if err := os.Mkdir(a.Dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("make the folder in which the target is staged and kept: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(a.Dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("lock the target: %w", err)
	}
	if err := fsys.Lock(f); err != nil {
		defer f.Close()
		if errors.Is(err, fsys.ErrLocked) {
			busy := &BusyError{Target: a.Target}
			_ = json.NewDecoder(f).Decode(&busy.Holder)
			return busy
		}
		return fmt.Errorf("lock the target: %w", err)
	}
	// What was locked may have been removed meanwhile by the run that held it.
	mine, err := f.Stat()
	if err == nil {
		var there fs.FileInfo
		if there, err = os.Stat(f.Name()); err == nil && !os.SameFile(mine, there) {
			err = fs.ErrNotExist
		}
	}
	if err != nil {
		return errors.Join(err, f.Close())
	}
	host, _ := os.Hostname()
	b, _ := json.Marshal(Holder{PID: os.Getpid(), Host: host, Command: command, Since: time.Now().Truncate(time.Second)})
	if err := errors.Join(f.Truncate(0), writeAt(f, append(b, '\n'))); err != nil {
		return errors.Join(fmt.Errorf("lock the target: %w", err), f.Close())
	}
	a.lock = f
	return nil
}

func writeAt(f *os.File, b []byte) error {
	_, err := f.WriteAt(b, 0)
	return err
}

// Inherit is Take for a process that was given the open lock by the one that
// took it.
func Inherit(target string, lock *os.File) *Annex {
	a := Of(target)
	a.lock = lock
	return a
}

// Lock gives the open lock, to be handed to a process that goes on with the work.
func (a *Annex) Lock() *os.File { return a.lock }

// Release gives the lock back, and removes the folder if nothing is in it, and
// the folders above it if they were made for it and are empty.
func (a *Annex) Release() error {
	if a.lock == nil {
		return nil
	}
	err := os.Remove(filepath.Join(a.Dir, lockName)) // while it is held
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	_ = os.Remove(a.Dir) // if it is empty
	a.removeParents()
	err = errors.Join(err, a.lock.Close())
	a.lock = nil
	return err
}

func (a *Annex) removeParents() {
	for _, dir := range a.Parents {
		_ = os.Remove(dir) // if it is empty
	}
}

// Path gives the path of something in the annex.
func (a *Annex) Path(elem ...string) string {
	return filepath.Join(append([]string{a.Dir}, elem...)...)
}

// Write replaces a file of the annex by v as JSON: after a crash, of the machine
// too, it is the old or the new one.
func (a *Annex) Write(name string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return fmt.Errorf("note %s: %w", name, err)
	}
	return a.WriteFile(name, append(b, '\n'))
}

// WriteFile is Write for any content.
func (a *Annex) WriteFile(name string, content []byte) error {
	path := a.Path(name)
	f, err := os.OpenFile(path+NewSuffix, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("note %s: %w", name, err)
	}
	_, err = f.Write(content)
	if err == nil {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	fault.Point("note")
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return fmt.Errorf("note %s: %w", name, err)
	}
	return fsys.SyncDir(filepath.Dir(path))
}

// Read reads what Write has written. Without such a file the error wraps
// fs.ErrNotExist.
func (a *Annex) Read(name string, v any) error {
	b, err := os.ReadFile(a.Path(name))
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", a.Path(name), err)
	}
	return nil
}

// Remove removes something of the annex for good.
func (a *Annex) Remove(name string) error {
	if err := os.RemoveAll(a.Path(name)); err != nil {
		return fmt.Errorf("remove %s: %w", a.Path(name), err)
	}
	return fsys.SyncDir(a.Dir)
}

// Busy reports whether another run holds the lock.
func (a *Annex) Busy() bool {
	f, err := os.OpenFile(a.Path(lockName), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(fsys.Lock(f), fsys.ErrLocked)
}
