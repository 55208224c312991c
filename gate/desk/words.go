package desk

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// words are those of a name such as weight_kg, weightKg or hive-overviews.
func words(name string) string {
	var b strings.Builder
	before := ' '
	for _, r := range name {
		switch {
		case r == '_' || r == '-':
			b.WriteByte(' ')
		case unicode.IsUpper(r) && unicode.IsLower(before):
			b.WriteByte(' ')
			b.WriteRune(unicode.ToLower(r))
		default:
			b.WriteRune(r)
		}
		before = r
	}
	return b.String()
}

func sentenceCase(name string) string {
	text := words(name)
	first, n := utf8.DecodeRuneInString(text)
	if n == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + text[n:]
}

// units are the ends of names that say in what something is measured.
var units = []string{"kg", "g", "mm", "cm", "m", "km", "ml", "l", "pct", "ms", "s"}

// columnLabel is the name of a column in prose: weight_kg is Weight (kg).
func columnLabel(name string) string {
	list := strings.Fields(words(name))
	if len(list) == 1 && list[0] == "id" {
		return "ID"
	}
	if last := len(list) - 1; last > 0 {
		if unit := list[last]; slices.Contains(units, unit) {
			if unit == "pct" {
				unit = "%"
			}
			return sentenceCase(strings.Join(list[:last], " ")) + " (" + unit + ")"
		}
		if list[0] == "is" || list[0] == "has" {
			return sentenceCase(strings.Join(list[1:], " "))
		}
	}
	return sentenceCase(name)
}
