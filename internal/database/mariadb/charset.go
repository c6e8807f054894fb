package mariadb

import (
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// charsets are those in which a client can speak, by the names that servers give them; latin1
// is Windows-1252 to them.
var charsets = map[string]encoding.Encoding{
	"latin1": charmap.Windows1252, "latin2": charmap.ISO8859_2, "latin5": charmap.ISO8859_9, "latin7": charmap.ISO8859_13, "greek": charmap.ISO8859_7, "hebrew": charmap.ISO8859_8,
	"cp1250": charmap.Windows1250, "cp1251": charmap.Windows1251, "cp1256": charmap.Windows1256, "cp1257": charmap.Windows1257, "cp850": charmap.CodePage850, "cp852": charmap.CodePage852, "cp866": charmap.CodePage866,
	"koi8r": charmap.KOI8R, "koi8u": charmap.KOI8U, "macroman": charmap.Macintosh, "tis620": charmap.Windows874,
	"gbk": simplifiedchinese.GBK, "gb18030": simplifiedchinese.GB18030, "big5": traditionalchinese.Big5,
	"sjis": japanese.ShiftJIS, "cp932": japanese.ShiftJIS, "ujis": japanese.EUCJP, "eucjpms": japanese.EUCJP, "euckr": korean.EUCKR,
}

// inCharset gives a text in UTF-8 in another charset; ok is false where it cannot be written
// in that.
func inCharset(charset, text string) (out string, ok bool) {
	e := charsets[charset]
	if e == nil {
		return "", false
	}
	out, err := e.NewEncoder().String(text)
	return out, err == nil
}
