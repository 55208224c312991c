package merge

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// seeds are texts of each language.
var seeds = map[string][3]string{
	"a.go": {
		"package p\n\n// A is a.\ntype A struct {\n\tB, C int `json:\"b\"` // c\n}\n\nfunc f(a, b int) { println(a) }\n",
		"package p\n\n// A is ours.\ntype A struct {\n\tB, C int `json:\"b,omitempty\"` // c\n\tOwn bool\n}\n\nfunc f(a, b int) { println(a); println(b) }\n",
		"package p\n\nimport \"time\"\n\n// A is a.\ntype A struct {\n\tB int `json:\"b\"`\n\tD time.Time\n}\n\nfunc f(a int, b int) { println(a) }\n",
	},
	"a.json": {`{"a": [1, {"name": "x"}]}`, `{"a": [1, {"name": "x", "own": true}]}`, `{"b": null, "a": [1, 2, {"name": "x"}]}`},
	"a.yaml": {"a: 1\n# c\nb:\n  - name: x\n", "a: 2\n# c\nb:\n  - name: x\n    own: |\n      # t\n", "a: 1\nb:\n  - name: y\n  - name: x\n"},
	"a.sql":  {"CREATE TABLE t (a INT); -- c\n", "CREATE TABLE t (a INT, own TEXT);\n", "CREATE TABLE t (a BIGINT);\nCREATE VIEW v AS SELECT $$x;$$;\n"},
	"a.ts":   {"export interface A {\n  b: number;\n}\n", "export interface A {\n  b: number;\n  own?: `x`;\n}\n", "export interface A {\n  b: string;\n}\nconst c = () => { return 1 };\n"},
	"a.html": {"<p>a</p>\n<p>b</p>\n", "<p>ours</p>\n<p>b</p>\n", "<p>a</p>\n<p>c</p>\n"},
}

// FuzzMerge merges whatever texts: nothing may panic, what only one side
// changed is that side's text, and what comes out parses if all that went in
// did.
func FuzzMerge(f *testing.F) {
	for name, texts := range seeds {
		f.Add(name, texts[0], texts[1], texts[2])
	}
	f.Fuzz(func(t *testing.T, name, base, mine, theirs string) {
		switch name {
		case "a.go", "a.json", "a.yaml", "a.sql", "a.ts", "a.html":
		default:
			return
		}
		merge := func(b, m, t2 string) (string, bool) {
			r := Files(t.Context(), name, []byte(b), []byte(m), []byte(t2), &Options{})
			if text, changed := r.Changed[name]; changed {
				return string(text), len(r.Conflicts) == 0
			}
			return m, len(r.Conflicts) == 0
		}
		if got, ok := merge(base, mine, base); ok && base != "" {
			require.Equal(t, mine, got, "nothing new")
		}
		if got, ok := merge(base, base, theirs); ok && base != "" {
			s, _ := plain([]byte(theirs))
			g, _ := plain([]byte(got))
			require.Equal(t, s, g, "nothing of ours")
		}
		got, ok := merge(base, mine, theirs)
		if !ok || base == "" {
			return
		}
		require.True(t, !parses(name, mine) || !parses(name, theirs) || !parses(name, base) || parses(name, got), got)
	})
}

func parses(name, text string) bool {
	text, _ = plain([]byte(text))
	switch name {
	case "a.go":
		_, err := parseGo(name, text)
		return err == nil
	case "a.json":
		return json.Valid([]byte(text))
	case "a.yaml":
		var x any
		return yaml.Unmarshal([]byte(text), &x) == nil
	}
	return true
}

// FuzzTag reads struct tags: what is read and written again means the same.
func FuzzTag(f *testing.F) {
	f.Add(`json:"a,omitempty" db:"b"`)
	f.Add(`json:"a\"b"`)
	f.Fuzz(func(t *testing.T, tag string) {
		pairs, ok := parseTag(tag)
		if !ok || len(pairs) == 0 {
			return
		}
		_, again, ok := readTag(writeTag(" ", pairs))
		require.True(t, ok)
		require.Equal(t, pairs, again)
	})
}
