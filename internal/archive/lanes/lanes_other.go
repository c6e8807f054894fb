//go:build !amd64

package lanes

// Fast reports whether many messages at a time are faster than one after
// another on this processor.
func Fast() bool { return false }

func usable() bool { return false }

func compress(*[8][width]uint32, *[width]*byte, int) {}
