package webpath

import (
	"path"
	"strings"
)

// Kind is what an address leads to, as far as its path tells.
type Kind int

// The kinds of addresses.
const (
	Page Kind = iota
	Document
	Asset
	Inside // what browsers and editors ask, but nobody reads: logins, programs' interfaces
)

// documents and assets are known by their extensions. What a program answers has others,
// or none, and is a page.
var (
	documents = set("pdf doc docx xls xlsx ppt pptx odt ods odp rtf epub csv txt")
	assets    = set("jpg jpeg png gif webp avif svg ico bmp tif tiff css js mjs map json xml rss atom woff woff2 ttf otf eot mp3 mp4 m4a m4v mov avi ogg oga ogv webm wav flac " +
		"zip gz tgz bz2 xz zst 7z rar tar exe dmg apk iso swf wasm webmanifest psd ics vcf kml gpx")
)

// inside are names of programs' own addresses, of the systems that Hovix knows.
var inside = set("wp-login.php wp-cron.php wp-comments-post.php wp-trackback.php wp-signup.php wp-activate.php xmlrpc.php robots.txt ads.txt security.txt")

func set(words string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(words) {
		out[w] = true
	}
	return out
}

// KindOf tells what the path of an address leads to.
func KindOf(p string) Kind {
	ext := strings.ToLower(strings.TrimPrefix(path.Ext(p), "."))
	base := path.Base(p)
	switch {
	case inside[base], strings.Contains(p, "/wp-admin/"), strings.Contains(p, "/wp-json/"), base == "wp-json", strings.HasPrefix(p, "/administrator/"), strings.HasPrefix(p, "/.well-known/"):
		return Inside
	case base == "feed", strings.Contains(p, "/feed/"):
		return Asset
	case documents[ext]:
		return Document
	case assets[ext]:
		return Asset
	}
	return Page
}

// tracking are the parameters that tell where a visitor came from, not which page is
// meant, and session numbers.
var tracking = set("gclid dclid gbraid wbraid fbclid msclkid yclid twclid ttclid igshid mc_cid mc_eid _ga _gl _hsenc _hsmi mkt_tok vero_id oly_anon_id oly_enc_id " +
	"phpsessid jsessionid sessionid aspsessionid cfid cftoken")

// CutTracking takes the tracking parameters out of a query, and reports whether it held
// any. The others keep their order and spelling.
func CutTracking(query string) (rest string, cut bool) {
	if query == "" {
		return query, false
	}
	var keep []string
	for part := range strings.SplitSeq(query, "&") {
		name, _, _ := strings.Cut(part, "=")
		if name = strings.ToLower(name); tracking[name] || strings.HasPrefix(name, "utm_") || strings.HasPrefix(name, "pk_") || strings.HasPrefix(name, "mtm_") {
			cut = true
			continue
		}
		keep = append(keep, part)
	}
	return strings.Join(keep, "&"), cut
}
