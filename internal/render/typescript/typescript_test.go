package typescript

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/testdb/dialects"
)

// TestEveryKindHasAType holds the table to the list of kinds.
func TestEveryKindHasAType(t *testing.T) {
	for _, k := range model.Kinds {
		assert.Contains(t, kinds, k)
	}
	assert.Len(t, kinds, len(model.Kinds))
}

func rendered(t *testing.T, c *catalog.Catalog) map[string]string {
	t.Helper()
	p := project.Default()
	m, err := model.Build(c, p, project.NewNames())
	require.NoError(t, err)
	files, err := Client{}.Files(render.Input{Model: m, Clients: project.Clients{TypeScript: &project.TypeScript{Folder: "clients/ts"}}, Target: render.Target{Module: "bees", APIFolder: "api"}})
	require.NoError(t, err)
	texts := map[string]string{}
	for _, f := range files {
		texts[strings.TrimPrefix(f.Path, "clients/ts/")] = string(f.Text)
	}
	return texts
}

func TestNoneWhereNoneIsAskedFor(t *testing.T) {
	files, err := Client{}.Files(render.Input{Target: render.Target{APIFolder: "api"}})
	assert.NoError(t, err)
	assert.Empty(t, files)
}

// TestHostileNames has names and comments of a schema stay texts.
func TestHostileNames(t *testing.T) {
	id := catalog.Column{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}
	for _, hostile := range []string{"ends */ here", "two\nlines", "`${tick}`", `"quoted" \ back`, "__proto__", "\u2028 separated", "\u202e reversed", "with", "größe", "2nd"} {
		c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{{
			Name: "t " + hostile, Kind: catalog.BaseTable, Comment: hostile, PrimaryKey: &catalog.Key{Columns: []string{"id"}},
			Columns: []catalog.Column{id, {Name: hostile, Type: catalog.Type{Kind: catalog.EnumKind, Labels: []string{hostile, "calm"}}, Comment: hostile}},
		}}}
		for name, text := range rendered(t, c) {
			if !strings.HasPrefix(name, "resources/") {
				continue
			}
			assert.NotContains(t, text, "/** ends */ here", hostile)
			assert.NotContains(t, text, "\u2028", hostile)
			assert.NotContains(t, text, "\u202e", hostile)
			assert.NotContains(t, text, "two\nlines", hostile)
			assert.Contains(t, text, quote(hostile), hostile)
		}
	}
}

func TestConstants(t *testing.T) {
	for plural, want := range map[string]string{"Hives": "hives", "ApiaryYields": "apiaryYields", "URLs": "urLs", "IDCards": "idCards", "Classes": "classes", "Delete": "deleteTable", "Call": "callTable", "X": "x"} {
		assert.Equal(t, want, constant(plural), plural)
	}
}

// TestBuiltInTemplatesAreSound checks each built-in template as one that a project has
// taken is checked, and has what is wrong found before anything is rendered.
func TestBuiltInTemplatesAreSound(t *testing.T) {
	id := catalog.Column{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}
	m, err := model.Build(&catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{{Name: "hive", Kind: catalog.BaseTable, PrimaryKey: &catalog.Key{Columns: []string{"id"}}, Columns: []catalog.Column{id}}}}, project.Default(), project.NewNames())
	require.NoError(t, err)
	in := render.Input{Model: m, Clients: project.Clients{TypeScript: &project.TypeScript{Folder: "clients/ts"}}, Target: render.Target{Module: "bees", APIFolder: "api"}}
	plain, err := Client{}.Files(in)
	require.NoError(t, err)
	list, err := BuiltIn()
	require.NoError(t, err)
	for _, b := range list {
		in.Templates = append(in.Templates, render.Template{Name: b.Name, File: "templates/" + b.Name + ".tmpl", Text: []byte(b.Taken())})
		assert.NotEmpty(t, Guide(in, b.Name, "hive"), b.Name)
	}
	taken, err := Client{}.Files(in)
	require.NoError(t, err)
	require.Len(t, taken, len(plain))
	for i := range plain {
		assert.Equal(t, string(plain[i].Text), string(taken[i].Text), plain[i].Path)
	}
	b := list[0]
	for old, c := range map[string]struct{ now, says string }{
		"{{.Key}};":   {"{{.Keys}};", "templates/resource.ts.tmpl:43:9: resourceView has no Keys; did you mean Key?"},
		"{{.Notice}}": {"// mine", "put {{.Notice}} back"},
	} {
		b := b
		b.Text = strings.Replace(b.Text, old, c.now, 1)
		in.Templates = []render.Template{{Name: b.Name, File: "templates/" + b.Name + ".tmpl", Text: []byte(b.Taken())}}
		_, err := Client{}.Files(in)
		require.Error(t, err, old)
		assert.Contains(t, err.Error()+fault.Next(err), c.says)
	}
	in.Templates = nil
	files, err := Texts(in, "resource.ts", "none")
	assert.ErrorContains(t, err, "gives nothing for none")
	assert.Empty(t, files)
}
