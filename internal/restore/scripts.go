package restore

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"hovix/internal/archive"
)

// scriptEndings end the names of files that a web server for PHP runs, as Debian's
// and others' configurations have them.
var scriptEndings = []string{".php", ".php3", ".php4", ".php5", ".php7", ".php8", ".phtml", ".pht", ".phar"}

// idle is what a PHP file may hold without doing anything: it keeps visitors from
// seeing the list of a folder.
var idle = regexp.MustCompile(`(?s)^\s*(<\?php\b|\?>|//[^\n]*|#[^\n]*|/\*.*?\*/|(exit|die|return)(\s*\(\s*\))?\s*;|\s)*$`)

// maxScripts is how many programs among uploads are named.
const maxScripts = 5

// noteScript notes a program among uploads: nobody uploads one, but those who break
// into a site leave them there.
func (s *fileStage) noteScript(rel string, p archive.Piece) {
	if p.Offset != 0 || !slices.Contains(scriptEndings, strings.ToLower(path.Ext(rel))) || !s.isUpload(rel) {
		return
	}
	if int64(len(p.Data)) == p.Entry.Size && len(p.Data) < 4096 && idle.Match(bytes.TrimPrefix(p.Data, []byte("\xef\xbb\xbf"))) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.foreign++; len(s.scripts) < maxScripts {
		s.scripts = append(s.scripts, rel)
	}
}

// warn tells of programs among uploads.
func (s *fileStage) warn(res *Result) {
	if s.foreign == 0 {
		return
	}
	slices.Sort(s.scripts)
	list := strings.Join(s.scripts, ", ")
	if n := s.foreign - int64(len(s.scripts)); n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	what := "A PHP file lies among the uploads"
	if s.foreign > 1 {
		what = fmt.Sprintf("%d PHP files lie among the uploads", s.foreign)
	}
	res.Warnings = append(res.Warnings, what+", where visitors could run what somebody left there: "+list)
}
