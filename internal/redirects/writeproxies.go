package redirects

import (
	"fmt"
	"hovix/internal/webpath"
	"strings"
)

// caddyString quotes a text without backticks for a Caddyfile.
func caddyString(s string) string { return "`" + strings.ReplaceAll(s, "`", "%60") + "`" }

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
		// A path with backticks cannot be quoted so that a backslash in it is safe.
		if e.has || e.raw() || strings.Contains(webpath.Decoded(e.path), "`") {
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
		w.line("map %s {hovix_%s_to} {hovix_%s_code} {\n%s\n\tdefault \"\" \"\"\n}", m.source, m.name, m.name, w.joined(m.lines, "\n"))
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
		w.line("#   %s", commentText(l))
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
