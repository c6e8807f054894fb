package site

import (
	"regexp"
	"strings"
)

// WebFile is the name of the files in which a site tells an Apache server its
// rules, in any of its folders.
const WebFile = ".htaccess"

// MaxWebFile bounds what is taken as such a file, in bytes.
const MaxWebFile = 1 << 20

// directive splits a line: indentation, name, and the rest in words with the
// space between them.
var (
	directive = regexp.MustCompile(`^(\s*)(\w+)(\s+)(.*?)(\s*)$`)
	words     = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|\S+`)
)

// RebaseWebFile gives the rules of a site with its new base path ("" or "/blog")
// in the place of the old one: where a directive names a path of the server
// that lies below it. Patterns of rules are relative to the folder, and stay.
func RebaseWebFile(content []byte, from, to string) []byte {
	if from == to {
		return content
	}
	lines := strings.SplitAfter(string(content), "\n")
	for i, l := range lines {
		body := strings.TrimRight(l, "\r\n")
		m := directive.FindStringSubmatch(body)
		if m == nil {
			continue
		}
		at := pathWords(strings.ToLower(m[2]), words.FindAllString(m[4], -1))
		n := -1
		rest := words.ReplaceAllStringFunc(m[4], func(w string) string {
			if n++; at(n) {
				return rebase(w, from, to)
			}
			return w
		})
		lines[i] = m[1] + m[2] + m[3] + rest + m[5] + l[len(body):]
	}
	return []byte(strings.Join(lines, ""))
}

// pathWords tells which words of a directive are paths of the server.
func pathWords(name string, w []string) func(int) bool {
	none := func(int) bool { return false }
	only := func(k int) func(int) bool { return func(n int) bool { return n == k } }
	switch name {
	case "rewritebase", "fallbackresource":
		return only(0)
	case "rewriterule", "errordocument":
		return only(1)
	case "redirect", "redirectpermanent", "redirecttemp":
		return func(int) bool { return true }
	case "redirectmatch":
		return only(len(w) - 1)
	}
	return none
}

// rebase moves a path from below one base path to another.
func rebase(w, from, to string) string {
	quote := ""
	if strings.HasPrefix(w, `"`) {
		quote, w = `"`, strings.Trim(w, `"`)
	}
	switch rest, ok := strings.CutPrefix(w, from); {
	case !ok, strings.HasPrefix(w, "//"), !strings.HasPrefix(w, "/"):
	case rest == "" || strings.HasPrefix(rest, "/"):
		w = to + rest
		if w == "" {
			w = "/"
		}
	}
	return quote + w + quote
}
