package site

import (
	"bytes"
	"path"
	"regexp"
	"strings"

	"hovix/internal/database"
	"hovix/internal/site/phpconf"
)

// Source is what settings may say of where a site came from.
type Source struct {
	Database string // its name; empty: none
	Host     string // of its server; empty: the machine itself
	Root     string // the folder
}

// SourceOf gives what of a database's place is another one's where the site is put.
func SourceOf(l database.Location) Source {
	s := Source{Database: l.Name, Host: strings.ToLower(l.Host)}
	if IsLocalHost(l.Host) {
		s.Host = ""
	}
	return s
}

// IsLocalHost reports whether a host's name means the machine itself.
func IsLocalHost(host string) bool {
	host = strings.ToLower(strings.Trim(host, "[]"))
	return host == "" || host == "localhost" || host == "::1" || strings.HasPrefix(host, "127.") || strings.HasPrefix(host, "/")
}

// aboutDatabase tells lines of settings that are of a database.
var aboutDatabase = regexp.MustCompile(`(?i)db|database|dsn|mysql|maria|postgres|pgsql|sqlite|\bpdo\b`)

// OldMentions names what in a settings file is still that of the source, as "the database
// museum"; comments are left aside.
func (src *Source) OldMentions(rel string, content []byte) (what []string) {
	text := withoutComments(rel, content)
	quoted := func(word, before, after string) bool {
		itself := regexp.MustCompile(`(?i)` + regexp.QuoteMeta(word)) // may be called museum_db
		form := regexp.MustCompile(`(?i)(?:` + before + `)` + regexp.QuoteMeta(word) + `(?:` + after + `)`)
		for line := range bytes.Lines(text) {
			if form.Match(line) && aboutDatabase.Match(itself.ReplaceAll(line, nil)) {
				return true
			}
		}
		return false
	}
	const begin, end = `['"=:]\s*`, `\s*['",;)]|\s*$`
	if len(src.Database) > 2 && quoted(src.Database, begin+`|://[^/\s'"]*/`, end+`|\?`) {
		what = append(what, "the database "+src.Database)
	}
	if src.Host != "" && quoted(src.Host, begin+`|@|//`, end+`|[:/?]`) {
		what = append(what, "the database server "+src.Host)
	}
	if strings.Count(src.Root, "/") > 1 {
		for at := 0; ; {
			n := bytes.Index(text[at:], []byte(src.Root))
			if n < 0 {
				break
			}
			at += n + len(src.Root)
			if at == len(text) || bytes.IndexByte([]byte("/'\"\n\r \t,;:)"), text[at]) >= 0 {
				what = append(what, "the folder "+src.Root)
				break
			}
		}
	}
	return what
}

// withoutComments gives the text of a settings file without its comments, as far as its
// format has any that are known.
func withoutComments(rel string, content []byte) []byte {
	if isPHP(rel) {
		return phpconf.WithoutComments(content)
	}
	if path.Ext(rel) == ".json" {
		return content
	}
	var out []byte
	for line := range bytes.Lines(content) {
		if t := bytes.TrimSpace(line); len(t) > 0 && (t[0] == '#' || t[0] == ';' || bytes.HasPrefix(t, []byte("//"))) {
			line = []byte("\n")
		}
		out = append(out, line...)
	}
	return out
}
