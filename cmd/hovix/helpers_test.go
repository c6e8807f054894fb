// Package main_test drives the built program as people do: files in a temporary
// folder, real servers, exit status, output and effects.
package main_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hovix/internal/rewrite"
	"hovix/internal/testenv"
)

// putBackStatements reads from restore's JSON how to undo it by hand.
func putBackStatements(t *testing.T, out string) string {
	t.Helper()
	var doc struct {
		Replaced struct{ PutBack []string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &doc), out)
	require.NotEmpty(t, doc.Replaced.PutBack)
	return strings.Join(doc.Replaced.PutBack, "\n")
}

// snapshot describes everything below a folder: names, modes, times, content.
func snapshot(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		line := fmt.Sprintf("%v %v", info.Mode(), info.ModTime().UnixNano())
		if rel == "." { // what was staged and removed beside the target shows in its time only
			line = info.Mode().String()
		}
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			link, err := os.Readlink(p)
			if err != nil {
				return err
			}
			line = "-> " + link
		case info.Mode().IsRegular():
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			line += fmt.Sprintf(" %x", sha256.Sum256(b))
		}
		out[rel] = line
		return nil
	})
	require.NoError(t, err)
	return out
}

// names lists the entries of a folder.
var names = testenv.Names

// parse reads an address.
func parse(t testing.TB, address string) rewrite.Address {
	t.Helper()
	a, err := rewrite.ParseAddress(address)
	require.NoError(t, err)
	return a
}
