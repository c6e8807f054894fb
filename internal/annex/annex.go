// Package annex is the hidden folder beside a target, .NAME.hovix (in it, where the target
// is a mount point), in which
// everything lies that Hovix keeps for it: the lock that lets one run at a time
// at the target, the journal of that run, the new state while it is staged, and
// the states that were replaced. The folder lies on the same file system as the
// target, so that folders are exchanged with it by a rename, and only its owner
// can enter it. When nothing is left in it, it is removed.
package annex

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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

// Annex is the folder of one target. What is in it is reached through an open handle,
// and only if the folder is of who runs and nobody else may write to it: a folder that
// somebody put there is not looked into.
type Annex struct {
	Dir     string   // its path
	Target  string   // whose it is
	Parents []string // folders above it that were made for it, innermost first
	// Inside says that it lies in the target, which is where a file system is mounted: beside
	// it there is another one, and it cannot be renamed.
	Inside bool
	lock   *os.File
	parent *fsys.Handle // of the folder that holds it and the target
	*fsys.Handle
}

// ErrUntrusted says that the folder beside a target is not one that this user has made,
// so that nothing in it is believed.
var ErrUntrusted = errors.New("is not to be trusted")

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
	a := &Annex{Target: target, Inside: fsys.IsMount(target)}
	dir := filepath.Dir(target)
	if a.Inside {
		dir = target
	}
	a.Dir = filepath.Join(dir, "."+filepath.Base(target)+".hovix")
	return a
}

// IsOwn reports whether something right in the target is not the site's: the annex itself,
// or what a file system has at its root.
func (a *Annex) IsOwn(name string) bool {
	return a.Inside && (name == filepath.Base(a.Dir) || name == "lost+found")
}

// Look opens the annex of a target, a path as fsys.Resolve gives it, to look at it. Where
// there is none the error wraps fs.ErrNotExist; where it is not to be trusted,
// ErrUntrusted.
func Look(target string) (*Annex, error) {
	a := Of(target)
	if err := a.open(false); err != nil {
		return nil, err
	}
	return a, nil
}

// open opens the folder, and proves that it is ours. fresh is set if it was made just
// now.
func (a *Annex) open(fresh bool) (err error) {
	if a.parent == nil {
		if a.parent, err = fsys.OpenExact(filepath.Dir(a.Dir)); err != nil {
			return err
		}
	}
	name := filepath.Base(a.Dir)
	st, err := a.parent.Lstat(name)
	if err != nil {
		return errors.Join(err, a.Close())
	}
	why := ""
	switch uid, _ := fsys.Owner(st); {
	case st.Mode()&fs.ModeSymlink != 0:
		why = "it is a link"
	case !st.IsDir():
		why = "it is no folder"
	case uid >= 0 && uid != os.Geteuid():
		why = fmt.Sprintf("it belongs to the user with number %d", uid)
	}
	if why == "" {
		if a.Handle, err = a.parent.Sub(name); err != nil {
			return errors.Join(fmt.Errorf("open %s: %w", a.Dir, err), a.Close())
		}
		if !fresh && st.Mode().Perm()&0o077 != 0 && a.keepsModes() {
			why = fmt.Sprintf("others may enter it (its mode is %04o)", st.Mode().Perm())
		}
	}
	if why != "" {
		return errors.Join(fmt.Errorf("%s, in which Hovix keeps what it replaces, %w: %s; nothing in it was read. If you know what it is, make it your own again (chown, chmod 700) or move it away", a.Dir, ErrUntrusted, why), a.Close())
	}
	return nil
}

// keepsModes reports whether the file system keeps who may do what; on some every file
// is open to all.
func (a *Annex) keepsModes() bool {
	const probe = "probe" + NewSuffix
	f, err := a.OpenFile(probe, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return true
	}
	defer func() { _ = errors.Join(f.Close(), a.Handle.Remove(probe)) }()
	st, err := f.Stat()
	return err != nil || st.Mode().Perm() == 0o600
}

// Close gives up the handles of an annex that was only looked at.
func (a *Annex) Close() (err error) {
	if a.Handle != nil {
		err = a.Handle.Close()
		a.Handle = nil
	}
	if a.parent != nil {
		err = errors.Join(err, a.parent.Close())
		a.parent = nil
	}
	return err
}

// Beside gives the folder in which the annex lies, and the target's name in it, which is a
// full stop where that is the target itself.
func (a *Annex) Beside() (parent *fsys.Handle, name string) {
	if a.Inside {
		return a.parent, "."
	}
	return a.parent, filepath.Base(a.Target)
}

// TargetSerial is the serial of what lies at the target, 0 if there is nothing.
func (a *Annex) TargetSerial() uint64 {
	parent, name := a.Beside()
	return parent.SerialOf(name)
}

// Take makes the annex of a target, a path as fsys.Resolve gives it, and the folders
// above it, and locks it for the named command. Where another run holds the lock the
// error is a *BusyError. The lock of a process that is gone is none: the system frees it.
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
			_ = a.Close()
			continue
		}
		a.removeParents()
		return nil, errors.Join(err, a.Close())
	}
	return nil, fmt.Errorf("lock %s: it comes and goes", a.Dir)
}

func (a *Annex) take(command string) (err error) {
	if a.parent, err = fsys.OpenExact(filepath.Dir(a.Dir)); err != nil {
		return err
	}
	err = a.parent.Mkdir(filepath.Base(a.Dir), 0o700)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("make the folder in which the target is staged and kept: %w", err)
	}
	if err := a.open(err == nil); err != nil {
		return err
	}
	f, err := a.OpenFile(lockName, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("lock the target: %w", err)
	}
	if err := fsys.Lock(f); err != nil {
		defer f.Close()
		if errors.Is(err, fsys.ErrLocked) {
			busy := &BusyError{Target: a.Target}
			_ = json.NewDecoder(io.LimitReader(f, 64<<10)).Decode(&busy.Holder)
			return busy
		}
		return fmt.Errorf("lock the target: %w", err)
	}
	// What was locked may have been removed meanwhile by the run that held it.
	if err := a.holds(f); err != nil {
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

// holds proves that an open lock is the one that lies in the folder, which lies beside
// the target.
func (a *Annex) holds(lock *os.File) error {
	mine, err := lock.Stat()
	if err != nil {
		return err
	}
	there, err := a.Lstat(lockName)
	if err != nil {
		return err
	}
	folder, err := a.parent.Lstat(filepath.Base(a.Dir))
	if err != nil {
		return err
	}
	own, err := a.Stat(".")
	if err != nil {
		return err
	}
	if !os.SameFile(mine, there) || !os.SameFile(folder, own) {
		return fs.ErrNotExist
	}
	return nil
}

func writeAt(f *os.File, b []byte) error {
	_, err := f.WriteAt(b, 0)
	return err
}

// Inherit is Take for a process that was given the open lock by the one that
// took it.
func Inherit(target string, lock *os.File) (*Annex, error) {
	a := Of(target)
	if err := a.open(false); err != nil {
		return nil, err
	}
	if err := a.holds(lock); err != nil {
		return nil, errors.Join(fmt.Errorf("the lock that was handed over is not that of %s: %w", target, err), a.Close())
	}
	a.lock = lock
	return a, nil
}

// Lock gives the open lock, to be handed to a process that goes on with the work.
func (a *Annex) Lock() *os.File { return a.lock }

// Release gives the lock back, and removes the folder if nothing is in it, and
// the folders above it if they were made for it and are empty.
func (a *Annex) Release() error {
	if a.lock == nil {
		return a.Close()
	}
	err := a.Handle.Remove(lockName) // while it is held
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	name := filepath.Base(a.Dir)
	if st, e := a.parent.Lstat(name); e == nil && st.IsDir() && fsys.Serial(st) == a.SerialOf(".") {
		_ = a.parent.Remove(name) // if it is empty
	}
	a.removeParents()
	err = errors.Join(err, a.lock.Close())
	a.lock = nil
	return errors.Join(err, a.Close())
}

// removeParents removes the folders that were made above the annex, as far as they are
// that and empty.
func (a *Annex) removeParents() {
	for _, dir := range a.Parents {
		if rel, err := filepath.Rel(dir, a.Target); err == nil && rel != "." && filepath.IsLocal(rel) {
			_ = fsys.RemoveDir(dir)
		}
	}
}

// Shown gives the path of something in the annex, for people.
func (a *Annex) Shown(elem ...string) string {
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
	f, err := a.OpenFile(name+NewSuffix, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
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
		err = a.Rename(name+NewSuffix, name)
	}
	if err != nil {
		_ = a.Handle.Remove(name + NewSuffix)
		return fmt.Errorf("note %s: %w", name, err)
	}
	return a.SyncOf(name)
}

// SyncOf makes the names durable beside something in the annex.
func (a *Annex) SyncOf(name string) error {
	dir, err := a.Open(filepath.Dir(name))
	if err != nil {
		return nil // not every system lets a folder be opened
	}
	_ = dir.Sync()
	return dir.Close()
}

// maxNote bounds what is read of a note, in bytes.
const maxNote = 64 << 20

// Read reads what Write has written. Without such a file the error wraps
// fs.ErrNotExist.
func (a *Annex) Read(name string, v any) error {
	b, err := a.ReadFile(name, maxNote)
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", a.Shown(name), err)
	}
	return nil
}

// Entries lists what is in the annex.
func (a *Annex) Entries() ([]fs.DirEntry, error) { return fs.ReadDir(a.FS(), ".") }

// Remove removes something of the annex for good, until ctx is done.
func (a *Annex) Remove(ctx context.Context, name string) error {
	err := a.RemoveTree(ctx, name)
	// A file that was open until now may leave a name behind for a moment, on networks and
	// on file systems that are programs.
	for wait := time.Millisecond; errors.Is(err, fs.ErrExist) && wait < time.Second; wait *= 2 {
		time.Sleep(wait)
		err = a.RemoveTree(ctx, name)
	}
	if err != nil {
		return fmt.Errorf("remove %s: %w", a.Shown(name), err)
	}
	return a.Sync()
}

// Busy reports whether another run holds the lock.
func (a *Annex) Busy() bool {
	f, err := a.OpenFile(lockName, os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(fsys.Lock(f), fsys.ErrLocked)
}

// IsBusy reports whether a run holds the lock of a target, a path as fsys.Resolve gives
// it.
func IsBusy(target string) bool {
	a, err := Look(target)
	if err != nil {
		return false
	}
	defer a.Close()
	return a.Busy()
}
