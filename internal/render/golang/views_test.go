package golang

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"text/template"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

var update = flag.Bool("update", false, "write the comments of the views anew")

// TestViewComments holds the comments of the views that `templates data` prints to
// those of the sources.
func TestViewComments(t *testing.T) {
	about := map[string]map[string]string{} // by package
	for _, p := range packages {
		about[p] = map[string]string{}
		files, err := filepath.Glob(filepath.Join("../../..", strings.TrimPrefix(p, "widegate/"), "*.go"))
		require.NoError(t, err)
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			comments, err := typecheck.Comments(string(text))
			require.NoError(t, err)
			maps.Copy(about[p], comments)
		}
	}
	all := map[string]string{}
	for _, root := range roots {
		for _, view := range typecheck.Reached(root, packages...) {
			for key, text := range about[view.PkgPath()] {
				if strings.HasPrefix(key, view.String()+".") && text != "" {
					all[key] = text
				}
			}
		}
	}
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(all)) {
		b.WriteString(key + "\t" + all[key] + "\n")
	}
	if *update {
		require.NoError(t, os.WriteFile("views.txt", []byte(b.String()), 0o644))
	}
	was, err := os.ReadFile("views.txt")
	require.NoError(t, err)
	assert.Equal(t, string(was), b.String(), "write it anew by `make golden`")
}

// TestBuiltInTemplatesAreSound checks each built-in template as one that a project has
// taken is checked.
func TestBuiltInTemplatesAreSound(t *testing.T) {
	m, err := model.Build(hostileCatalog(), project.Default(), project.NewNames())
	require.NoError(t, err)
	r := &renderer{target: target, model: m}
	root, err := template.New("").Funcs(typecheck.FuncMap(r.functions())).ParseFS(templates, "templates/*.tmpl")
	require.NoError(t, err)
	require.Len(t, roots, len(parts))
	for _, p := range parts {
		kind := strings.TrimSuffix(p.Name, ".go")
		require.Contains(t, roots, kind)
		for _, fault := range r.check(root, p.Name) {
			assert.NoError(t, fault)
		}
		lines := Guide(render.Input{Model: m, Target: target}, p.Name, "")
		assert.Greater(t, len(lines), 40, p.Name)
	}
	for name, f := range r.functions() {
		assert.NotEmpty(t, f.Does, name)
	}
}

// TestTakenTemplatesAreChecked has what is wrong in a branch that no table takes found
// before anything is rendered.
func TestTakenTemplatesAreChecked(t *testing.T) {
	m, err := model.Build(hostileCatalog(), project.Default(), project.NewNames())
	require.NoError(t, err)
	for name, c := range map[string]struct{ template, old, now, says string }{
		"a field":              {"entity.go", "{{.Plural}} is the", "{{if .Nam}}x{{end}}{{.Plural}} is the", "Entity has no Nam; did you mean Name?"},
		"a branch":             {"entity.go", "{{.Plural}} is the", `{{if eq .Name "none"}}{{.Colour}}{{end}}{{.Plural}} is the`, "Entity has no Colour"},
		"a function's value":   {"entity.go", "{{.Plural}} is the", "{{fieldType .Name}}{{.Plural}} is the", "value 1 of fieldType is a text, and must be Field"},
		"too few values":       {"resource.go", "{{.Path}}", "{{routes .}}{{.Path}}", "routes takes 2 values, and has 1"},
		"a field of the root":  {"resource.go", "{{$.Title}}", "{{$.Titel}}", "page has no Titel; did you mean Title?"},
		"a field of a field":   {"entity.go", "{{.Plural}} is the", "{{.Table.Nmae}}{{.Plural}} is the", "Table has no Nmae; did you mean Name?"},
		"a range over no list": {"store.go", "{{.OpenDoc}}", "{{range .Package}}{{end}}{{.OpenDoc}}", "there is nothing to range over: .Package is a text"},
		"an else of a with":    {"service.go", "{{- with .Limits}}", "{{with .Limits}}{{else with .API.Limit}}{{end}}{{- with .Limits}}", "API has no Limit; did you mean Limits?"},
	} {
		list, err := BuiltIn()
		require.NoError(t, err)
		b, err := render.FindBuiltIn(list, c.template)
		require.NoError(t, err)
		require.Contains(t, b.Text, c.old, name)
		b.Text = strings.Replace(b.Text, c.old, c.now, 1)
		line := 4 + strings.Count(b.Text[:strings.Index(b.Text, c.now)], "\n") + 1
		_, err = Code{}.Files(render.Input{Model: m, Target: target, Templates: []render.Template{{Name: c.template, File: "templates/" + c.template + ".tmpl", Text: []byte(b.Taken())}}})
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.says, name)
		assert.Regexp(t, fmt.Sprintf(`templates/%s.tmpl:%d:\d+: `, c.template, line), err.Error(), name)
	}
}
