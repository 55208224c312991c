package merge

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rendered is a small generated project.
var rendered = map[string]string{
	"store/hive.go": `package store

type Hive struct {
	ID   int64
	Name string
	Old  int
}

type HiveKey = int64

func (h *Hive) Label() string { return h.Name }

func newHives() *Table[Hive] { return &Table[Hive]{} }

var Hives = newHives()

const (
	HiveCalm = iota
	HiveWild
)
`,
	"store/apiary.go": `package store

type Apiary struct {
	ID    int64
	Name  string
	Boxes []Hive
}

func (a *Apiary) First() Hive { return a.Boxes[0] }

var Apiaries = &Table[Apiary]{}
`,
	"store/keeper.go": `package store

type Keeper struct {
	ID   int64
	Name string
}

var Keepers = &Table[Keeper]{}
`,
	"store/table.go": `package store

type Table[E any] struct{ rows []*E }

func (t *Table[E]) All() []*E { return t.rows }
`,
	"api/api.go": `package api

import "bees/store"

type Service struct{ Extra func(*store.Hive) string }

func New() *Service { return &Service{} }

func (s *Service) List() []*store.Hive { return store.Hives.All() }
`,
}

// dropped is the new rendering, without a field, and with a method and a field more.
func dropped() map[string]string {
	t := maps.Clone(rendered)
	t["store/hive.go"] = strings.ReplaceAll(strings.ReplaceAll(t["store/hive.go"], "\tOld  int\n", "\tTags []string\n"), "HiveCalm = iota\n", "HiveCalm = iota\n\tHiveKind\n")
	t["store/hive.go"] = strings.Replace(t["store/hive.go"], "Label() string { return h.Name }", "Label() []string { return h.Tags }", 1)
	t["store/hive.go"] += "\nfunc hiveHelp() int { return len(Hives.All()) }\n"
	return t
}

func asTree(texts map[string]string) Tree {
	tree := Tree{}
	for name, text := range texts {
		tree[name] = []byte(text)
	}
	return tree
}

// gated merges, and returns what a person must decide, with everything checked and
// with what may be broken alone.
func gated(t *testing.T, base, mine, theirs map[string]string) (whole, reached []string) {
	t.Helper()
	for _, all := range []bool{true, false} {
		o := &Options{Module: "bees", Whole: all}
		result := Trees(t.Context(), asTree(base), asTree(mine), asTree(theirs), o)
		var list []string
		for _, c := range result.Conflicts {
			list = append(list, c.String())
		}
		for _, n := range result.Notices {
			list = append(list, "notice "+n.String())
		}
		if all {
			whole = list
		} else {
			reached = list
		}
	}
	return whole, reached
}

// own are files and edits of a developer's that a new rendering breaks, though some of
// them do not name what is different.
var own = map[string]map[string]string{
	"names the field":         {"own.go": "package own\n\nimport \"bees/store\"\n\nfunc f(h store.Hive) int { return h.Old }\n"},
	"infers the type":         {"own.go": "package own\n\nimport \"bees/store\"\n\nfunc f(a store.Apiary) bool { x := a.First(); return x == x }\n"},
	"through a field":         {"own.go": "package own\n\nimport \"bees/store\"\n\nfunc f(a store.Apiary) bool { return a.Boxes[0] == a.Boxes[1] }\n"},
	"without keys":            {"own.go": "package own\n\nimport \"bees/store\"\n\nvar h = store.Hive{1, \"x\", 2}\n"},
	"an alias":                {"a.go": "package own\n\nimport \"bees/store\"\n\ntype H = store.Hive\n", "b.go": "package own\n\nvar h = H{1, \"x\", 2}\n"},
	"an interface":            {"own.go": "package own\n\nimport (\n\t\"bees/store\"\n)\n\ntype labelled interface{ Label() string }\n\nvar _ labelled = store.Hives.All()[0]\n"},
	"twice embedded":          {"own.go": "package own\n\nimport \"bees/store\"\n\ntype tagged struct{ Tags int }\n\ntype both struct {\n\tstore.Hive\n\ttagged\n}\n\nfunc f(b both) int { return b.Tags }\n"},
	"a method of theirs":      {"store/own.go": "package store\n\nfunc (h *Hive) Tags() int { return 0 }\n"},
	"a name of the package":   {"store/own.go": "package store\n\nfunc len(x any) string { return \"\" }\n"},
	"the same function":       {"store/own.go": "package store\n\nfunc hiveHelp() {}\n"},
	"from the service":        {"own.go": "package own\n\nimport \"bees/api\"\n\nfunc f(s *api.Service) int { return s.List()[0].Old }\n"},
	"handed to the service":   {"own.go": "package own\n\nimport \"bees/api\"\n\nfunc f(s *api.Service) { for _, x := range s.List() { _ = *x == *x } }\n"},
	"constants":               {"own.go": "package own\n\nimport \"bees/store\"\n\nvar x = [store.HiveWild]int{0, 0}\n"},
	"another table":           {"own.go": "package own\n\nimport \"bees/store\"\n\nfunc f() int { n := 0; for range store.Keepers.All() { n++ }; return n }\n"},
	"other systems":           {"own_windows.go": "package own\n\nimport \"bees/store\"\n\nfunc f(h store.Hive) int { return h.Old }\n"},
	"a tag":                   {"own.go": "//go:build slow\n\npackage own\n\nimport \"bees/store\"\n\nfunc f(h store.Hive) int { return h.Old }\n"},
	"a test":                  {"store/own_test.go": "package store\n\nfunc f(h Hive) int { return h.Old }\n"},
	"a test beside":           {"store/own_test.go": "package store_test\n\nimport \"bees/store\"\n\nfunc f(h store.Hive) int { return h.Old }\n"},
	"all names":               {"own.go": "package own\n\nimport . \"bees/store\"\n\nfunc f() int { return Hives.All()[0].Old }\n"},
	"a generic one":           {"own.go": "package own\n\nimport \"bees/store\"\n\nfunc first[E any](t *store.Table[E]) *E { return t.All()[0] }\n\nfunc f() bool { return *first(store.Hives) == *first(store.Hives) }\n"},
	"its own mistake":         {"own.go": "package own\n\nfunc f() int { return \"x\" }\n"},
	"its own mistake beside":  {"store/own.go": "package store\n\nfunc f() int { return \"x\" }\n"},
	"an edit":                 {"store/apiary.go": strings.Replace(rendered["store/apiary.go"], "return a.Boxes[0] }", "_ = a.Boxes[0].Old; return a.Boxes[0] }", 1)},
	"an edit of the changed":  {"store/hive.go": strings.Replace(rendered["store/hive.go"], "return h.Name }", "return h.Name + string(rune(h.Old)) }", 1)},
	"an edited declaration":   {"store/table.go": strings.Replace(rendered["store/table.go"], "All() []*E { return t.rows }", "All() map[int]*E { return nil }\n\nfunc (t *Table[E]) len() {}", 1)},
	"a deleted declaration":   {"store/table.go": strings.Replace(rendered["store/table.go"], "All()", "Every()", 1)},
	"a routed pattern":        {"api/own.go": "package api\n\nfunc (s *Service) f() string { return s.Extra(s.List()[0]) }\n"},
	"a constant of the group": {"store/hive.go": strings.Replace(rendered["store/hive.go"], "\tHiveWild\n", "\tHiveWild\n\tHiveSwarming\n", 1)},
}

// TestWhatIsNotReachedIsNotBroken checks each project in full, and as far as the new
// rendering reaches: the same must be said.
func TestWhatIsNotReachedIsNotBroken(t *testing.T) {
	for name, files := range own {
		t.Run(name, func(t *testing.T) {
			mine := maps.Clone(rendered)
			maps.Copy(mine, files)
			whole, reached := gated(t, rendered, mine, dropped())
			assert.Equal(t, whole, reached)
			switch name {
			case "another table", "its own mistake", "its own mistake beside", "a routed pattern", "an interface", "an edited declaration", "a deleted declaration":
			default:
				require.NotEmpty(t, whole, "nothing is broken")
			}
		})
	}
	t.Run("a file left out", func(t *testing.T) {
		mine, theirs := maps.Clone(rendered), dropped()
		delete(mine, "store/keeper.go")
		theirs["store/apiary.go"] += "\nvar _ = Keepers\n"
		whole, reached := gated(t, rendered, mine, theirs)
		assert.Equal(t, whole, reached)
		assert.NotEmpty(t, whole)
	})
}

// TestReachAtRandom takes some of the files above together, and one of several new
// renderings.
func TestReachAtRandom(t *testing.T) {
	var names []string
	for name := range own {
		names = append(names, name)
	}
	edits := []struct{ file, old, now string }{
		{"store/hive.go", "ID   int64", "ID   int32"}, {"store/hive.go", "\tOld  int\n", ""}, {"store/hive.go", "type HiveKey = int64", "type HiveKey string"},
		{"store/apiary.go", "Boxes []Hive", "Boxes [2]Hive"}, {"store/apiary.go", "First() Hive { return a.Boxes[0] }", "First(n int) Hive { return a.Boxes[n] }"},
		{"store/keeper.go", "Name string", "Name string\n\tOld string"}, {"store/table.go", "All() []*E { return t.rows }", "All() []*E { return nil }"},
		{"api/api.go", "New() *Service", "New(x int) *Service"}, {"store/hive.go", "HiveWild\n", "HiveWild\n\tHiveLost\n"},
	}
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	broken := 0
	for range 400 {
		mine, theirs := maps.Clone(rendered), maps.Clone(rendered)
		if random.IntN(3) == 0 {
			theirs = dropped()
		}
		var what []string
		for range 1 + random.IntN(3) {
			name := names[random.IntN(len(names))]
			for file, text := range own[name] {
				if strings.HasPrefix(file, "own") || strings.HasPrefix(file, "a.") || strings.HasPrefix(file, "b.") {
					file = fmt.Sprintf("own%d/%s", len(what), file)
				}
				mine[file] = text
			}
			what = append(what, name)
		}
		for range 1 + random.IntN(2) {
			e := edits[random.IntN(len(edits))]
			if !strings.Contains(theirs[e.file], e.now) {
				theirs[e.file] = strings.Replace(theirs[e.file], e.old, e.now, 1)
			}
			what = append(what, e.now)
		}
		whole, reached := gated(t, rendered, mine, theirs)
		if len(whole) > 0 {
			broken++
		}
		require.Equal(t, whole, reached, "seed %d: %q", seed, what)
	}
	assert.Greater(t, broken, 30)
}
