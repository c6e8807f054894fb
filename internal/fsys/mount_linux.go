package fsys

import (
	"os"
	"strings"
)

// mounted reports whether the system lists a mount at path, which may be of the same file
// system as the folder above it (mountinfo in proc_pid_mountinfo(5): the fifth field, with
// some bytes as octal numbers).
func mounted(path string) bool {
	text, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return false
	}
	unescape := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) > 4 && unescape.Replace(f[4]) == path {
			return true
		}
	}
	return false
}
