package migration

import (
	"strings"

	"widegate/internal/sqltext"
)

// Quoted are texts as constants.
func Quoted(d *sqltext.Dialect, list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = d.Literal(s)
	}
	return out
}

// Bars puts parts of text together as standard SQL does.
func Bars(parts []string) string { return strings.Join(parts, " || ") }

// Mentions reports whether a text of SQL has a word in it that may be the name.
func Mentions(text, name string) bool {
	for at := 0; ; {
		i := strings.Index(strings.ToLower(text[at:]), strings.ToLower(name))
		if i < 0 {
			return false
		}
		from := at + i
		to := from + len(name)
		if (from == 0 || !wordByte(text[from-1])) && (to >= len(text) || !wordByte(text[to])) {
			return true
		}
		at = from + 1
		if at >= len(text) {
			return false
		}
	}
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
