package value

import (
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// charmaps are the server's encodings of one byte a character (mb/pg_wchar.h). Of the others texts are shown that are ASCII:
// what longer characters mean is told differently by different tables.
var charmaps = map[string]*charmap.Charmap{
	"LATIN1": charmap.ISO8859_1, "LATIN2": charmap.ISO8859_2, "LATIN3": charmap.ISO8859_3, "LATIN4": charmap.ISO8859_4,
	"LATIN5": charmap.ISO8859_9, "LATIN6": charmap.ISO8859_10, "LATIN7": charmap.ISO8859_13, "LATIN8": charmap.ISO8859_14,
	"LATIN9": charmap.ISO8859_15, "LATIN10": charmap.ISO8859_16, "ISO_8859_5": charmap.ISO8859_5, "ISO_8859_6": charmap.ISO8859_6,
	"ISO_8859_7": charmap.ISO8859_7, "ISO_8859_8": charmap.ISO8859_8, "WIN1250": charmap.Windows1250, "WIN1251": charmap.Windows1251,
	"WIN1252": charmap.Windows1252, "WIN1253": charmap.Windows1253, "WIN1254": charmap.Windows1254, "WIN1255": charmap.Windows1255,
	"WIN1256": charmap.Windows1256, "WIN1257": charmap.Windows1257, "WIN1258": charmap.Windows1258, "WIN866": charmap.CodePage866,
	"WIN874": charmap.Windows874, "KOI8R": charmap.KOI8R, "KOI8U": charmap.KOI8U,
}

// InUTF8 gives text that is in one of the server's encodings, which is "" for UTF-8. All of them hold ASCII as it is. Text that
// is not decoded is an error.
func InUTF8(s, encoding string) (string, error) {
	if encoding == "" {
		if !utf8.ValidString(s) {
			return "", errEncoding
		}
		return s, nil
	}
	if strings.IndexFunc(s, func(r rune) bool { return r >= utf8.RuneSelf }) < 0 {
		return s, nil
	}
	m, known := charmaps[encoding]
	if !known {
		return "", errEncoding
	}
	var b strings.Builder
	for i := range len(s) {
		r := m.DecodeByte(s[i])
		if r == utf8.RuneError {
			return "", errEncoding
		}
		b.WriteRune(r)
	}
	return b.String(), nil
}
