//go:build !linux

package fsys

// swapAt exchanges two names in one step, which this system cannot do.
func swapAt(*Handle, string, *Handle, string) error { return ErrNotAtOnce }
