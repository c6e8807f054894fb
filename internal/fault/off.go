//go:build !faults

package fault

// Point is a place at which a test may kill the process.
func Point(string) {}

// Alone reports whether no other process may finish what this one began.
func Alone() bool { return false }
