//go:build faults

package fault

import (
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// passed counts how often a point has been passed, by name.
var passed = map[string]*atomic.Int64{}

// where is the point at which the process dies, from HOVIX_FAULT=NAME, NAME:N for
// the Nth time, and either with @COMMAND for that command of Hovix only.
var where, times = func() (string, int64) {
	text, command, only := strings.Cut(os.Getenv("HOVIX_FAULT"), "@")
	if only && (len(os.Args) < 2 || os.Args[1] != command) {
		return "", 0
	}
	name, n, ok := strings.Cut(text, ":")
	if name != "" {
		passed[name] = &atomic.Int64{}
	}
	if at, err := strconv.ParseInt(n, 10, 64); ok && err == nil {
		return name, at
	}
	return name, 1
}()

// Point is a place at which a test may kill the process.
func Point(name string) {
	pause(name)
	if name == where && passed[name].Add(1) == times {
		_ = syscall.Kill(syscall.Getpid(), syscall.SIGKILL)
		select {}
	}
}

// pause waits at the point that HOVIX_PAUSE names, as NAME or NAME@COMMAND, once it has made
// the file HOVIX_PAUSE_AT, until that is gone.
func pause(name string) {
	at, command, only := strings.Cut(os.Getenv("HOVIX_PAUSE"), "@")
	if at != name || only && (len(os.Args) < 2 || os.Args[1] != command) {
		return
	}
	file := os.Getenv("HOVIX_PAUSE_AT")
	if f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err == nil {
		_ = f.Close()
	}
	for {
		if _, err := os.Stat(file); err != nil {
			_ = os.Unsetenv("HOVIX_PAUSE")
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// Alone reports whether no other process may finish what this one began.
func Alone() bool { return os.Getenv("HOVIX_FAULT_ALONE") != "" }
