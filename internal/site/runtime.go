package site

import (
	"context"
	"os/exec"
	"regexp"
	"time"
)

// phpVersion is what PHP calls its version.
var phpVersion = regexp.MustCompile(`^\d+\.\d+\.\d+[\w.+~-]*$`)

// Runtime tells which versions of the programs that run sites are on the command
// line of this machine: "php" → "8.2.7". That of a web server may be another.
func Runtime(ctx context.Context) map[string]string {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "php", "-n", "-r", "echo PHP_VERSION;").Output()
	if err != nil || !phpVersion.Match(out) {
		return nil
	}
	return map[string]string{"php": string(out)}
}
