package own

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/fault"
	"widegate/internal/render"
)

// manifests are manifests that are refused, with what is said.
var manifests = map[string]struct{ text, says string }{
	"empty":                       {"", "house/manifest.yaml: the manifest is empty"},
	"no YAML":                     {"name: [", "house/manifest.yaml: "},
	"a list":                      {"- a", "house/manifest.yaml:1: there must be keys here"},
	"an unknown key":              {"name: a\nversion: 1.0.0\nauthor: b", "house/manifest.yaml:3:1: there is no key author"},
	"no name":                     {"version: 1.0.0", "the set has no name"},
	"no version":                  {"name: a", `"" is no version`},
	"an odd version":              {"name: a\nversion: new", `"new" is no version`},
	"an odd version of the tool":  {"name: a\nversion: 1.0.0\nneeds: {widegate: new}", `needs.widegate: "new" is no version`},
	"an unknown need":             {"name: a\nversion: 1.0.0\nneeds: {engine: [sqlite]}", "there is no key engine; did you mean engines?"},
	"a name that is a list":       {"name: [a]\nversion: 1.0.0", "cannot unmarshal"},
	"a key of a setting":          {"name: a\nversion: 1.0.0\nsettings: {b: {kind: text}}", "there is no key kind"},
	"a type of a setting":         {"name: a\nversion: 1.0.0\nsettings: {b: {type: date}}", "the setting b has the type \"date\", which there is not"},
	"a default of another type":   {"name: a\nversion: 1.0.0\nsettings: {b: {type: number, default: c}}", "the default of b is no number"},
	"an engine that there is not": {"name: a\nversion: 1.0.0\nneeds: {engines: [sqlit]}", "needs.engines: there is no engine sqlit; did you mean sqlite?"},
	"another engine":              {"name: a\nversion: 1.0.0\nneeds: {engines: [postgres]}", "the templates are for postgres, and the database is sqlite"},
	"a newer tool":                {"name: a\nversion: 1.0.0\nneeds: {widegate: 9.0.0}", "the templates need widegate 9.0.0, and this is v1.2.3"},
}

func TestManifestsThatAreRefused(t *testing.T) {
	for name, c := range manifests {
		set := &render.Set{File: "house/manifest.yaml", Text: []byte(c.text)}
		list := []render.Template{{Name: "x", File: "house/x.tmpl", Text: []byte("---\nfor: project\npath: x.txt\n---\n{{.Notice}}"), Set: set}}
		err := CheckNeeds(list, "sqlite", []string{"sqlite", "postgres", "mysql"}, "v1.2.3")
		if err == nil {
			_, err = ParseAll(list, nil)
		}
		if assert.ErrorContains(t, err, c.says, name) {
			assert.NotEmpty(t, fault.Next(err), name)
		}
	}
	assert.NoError(t, CheckNeeds([]render.Template{{Set: &render.Set{Text: []byte("name: a\nversion: 1.0.0\nneeds: {widegate: 9.0.0}")}}}, "sqlite", nil, "(devel)"), "a tool from a work tree")
}

// TestSettingsOfSets has a value of the set hold for all its templates, and one of a
// template go before it.
func TestSettingsOfSets(t *testing.T) {
	set := &render.Set{File: "house/manifest.yaml", Text: []byte("name: house\nversion: 1.0.0\nsettings: {who: {type: text, default: nobody, help: whom to ask}, n: {type: number, default: 3}}")}
	of := func(name string) render.Template {
		return render.Template{Name: name, File: "house/" + name + ".tmpl", Text: []byte("---\nfor: project\npath: " + name + ".txt\nsettings: {mine: {type: list}}\n---\n{{.Notice}}\n{{.Settings.who}} {{.Settings.n}} {{join \"+\" .Settings.mine}}"), Set: set}
	}
	in := input(t, of("a"), of("b"))
	in.Settings = map[string]map[string]any{"house": {"who": "the board"}, "b": {"n": 4, "mine": []any{"x", "y"}}}
	files := texts(t, in)
	assert.Contains(t, files["a.txt"], "\nthe board 3 ")
	assert.Contains(t, files["b.txt"], "\nthe board 4 x+y")
	for setting, says := range map[string]string{"whom": "settings.house: there is no setting whom; did you mean who?", "n": "settings.house.n is no number"} {
		in.Settings = map[string]map[string]any{"house": {setting: "x"}}
		_, err := Templates{}.Files(in)
		assert.ErrorContains(t, err, says)
	}

	declared, err := Declared(in.Templates)
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b", "house"}, sorted(declared))
	schema, err := json.Marshal(JSONSchema(declared["house"]))
	require.NoError(t, err)
	assert.JSONEq(t, `{"type": "object", "additionalProperties": false, "properties": {"n": {"type": "integer", "default": 3}, "who": {"type": "string", "default": "nobody", "description": "whom to ask"}}}`, string(schema))
}

func FuzzManifest(f *testing.F) {
	for _, m := range manifests {
		f.Add(m.text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, err := ReadManifest(&render.Set{File: "manifest.yaml", Text: []byte(text)})
		if err == nil {
			assert.NotEmpty(t, m.Name)
		}
	})
}
