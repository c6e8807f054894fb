package rewrite

import (
	"fmt"
	"net/url"
	"strings"

	"golang.org/x/net/idna"
)

// spelling is a host name as it may stand in a value, in lower case, and the
// new host in the same spelling.
type spelling struct{ from, to string }

// spellings gives those of a host: internationalized names as letters, in the
// ASCII form of RFC 3490 and as letters that are escaped once more; IPv6
// literals with their brackets percent-encoded too.
func spellings(from, to string) []spelling {
	if strings.HasPrefix(from, "[") {
		return []spelling{{from, to}, {strings.ToLower(url.QueryEscape(from)), percentHost(to)}}
	}
	ascii, letters := bothNames(from)
	toASCII, toLetters := bothNames(to)
	out := []spelling{{ascii, toASCII}}
	if letters != ascii {
		out = append(out, spelling{letters, toLetters},
			spelling{strings.ToLower(escapeU(letters)), escapeU(toLetters)},
			spelling{strings.ToLower(url.PathEscape(letters)), url.PathEscape(toLetters)})
	}
	return out
}

// percentHost is for a place where brackets and colons are percent-encoded.
func percentHost(host string) string {
	if strings.HasPrefix(host, "[") {
		return url.QueryEscape(host)
	}
	return host
}

// bothNames gives a host in ASCII and in letters. They differ for
// internationalized names only.
func bothNames(host string) (ascii, letters string) {
	ascii, letters = host, host
	if a, err := idna.Lookup.ToASCII(host); err == nil && strings.Contains(a, "xn--") {
		ascii = a
		if u, err := idna.Lookup.ToUnicode(a); err == nil {
			letters = u
		}
	}
	return ascii, letters
}

// escapeU writes what is not ASCII as \u00fc, as JSON may (RFC 8259, section 7).
func escapeU(s string) string {
	var m = manner{unicode: true}
	return string(m.encode(nil, []byte(s)))
}

// addTexts looks for texts that mappings name, with plain slashes and with
// slashes escaped as in JSON. New texts are kept as they are, so that a second
// run finds nothing.
func (rw *Rewriter) addTexts(maps []TextMapping, words bool) error {
	seen := map[string]string{}
	for _, m := range maps {
		if m.Old == "" {
			return fmt.Errorf("a text to replace is empty")
		}
		if to, ok := seen[m.Old]; ok && to != m.New {
			return fmt.Errorf("the text %q is mapped to both %q and %q; keep one", m.Old, to, m.New)
		}
		seen[m.Old] = m.New
	}
	for _, m := range maps {
		if m.Old == m.New {
			continue
		}
		for _, slash := range []string{"/", `\/`} {
			from, to := strings.ReplaceAll(m.Old, "/", slash), strings.ReplaceAll(m.New, "/", slash)
			if slash != "/" && from == m.Old {
				continue
			}
			rw.seekers = append(rw.seekers, &literal{old: []byte(from), to: []byte(to), words: words})
			if _, old := seen[m.New]; !old && strings.Contains(m.New, m.Old) {
				rw.seekers = append(rw.seekers, &literal{old: []byte(to), keep: true, words: words})
			}
		}
	}
	return nil
}
