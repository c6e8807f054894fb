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
			w.redirectMatch(r.Status, rulePattern(r, apachePath), strings.ReplaceAll(to, mark, "$"))
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

// aliasTarget gives a target as mod_alias wants it: its path decoded, "$" and "\" marked.
func aliasTarget(to string) string {
	head := ""
	if at := strings.Index(to, "://"); at >= 0 {
		if slash := strings.IndexByte(to[at+3:], '/'); slash >= 0 {
			head, to = to[:at+3+slash], to[at+3+slash:]
		}
	}
	return head + strings.NewReplacer(`\`, `\\`, "$", `\$`, "&", `\&`).Replace(webpath.Decoded(to))
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

// nginxString quotes a text for nginx. A "$" cannot be quoted there; addresses hold it
// encoded.
func nginxString(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// nginxPattern quotes an expression: backslashes stay.
func nginxPattern(s string) string { return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"` }

// nginxReturn is what answers a row.
func nginxReturn(e *exact) string {
	if e.status == 410 {
		return "return 410;"
	}
	to := e.to
	if !e.has && !strings.ContainsAny(to, "?#") {
		to += "$is_args$args" // the visitor's own query goes along
	}
	return fmt.Sprintf("return %d %s;", e.status, nginxString(to))
}

// nginx writes an exact location for each path, which nginx finds at once among many
// thousands, and which tells letter case. Queries, encoded slashes and rules are looked
// for in the address as the browser sent it.
func (w *ruleWriter) nginx() error {
	w.file("")
	var paths []exact
	for _, e := range w.rows {
		if e.has || e.raw() {
			w.nginxRaw(&e)
		} else {
			paths = append(paths, e)
		}
	}
	for _, r := range w.rules {
		if r.hasQuery() {
			w.line("if ($request_uri ~ %s) { %s }", nginxPattern("^"+rulePattern(r, rawPattern)+"$"), nginxRule(r))
		}
	}
	for _, e := range paths {
		w.line("location = %s { %s }", nginxString(webpath.Decoded(e.path)), nginxReturn(&e))
	}
	for _, r := range w.rules {
		if !r.hasQuery() {
			w.line("location ~ %s { if ($request_uri ~ %s) { %s } }", nginxPattern("^"+rulePattern(r, decodedPattern)+"$"), nginxPattern("^"+rulePattern(r, rawPattern)+`(?:\?.*)?$`), nginxRule(r))
		}
	}
	return w.err
}

// nginxRaw answers an address that is compared as it was sent.
func (w *ruleWriter) nginxRaw(e *exact) {
	w.line("if ($request_uri ~ %s) { %s }", nginxPattern("^"+rawAddress(e)+"$"), nginxReturn(e))
}

// rawAddress gives the expression of an address as browsers send it; without a query of
// its own it may have any.
func rawAddress(e *exact) string {
	if e.has {
		return rawPattern(e.key)
	}
	return rawPattern(e.path) + `(?:\?.*)?`
}

func decodedPattern(s string) string { return regexp.QuoteMeta(webpath.Decoded(s)) }

func dollar(n int) string { return fmt.Sprintf("$%d", n) }

func nginxRule(r *Rule) string {
	if r.Status == 410 {
		return "return 410;"
	}
	to := ruleTarget(r, dollar)
	if !r.hasQuery() && !strings.ContainsAny(to, "?#") {
		to += "$is_args$args"
	}
	return fmt.Sprintf("return %d %s;", r.Status, nginxString(to))
}

// nginxMap writes maps for the http block, one for each status, and beside them the lines
// for the server block. A map does not tell letter case, so that the path that was meant
// stands in a map of its own and is compared.
func (w *ruleWriter) nginxMap() error {
	w.file("")
	longest := 0
	for _, e := range w.rows {
		longest = max(longest, len(webpath.Decoded(e.path)))
	}
	bucket := 128
	for bucket < longest+64 {
		bucket *= 2
	}
	w.line("map_hash_max_size %d;\nmap_hash_bucket_size %d;", max(2048, 2*len(w.rows)), bucket)
	var server []string
	lower := map[string]int{}
	for _, e := range w.rows {
		if !e.has && !e.raw() {
			lower[strings.ToLower(webpath.Decoded(e.path))]++
		}
	}
	key := func(e *exact) string {
		p := webpath.Decoded(e.path)
		if lower[strings.ToLower(p)] > 1 {
			return nginxPattern("~^" + regexp.QuoteMeta(p) + "$")
		}
		return nginxString(p)
	}
	w.line("geo $hovix_dollar { default \"$\"; }")
	w.line("map $uri $hovix_key {\n  default \"\";")
	for _, e := range w.rows {
		if !e.has && !e.raw() {
			w.line("  %s %s;", key(&e), mapString(webpath.Decoded(e.path)))
		}
	}
	w.line("}")
	emit := func(name, source string, status int, lines []string) {
		if len(lines) == 0 {
			return
		}
		w.line("map %s $hovix_%s_%d {\n  default \"\";\n%s\n}", source, name, status, strings.Join(lines, "\n"))
		to := fmt.Sprintf("$hovix_%s_%d", name, status)
		answer := fmt.Sprintf("return %d %s;", status, to)
		if status == 410 {
			answer = "return 410;"
		}
		if name == "path" {
			server = append(server, fmt.Sprintf("set $hovix_to %s;\nif ($hovix_key != $uri) { set $hovix_to \"\"; }", to))
			to, answer = "$hovix_to", strings.Replace(answer, to, "$hovix_to", 1)
		}
		server = append(server, fmt.Sprintf("if (%s) { %s }", to, answer))
	}
	for _, kind := range []string{"sent", "path", "rule"} {
		for _, status := range Statuses {
			source := "$request_uri"
			var lines []string
			switch kind {
			case "rule":
				for _, r := range w.rules {
					if end := `(?:\?.*)?$`; r.Status == status {
						if r.hasQuery() {
							end = "$"
						}
						lines = append(lines, fmt.Sprintf("  %s %s;", nginxPattern("~^"+rulePattern(r, rawPattern)+end), mapValue(status, ruleTarget(r, dollar), r.hasQuery())))
					}
				}
			case "path":
				source = "$uri"
				for _, e := range w.rows {
					if e.status == status && !e.has && !e.raw() {
						lines = append(lines, fmt.Sprintf("  %s %s;", key(&e), mapValue(status, e.to, false)))
					}
				}
			default:
				for _, e := range w.rows {
					if e.status == status && (e.has || e.raw()) {
						lines = append(lines, fmt.Sprintf("  %s %s;", nginxPattern("~^"+rawAddress(&e)+"$"), mapValue(status, e.to, e.has)))
					}
				}
			}
			emit(kind, source, status, lines)
		}
	}
	w.file(".server")
	for _, l := range server {
		w.line("%s", l)
	}
	return w.err
}

// mapString gives a text as the value of a map, in which a "$" stands for a variable.
func mapString(s string) string { return nginxString(strings.ReplaceAll(s, "$", "${hovix_dollar}")) }

func mapValue(status int, to string, query bool) string {
	if status == 410 {
		return "1"
	}
	if !query && !strings.ContainsAny(to, "?#") {
		to += "$is_args$args"
	}
	return nginxString(to)
}

// caddyString quotes a text for a Caddyfile: between backticks as it stands, else with
// its quotes marked.
func caddyString(s string) string {
	if !strings.Contains(s, "`") {
		return "`" + s + "`"
	}
	return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"`
}

// caddyPattern quotes an expression: its braces count how often, and are no placeholders.
func caddyPattern(s string) string { return "`~" + strings.ReplaceAll(s, "`", `\x60`) + "`" }

// caddy writes maps: for addresses as the browser sent them, for paths, for rules.
func (w *ruleWriter) caddy() error {
	w.file("")
	var sent, paths, rules []string
	for _, e := range w.rows {
		to := e.to
		if e.status == 410 {
			to = "gone"
		}
		if e.has || e.raw() {
			sent = append(sent, fmt.Sprintf("\t%s %s %d", caddyPattern("^"+rawAddress(&e)+"$"), caddyString(to), e.status))
		} else {
			paths = append(paths, fmt.Sprintf("\t%s %s %d", caddyString(webpath.Decoded(e.path)), caddyString(to), e.status))
		}
	}
	for _, r := range w.rules {
		to, end := "gone", `(?:\?.*)?$`
		if r.Status != 410 {
			to = ruleTarget(r, func(n int) string { return fmt.Sprintf("\x00%d\x01", n) })
			to = strings.NewReplacer("\x00", "${", "\x01", "}").Replace(to)
		}
		if r.hasQuery() {
			end = "$"
		}
		rules = append(rules, fmt.Sprintf("\t%s \"%s\" %d", caddyPattern("^"+rulePattern(r, rawPattern)+end), to, r.Status))
	}
	for _, m := range []struct {
		name, source string
		lines        []string
	}{{"sent", "{http.request.uri}", sent}, {"path", "{http.request.uri.path}", paths}, {"rule", "{http.request.uri}", rules}} {
		if len(m.lines) == 0 {
			continue
		}
		w.line("map %s {hovix_%s_to} {hovix_%s_code} {\n%s\n\tdefault \"\" \"\"\n}", m.source, m.name, m.name, strings.Join(m.lines, "\n"))
		w.line("@hovix_%[1]s_gone expression `{hovix_%[1]s_to} == \"gone\"`\nrespond @hovix_%[1]s_gone 410", m.name)
		w.line("@hovix_%[1]s expression `{hovix_%[1]s_to} != \"\" && {hovix_%[1]s_to} != \"gone\"`\nredir @hovix_%[1]s {hovix_%[1]s_to} {hovix_%[1]s_code}", m.name)
	}
	return w.err
}

// haproxy writes a map of addresses as browsers send them, and one of expressions for
// rules. A row with another status than 301 stands under its status.
func (w *ruleWriter) haproxy() error {
	file := w.opts.File
	if file == "" {
		file = "/etc/haproxy/redirects.map"
	}
	statuses := map[int]bool{}
	for _, e := range w.rows {
		statuses[e.status] = true
	}
	rules := map[int]bool{}
	for _, r := range w.rules {
		rules[r.Status] = true
	}
	w.file("")
	for _, l := range haproxyLines(file, statuses, rules) {
		w.line("#   %s", l)
	}
	w.line("")
	for _, e := range w.rows {
		head, to := "", e.to
		if e.status != 301 {
			head = fmt.Sprint(e.status)
		}
		if e.status == 410 {
			to = "gone"
		}
		w.line("%s%s %s", head, e.key, to)
		if lower := hexDigits.ReplaceAllStringFunc(e.key, strings.ToLower); lower != e.key {
			w.line("%s%s %s", head, lower, to)
		}
	}
	if len(w.rules) == 0 {
		return w.err
	}
	w.file(".rules")
	for _, r := range w.rules {
		head, to := "", "gone"
		if r.Status != 301 {
			head = fmt.Sprint(r.Status)
		}
		if r.Status != 410 {
			to = ruleTarget(r, func(n int) string { return fmt.Sprintf(`\%d`, n) })
		}
		w.line("^%s%s$ %s", head, rulePattern(r, rawPattern), to)
	}
	return w.err
}

// haproxyLines are what stands in the frontend: an address with its query first, then its
// path, then the rules.
func haproxyLines(file string, statuses, rules map[int]bool) (out []string) {
	add := func(status int, fetch, kind, file string) {
		if status != 301 {
			fetch += fmt.Sprintf(`,regsub(^,%d)`, status)
		}
		look := fmt.Sprintf("%s,%s(%s)", fetch, kind, file)
		if status == 410 {
			out = append(out, fmt.Sprintf("http-request return status 410 if { %s -m found }", look))
		} else {
			out = append(out, fmt.Sprintf("http-request redirect location %%[%s] code %d if { %s -m found }", look, status, look))
		}
	}
	for _, fetch := range []string{"pathq", "path"} {
		for _, s := range Statuses {
			if statuses[s] {
				add(s, fetch, "map_str", file)
			}
		}
	}
	for _, fetch := range []string{"pathq", "path"} {
		for _, s := range Statuses {
			if rules[s] {
				add(s, fetch, "map_regm", file+".rules")
			}
		}
	}
	return out
}

// iis writes a web.config for the URL Rewrite module (Microsoft: URL Rewrite Module
// Configuration Reference; Using Rewrite Maps).
func (w *ruleWriter) iis() error {
	w.file("")
	w.line("<?xml version=\"1.0\" encoding=\"UTF-8\"?>")
	w.line("<!--")
	for _, l := range w.about() {
		w.line("  %s", strings.ReplaceAll(l, "--", "- -"))
	}
	w.line("-->\n<configuration>\n  <system.webServer>\n    <rewrite>\n      <rewriteMaps>")
	used := map[int]bool{}
	for _, status := range Statuses {
		first := true
		for _, e := range w.rows {
			if e.status != status {
				continue
			}
			if first {
				w.line("        <rewriteMap name=\"hovix %d\">", status)
				first, used[status] = false, true
			}
			to := e.to
			if status == 410 {
				to = "gone"
			}
			w.line("          <add key=\"%s\" value=\"%s\" />", xmlText(e.key), xmlText(to))
		}
		if !first {
			w.line("        </rewriteMap>")
		}
	}
	w.line("      </rewriteMaps>\n      <rules>")
	for _, status := range Statuses {
		if !used[status] {
			continue
		}
		if slices.ContainsFunc(w.rows, func(e exact) bool { return e.status == status && e.has }) {
			w.iisLookup(fmt.Sprintf("hovix %d with query", status), status, fmt.Sprintf(`<add input="{hovix %d:{UNENCODED_URL}}" pattern="(.+)" />`, status))
		}
		// The path alone is looked up by what the condition before has found.
		w.iisLookup(fmt.Sprintf("hovix %d", status), status, `<add input="{UNENCODED_URL}" pattern="^([^?]+)" />`, fmt.Sprintf(`<add input="{hovix %d:{C:1}}" pattern="(.+)" />`, status))
	}
	for i, r := range w.rules {
		end := `(?:\?.*)?$`
		if r.hasQuery() {
			end = "$"
		}
		w.line("        <rule name=\"hovix rule %d\" stopProcessing=\"true\">\n          <match url=\".*\" />\n          <conditions>\n            <add input=\"{UNENCODED_URL}\" pattern=\"%s\" ignoreCase=\"false\" />\n          </conditions>\n          %s\n        </rule>",
			i+1, xmlText("^"+rulePattern(r, rawPattern)+end), iisAction(r.Status, ruleTarget(r, func(n int) string { return fmt.Sprintf("{C:%d}", n) })))
	}
	w.line("      </rules>\n    </rewrite>\n  </system.webServer>\n</configuration>")
	return w.err
}

// iisLookup writes a rule that looks an address up in the map of its status.
func (w *ruleWriter) iisLookup(name string, status int, conditions ...string) {
	w.line("        <rule name=\"%s\" stopProcessing=\"true\">\n          <match url=\".*\" />\n          <conditions>\n            %s\n          </conditions>\n          %s\n        </rule>", name, strings.Join(conditions, "\n            "), iisAction(status, "{C:1}"))
}

// iisAction is what a rule does. The module knows no 308; 301 is what it says of
// addresses for good.
func iisAction(status int, to string) string {
	kind := map[int]string{301: "Permanent", 302: "Found", 307: "Temporary", 308: "Permanent"}[status]
	if status == 410 {
		return `<action type="CustomResponse" statusCode="410" statusReason="Gone" statusDescription="This page is gone." />`
	}
	return fmt.Sprintf(`<action type="Redirect" url="%s" appendQueryString="false" redirectType="%s" />`, xmlText(to), kind)
}

func xmlText(s string) string {
	return strings.NewReplacer("&", "&amp;", `"`, "&quot;", "<", "&lt;", ">", "&gt;").Replace(s)
}
