package own

import (
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"widegate/internal/render/typecheck"
	"widegate/internal/words"
)

// lexicon knows words; it holds nothing of a project.
var lexicon = words.New(nil, nil)

// described are the functions of templates, besides those of text/template.
var described = map[string]typecheck.Func{
	"camel":      {Call: func(s string) string { return joined(s, "", 1) }, Does: "hive_id → hiveId"},
	"pascal":     {Call: func(s string) string { return joined(s, "", 0) }, Does: "hive_id → HiveId"},
	"snake":      {Call: func(s string) string { return strings.Join(parts(s), "_") }, Does: "HiveID → hive_id"},
	"kebab":      {Call: func(s string) string { return strings.Join(parts(s), "-") }, Does: "HiveID → hive-id"},
	"spaced":     {Call: func(s string) string { return strings.Join(parts(s), " ") }, Does: "HiveID → hive id"},
	"identifier": {Call: identifier, Does: "a name of ASCII letters, digits and underscores: größe → gr_f6_df_e"},
	"upper":      {Call: strings.ToUpper, Does: "hive → HIVE"},
	"lower":      {Call: strings.ToLower, Does: "HIVE → hive"},
	"plural":     {Call: func(s string) string { return lexicon.Plural([]string{s})[0] }, Does: "hive → hives"},
	"singular":   {Call: func(s string) string { return lexicon.Singular([]string{s})[0] }, Does: "hives → hive"},
	"quote":      {Call: quoted, Does: "a text as a JSON string, with its quotes"},
	"sql":        {Call: func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }, Does: "a text as one of standard SQL, with its quotes"},
	"trim":       {Call: strings.TrimSpace, Does: "a text without the space around it"},
	"replace":    {Call: func(old, now, s string) string { return strings.ReplaceAll(s, old, now) }, Does: `replace "a" "b" TEXT: b for each a`},
	"contains":   {Call: func(part, s string) bool { return strings.Contains(s, part) }, Does: `contains "a" TEXT`},
	"hasPrefix":  {Call: func(part, s string) bool { return strings.HasPrefix(s, part) }, Does: `hasPrefix "a" TEXT`},
	"hasSuffix":  {Call: func(part, s string) bool { return strings.HasSuffix(s, part) }, Does: `hasSuffix "a" TEXT`},
	"join":       {Call: func(with string, list []string) string { return strings.Join(list, with) }, Does: `join ", " LIST`},
	"split":      {Call: func(at, s string) []string { return strings.Split(s, at) }, Does: `split "," TEXT`},
	"lines":      {Call: func(s string) []string { return strings.Split(strings.TrimRight(s, "\n"), "\n") }, Does: "the lines of a text"},
	"shorten":    {Call: shorten, Does: `shorten 60 TEXT: at most 60 bytes; where some are cut, a checksum is at the end`},
	"oneLine":    {Call: func(s string) string { return strings.Join(strings.Fields(s), " ") }, Does: "a text in one line"},
	"prefix":     {Call: prefixed, Does: `prefix "// " TEXT: before each line`},
	"either":     {Call: func(fallback, s string) string { return orElse(s, fallback) }, Does: `either "none" TEXT: the text, or none where it is empty`},
	"has":        {Call: func(item string, list []string) bool { return slices.Contains(list, item) }, Does: `has "a" LIST`},
	"add":        {Call: func(a, b int) int { return a + b }, Does: "add 1 2 → 3"},
}

// functions are they, as text/template takes them.
var functions = typecheck.FuncMap(described)

// parts are the words of a name, in small letters.
func parts(s string) []string {
	var list []string
	for _, w := range lexicon.Split(s) {
		if w = strings.ToLower(w); w != "" {
			list = append(list, w)
		}
	}
	return list
}

// joined are the words of a name with capitals, but for the first few.
func joined(s, with string, small int) string {
	list := parts(s)
	for i, w := range list {
		if i >= small {
			r := []rune(w)
			r[0] = unicode.ToUpper(r[0])
			list[i] = string(r)
		}
	}
	return strings.Join(list, with)
}

// shorten cuts a text to some bytes, and keeps it apart from others that begin alike.
func shorten(most int, s string) (string, error) {
	const sumLength = 8
	if most <= sumLength {
		return "", fmt.Errorf("a text is shortened to more than %d bytes", sumLength)
	}
	if len(s) <= most {
		return s, nil
	}
	cut := most - sumLength
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + fmt.Sprintf("_%07x", crc32.ChecksumIEEE([]byte(s))>>4), nil
}

// identifier writes what cannot stand in an identifier by its code point.
func identifier(s string) string {
	var b strings.Builder
	for i, r := range s {
		switch {
		case r < unicode.MaxASCII && (unicode.IsLetter(r) || r == '_' || unicode.IsDigit(r) && i > 0):
			b.WriteRune(r)
		case unicode.IsDigit(r) && r < unicode.MaxASCII:
			b.WriteString("_" + string(r))
		default:
			fmt.Fprintf(&b, "_%x_", r)
		}
	}
	return strings.ReplaceAll(b.String(), "__", "_")
}

func quoted(s string) (string, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return "", fmt.Errorf("quoting a text: %w", err)
	}
	return string(text), nil
}

func prefixed(with, s string) string {
	if s == "" {
		return ""
	}
	return with + strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n"+with)
}

func orElse(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
