package site

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// MaxTextFile bounds a text file that is looked into for addresses, in bytes. Text that
// people and programs write for a site is far smaller.
const MaxTextFile = 16 << 20

// textTypes end the names of text files in which a site has addresses.
var textTypes = []string{".atom", ".cfg", ".conf", ".css", ".csv", ".htm", ".html", ".ini", ".inc", ".js", ".json", ".jsonld", ".less", ".map", ".md", ".mjs", ".php", ".phtml", ".po", ".rss", ".scss", ".svg", ".tpl", ".ts", ".tsv", ".twig", ".txt", ".vtt", ".webmanifest", ".xml", ".xsl", ".yaml", ".yml"}

// serverFiles tell servers and robots how to treat a site: they do harm where they still
// name the old place.
var serverFiles = []string{WebFile, ".user.ini", "robots.txt"}

// IsTextFile reports whether a file is looked into for addresses, by its name.
func IsTextFile(rel string) bool {
	name := strings.ToLower(path.Base(rel))
	return slices.Contains(serverFiles, name) || slices.Contains(textTypes, path.Ext(name))
}

// IsGenerated reports whether a text file is one that is rewritten unasked: what tells
// servers and robots of the site, and style sheets among the uploads, which nobody has
// uploaded but some part of the software has made.
func IsGenerated(rel string, part Part) bool {
	name := strings.ToLower(path.Base(rel))
	return slices.Contains(serverFiles, name) || part == Uploads && path.Ext(name) == ".css"
}

// CheckFilePatterns returns an error for a pattern that cannot be read.
func CheckFilePatterns(patterns []string) error {
	for _, p := range patterns {
		if !doublestar.ValidatePattern(p) {
			return fmt.Errorf("a pattern of files cannot be read: %q", p)
		}
	}
	return nil
}

// MatchesFile reports whether one of the patterns chooses a file: one without a slash the
// name in any folder, another the path, with ** for any folders between.
func MatchesFile(patterns []string, rel string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		p = strings.TrimPrefix(p, "./")
		if ok, _ := doublestar.Match(p, rel); ok {
			return true
		}
		ok, _ := doublestar.Match(p, path.Base(rel))
		return ok && !strings.Contains(p, "/")
	})
}
