package main

import (
	"database/sql"
	"fmt"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// swap puts one text in the place of another in a file.
type swap struct{ file, old, now string }

// A lineOf stands for all that is on the line that a text is on.
var lineEnd = regexp.MustCompile(`[^\n]*\n`)

// handEdit is what a developer does to the written code.
type handEdit struct {
	name  string
	on    string // the column that it edits, if it is one
	swaps []swap
	want  []string // what must be there afterwards: FILE: TEXT
	gone  []string // what must not be there: FILE: TEXT
}

// hide takes a column out of all lists of hives.
func hide(field, column string) []swap {
	return []swap{
		{"store/hive.go", "\t" + field + " ~", ""}, // of the entity
		{"store/hive.go", "\t" + field + ": ~", ""},
		{"store/hive.go", "\t" + field + " ~", ""}, // of the table
		{"store/hive.go", "\t\t{Name: \"" + column + "\",~", ""},
	}
}

var handEdits = []handEdit{
	{"hidden column", "weight", hide("Weight", "weight"), nil, []string{`store/: "weight"`, "store/: &e.Weight"}},
	{"hidden last column", "", hide("IsActive", "is_active"), nil, []string{`store/: "is_active"`, "store/: &e.IsActive"}},
	{"edited column", "frames", []swap{{"store/hive.go", `Name: "frames", Type: gate.TypeInt64, Flags: gate.HasDefault`, `Name: "frames", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: "5", Most: "60"`}}, []string{`store/: Least: "5", Most: "60"`}, nil},
	{"edited column and comments", "weight", []swap{
		{"store/hive.go", "\t\t{Name: \"weight\",", "\t\t// Weighed by hand.\n\t\t{Name: \"weight\" /* kg */,"},
		{"store/hive.go", "&e.Weight }},", "&e.Weight }}, // kg"},
	}, []string{"store/: // Weighed by hand.", "store/: /* kg */", "store/: // kg"}, nil},
	{"own column list order", "", []swap{
		{"store/hive.go", "\t\t{Name: \"name\", Type: gate.TypeText,~", ""},
		{"store/hive.go", "return &e.ID }},\n", "return &e.ID }},\n\t\t{Name: \"name\", Type: gate.TypeText, Max: 40, In: func(e *Hive) any { return &e.Name }},\n"},
	}, []string{`store/: {Name: "name", Type: gate.TypeText, Max: 40`}, nil},
	{"closure in routes", "", []swap{{"api/hive.go", "rest.On(\"POST /hives\", rest.Create(s.hive)),",
		"rest.On(\"POST /hives\", rest.Create(s.hive, func(ctx context.Context, db gate.DB, rows []*store.Hive) error {\n\t\t\t// Ours.\n\t\t\treturn store.Hives.InsertAll(ctx, db, rows)\n\t\t})),"},
		{"api/hive.go", "import (\n\t\"net/http\"\n", "import (\n\t\"context\"\n\t\"net/http\"\n"}, {"api/hive.go", "\t\"bees/store/gate/rest\"\n", "\t\"bees/store/gate\"\n\t\"bees/store/gate/rest\"\n"}},
		[]string{"api/: // Ours."}, nil},
	{"named handler", "", []swap{{"api/hive.go", "rest.On(\"GET /hives\", s.listHives)", "rest.On(\"GET /hives\", s.ourHives)"},
		{"api/hive.go", "// listHives answers", "// ourHives asks first.\nfunc (s *Service) ourHives(w http.ResponseWriter, r *http.Request) error { return s.listHives(w, r) }\n\n// listHives answers"}},
		[]string{"api/: s.ourHives)", "api/: func (s *Service) ourHives"}, nil},
	{"routes taken out and added", "", []swap{{"api/hive.go", "\t\trest.On(\"DELETE /hives/{key}\",~", "\t\trest.On(\"GET /hives/ours\", s.listHives),\n"}},
		[]string{`api/: /ours"`}, []string{`api/: rest.Remove(s.hive`}},
	{"one line of imports", "", []swap{{"api/hive.go", "import (\n\t\"net/http\"\n\n\t\"bees/store\"\n\t\"bees/store/gate/rest\"\n)", "import (\"net/http\"; \"bees/store\"; \"bees/store/gate/rest\")"}}, nil, nil},
	{"statements on one line", "", []swap{{"api/hive.go", "\tlist, err := rest.ReadList(r, s.hive)\n\tif err != nil {\n\t\treturn err\n\t}\n", "\tlist, err := rest.ReadList(r, s.hive); if err != nil { return err /* ours */ }\n"}}, []string{"api/: /* ours */"}, nil},
	{"fields on one line", "", []swap{{"store/hive.go", "// Related rows, present when asked for with With.\n\tKeeper", "// Related rows, present when asked for with With.\n\tOurs int `json:\"-\"`; Keeper"}}, []string{"store/: Ours int"}, nil},
	{"comments before commas", "", []swap{
		{"store/hive.go", "return &e.Frames }", "return &e.Frames /* of wood */ }"}, {"store/hive.go", `Labels: []string{"calm", "fierce"}`, `Labels: []string{"calm" /* best */, "fierce"}`},
		{"api/hive.go", "rest.Relate(\"keeper\", store.Hives.Keeper),", "rest.Relate(\"keeper\" /* who */, store.Hives.Keeper),"},
	}, []string{"store/: /* of wood */", "store/: /* best */"}, nil},
	{"licence", "", []swap{{"store/hive.go", "// From table hive.", "// Copyright the cooperative.\n\n// From table hive."}, {"api/hive.go", "// From table hive.", "//go:build !plan9\n\n// From table hive."}},
		[]string{"store/: // Copyright the cooperative.", "api/: //go:build !plan9"}, nil},
	{"own thing of a column's name", "", []swap{{"store/hive.go", "// hiveDef describes", "// Frames sums up. Frames is ours.\nfunc Frames(list []*Hive) (n int64) {\n\tfor _, h := range list {\n\t\tn += h.ID\n\t}\n\treturn n\n}\n\n// hiveDef describes"}},
		[]string{"store/: // Frames sums up. Frames is ours.\nfunc Frames("}, nil},
	{"tags", "name", []swap{{"store/hive.go", "`json:\"name\"`", "`json:\"name,omitempty\" xml:\"title\"`"}}, []string{"store/: `json:\"name,omitempty\" xml:\"title\"`"}, nil},
}

// schemaChange is one of the schema.
type schemaChange struct {
	name    string
	column  string // that it takes away
	make    func(a *apiary)
	want    []string
	gone    []string
	plurals [2]string // of keepers and hives
	flags   []string
}

var keepersAndHives = [2]string{"Keepers", "Hives"}

var schemaChanges = []schemaChange{
	{"retype", "", func(a *apiary) { a.replace("hive", "weight", "weight TEXT NOT NULL DEFAULT ''") }, nil, nil, keepersAndHives, nil},
	{"limits", "frames", func(a *apiary) {
		a.replace("hive", "frames", "frames INTEGER NOT NULL DEFAULT 12 CHECK (frames BETWEEN 1 AND 99)")
	}, []string{`store/: Default: "12"`}, nil, keepersAndHives, nil},
	{"column first", "", func(a *apiary) { a.columns["hive"] = slices.Insert(a.columns["hive"], 0, "colour TEXT") }, []string{"store/: &e.Colour", `store/: {Name: "colour"`}, nil, keepersAndHives, nil},
	{"column before another", "", func(a *apiary) { a.columns["hive"] = slices.Insert(a.columns["hive"], 4, "colour TEXT") }, []string{"store/: &e.Colour", `store/: {Name: "colour"`}, nil, keepersAndHives, nil},
	{"columns last", "", func(a *apiary) { a.columns["hive"] = append(a.columns["hive"], "colour TEXT", "height INTEGER") }, []string{"store/: &e.Colour", "store/: &e.Height"}, nil, keepersAndHives, nil},
	{"column dropped", "weight", func(a *apiary) { a.drop("hive", "weight") }, nil, []string{"store/: &e.Weight"}, keepersAndHives, nil},
	{"column renamed", "frames", func(a *apiary) { a.replace("hive", "frames", "combs INTEGER NOT NULL DEFAULT 10") }, []string{"store/: &e.Combs", `store/: {Name: "combs"`}, []string{`store/: {Name: "frames"`}, keepersAndHives, []string{"--renamed", "hive.frames=combs"}},
	{"one dropped, one added", "weight", func(a *apiary) { a.replace("hive", "weight", "mass DECIMAL(6,2)") }, []string{"store/: &e.Mass"}, []string{"store/: &e.Weight"}, keepersAndHives, []string{"--renamed", "hive.weight="}},
	{"table renamed", "", func(a *apiary) {
		a.tables[1] = "colony"
		a.columns["colony"] = a.columns["hive"]
	}, []string{"store/: var Colonies", `api/: "GET /colonies"`}, []string{"store/: var Hives"}, [2]string{"Keepers", "Colonies"}, []string{"--renamed", "hive=colony"}},
	{"relation and table", "", func(a *apiary) {
		a.tables = append(a.tables, "swarm")
		a.columns["swarm"] = []string{"hive_id INTEGER NOT NULL REFERENCES hive (id)"}
	}, []string{"store/: Swarms", "api/: swarmRoutes"}, nil, keepersAndHives, nil},
	{"label", "", func(a *apiary) {
		a.replace("hive", "mood", "mood TEXT NOT NULL DEFAULT 'calm' CHECK (mood IN ('calm', 'nervous', 'fierce'))")
	}, []string{"store/: MoodNervous"}, nil, keepersAndHives, nil},
}

func (a *apiary) drop(table, column string) {
	a.columns[table] = slices.DeleteFunc(a.columns[table], func(c string) bool { return strings.HasPrefix(c, column+" ") })
}

// TestComposing lets every edit meet every change in code as it is really written.
// What comes out has both, parses, builds, and reads a row of each table; or the
// command stops, and has changed nothing.
func TestComposing(t *testing.T) {
	require.GreaterOrEqual(t, len(handEdits)*len(schemaChanges), 120)
	result := &outcome{counts: map[string]int{}}
	start := startRepository(t)
	t.Run("cases", func(t *testing.T) {
		for i, e := range handEdits {
			for k, c := range schemaChanges {
				if !thorough && (i*len(schemaChanges)+k)%7 != 0 {
					continue
				}
				t.Run(e.name+", "+c.name, func(t *testing.T) {
					t.Parallel()
					r := &repository{t, filepath.Join(t.TempDir(), "bees"), start.home}
					require.NoError(t, os.CopyFS(r.folder, os.DirFS(start.folder)))
					result.add(r.compose(e, c))
				})
			}
		}
	})
	for _, line := range slices.Sorted(maps.Keys(result.counts)) {
		t.Logf("%s: %d", line, result.counts[line])
	}
}

// swap carries out edits; ~ in what is looked for stands for the rest of its line.
func (r *repository) swap(list []swap) {
	r.t.Helper()
	for _, s := range list {
		text := r.read(s.file)
		old, rest := strings.CutSuffix(s.old, "~")
		at := strings.Index(text, old)
		require.GreaterOrEqual(r.t, at, 0, "%s has no %q", s.file, old)
		end := at + len(old)
		if rest {
			end += lineEnd.FindStringIndex(text[end:])[1]
		}
		r.write(s.file, text[:at]+s.now+text[end:])
	}
}

func (r *repository) compose(e handEdit, c schemaChange) string {
	r.t.Helper()
	r.swap(e.swaps)
	a := newApiary()
	c.make(a)
	r.write("schema.sql", a.sql())
	before := r.texts()
	out, status := r.run("widegate", append([]string{"write", "--yes"}, c.flags...)...)
	if status == 3 {
		require.Equal(r.t, before, r.texts(), out)
		if e.on != "" && e.on == c.column {
			return "refused, as it should be"
		}
		r.t.Logf("refused: %s", out)
		return "refused, and need not be"
	}
	require.Zero(r.t, status, out)
	for _, want := range append(slices.Clone(e.want), c.want...) {
		assert.True(r.t, r.contains(want), "%s is missing\n%s", want, out)
	}
	for _, gone := range append(slices.Clone(e.gone), c.gone...) {
		assert.False(r.t, r.contains(gone), "%s is there\n%s", gone, out)
	}
	for name, text := range r.texts() {
		if strings.HasSuffix(name, ".go") {
			_, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
			require.NoError(r.t, err)
		}
	}
	r.reads(a, c.plurals)
	return "right"
}

// contains reports whether a text is in a file, or in a file of a folder: FILE: TEXT.
func (r *repository) contains(what string) bool {
	place, text, _ := strings.Cut(what, ": ")
	for name, content := range r.texts() {
		if (name == place || strings.HasSuffix(place, "/") && strings.HasPrefix(name, place)) && strings.Contains(content, text) {
			return true
		}
	}
	return false
}

// texts are the files of store and api, without the runtime.
func (r *repository) texts() map[string]string {
	r.t.Helper()
	texts := map[string]string{}
	for _, folder := range []string{"store", "api"} {
		names, err := filepath.Glob(filepath.Join(r.folder, folder, "*"))
		require.NoError(r.t, err)
		for _, at := range names {
			if info, err := os.Stat(at); err == nil && info.Mode().IsRegular() {
				name := folder + "/" + filepath.Base(at)
				texts[name] = r.read(name)
			}
		}
	}
	return texts
}

// reads builds the code, makes its service, and reads a row of each table.
func (r *repository) reads(a *apiary, plurals [2]string) {
	r.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(r.folder, "bees.db"))
	require.NoError(r.t, err)
	hive := a.tables[1]
	_, err = db.Exec(a.sql() + "INSERT INTO keeper (id, name) VALUES (1, 'x'); INSERT INTO " + hive + " (id, keeper_id, name) VALUES (1, 1, 'y');")
	require.NoError(r.t, err)
	require.NoError(r.t, db.Close())
	r.write("check/main.go", fmt.Sprintf(`package main

import (
	"context"
	"fmt"
	"os"

	"bees/api"
	"bees/store"
)

func main() {
	ctx := context.Background()
	db, err := store.Open(ctx, "sqlite:bees.db")
	fail(err)
	keeper, err := store.%[1]s.Where().One(ctx, db)
	fail(err)
	hive, err := store.%[2]s.Where().With(store.%[2]s.Keeper).One(ctx, db)
	fail(err)
	_, err = api.New(db)
	fail(err)
	fmt.Println(keeper.Name, hive.Name, hive.Keeper.Name)
}

func fail(err error) {
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
`, plurals[0], plurals[1]))
	require.Equal(r.t, "x y x\n", r.must("go", "run", "./check"))
}
