package golang

import (
	"bytes"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"strings"
	"testing"
	"testing/fstest"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
)

// hostile are texts that a database may hold in a comment, a name or a label.
var hostile = []string{
	"ends */ here", "two\nlines", "//go:embed secret", "\u2028 separated", "`tick`", `"quoted" \ back`, "{{.Template}}", "\x00\x01", "emoji 🐝", "\u202e reversed",
}

func hostileCatalog() *catalog.Catalog {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres)}
	for _, h := range hostile {
		t := catalog.Table{Name: "t " + h, Kind: catalog.BaseTable, Comment: h, PrimaryKey: &catalog.Key{Columns: []string{"id"}},
			Columns: []catalog.Column{
				{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Comment: h},
				{Name: h, Declared: h, Type: catalog.Type{Kind: catalog.Other}, Default: &catalog.Default{Kind: catalog.Constant, Text: h}, Nullable: true},
				{Name: "mood", Type: catalog.Type{Kind: catalog.EnumKind, Labels: []string{h, "calm"}}, Comment: h},
			},
			Uniques: []catalog.Key{{Name: h, Columns: []string{h}}},
		}
		c.Tables = append(c.Tables, t)
	}
	return c
}

func renderAll(t *testing.T, c *catalog.Catalog, target render.Target) []render.File {
	t.Helper()
	m, err := model.Build(c, project.Default(), project.NewNames())
	require.NoError(t, err)
	files, err := Render(m, target)
	require.NoError(t, err)
	return files
}

var target = render.Target{Module: "bees", StoreFolder: "store", APIFolder: "api", Client: "client", Package: "store", Database: render.Database{Packages: []string{"postgres"}}}

func TestHostileTextsStayTexts(t *testing.T) {
	files := renderAll(t, hostileCatalog(), target)
	require.Equal(t, 2*len(hostile)+4, len(files))
	for _, f := range files {
		parsed, err := parser.ParseFile(token.NewFileSet(), f.Path, f.Text, parser.ParseComments)
		require.NoError(t, err, "%s", f.Text)
		clean, err := format.Source(f.Text)
		require.NoError(t, err)
		assert.Equal(t, string(clean), string(f.Text), f.Path)
		for _, group := range parsed.Comments {
			for _, comment := range group.List {
				assert.False(t, strings.HasPrefix(comment.Text, "//go:") && f.Path != "api/service.go", "%s: %s", f.Path, comment.Text)
			}
		}
		assert.False(t, bytes.ContainsRune(f.Text, '\u202e'), "%s: nothing turns the reading direction of code", f.Path)
	}
}

func TestEveryExportedThingIsDocumented(t *testing.T) {
	for _, f := range renderAll(t, hostileCatalog(), target) {
		parsed, err := parser.ParseFile(token.NewFileSet(), f.Path, f.Text, parser.ParseComments)
		require.NoError(t, err)
		for _, d := range parsed.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Name.IsExported() {
					assert.True(t, strings.HasPrefix(d.Doc.Text(), d.Name.Name), "%s: %s", f.Path, d.Name.Name)
				}
			case *ast.GenDecl:
				if d.Tok != token.IMPORT && d.Doc == nil {
					for _, spec := range d.Specs {
						if s, ok := spec.(*ast.TypeSpec); ok {
							assert.False(t, s.Name.IsExported(), "%s: %s", f.Path, s.Name.Name)
						}
					}
				}
			}
		}
	}
}

// TestThePageOfTheInterface looks at which services have the page at /docs.
func TestThePageOfTheInterface(t *testing.T) {
	off := false
	for _, c := range []struct {
		api  project.API
		page bool
	}{{project.API{}, true}, {project.API{Docs: &off}, false}, {project.API{Document: "nobody"}, false}, {project.API{Document: "anybody"}, true}, {project.API{Desk: true}, false}, {project.API{Desk: true, Docs: &off}, false}} {
		p := project.Default()
		c.api.Base, c.api.Folder = p.API.Base, p.API.Folder
		p.API = c.api
		m, err := model.Build(hostileCatalog(), p, project.NewNames())
		require.NoError(t, err)
		files, err := Render(m, target)
		require.NoError(t, err)
		for _, f := range files {
			if f.Path == "api/service.go" {
				assert.Equal(t, c.page, strings.Contains(string(f.Text), "Docs:"), "%+v", c.api)
				assert.Equal(t, c.api.Desk && c.api.DocsPage(), strings.Contains(string(f.Text), `"GET /docs"`), "%+v", c.api)
			}
		}
	}
}

func TestOtherFoldersAndNames(t *testing.T) {
	files := renderAll(t, hostileCatalog(), render.Target{Module: "bees.example/x", StoreFolder: "internal/db", APIFolder: "web/v1", Package: "rows", Database: render.Database{Packages: []string{"postgres"}}})
	texts := map[string]string{}
	for _, f := range files {
		texts[f.Path] = string(f.Text)
	}
	assert.Contains(t, texts["internal/db/store.go"], "package rows\n")
	assert.Contains(t, texts["web/v1/service.go"], "package v1\n")
	assert.Contains(t, texts["web/v1/service.go"], `rows "bees.example/x/internal/db"`)
	assert.Contains(t, texts["web/v1/service.go"], `"bees.example/x/internal/db/gate"`)
	assert.Contains(t, texts["cmd/x/main.go"], `rows "bees.example/x/internal/db"`)
	assert.Contains(t, texts["cmd/x/main.go"], "no database is named", "a URL with a password is not written down")
}

func TestRuntimeIsCopiedWithoutItsTests(t *testing.T) {
	sources := fstest.MapFS{
		"gate/gate.go":                   {Data: []byte("package gate\n")},
		"gate/gate_test.go":              {Data: []byte("package gate\n")},
		"gate/cql2/cql2.go":              {Data: []byte("package cql2\n")},
		"gate/apidoc/page.go":            {Data: []byte("package apidoc\n")},
		"gate/internal/jsonscan/scan.go": {Data: []byte("package jsonscan\n")},
		"gate/rest/rest.go":              {Data: []byte("package rest\n\nimport \"widegate/gate\"\n\nvar _ gate.DB\n")},
		"gate/sqldb/sqldb.go":            {Data: []byte("package sqldb\n")},
		"gate/mysql/mysql.go":            {Data: []byte("package mysql\n\nimport (\n\t\"widegate/gate\"\n\t\"widegate/gate/sqldb\"\n)\n")},
		"gate/postgres/pg.go":            {Data: []byte("package postgres\n")},
	}
	files, err := Runtime{}.Files(render.Input{Sources: sources, Target: render.Target{Module: "bees", StoreFolder: "a/store", APIFolder: "api", Database: render.Database{Packages: []string{"mysql", "sqldb"}}}})
	require.NoError(t, err)
	var paths []string
	for _, f := range files {
		paths = append(paths, f.Path)
		assert.NotContains(t, string(f.Text), "widegate/")
	}
	assert.Equal(t, []string{"a/store/gate/apidoc/page.go", "a/store/gate/cql2/cql2.go", "a/store/gate/gate.go", "a/store/gate/internal/jsonscan/scan.go", "a/store/gate/mysql/mysql.go", "a/store/gate/rest/rest.go", "a/store/gate/sqldb/sqldb.go"}, paths)
	assert.True(t, bytes.Contains(files[5].Text, []byte(`"bees/a/store/gate"`)))
	_, err = Runtime{}.Files(render.Input{Sources: fstest.MapFS{}, Target: target})
	require.Error(t, err)
}

func TestDocs(t *testing.T) {
	entity := func(comment string) string {
		return entityDoc(&model.Entity{Name: "Hive", Table: &catalog.Table{Name: "hive", Kind: catalog.BaseTable, Comment: comment}})
	}
	assert.Equal(t, "Hive is a row of the table hive.", entity(""))
	assert.Equal(t, "Hive is a box of bees.", entity("A box of bees"))
	assert.Equal(t, "Hive is a row of the table hive. Boxes!", entity("Boxes!"))
	assert.Equal(t, "Mood says how they are.", enumDoc(&model.Enum{Name: "Mood", Comment: "How they are"}))
	long := doc(strings.Repeat("words ", 40))
	for line := range strings.Lines(long) {
		assert.LessOrEqual(t, len(line), docWidth+1)
		assert.True(t, strings.HasPrefix(line, "// words"))
	}
	assert.Equal(t, "-", (&renderer{model: &model.Model{API: &project.API{}}}).jsonTag(&model.Field{Column: &catalog.Column{Name: "a,b"}}))
	assert.Equal(t, "größe", (&renderer{model: &model.Model{API: &project.API{}}}).jsonTag(&model.Field{Column: &catalog.Column{Name: "größe"}}))
}
