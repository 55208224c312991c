package generate

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/project"
)

const oneTemplate = "---\nfor: entity\npath: docs/{{.Entity.File}}.md\n---\n<!-- {{.Notice}} -->\n"

// archived are files in a new archive.
func archived(t *testing.T, files map[string]string) string {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range files {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	at := filepath.Join(t.TempDir(), "house.zip")
	require.NoError(t, os.WriteFile(at, b.Bytes(), 0o644))
	return at
}

func TestArchivesOfTemplates(t *testing.T) {
	manifest := "name: house\nversion: 1.0.0\n"
	for name, files := range map[string]map[string]string{
		"at the top":  {"manifest.yaml": manifest, "a.tmpl": oneTemplate, "deep/b.tmpl": oneTemplate, "example/c.tmpl": oneTemplate, "expected/d.tmpl": oneTemplate, "README.md": "x"},
		"in a folder": {"house-1.0/manifest.yaml": manifest, "house-1.0/a.tmpl": oneTemplate, "house-1.0/deep/b.tmpl": oneTemplate},
	} {
		at := archived(t, files)
		list, err := ReadTemplates(&project.Project{Root: t.TempDir(), Templates: []string{at}})
		require.NoError(t, err, name)
		var names []string
		for _, l := range list {
			names = append(names, l.Name)
			assert.Equal(t, manifest, string(l.Set.Text))
			assert.True(t, strings.HasPrefix(l.File, filepath.ToSlash(at)+"/"), l.File)
		}
		assert.Equal(t, []string{"a", "deep/b"}, names, name)
	}
	hostile := archived(t, map[string]string{"../../out.tmpl": oneTemplate, "/abs.tmpl": oneTemplate, "fine.tmpl": oneTemplate})
	list, err := ReadTemplates(&project.Project{Root: t.TempDir(), Templates: []string{hostile}})
	if err == nil { // what leads outside is left out, or the archive is refused
		for _, l := range list {
			assert.NotContains(t, l.Name, "..")
			assert.False(t, strings.HasPrefix(l.Name, "/"), l.Name)
		}
	}

	bomb := archived(t, map[string]string{"a.tmpl": strings.Repeat("a", mostUnpacked+1)})
	broken := filepath.Join(t.TempDir(), "broken.zip")
	require.NoError(t, os.WriteFile(broken, []byte("PK no archive"), 0o644))
	other := filepath.Join(t.TempDir(), "house.rar")
	require.NoError(t, os.WriteFile(other, nil, 0o644))
	large := archived(t, map[string]string{"a.tmpl": strings.Repeat("a", mostTemplate+1)})
	for at, says := range map[string]string{bomb: "at most", broken: "reading", other: "is neither", large: "has more than", filepath.Join(t.TempDir(), "none"): "there is no folder"} {
		_, err := ReadTemplates(&project.Project{Root: t.TempDir(), Templates: []string{at}})
		assert.ErrorContains(t, err, says)
	}
}

// TestOneTemplateRendersItsFiles has a changed template leave all other texts as they
// lie in memory: nothing else is rendered.
func TestOneTemplateRendersItsFiles(t *testing.T) {
	p := newProject(t, manyTables(20))
	write := func() *Plan {
		t.Helper()
		plan, err := Make(t.Context(), p, Source(p), Options{})
		require.NoError(t, err)
		store, _, err := Open(p)
		require.NoError(t, err)
		defer store.Close()
		_, err = plan.Apply(t.Context(), store)
		require.NoError(t, err)
		return plan
	}
	same := func(plan *Plan) (again, other int) {
		for name, f := range plan.files {
			if base := plan.ledger.Base[name]; strings.HasSuffix(name, ".go") && !f.Runtime && len(base) > 0 {
				if string(f.Text) != string(base) {
					t.Fatalf("%s has another text than its record", name)
				}
				again++
			} else {
				other++
			}
		}
		return again, other
	}
	write()
	folder := p.Resolve(project.TemplatesFolder)
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a.tmpl"), []byte(oneTemplate), 0o644))
	plan := write()
	assert.True(t, plan.same, "nothing but templates has changed")
	again, _ := same(plan)
	assert.Greater(t, again, 40)

	_, err := TakeTemplate(p, "entity.go")
	require.NoError(t, err)
	at := filepath.Join(folder, "entity.go.tmpl")
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at, bytes.Replace(text, []byte("is written again."), []byte("is written again. Ours."), 1), 0o644))
	plan = write()
	assert.True(t, plan.same)
	assert.Contains(t, string(plan.files["store/hive_part_3.go"].Text), "Ours.")
	require.NoError(t, os.Remove(at))
	plan = write()
	assert.True(t, plan.same)
	assert.NotContains(t, string(plan.files["store/hive_part_3.go"].Text), "Ours.", "the built-in template is back")
	require.NoError(t, os.WriteFile(p.Resolve("schema.sql"), []byte(manyTables(21)), 0o644))
	plan = write()
	assert.False(t, plan.same)
}

// TestIconsAndScriptsAreBroughtIn has a change of the script of formatters alone be
// written.
func TestIconsAndScriptsAreBroughtIn(t *testing.T) {
	p := newProject(t, manyTables(2))
	require.NoError(t, os.WriteFile(p.File, []byte("database: {ddl: [schema.sql]}\napi: {desk: true, formatters: own.js}\n"), 0o644))
	for _, script := range []string{"// one\n", "// two\n"} {
		require.NoError(t, os.WriteFile(p.Resolve("own.js"), []byte(script), 0o644))
		p = load(t, p.Root)
		plan, err := Make(t.Context(), p, Source(p), Options{})
		require.NoError(t, err)
		store, _, err := Open(p)
		require.NoError(t, err)
		_, err = plan.Apply(t.Context(), store)
		require.NoError(t, err)
		require.NoError(t, store.Close())
		text, err := os.ReadFile(p.Resolve("api/formatters.js"))
		require.NoError(t, err)
		assert.Contains(t, string(text), script)
	}
}

func TestTrySet(t *testing.T) {
	folder := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		at := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	put("a.tmpl", oneTemplate)
	_, err := TrySet(t.Context(), folder)
	assert.ErrorContains(t, err, "have no example")
	put("example/widegate.yaml", "database: {ddl: [schema.sql], engine: sqlite}\n")
	put("example/schema.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY);\nCREATE TABLE queen (id INTEGER PRIMARY KEY);\n")
	put("expected/docs/old.md", "gone\n")
	trials, err := TrySet(t.Context(), folder)
	require.NoError(t, err)
	var states []string
	for _, tr := range trials {
		states = append(states, tr.Path)
		assert.False(t, tr.Passes())
	}
	assert.Equal(t, []string{"docs/hive.md", "docs/old.md", "docs/queen.md"}, states)
	require.NoError(t, Accept(folder, trials))
	trials, err = TrySet(t.Context(), folder)
	require.NoError(t, err)
	assert.Len(t, trials, 2)
	for _, tr := range trials {
		assert.True(t, tr.Passes(), tr.Path)
	}
	require.NoError(t, os.Remove(filepath.Join(folder, "a.tmpl")))
	_, err = TrySet(t.Context(), folder)
	assert.ErrorContains(t, err, "the templates give no file")
}

// TestHouseStyle holds the example of a set to what it expects.
func TestHouseStyle(t *testing.T) {
	trials, err := TrySet(t.Context(), filepath.Join("..", "..", "examples", "house-style"))
	require.NoError(t, err)
	assert.Greater(t, len(trials), 5)
	for _, tr := range trials {
		assert.Equal(t, string(tr.Want), string(tr.Got), tr.Path+": `widegate templates test examples/house-style --accept` saves it")
	}
}

// TestStaleTemplates has a template of a set that is shared told of, and not changed.
func TestStaleTemplates(t *testing.T) {
	p := newProject(t, manyTables(2))
	house := t.TempDir()
	_, err := TakeTemplate(p, "entity.go")
	require.NoError(t, err)
	text, err := os.ReadFile(p.Resolve("templates/entity.go.tmpl"))
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(p.Resolve("templates")))
	old := bytes.Replace(text, []byte("version: "), []byte("version: 0000"), 1)
	require.NoError(t, os.WriteFile(filepath.Join(house, "entity.go.tmpl"), old, 0o644))
	p.Templates = []string{house}
	plan, err := Make(t.Context(), p, Source(p), Options{})
	require.NoError(t, err)
	require.Len(t, plan.stale, 1)
	assert.Contains(t, plan.stale[0].Message, "the built-in entity.go has changed since it was taken")
	assert.NotContains(t, plan.files, "templates/entity.go.tmpl")

	wrong := bytes.Replace(text, []byte("takes: entity.go"), []byte("takes: entity"), 1)
	require.NoError(t, os.WriteFile(filepath.Join(house, "entity.go.tmpl"), wrong, 0o644))
	_, err = Make(t.Context(), p, Source(p), Options{})
	assert.ErrorContains(t, err, "there is no built-in template entity")
}
