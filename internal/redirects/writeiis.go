package redirects

import (
	"fmt"
	"slices"
	"strings"
)

// iis writes a web.config for the URL Rewrite module (Microsoft: URL Rewrite Module
// Configuration Reference; Using Rewrite Maps).
func (w *ruleWriter) iis() error {
	w.file("")
	w.line("<?xml version=\"1.0\" encoding=\"UTF-8\"?>")
	w.line("<!--")
	for _, l := range w.about() {
		w.line("  %s", strings.ReplaceAll(commentText(l), "--", "- -"))
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
	w.line("        <rule name=\"%s\" stopProcessing=\"true\">\n          <match url=\".*\" />\n          <conditions>\n            %s\n          </conditions>\n          %s\n        </rule>", name, w.joined(conditions, "\n            "), iisAction(status, "{C:1}"))
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
