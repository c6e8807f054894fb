// Package nearest finds the name that was probably meant when a name is wrong.
package nearest

import (
	"os"
	"path/filepath"
	"strings"
)

// Of returns the candidate that is spelled most like name, or "" if none is
// near: at most a third of its letters may differ.
func Of(name string, candidates []string) string {
	best, distance := "", max(1, len(name)/3)+1
	for _, c := range candidates {
		if d := edits(strings.ToLower(name), strings.ToLower(c)); d < distance {
			best, distance = c, d
		}
	}
	return best
}

// Path returns the existing path that is spelled most like path, by its first
// element that does not exist, or "" if none is near.
func Path(path string) string {
	parent, base := filepath.Split(filepath.Clean(path))
	if base == "" || parent == path {
		return ""
	}
	if parent == "" {
		parent = "."
	}
	if _, err := os.Stat(parent); err != nil {
		up := Path(filepath.Clean(parent))
		if up == "" {
			return ""
		}
		whole := filepath.Join(up, base)
		if _, err := os.Stat(whole); err == nil {
			return whole
		}
		return up
	}
	entries, err := os.ReadDir(parent)
	if err != nil {
		return ""
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	if n := Of(base, names); n != "" {
		return filepath.Join(parent, n)
	}
	return ""
}

// edits counts the insertions, deletions, replacements and swaps of neighbours
// that lead from a to b (the restricted Damerau–Levenshtein distance).
func edits(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
