package sqltext

import "unicode/utf8"

// CharactersIn gives a function that counts the characters of values in a charset of
// MariaDB, as far as bytes tell.
func CharactersIn(charset string) func([]byte) int64 {
	switch charset {
	case "utf8", "utf8mb3", "utf8mb4":
		return func(v []byte) int64 { return int64(utf8.RuneCount(v)) }
	case "gbk", "gb2312", "gb18030", "big5", "euckr", "sjis", "cp932", "ujis", "eucjpms":
		return func(v []byte) (n int64) {
			for len(v) > 0 {
				v = v[min(len(v), characterSize(charset, v)):]
				n++
			}
			return n
		}
	}
	return func(v []byte) int64 { return int64(len(v)) }
}

// characterSize gives the bytes of the first character of v.
func characterSize(charset string, v []byte) int {
	switch c := v[0]; {
	case c < 0x80:
		return 1
	case (charset == "sjis" || charset == "cp932") && c >= 0xa1 && c <= 0xdf: // katakana of half width
		return 1
	case (charset == "ujis" || charset == "eucjpms") && c == 0x8f:
		return 3
	case charset == "gb18030" && len(v) > 1 && v[1] >= '0' && v[1] <= '9':
		return 4
	}
	return 2
}
