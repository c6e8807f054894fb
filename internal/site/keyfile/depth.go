package keyfile

import (
	"bytes"
	"errors"
)

// Bounds of what is read as TOML or YAML, far beyond what settings hold. Readers call
// themselves for each bracket, and take time by the square of the parts of a key.
const (
	maxSize     = 1 << 20 // in bytes
	maxBrackets = 20_000  // whether they are of texts or not
	maxDots     = 1_000   // in one line
)

// ErrTooMuch says that a file is larger or deeper than settings are.
var ErrTooMuch = errors.New("it is no file of settings: it is larger than 1 MB, or holds more than 20,000 brackets, or more than 1,000 dots in one line")

// Check insists that a file of settings is not more than its reader can bear. It does not
// look for texts and comments, in which things could be hidden from it.
func Check(content []byte) error {
	if len(content) > maxSize || bytes.Count(content, []byte("["))+bytes.Count(content, []byte("{")) > maxBrackets {
		return ErrTooMuch
	}
	for line := range bytes.Lines(content) {
		if bytes.Count(line, []byte(".")) > maxDots {
			return ErrTooMuch
		}
	}
	return nil
}
