package generate

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"widegate/examples/beekeeping"
	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
	"widegate/internal/rooted"
)

// hostile are texts that would be code where they are put down as they are.
var hostile = []string{
	"x\nfunc init() { panic(1) }\n", "x\r\nfunc init() { panic(1) }\r\n", "x */ func init() { panic(1) } /*", "x`\nfunc init() { panic(1) }\nvar y = `",
	"\"\nfunc init() { panic(1) }\nvar y = \"", "//go:embed go.mod", "x\n//go:embed go.mod\nvar y string\n", "+build ignore", "x\n// +build ignore\n",
	"x\n//go:build ignore\n", "x\n//line /etc/passwd:1\n", "x struct{}\nfunc init() { panic(1) }\ntype y", "x; import \"os/exec\"", "{{.Template}}",
	"\u202ex\u2066", "x \"y\"\n\u202e\ufeff\x1b z", "\ufeffx", "x\x00\x1b[2J", "x\u2028func init() {}", "\xff\xfe", "../../x", "x/../../y", "int; func init() {}", "struct{ F func() }", "*[]x",
}

// modelProject has something of everything that is rendered.
const modelProject = `
database: {engine: sqlite, ddl: [schema.sql]}
code: {tests: true}
api:
  tokens: {issuer: bees, audience: hives, secret: TOKEN_SECRET}
  allow: {read: [anybody], create: [keeper], change: [keeper], delete: [admin]}
  cors: ["https://bees.example"]
  limits: {rows: 50, statement: 30s}
  bulk: 100
  desk: true
  expose: {BestApiaries: [keeper]}
  versions:
    v1: {deprecated: 2026-01-01, entities: {hive: {path: boxes, columns: {name: {name: title}, temperament: {hidden: true}}}}}
entities:
  hive:
    label: Hives
    group: Bees
    help: All of them.
    allow: {read: [keeper], rows: {keeper: "apiary_id = 1"}, columns: {temperament: {read: [admin]}}}
    columns: {name: {label: Name, help: Painted., format: link}}
`

// renderedModel is the model of the example, and a function that renders it.
func renderedModel(t *testing.T) (*model.Model, func() ([]render.File, error)) {
	t.Helper()
	folder := t.TempDir()
	schema, err := os.ReadFile("../../examples/beekeeping/schema/sqlite.sql")
	require.NoError(t, err)
	for name, text := range map[string]string{"schema.sql": string(schema), "queries/cooperative.sql": beekeeping.Queries, "widegate.yaml": modelProject} {
		at := filepath.Join(folder, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	p, err := project.Load(filepath.Join(folder, project.FileName))
	require.NoError(t, err)
	_, m, err := Understand(t.Context(), p, Source(p))
	require.NoError(t, err)
	target := render.Target{Module: "bees", StoreFolder: "store", APIFolder: "api", Package: "store", Tests: true, Guarded: true, Desk: true, Database: render.Database{Packages: []string{"sqlite"}}}
	return m, func() ([]render.File, error) {
		files, err := golang.Render(m, target)
		if err != nil {
			return nil, err
		}
		files = append(files, render.File{Path: "api/openapi.json", Text: openapi.Render(m.Seen(), "bees")})
		return files, nil
	}
}

// stringsOf collects every string below a value that can be set, by the type and
// field that it stands in, as far as it can be told apart.
func stringsOf(at reflect.Value, field string, seen map[uintptr]bool, found map[string][]reflect.Value) {
	switch at.Kind() {
	case reflect.Pointer:
		if at.IsNil() || seen[at.Pointer()] {
			return
		}
		seen[at.Pointer()] = true
		stringsOf(at.Elem(), field, seen, found)
	case reflect.Slice, reflect.Array:
		for i := range at.Len() {
			stringsOf(at.Index(i), field, seen, found)
		}
	case reflect.Struct:
		for i := range at.NumField() {
			if f := at.Type().Field(i); f.IsExported() {
				stringsOf(at.Field(i), at.Type().String()+"."+f.Name, seen, found)
			}
		}
	case reflect.String:
		if at.CanSet() && len(found[field]) < 2 {
			found[field] = append(found[field], at)
		}
	}
}

// skeleton is what a Go file declares, imports and asks of the go command.
func skeleton(t *testing.T, what string, f render.File) []string {
	t.Helper()
	files := token.NewFileSet()
	parsed, err := parser.ParseFile(files, f.Path, f.Text, parser.ParseComments|parser.SkipObjectResolution)
	require.NoError(t, err, "%s: %s", what, f.Path)
	list := []string{"package " + parsed.Name.Name}
	for _, in := range parsed.Imports {
		list = append(list, "import "+in.Path.Value)
	}
	for _, d := range parsed.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			list = append(list, "func "+d.Name.Name)
		case *ast.GenDecl:
			for _, s := range d.Specs {
				switch s := s.(type) {
				case *ast.TypeSpec:
					list = append(list, "type "+s.Name.Name)
				case *ast.ValueSpec:
					for _, n := range s.Names {
						list = append(list, "value "+n.Name)
					}
				}
			}
		}
	}
	for _, group := range parsed.Comments {
		for _, c := range group.List {
			if directive.MatchString(c.Text) {
				list = append(list, c.Text)
			}
		}
	}
	ast.Inspect(parsed, func(n ast.Node) bool {
		if call, ok := n.(*ast.CallExpr); ok {
			if name, ok := call.Fun.(*ast.Ident); ok && name.Name == "panic" {
				list = append(list, "panic")
			}
		}
		return true
	})
	return list
}

var directive = regexp.MustCompile(`^//(go:|line |export |extern |[a-z0-9]+:[a-z0-9])|^//\s*\+build|^/\*line `)

// TestHostileModel puts hostile texts into every string of a model, one after
// the other: it is rendered as a text or refused, and no file declares, imports
// or asks for anything that it did not before.
func TestHostileModel(t *testing.T) {
	m, renderIt := renderedModel(t)
	files, err := renderIt()
	require.NoError(t, err)
	before := map[string][]string{}
	for _, f := range files {
		if strings.HasSuffix(f.Path, ".go") {
			before[f.Path] = skeleton(t, "the example", f)
		}
	}
	found := map[string][]reflect.Value{}
	stringsOf(reflect.ValueOf(m), "", map[uintptr]bool{}, found)
	require.Greater(t, len(found), 80, "the strings of the model are found")
	tried, refused, turn := 0, 0, 0
	for _, field := range slices.Sorted(maps.Keys(found)) {
		for _, at := range found[field] {
			was := at.String()
			for i, h := range hostile {
				if os.Getenv("WIDEGATE_LONG") == "" && (i+turn)%12 != 0 {
					continue // the next fields take the others
				}
				at.SetString(h)
				tried++
				files, err := renderIt()
				if err != nil {
					refused++
					continue
				}
				checkFiles(t, fmt.Sprintf("%s = %q", field, h), files, before)
			}
			at.SetString(was)
			turn++
		}
		if t.Failed() {
			return
		}
	}
	t.Logf("%d fields, %d renderings, %d refused", len(found), tried, refused)
}

// checkFiles compares what is rendered with what was before.
func checkFiles(t *testing.T, what string, files []render.File, before map[string][]string) {
	t.Helper()
	for _, f := range files {
		assert.False(t, strings.ContainsFunc(string(f.Text), printable.Acts), "%s: control characters in %s", what, f.Path)
		want, known := before[f.Path]
		if !strings.HasSuffix(f.Path, ".go") {
			continue
		}
		if !known { // the file has another name
			assert.NoError(t, rooted.Check(f.Path), what)
			continue
		}
		for _, s := range skeleton(t, what, f) {
			assert.Contains(t, want, s, "%s: in %s", what, f.Path)
		}
	}
}

// renderWith renders the example with another project file and other names.
func renderWith(t *testing.T, folder, projectFile string, names []byte) ([]render.File, error) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(folder, ".widegate"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, project.FileName), []byte(projectFile), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".widegate", "names.json"), names, 0o644))
	p, err := project.Load(filepath.Join(folder, project.FileName))
	if err != nil {
		return nil, err
	}
	plan, err := Make(t.Context(), p, Source(p), Options{Full: true})
	if err != nil {
		return nil, err
	}
	return slices.Collect(maps.Values(plan.files)), nil
}

// TestHostileProjectsAndLedgers puts hostile texts into every key and value of a
// project file and of the names in a ledger.
func TestHostileProjectsAndLedgers(t *testing.T) {
	folder := t.TempDir()
	schema, err := os.ReadFile("../../examples/beekeeping/schema/sqlite.sql")
	require.NoError(t, err)
	names, err := os.ReadFile("../../examples/beekeeping/service/.widegate/names.json")
	require.NoError(t, err)
	for name, text := range map[string]string{"schema.sql": string(schema), "queries/cooperative.sql": beekeeping.Queries, "go.mod": "module bees\n\ngo 1.26\n"} {
		at := filepath.Join(folder, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	files, err := renderWith(t, folder, modelProject, names)
	require.NoError(t, err)
	before := map[string][]string{}
	for _, f := range files {
		if strings.HasSuffix(f.Path, ".go") {
			before[f.Path] = skeleton(t, "the example", f)
		}
	}
	tried, refused, turn := 0, 0, 0
	try := func(what, projectFile string, names []byte) {
		tried++
		files, err := renderWith(t, folder, projectFile, names)
		if err != nil {
			refused++
			return
		}
		for _, f := range files {
			assert.NoError(t, rooted.Check(f.Path), what)
			assert.False(t, strings.HasPrefix(f.Path, ".") && !project.Starter(f.Path), "%s: %s", what, f.Path)
			if !strings.HasSuffix(f.Path, ".go") || strings.Contains(f.Path, "/gate/") {
				continue
			}
			for _, s := range skeleton(t, what, f) {
				assert.False(t, s == "panic" || s == "func init" || directive.MatchString(s) && !strings.HasPrefix(s, "//go:embed openapi"), "%s: %s in %s", what, s, f.Path)
			}
		}
	}
	var document yaml.Node
	require.NoError(t, yaml.Unmarshal([]byte(modelProject), &document))
	each := func(scalars []*yaml.Node) {
		for _, n := range scalars {
			turn++
			was := *n
			for i, h := range hostile {
				if os.Getenv("WIDEGATE_LONG") == "" && (i+turn)%12 != 0 {
					continue
				}
				n.Value, n.Tag, n.Style = h, "!!str", yaml.DoubleQuotedStyle
				text, err := yaml.Marshal(&document)
				*n = was
				if err != nil { // not every text can be YAML
					continue
				}
				try(fmt.Sprintf("line %d = %q", n.Line, h), string(text), names)
			}
		}
	}
	each(scalarsOf(&document))
	text := string(names)
	for _, word := range []string{`"Apiary"`, `"Apiaries"`, `"apiary"`, `"apiaries"`, `"KeeperID"`, `"Deputy"`, `"Temperament"`, `"keeper_id"`, `">apiary(keeper_id)"`, `"hive.temperament"`} {
		require.Contains(t, text, word)
		turn++
		for i, h := range hostile {
			if os.Getenv("WIDEGATE_LONG") == "" && (i+turn)%6 != 0 {
				continue
			}
			quoted, err := json.Marshal(h)
			require.NoError(t, err)
			try(fmt.Sprintf("%s = %q", word, h), modelProject, []byte(strings.ReplaceAll(text, word, string(quoted))))
		}
	}
	t.Logf("%d tried, %d refused", tried, refused)
}

// scalarsOf are the keys and values of a document.
func scalarsOf(n *yaml.Node) []*yaml.Node {
	if n.Kind == yaml.ScalarNode {
		return []*yaml.Node{n}
	}
	var list []*yaml.Node
	for _, inner := range n.Content {
		list = append(list, scalarsOf(inner)...)
	}
	return list
}
