package merge

import (
	"fmt"
	"go/format"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The composed test makes a package from a small model of a schema, edits it as
// a developer would, changes the schema and renders again. The edits are made
// on the new rendering too: that is what the merge must give, or it must
// refuse.

// sample is a rendered package before it is text.
type sample struct {
	columns   []sampleColumn
	relations []string
	labels    []string
	extra     bool // a second table
	method    bool // a helper that the rendering may have
}

type sampleColumn struct{ name, kind, comment string }

func newSample() *sample {
	return &sample{
		columns:   []sampleColumn{{"ID", "int64", ""}, {"Name", "string", "Painted on the front."}, {"Frames", "int32", ""}, {"Colour", "string", ""}, {"Active", "bool", ""}},
		relations: []string{"Apiary", "Queen", "Splits"},
		labels:    []string{"calm", "nervous"},
		method:    true,
	}
}

func (s *sample) clone() *sample {
	c := *s
	c.columns, c.relations, c.labels = slices.Clone(s.columns), slices.Clone(s.relations), slices.Clone(s.labels)
	return &c
}

func lower(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// render writes the package as texts by path.
func (s *sample) render() map[string]string {
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	p("// From table hive.\n\npackage store\n")
	p("// Mood says how the bees are.\ntype Mood string\n\n// The values of Mood.\nconst (")
	for _, l := range s.labels {
		p("\tMood%s Mood = %q", strings.ToUpper(l[:1])+l[1:], l)
	}
	p(")\n\n// Hive is a box of bees.\ntype Hive struct {")
	for _, c := range s.columns {
		p("\t%s %s `json:\"%s\"` %s", c.name, c.kind, lower(c.name), commented(c.comment))
	}
	p("\n\t// Related rows.\n")
	for _, r := range s.relations {
		p("\t%s *Hive `json:\"%s,omitzero\"`", r, lower(r))
	}
	p("}\n\n// hiveColumns describes the columns.\nvar hiveColumns = []column{")
	for _, c := range s.columns {
		p("\t{name: %q, kind: %q, pointer: func(h *Hive) any { return &h.%s }},", lower(c.name), c.kind, c.name)
	}
	p("}\n\ntype column struct {\n\tname    string\n\tkind    string\n\tpointer func(h *Hive) any\n}\n")
	if s.method {
		p("// Label is what a hive is called.\nfunc (h *Hive) Label() string {\n\treturn h.Name\n}\n")
	}
	p("// load fills a hive.\nfunc load(h *Hive, values map[string]any) error {")
	for _, c := range s.columns {
		p("\tif v, ok := values[%q].(%s); ok {\n\t\th.%s = v\n\t}", lower(c.name), c.kind, c.name)
	}
	p("\treturn nil\n}")
	texts := map[string]string{"store/hive.go": formattedSample(b.String())}
	b.Reset()
	p("package store\n\n// routes are the paths.\nfunc routes() []route {\n\treturn []route{\n\t\ton(\"GET /hives\", list),\n\t\ton(\"POST /hives\", create),")
	for _, r := range s.relations {
		p("\t\ton(\"GET /hives/{key}/%s\", list),", lower(r))
	}
	if s.extra {
		p("\t\ton(\"GET /swarms\", list),")
	}
	p("\t}\n}\n\ntype route struct {\n\tpattern string\n\thandler func() error\n}\n")
	p("func on(pattern string, handler func() error) route {\n\treturn route{\n\t\tpattern: pattern,\n\t\thandler: handler,\n\t}\n}\n")
	p("// list answers GET.\nfunc list() error {\n\terr := check()\n\tif err != nil {\n\t\treturn err\n\t}\n\treturn nil\n}\n")
	p("// create answers POST.\nfunc create() error {\n\treturn check()\n}\n\nfunc check() error {\n\treturn nil\n}")
	texts["store/routes.go"] = formattedSample(b.String())
	if s.extra {
		texts["store/swarm.go"] = "package store\n\n// Swarm is a row.\ntype Swarm struct {\n\tID int64 `json:\"id\"`\n}\n"
	}
	return texts
}

func commented(s string) string {
	if s == "" {
		return ""
	}
	return "// " + s
}

func formattedSample(text string) string {
	clean, err := format.Source([]byte(text))
	if err != nil {
		panic(err)
	}
	return string(clean)
}

// change is one of the schema; false means that it cannot be made.
type schemaChange struct {
	name string
	make func(s *sample, r *rand.Rand) bool
}

var schemaChanges = []schemaChange{
	{"add column", func(s *sample, r *rand.Rand) bool {
		s.columns = slices.Insert(s.columns, 1+r.IntN(len(s.columns)), sampleColumn{"Weight", "float64", ""})
		return true
	}},
	{"add column last", func(s *sample, _ *rand.Rand) bool {
		s.columns = append(s.columns, sampleColumn{"Motto", "string", "What it says."})
		return true
	}},
	{"add two columns", func(s *sample, r *rand.Rand) bool {
		s.columns = slices.Insert(s.columns, 1+r.IntN(len(s.columns)), sampleColumn{"Height", "int32", ""}, sampleColumn{"Width", "int32", ""})
		return true
	}},
	{"drop column", func(s *sample, _ *rand.Rand) bool {
		s.columns = slices.Delete(s.columns, 3, 4)
		return true
	}},
	{"retype column", func(s *sample, _ *rand.Rand) bool { s.columns[2].kind = "int64"; return true }},
	{"retype another", func(s *sample, _ *rand.Rand) bool { s.columns[3].kind = "[]byte"; return true }},
	{"comment column", func(s *sample, _ *rand.Rand) bool { s.columns[4].comment = "Whether it is in use."; return true }},
	{"change comment", func(s *sample, _ *rand.Rand) bool {
		s.columns[1].comment = "Painted on its front side."
		return true
	}},
	{"move column", func(s *sample, _ *rand.Rand) bool {
		s.columns[2], s.columns[3] = s.columns[3], s.columns[2]
		return true
	}},
	{"add relation", func(s *sample, r *rand.Rand) bool {
		s.relations = slices.Insert(s.relations, r.IntN(len(s.relations)+1), "Inspection")
		return true
	}},
	{"drop relation", func(s *sample, _ *rand.Rand) bool { s.relations = slices.Delete(s.relations, 1, 2); return true }},
	{"add label", func(s *sample, r *rand.Rand) bool {
		s.labels = slices.Insert(s.labels, r.IntN(3), "fierce")
		return true
	}},
	{"drop label", func(s *sample, _ *rand.Rand) bool { s.labels = s.labels[:1]; return true }},
	{"add table", func(s *sample, _ *rand.Rand) bool { s.extra = true; return true }},
	{"drop method", func(s *sample, _ *rand.Rand) bool { s.method = false; return true }},
	{"column and relation", func(s *sample, _ *rand.Rand) bool {
		s.columns = append(s.columns, sampleColumn{"KeeperID", "int64", ""})
		s.relations = append(s.relations, "Keeper")
		return true
	}},
	{"nothing", func(*sample, *rand.Rand) bool { return true }},
}

// edit is one of the developer: texts changed by replacing what is found once.
// What is not found, or more than once, cannot be edited.
type edit struct {
	name string
	file string
	old  string
	new  string
}

var edits = []edit{
	{"tag option", "store/hive.go", "`json:\"frames\"`", "`json:\"frames,omitempty\"`"},
	{"tag key", "store/hive.go", "`json:\"name\"`", "`json:\"name\" xml:\"n\"`"},
	{"tag name", "store/hive.go", "`json:\"active\"`", "`json:\"in_use\"`"},
	{"own field", "store/hive.go", "\n\t// Related rows.", "\n\tOwn bool `json:\"-\"` // ours\n\n\t// Related rows."},
	{"own field at the top", "store/hive.go", "type Hive struct {\n", "type Hive struct {\n\tlock chan bool // ours\n"},
	{"own field between", "store/hive.go", "`json:\"colour\"`", "`json:\"colour\"`\n\tNickname string"},
	{"trailing comment", "store/hive.go", "`json:\"iD\"`", "`json:\"iD\"` // never zero"},
	{"doc comment", "store/hive.go", "// Hive is a box of bees.", "// Hive is a box of bees.\n// It is ours."},
	{"field doc", "store/hive.go", "\tFrames ", "\t// Frames are ours.\n\tFrames "},
	{"standing comment", "store/hive.go", "type column struct", "// A comment of ours that stands alone.\n\ntype column struct"},
	{"method body", "store/hive.go", "\treturn h.Name\n", "\tif h.Name == \"\" {\n\t\treturn \"none\"\n\t}\n\treturn h.Name\n"},
	{"own method", "store/hive.go", "// load fills", "// Heavy is ours.\nfunc (h *Hive) Heavy() bool { return h.ID > 9 }\n\n// load fills"},
	{"own function last", "store/hive.go", "", "\nfunc ours() int { return 1 }\n"},
	{"own label", "store/hive.go", "\tMoodCalm ", "\tMoodOurs Mood = \"ours\"\n\tMoodCalm "},
	{"label comment", "store/hive.go", "= \"calm\"", "= \"calm\" // best"},
	{"before return", "store/hive.go", "\treturn nil\n}", "\th.Own2()\n\treturn nil\n}\n\n// Own2 is ours.\nfunc (h *Hive) Own2() {}"},
	{"inside if", "store/hive.go", "\t\th.Name = v\n", "\t\tprintln(v)\n\t\th.Name = v\n"},
	{"column option", "store/hive.go", "{name: \"frames\",", "{name: \"frame_count\","},
	{"own column", "store/hive.go", "var hiveColumns = []column{\n", "var hiveColumns = []column{\n\t{name: \"ours\", kind: \"x\"},\n"},
	{"own import", "store/hive.go", "package store\n", "package store\n\nimport \"fmt\"\n\nvar _ = fmt.Sprint\n"},
	{"column member", "store/hive.go", "\tkind    string\n", "\tkind    string\n\tnote    string // ours\n"},
	{"own route", "store/routes.go", "\t\ton(\"POST /hives\", create),\n", "\t\ton(\"POST /hives\", create),\n\t\ton(\"GET /hives/ours\", list),\n"},
	{"own route last", "store/routes.go", "\t}\n}\n\ntype route", "\t\ton(\"GET /ours\", create),\n\t}\n}\n\ntype route"},
	{"other handler", "store/routes.go", "on(\"GET /hives/{key}/apiary\", list)", "on(\"GET /hives/{key}/apiary\", ourList)"},
	{"its handler", "store/routes.go", "// create answers", "func ourList() error { return nil }\n\n// create answers"},
	{"statement", "store/routes.go", "\terr := check()\n", "\tprintln(\"asked\")\n\terr := check()\n"},
	{"wrapped error", "store/routes.go", "\t\treturn err\n", "\t\tprintln(err.Error())\n\t\treturn err\n"},
	{"own parameter", "store/routes.go", "func on(pattern string, handler func() error) route {", "func on(pattern string, handler func() error, own ...int) route {"},
	{"literal key", "store/routes.go", "\t\thandler: handler,\n", "\t\thandler: handler,\n\t\town:     true,\n"},
	{"its field", "store/routes.go", "\thandler func() error\n", "\thandler func() error\n\town     bool\n"},
	{"route comment", "store/routes.go", "\t\ton(\"GET /hives\", list),\n", "\t\t// The one that is asked most.\n\t\ton(\"GET /hives\", list),\n"},
	{"deleted function doc", "store/routes.go", "// list answers GET.\n", ""},
	{"blank lines", "store/routes.go", "\terr := check()\n", "\terr := check()\n\n"},
	{"own doc", "store/routes.go", "func check() error {", "// check is ours to explain.\nfunc check() error {"},
	{"deleted column entry", "store/hive.go", "\t{name: \"colour\", kind: \"string\", pointer: func(h *Hive) any { return &h.Colour }},\n", ""},
}

// apply makes the edit; false means that it cannot be made there.
func (e edit) apply(texts map[string]string) bool {
	text, there := texts[e.file]
	if !there {
		return false
	}
	if e.old == "" {
		texts[e.file] = text + e.new
		return true
	}
	if strings.Count(text, e.old) != 1 {
		return false
	}
	edited := strings.Replace(text, e.old, e.new, 1)
	clean, err := format.Source([]byte(edited))
	if err != nil {
		return false
	}
	texts[e.file] = string(clean)
	return true
}

func treeOf(texts map[string]string) Tree {
	tree := Tree{}
	for name, text := range texts {
		tree[name] = []byte(text)
	}
	return tree
}

// composed is what became of all pairs.
type composed struct {
	right, refused, wrong, lost, broken int
	first                               string
}

// TestComposed makes some thousand pairs of edits and schema changes.
func TestComposed(t *testing.T) {
	runs := 500
	if n, err := strconv.Atoi(os.Getenv("WIDEGATE_PAIRS")); err == nil {
		runs = n
	}
	random := rand.New(rand.NewPCG(7, uint64(runs)))
	var c composed
	classes := map[string]int{}
	for made := 0; made < runs; {
		before := newSample()
		after := before.clone()
		change := schemaChanges[random.IntN(len(schemaChanges))]
		change.make(after, random)
		base, theirs := before.render(), after.render()
		mine, want := maps.Clone(base), maps.Clone(theirs)
		var names []string
		ok := true
		for range 1 + random.IntN(4) {
			e := edits[random.IntN(len(edits))]
			if slices.Contains(names, e.name) || !e.apply(mine) {
				continue
			}
			names = append(names, e.name)
			ok = e.apply(want) && ok
		}
		if !ok || len(names) == 0 {
			continue // the schema took away what was edited
		}
		made++
		result := Trees(t.Context(), treeOf(base), treeOf(mine), treeOf(theirs), &Options{Module: "bees"})
		if len(result.Conflicts) > 0 {
			c.refused++
			classes[result.Conflicts[0].Class]++
			t.Logf("%s, %v: %v", change.name, names, result.Conflicts[0])
			continue
		}
		got := maps.Clone(mine)
		for name, text := range result.Changed {
			got[name] = string(text)
		}
		c.judge(t, change.name, names, want, got)
	}
	t.Logf("%d pairs: %d right, %d refused %v, %d wrong, %d with comments lost, %d not parsing", runs, c.right, c.refused, classes, c.wrong, c.lost, c.broken)
	require.Zero(t, c.wrong+c.lost+c.broken, c.first)
	require.Less(t, c.refused, runs/5)
}

func (c *composed) judge(t *testing.T, change string, names []string, want, got map[string]string) {
	t.Helper()
	for name, text := range want {
		if got[name] == text {
			continue
		}
		what := fmt.Sprintf("%s, %v: %s\n%s", change, names, name, Unified("want", "got", []byte(text), []byte(got[name])))
		if c.first == "" {
			c.first = what
		}
		s, err := parseGo(name, got[name])
		if err != nil {
			c.broken++
			return
		}
		for _, tok := range s.toks {
			if tok.comment() && strings.Count(text, tok.text) > strings.Count(got[name], tok.text) {
				c.lost++
				return
			}
		}
		if equivalent(text, got[name]) {
			continue // the same things in another order
		}
		c.wrong++
		if c.wrong < 6 {
			t.Log(what)
		}
		return
	}
	c.right++
}

// equivalent reports whether two files have the same lines in whatever order.
func equivalent(a, b string) bool {
	lines := func(s string) []string {
		var list []string
		for line := range strings.SplitSeq(s, "\n") {
			if line = strings.Join(strings.Fields(line), " "); line != "" {
				list = append(list, line)
			}
		}
		slices.Sort(list)
		return list
	}
	return slices.Equal(lines(a), lines(b))
}
