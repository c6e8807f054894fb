package redirects

import (
	"fmt"
	"hovix/internal/webpath"
	"regexp"
	"strings"
)

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
		w.line("map %s $hovix_%s_%d {\n  default \"\";\n%s\n}", source, name, status, w.joined(lines, "\n"))
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
		w.line("%s", ownText(l))
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
