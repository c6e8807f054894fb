package testenv

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
)

// SeedStatements gives a fuzz target the lines of the hostile statements for an engine
// (mariadb, postgres), which lie three folders above a package of one, and some more.
func SeedStatements(f *testing.F, engine string, more ...string) {
	f.Helper()
	content, err := os.ReadFile(filepath.Join("../../../cmd/hovix/testdata/hostile", engine+".sql"))
	require.NoError(f, err)
	for _, line := range bytes.Split(content, []byte("\n")) {
		f.Add(string(line))
	}
	for _, s := range more {
		f.Add(s)
	}
}

// FirstStatement cuts a text as Hovix does, and gives the first statement and how many
// there are; 0 where the text is none that could be asked of a server.
func FirstStatement(text string, d sqltext.Dialect) (first string, n int) {
	if !utf8.ValidString(text) || strings.ContainsRune(text, 0) || len(text) > 4000 {
		return "", 0
	}
	s := sqltext.SplitBytes([]byte(text), d)
	for {
		stmt, err := s.Next()
		if errors.Is(err, io.EOF) {
			return first, n
		}
		if err != nil {
			return "", 0
		}
		if n++; n == 1 {
			first = string(stmt.Text)
		}
	}
}
