package laws

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate"
	"widegate/gate"
	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/migration"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
	"widegate/internal/sqltext"
)

// skeleton is the least that an engine is made of: what is in this file, a package of
// the runtime, and a line in the registry.
type skeleton struct{}

var dialect = &sqltext.Dialect{
	Name: "skeleton", Quote: `"`, NameQuotes: `"`, TextQuotes: "'", Bare: regexp.MustCompile(`^[a-z_]+$`), TextType: "text", LongText: "TEXT", MostColumns: 100,
	Shell: sqltext.Shell{Includes: regexp.MustCompile(`^!read`), Commands: regexp.MustCompile(`^!`)},
}

var errSkeleton = errors.New("there is no server")

func (skeleton) Dialect() *sqltext.Dialect                               { return dialect }
func (skeleton) Title() string                                           { return "Skeleton" }
func (skeleton) Schemes() []string                                       { return []string{"skeleton"} }
func (skeleton) Example(database string) string                          { return "skeleton://localhost/" + database }
func (skeleton) File(string) (string, bool)                              { return "", false }
func (skeleton) Open(context.Context, string) (engine.Session, error)    { return nil, errSkeleton }
func (skeleton) Connect(context.Context, string) (engine.Session, error) { return nil, errSkeleton }
func (skeleton) Missing(context.Context, string) (bool, error)           { return false, errSkeleton }
func (skeleton) Make(context.Context, string) error                      { return errSkeleton }
func (skeleton) ErrorPlace(string, error) (int, bool)                    { return -1, false }
func (skeleton) ErrorText(error) (string, bool)                          { return "", false }
func (skeleton) Read(context.Context, string, []string, func(string)) (*catalog.Catalog, error) {
	return nil, errSkeleton
}
func (skeleton) CheckSchema(string) error { return nil }
func (skeleton) Schemas(context.Context, engine.Session) ([]string, string, error) {
	return nil, "", nil
}
func (skeleton) MarkQuery() string { return "SELECT 1" }
func (skeleton) ReadScripts(context.Context, []*sqltext.File, []string) (*catalog.Catalog, error) {
	return nil, errSkeleton
}
func (skeleton) OpenScripts(context.Context, []*sqltext.File) (engine.Session, error) {
	return nil, nil
}
func (skeleton) Scratch() *engine.Scratch                             { return &engine.Scratch{} }
func (skeleton) Shell(string) (engine.Program, error)                 { return engine.Program{}, nil }
func (skeleton) Dumper(string) (engine.Program, error)                { return engine.Program{}, nil }
func (skeleton) DumpQuery() string                                    { return "" }
func (skeleton) Rollout() *engine.Rollout                             { return &engine.Rollout{} }
func (skeleton) OpenService(context.Context, string) (gate.DB, error) { return nil, errSkeleton }
func (skeleton) Driver() string                                       { return "example.org/skeleton" }
func (skeleton) Packages() []string                                   { return []string{"skeleton"} }
func (skeleton) URLForm() string                                      { return ", of the form skeleton://host/database" }
func (skeleton) Analyze() string                                      { return "ANALYZE" }
func (skeleton) Drafting() migration.Engine                           { return drafting{} }

// drafting spells the scripts of the skeleton: only what a new table needs.
type drafting struct{ migration.Engine }

func (drafting) Dialect() *sqltext.Dialect { return dialect }
func (drafting) Traits() migration.Traits {
	return migration.Traits{Runner: "skeleton FILE", Promise: "Nothing is promised."}
}
func (drafting) Options(*catalog.Catalog) []string { return nil }
func (drafting) KeyName(*catalog.Table) string     { return "" }
func (drafting) Guard(string) []string             { return nil }
func (drafting) Declared(word, inside string, _ []string) string {
	if inside != "" {
		return word + "(" + inside + ")"
	}
	return word
}
func (drafting) Write(d *migration.Writing) {
	for _, t := range d.Fresh() {
		var columns []string
		for i := range t.Columns {
			columns = append(columns, d.Name(t.Columns[i].Name)+" "+t.Columns[i].Declared)
		}
		d.Step("CREATE TABLE " + d.TableOf(t) + " (" + strings.Join(columns, ", ") + ")")
	}
}

// TestSkeletonEngine brings a schema of an engine that nothing else knows through the
// tool: drafts, names, code, documents.
func TestSkeletonEngine(t *testing.T) {
	var e engine.Engine = skeleton{}
	c, err := migration.Extend(e.Drafting(), &catalog.Catalog{Engine: e.Dialect(), Tables: []catalog.Table{}}, "hive", []string{"name:text(60)", "weight_kg:decimal(6,2),null"})
	require.NoError(t, err)
	script, err := migration.Draft(e.Drafting(), &catalog.Catalog{Engine: e.Dialect()}, c, migration.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE hive (id bigint, name text(60), weight_kg decimal(6,2))"}, script.Statements())
	assert.Contains(t, string(script.Text("A hive.")), "Run it by `skeleton FILE`")

	text, err := c.Encode()
	require.NoError(t, err)
	again, err := catalog.Decode(text, []*sqltext.Dialect{e.Dialect()})
	require.NoError(t, err)
	_, err = catalog.Decode(text, registry.Dialects())
	require.ErrorContains(t, err, `there is no engine "skeleton"`, "an engine that is not known is an error, never a default")
	_, err = registry.Of("skeleton")
	require.Error(t, err)

	p := project.Default()
	m, err := model.Build(again, p, project.NewNames())
	require.NoError(t, err)
	in := render.Input{Model: m, Sources: widegate.Sources, Target: render.Target{Module: "bees", StoreFolder: "store", APIFolder: "api", Package: "store", Database: render.Database{Packages: e.Packages(), URLForm: e.URLForm()}}}
	for _, o := range []render.Output{golang.Code{}, openapi.Document{}, counting{}} {
		files, err := o.Files(in)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			if f.Path == "store/store.go" {
				assert.Contains(t, string(f.Text), `"bees/store/gate/skeleton"`)
			}
		}
	}
}

// counting is the least that an output is made of.
type counting struct{}

func (counting) Files(in render.Input) ([]render.File, error) {
	var names []string
	for _, e := range in.Model.Entities {
		names = append(names, e.Name)
	}
	return []render.File{{Path: "names.txt", Text: []byte(strings.Join(names, "\n"))}}, nil
}

// TestFilesToTouch counts the files outside of its folders that name an engine: the
// registry, and no other.
func TestFilesToTouch(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(root, "internal/engine/registry/registry.go"))
	require.NoError(t, err)
	for _, e := range registry.All() {
		line := "\t" + e.Dialect().Name + ".Engine{},\n"
		assert.Equal(t, 1, strings.Count(string(text), line), "the registry has one line for %s", e.Dialect().Name)
	}
	var touched []string
	for _, s := range sources(t, "internal", "cmd", "gate") {
		own := rooms.MatchString(s.folder) && !strings.HasSuffix(s.folder, "/registry") && !strings.HasPrefix(s.folder, "internal/testdb")
		if !own && len(named(s)) > 0 {
			touched = append(touched, s.folder+"/"+s.name)
		}
	}
	assert.Subset(t, []string{"internal/engine/registry/registry.go", "internal/testdb/testdb.go", "internal/testdb/dialects/dialects.go", "internal/testdb/missing.go", "internal/testdb/mysql8/main.go", "internal/laws/doc.go"}, touched)
}
