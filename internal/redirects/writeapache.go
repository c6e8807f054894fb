package redirects

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hovix/internal/webpath"
)

// apacheString quotes a text for Apache's configuration, which takes a backslash before
// a quote or another backslash (core documentation, Configuration Files).
func apacheString(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// rewriteString quotes a text for mod_rewrite, which reads its own arguments: there a
// quote cannot be marked, but an expression can name it.
func rewriteString(s string) string { return `"` + strings.ReplaceAll(s, `"`, `\x22`) + `"` }

// apacheTarget keeps Apache from taking "%1" and "$1" in a target for what was matched.
func apacheTarget(to string) string { return strings.ReplaceAll(to, "%", `\%`) }

// apachePath gives the expression for a path as Apache decodes it; an encoded slash stays
// one (AllowEncodedSlashes NoDecode).
func apachePath(p string) string {
	pieces := strings.Split(p, "%2F")
	for i, s := range pieces {
		pieces[i] = regexp.QuoteMeta(webpath.Decoded(s))
	}
	return strings.Join(pieces, "%2[Ff]")
}

// apache writes RedirectMatch (mod_alias), which counts for one address only, as Redirect
// does not: that takes all that lies below with it. Queries need mod_rewrite, which comes
// first. mod_alias encodes the path of its target, so that it stands here decoded; where
// that would mean something else, mod_rewrite does it.
func (w *ruleWriter) apache() error {
	w.file("")
	var match, rewrite []exact
	for _, e := range w.rows {
		path, _, _ := strings.Cut(e.to, "?")
		if e.has || e.status != 410 && (strings.Contains(path, "%2F") || strings.Contains(path, "%3F") || strings.Contains(path, "%23") || strings.Contains(path, "%25") || strings.Contains(e.to, "?") || strings.Contains(e.to, "#")) {
			rewrite = append(rewrite, e)
		} else {
			match = append(match, e)
		}
	}
	slash := slices.ContainsFunc(w.rows, func(e exact) bool { return strings.Contains(e.path, "%2F") })
	if slash {
		w.line("# Some old addresses hold an encoded slash, which Apache refuses unless this is set.\nAllowEncodedSlashes NoDecode")
	}
	queries := slices.ContainsFunc(w.rules, (*Rule).hasQuery)
	if len(rewrite) > 0 || queries {
		w.line("RewriteEngine On")
	}
	for _, e := range rewrite {
		w.rewriteRule(&e, "^/")
	}
	for _, r := range w.rules {
		if r.hasQuery() {
			w.rewriteMany(r)
		}
	}
	for _, e := range match {
		w.redirectMatch(e.status, apachePath(e.path), aliasTarget(e.to))
	}
	for _, r := range w.rules {
		if !r.hasQuery() {
			const mark = "\x00"
			to := aliasTarget(ruleTarget(r, func(n int) string { return fmt.Sprintf("%s%d", mark, n) }))
			// What a placeholder takes is decoded: it must not end a header.
			pattern := strings.ReplaceAll(strings.ReplaceAll(rulePattern(r, apachePath), "[^/?#]+", `[^/?#\x00-\x1f]+`), "[^?#]+", `[^?#\x00-\x1f]+`)
			w.redirectMatch(r.Status, pattern, strings.ReplaceAll(to, mark, "$"))
		}
	}
	return w.err
}

func (w *ruleWriter) redirectMatch(status int, pattern, to string) {
	if status == 410 {
		w.line("RedirectMatch 410 %s", apacheString("^"+pattern+"$"))
		return
	}
	w.line("RedirectMatch %d %s %s", status, apacheString("^"+pattern+"$"), apacheString(to))
}

// aliasTarget gives a target as mod_alias wants it: its path decoded, "$" and "\" marked,
// its query as it is.
func aliasTarget(to string) string {
	head, end := "", ""
	if at := strings.Index(to, "://"); at >= 0 {
		if slash := strings.IndexByte(to[at+3:], '/'); slash >= 0 {
			head, to = to[:at+3+slash], to[at+3+slash:]
		}
	}
	if at := strings.IndexAny(to, "?#"); at >= 0 {
		to, end = to[:at], to[at:]
	}
	return head + strings.NewReplacer(`\`, `\\`, "$", `\$`, "&", `\&`).Replace(webpath.Decoded(to)) + strings.NewReplacer("$", `\$`, "&", `\&`).Replace(end)
}

// htaccess writes rewrite rules, which work in the order in which they stand in an
// .htaccess file, before those that send everything to a program.
func (w *ruleWriter) htaccess() error {
	w.file("")
	w.line("RewriteEngine On")
	for _, e := range w.rows {
		w.rewriteRule(&e, "^/?")
	}
	for _, r := range w.rules {
		w.rewriteMany(r)
	}
	return w.err
}

// rewriteRule writes a row for mod_rewrite. The target is not encoded again (NE).
func (w *ruleWriter) rewriteRule(e *exact, begin string) {
	flags := fmt.Sprintf("R=%d,L,NE", e.status)
	if e.has {
		w.line("RewriteCond %%{QUERY_STRING} %s", rewriteString("^"+rawPattern(e.query)+"$"))
		flags += ",QSD"
	}
	pattern := rewriteString(begin + apachePath(strings.TrimPrefix(e.path, "/")) + "$")
	if e.status == 410 {
		w.line("RewriteRule %s - [G]", pattern)
		return
	}
	w.line("RewriteRule %s %s [%s]", pattern, rewriteString(apacheTarget(e.to)), flags)
}

// rewriteMany writes a rule for mod_rewrite. It looks at the address as the browser sent
// it, so that what a placeholder took is encoded already.
func (w *ruleWriter) rewriteMany(r *Rule) {
	end := `(?:\?\S*)?`
	flags := fmt.Sprintf("R=%d,L,NE", r.Status)
	if r.hasQuery() {
		end = ""
		flags += ",QSD"
	}
	w.line("RewriteCond %%{THE_REQUEST} %s", rewriteString(`^\S+ (?:https?://[^/]+)?`+strings.ReplaceAll(strings.ReplaceAll(rulePattern(r, rawPattern), "[^/?#]+", `[^/?#\s]+`), "[^?#]+", `[^?#\s]+`)+end+` \S+$`))
	if r.Status == 410 {
		w.line(`RewriteRule "^" - [G]`)
		return
	}
	w.line("RewriteRule %s %s [%s]", `"^"`, rewriteString(ruleTargetApache(r)), flags)
}

func ruleTargetApache(r *Rule) string {
	const mark = "\x00"
	s := ruleTarget(r, func(n int) string { return fmt.Sprintf("%s%d", mark, n) })
	return strings.ReplaceAll(apacheTarget(s), mark, "%")
}
