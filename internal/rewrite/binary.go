package rewrite

import (
	"bytes"
	"encoding/json"
	"fmt"
	"unicode/utf8"
)

// formats are what binary files begin with. A PDF document may look like text, and
// is none: a table of places in it goes wrong when its length changes.
var formats = [...]struct{ magic, name string }{
	{"%PDF-", "a PDF document"}, {"\xff\xd8\xff", "a JPEG picture"}, {"\x89PNG\r\n", "a PNG picture"}, {"GIF8", "a GIF picture"},
	{"PK\x03\x04", "a ZIP archive"}, {"\x1f\x8b\x08", "gzip data"}, {"(\xb5/\xfd", "zstd data"}, {"BZh", "bzip2 data"},
	{"SQLite format 3\x00", "an SQLite database"}, {"\xd0\xcf\x11\xe0", "an office document"},
}

// notText tells what a value is that is no text, or "". Text is UTF-8, or of another
// charset of bytes and without control characters. Where bytes is set the value is of
// a column that has no charset, and only UTF-8 without control characters is text: lengths
// and the like stand beside the texts in it otherwise.
func notText(v []byte, isBytes bool) string {
	sound := utf8.Valid(v)
	if !isBytes && sound && !bytes.HasPrefix(v, []byte(formats[0].magic)) {
		return ""
	}
	for _, f := range formats {
		if bytes.HasPrefix(v, []byte(f.magic)) && (f.magic != "BZh" && f.magic != "GIF8" || !sound) {
			return f.name
		}
	}
	control := bytes.ContainsFunc(v, func(r rune) bool {
		return r < ' ' && r != '\t' && r != '\n' && r != '\r' && r != '\f' && r != '\v' && r != 0x1b
	})
	if (control || isBytes && !sound) && !json.Valid(v) {
		return "binary data"
	}
	return ""
}

// leaveBinary counts a value that is no text, with the place of the first mention.
func (rw *Rewriter) leaveBinary(v []byte, what string, t *Tally) {
	at := rw.Places(v)(0)
	if at == len(v) {
		return
	}
	t.leftover(Binary, v, at, min(len(v), at+40), fmt.Sprintf("%s, byte %d", what, at))
}
