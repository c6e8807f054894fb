package restore

import (
	"errors"
	"os"
)

// swapInTwo exchanges folders with two renames; between them the target is
// missing for some microseconds.
func swapInTwo(stage, target, old string) error {
	if err := os.Rename(target, old); err != nil {
		return err
	}
	if err := os.Rename(stage, target); err != nil {
		return errors.Join(err, os.Rename(old, target))
	}
	return nil
}
