package own

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/template"
	"unicode"

	"widegate/internal/words"
)

// lexicon knows words; it holds nothing of a project.
var lexicon = words.New(nil, nil)

// function is one that templates may call.
type function struct {
	call any
	does string // for people
}

// described are the functions of templates, besides those of text/template.
var described = map[string]function{
	"camel":     {func(s string) string { return joined(s, "", 1) }, "hive_id → hiveId"},
	"pascal":    {func(s string) string { return joined(s, "", 0) }, "hive_id → HiveId"},
	"snake":     {func(s string) string { return strings.Join(parts(s), "_") }, "HiveID → hive_id"},
	"kebab":     {func(s string) string { return strings.Join(parts(s), "-") }, "HiveID → hive-id"},
	"spaced":    {func(s string) string { return strings.Join(parts(s), " ") }, "HiveID → hive id"},
	"upper":     {strings.ToUpper, "hive → HIVE"},
	"lower":     {strings.ToLower, "HIVE → hive"},
	"plural":    {func(s string) string { return lexicon.Plural([]string{s})[0] }, "hive → hives"},
	"singular":  {func(s string) string { return lexicon.Singular([]string{s})[0] }, "hives → hive"},
	"quote":     {quoted, "a text as a JSON string, with its quotes"},
	"sql":       {func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }, "a text as one of standard SQL, with its quotes"},
	"trim":      {strings.TrimSpace, "a text without the space around it"},
	"replace":   {func(old, now, s string) string { return strings.ReplaceAll(s, old, now) }, `replace "a" "b" TEXT: b for each a`},
	"contains":  {func(part, s string) bool { return strings.Contains(s, part) }, `contains "a" TEXT`},
	"hasPrefix": {func(part, s string) bool { return strings.HasPrefix(s, part) }, `hasPrefix "a" TEXT`},
	"hasSuffix": {func(part, s string) bool { return strings.HasSuffix(s, part) }, `hasSuffix "a" TEXT`},
	"join":      {func(with string, list []string) string { return strings.Join(list, with) }, `join ", " LIST`},
	"split":     {func(at, s string) []string { return strings.Split(s, at) }, `split "," TEXT`},
	"lines":     {func(s string) []string { return strings.Split(strings.TrimRight(s, "\n"), "\n") }, "the lines of a text"},
	"oneLine":   {func(s string) string { return strings.Join(strings.Fields(s), " ") }, "a text in one line"},
	"prefix":    {prefixed, `prefix "// " TEXT: before each line`},
	"either":    {func(fallback, s string) string { return orElse(s, fallback) }, `either "none" TEXT: the text, or none where it is empty`},
	"has":       {func(item string, list []string) bool { return slices.Contains(list, item) }, `has "a" LIST`},
	"add":       {func(a, b int) int { return a + b }, "add 1 2 → 3"},
}

// functions are they, as text/template takes them.
var functions = func() template.FuncMap {
	m := template.FuncMap{}
	for name, f := range described {
		m[name] = f.call
	}
	return m
}()

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
