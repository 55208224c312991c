package golang

import (
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
)

// checker compiles rendered packages, as far as types go, against the runtime
// of this repository.
type checker struct {
	files   *token.FileSet
	runtime types.Importer
	store   *types.Package
}

func newChecker(t testing.TB) *checker {
	t.Helper()
	list, err := exec.Command("go", "list", "-export", "-deps", "-f", "{{.ImportPath}} {{.Export}}", "widegate/gate/rest", "widegate/gate/postgres", "embed").Output()
	require.NoError(t, err)
	exports := map[string]string{}
	for line := range strings.Lines(string(list)) {
		name, file, _ := strings.Cut(strings.TrimSpace(line), " ")
		exports[name] = file
	}
	files := token.NewFileSet()
	return &checker{files: files, runtime: importer.ForCompiler(files, "gc", func(name string) (io.ReadCloser, error) { return os.Open(exports[name]) })}
}

// Import finds the runtime that would be copied, and the store package.
func (c *checker) Import(name string) (*types.Package, error) {
	if name == "bees/store" {
		return c.store, nil
	}
	if below, ok := strings.CutPrefix(name, "bees/store/"); ok {
		name = "widegate/" + below
	}
	return c.runtime.Import(name)
}

func (c *checker) check(t testing.TB, folder string, texts map[string][]byte) *types.Package {
	t.Helper()
	c.files = token.NewFileSet() // or it would grow for ever
	var list []*ast.File
	for name, text := range texts {
		if path.Dir(name) != folder {
			continue
		}
		f, err := parser.ParseFile(c.files, name, text, parser.SkipObjectResolution)
		require.NoError(t, err, "%s", text)
		list = append(list, f)
	}
	var faults []string
	config := types.Config{Importer: c, Error: func(err error) { faults = append(faults, err.Error()) }}
	p, _ := config.Check("bees/"+folder, c.files, list, nil)
	require.Empty(t, faults)
	return p
}

// schemaOf makes a schema of identifiers, one a line: a line that begins with a
// tab is a column of the table before it, two tabs make it refer to a table,
// three make it an enum with the identifiers so far as labels.
func schemaOf(text string) *catalog.Catalog {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres)}
	tables := map[string]bool{}
	var labels []string
	for _, line := range strings.Split(text, "\n") {
		name := strings.TrimLeft(line, "\t")
		depth := len(line) - len(name)
		switch {
		case name == "" || !isText(name):
		case depth == 0 && !tables[name]:
			tables[name] = true
			c.Tables = append(c.Tables, catalog.Table{
				Name: name, Kind: catalog.BaseTable, Columns: []catalog.Column{{Name: name + "!", Declared: "bigint", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}},
				PrimaryKey: &catalog.Key{Columns: []string{name + "!"}},
			})
		case depth > 0 && len(c.Tables) > 0:
			addNamed(c, name, depth, labels)
		}
		if name != "" && isText(name) && len(labels) < 5 {
			labels = append(labels, name)
		}
	}
	return c
}

// isText holds for names that an engine can have.
func isText(name string) bool {
	return strings.ToValidUTF8(name, "") == name && !strings.ContainsRune(name, 0)
}

func addNamed(c *catalog.Catalog, name string, depth int, labels []string) {
	t := &c.Tables[len(c.Tables)-1]
	if _, there := t.Column(name); there {
		return
	}
	column := catalog.Column{Name: name, Declared: "bigint", Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Nullable: true}
	switch depth {
	case 2:
		to := c.Tables[len(name)%len(c.Tables)]
		t.References = append(t.References, catalog.Reference{Columns: []string{name}, Table: to.Name, Target: to.PrimaryKey.Columns})
	case 3:
		column.Type = catalog.Type{Kind: catalog.EnumKind, Labels: labels}
	case 4: // part of the key
		t.PrimaryKey.Columns = append(t.PrimaryKey.Columns, name)
		column.Nullable = false
	}
	t.Columns = append(t.Columns, column)
}

func (c *checker) compile(t testing.TB, text string) {
	t.Helper()
	schema := schemaOf(text)
	if len(schema.Tables) == 0 {
		return
	}
	m, err := model.Build(schema, project.Default(), project.NewNames())
	if err != nil { // nothing but tables that are relations
		return
	}
	rendered, err := Render(m, target)
	require.NoError(t, err)
	texts := map[string][]byte{}
	for _, f := range rendered {
		_, twice := texts[f.Path]
		require.False(t, twice, f.Path)
		texts[f.Path] = f.Text
	}
	c.store = c.check(t, "store", texts)
	c.store.Scope().Insert(types.NewFunc(token.NoPos, c.store, "Open", types.NewSignatureType(nil, nil, nil, nil, nil, false)))
	c.check(t, "api", texts)
	paths := map[string]bool{}
	for _, e := range m.Entities {
		for _, point := range e.Endpoints("/api") {
			shape := placeholder.Replace(point.Path)
			require.False(t, paths[shape], "%s is there twice", shape)
			paths[shape] = true
		}
	}
}

var placeholder = strings.NewReplacer("{", "<", "}", ">")

var namesSeeds = []string{
	"hive\n\tname\n\t\thive_id\n\t\t\tmood\nhives\n\t\thive",
	"type\n\tfunc\n\trange\n\t\t\tselect\nfunc\n\tstring\ngate\n\t\trest\nrest\nstore\n\tcontext\nhttp\ntime\n\ttime",
	"Hive\nhive\nHIVE\n\tid\n\tID\n\tId\n\t_id\n\t\tall\n\t\twhere\n\tcount\n\tinsert\n\tkey\n\tdef",
	"1\n\t1\n\t-\n\t$\n\t\t1st\n蜂\n\t蜜\n\t\t\tß\nÜber\nüber\n\ta b\n\ta_b\n\ta-b\n\taB",
	"hive_key\nhive\n\t\t\t\ta\n\t\t\t\tb\nHiveKey\nhive_def\nhive_table\nHiveDef\nService\nservice\nproblem",
	"e\n\te\n\tk\n\ts\nr\n\tr\n\tw\nt\n\tok\nerr\n\terr\nrow\n\t\trow\nlist\n\t\tlist\nkey\n\t\tkey\ntx\ndb\nctx\n\tctx",
	"new\nmake\nlen\nnil\ntrue\nint64\nany\n\tany\nerror\n\terror\ncopy\nmin\nmax\nclear\nappend\niota\npanic",
	"create_hive\nhive\nlist_hives\nget_hive\nhive_routes\nnew_hive_shape\nchange_hive\nreplace_hive\ndelete_hive",
	"a\n\t\t\tcalm\nb\n\t\t\tcalm\nCalm\nACalm\n\t\t\tcalm calm",
}

func TestNamesCompile(t *testing.T) {
	c := newChecker(t)
	for _, s := range namesSeeds {
		c.compile(t, s)
	}
	words := strings.Fields(strings.Join(namesSeeds, "\n"))
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		var lines []string
		for range 3 + r.IntN(20) {
			lines = append(lines, strings.Repeat("\t", max(r.IntN(7)-2, 0))+words[r.IntN(len(words))])
		}
		c.compile(t, strings.Join(lines, "\n"))
	}
}

// FuzzNames holds any set of identifiers to code that compiles, files that do
// not overwrite each other and paths that do not clash.
func FuzzNames(f *testing.F) {
	for _, s := range namesSeeds {
		f.Add(s)
	}
	c := newChecker(f)
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 2000 {
			return
		}
		c.compile(t, text)
	})
}
