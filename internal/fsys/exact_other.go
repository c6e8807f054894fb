//go:build !linux

package fsys

import (
	"errors"
	"os"
)

func openExact(string) (*os.File, error) { return nil, errors.ErrUnsupported }
