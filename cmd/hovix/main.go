// Command hovix packages a website into one archive and restores it at another
// folder, database and address.
package main

import (
	"os"
	"runtime"
	"runtime/debug"

	"hovix/internal/cli"
)

func main() {
	// Nearly all memory is large buffers without pointers, which are used again:
	// to collect often costs nothing and keeps the peak low.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(40)
	}
	// Never touched, this costs no memory; but the collector counts it, and lets a
	// small heap grow by two fifths of it between two rounds.
	ballast := make([]byte, 64<<20)
	status := cli.Main(os.Args[1:])
	runtime.KeepAlive(ballast)
	os.Exit(status)
}
