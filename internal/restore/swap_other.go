//go:build !linux

package restore

// swap puts the folder stage in the place of target and target's old content
// at old.
func swap(stage, target, old string) error { return swapInTwo(stage, target, old) }
