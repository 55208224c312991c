package own

import (
	"os"
	"path/filepath"
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

// input is what templates are run on: hives that stand in apiaries.
func input(t testing.TB, templates ...render.Template) render.Input {
	t.Helper()
	id := catalog.Column{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Default: &catalog.Default{Kind: catalog.Identity}}
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{
		{Name: "apiary", Kind: catalog.BaseTable, PrimaryKey: &catalog.Key{Columns: []string{"id"}}, Columns: []catalog.Column{id}},
		{
			Name: "hive", Kind: catalog.BaseTable, Comment: "A box\nof bees.", PrimaryKey: &catalog.Key{Columns: []string{"id"}},
			Columns: []catalog.Column{
				id, {Name: "apiary_id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}, {Name: "name", Declared: "varchar(60)", Type: catalog.Type{Kind: catalog.Text, Size: 60}, Nullable: true},
				{Name: "mood", Type: catalog.Type{Kind: catalog.EnumKind, Labels: []string{"calm", "it's"}}},
			},
			References: []catalog.Reference{{Columns: []string{"apiary_id"}, Table: "apiary", Target: []string{"id"}}},
		},
		{Name: "overview", Kind: catalog.View, Columns: []catalog.Column{{Name: "n", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}}},
	}}
	p := project.Default()
	m, err := model.Build(c, p, project.NewNames())
	require.NoError(t, err)
	return render.Input{Model: m, Target: render.Target{Module: "bees", StoreFolder: "store", Package: "store", Database: render.Database{Title: "PostgreSQL"}}, Templates: templates}
}

func written(head, body string) render.Template {
	return render.Template{Name: "x", File: "templates/x.tmpl", Text: []byte("---\n" + head + "\n---\n" + body)}
}

func texts(t *testing.T, in render.Input) map[string]string {
	t.Helper()
	files, err := Templates{}.Files(in)
	require.NoError(t, err)
	list := map[string]string{}
	for _, f := range files {
		list[f.Path] = string(f.Text)
	}
	return list
}

func TestUnits(t *testing.T) {
	for unit, want := range map[string][]string{
		"project": {"out/all.txt"}, "schema": {"out/s.txt"}, "enum": {"out/Mood.txt"}, "query": nil,
		"entity":   {"out/apiary.txt", "out/hive.txt"},
		"relation": {"out/Apiary.Hives.txt", "out/Hive.Apiary.txt"},
	} {
		path := map[string]string{
			"project": "all", "schema": "s{{.Schema.Name}}", "enum": "{{.Enum.Name}}", "query": "{{.Query.Name}}", "entity": "{{.Entity.File}}", "relation": "{{.Entity.Name}}.{{.Relation.Name}}",
		}[unit]
		head := "for: " + unit + "\npath: out/" + path + ".txt"
		if unit == "entity" {
			head += "\nwhen: not .Entity.ReadOnly"
		}
		assert.ElementsMatch(t, want, sorted(texts(t, input(t, written(head, "{{.Notice}}")))), unit)
	}
	routes := texts(t, input(t, written("for: route\npath: out/{{.Entity.File}}-{{.Route.Does}}-{{kebab .Route.Path}}.txt", "{{.Notice}} {{.Route.Method}} {{.Route.Path}}")))
	assert.Greater(t, len(routes), 10)
	assert.Contains(t, strings.Join(sorted(routes), " "), "hive-get-api-hives-key")
}

func TestText(t *testing.T) {
	in := input(t, written("for: entity\npath: '{{.Entity.File}}.md'\nwhen: eq .Entity.Table \"hive\"\nsettings: {who: {type: text, default: nobody}, n: {type: number}, list: {type: list, default: [a, b]}}",
		`{{.Notice}}
{{- range .Entity.Fields}}
{{.Name}} {{.Column}} {{.Type}} {{.Kind}} {{.Nullable}} {{.Size}}{{with .Enum}} {{range .Labels}}{{sql .Text}} {{end}}{{end}}{{end}}
{{range .Entity.Relations}}{{.Name}} {{.Kind}} {{.To.Plural}} {{range .Columns}}{{.From}}={{.To}}{{end}}{{end}}
{{oneLine .Entity.Comment}} {{.Settings.who}} {{.Settings.n}} {{join "+" .Settings.list}} {{pascal "hive_id"}} {{camel "hive_id"}} {{snake "HiveID"}} {{kebab "HiveID"}} {{plural "hive"}}
{{prefix "// " .Entity.Comment}}
`))
	in.Settings = map[string]map[string]any{"x": {"who": "the board"}}
	assert.Equal(t, project.Notice("templates/x.tmpl")+`
ID id int64 Int64 false 0
ApiaryID apiary_id int64 Int64 false 0
Name name gate.Maybe[string] Text true 60
Mood mood Mood Enum false 0 'calm' 'it''s' 
Apiary to-one Apiaries apiary_id=id
A box of bees. the board 0 a+b HiveId hiveId hive_id hive-id hives
// A box
// of bees.
`, texts(t, in)["hive.md"])
}

// wrong are templates that are refused, with what is said.
var wrong = map[string]struct {
	text     string
	settings map[string]any
	says     string
}{
	"no head":                      {text: "hello", says: "x.tmpl:1: the template has no head"},
	"an open head":                 {text: "---\nfor: entity\n", says: "the template has no head"},
	"an empty head":                {text: "---\n\n---\n", says: "the head is empty"},
	"a head that is a list":        {text: "---\n- a\n---\n", says: "x.tmpl:2: there must be keys here"},
	"YAML that cannot be read":     {text: "---\nfor: [\n---\n", says: "x.tmpl: "},
	"an unknown key":               {text: "---\nfor: entity\npaht: x\n---\n", says: "x.tmpl:3:1: there is no key paht; did you mean path?"},
	"an unknown key of a setting":  {text: "---\nfor: entity\npath: x\nsettings:\n  a: {typ: text}\n---\n", says: "x.tmpl:5:7: there is no key typ; did you mean type?"},
	"a value of the wrong kind":    {text: "---\nfor: [a]\npath: x\n---\n", says: "cannot unmarshal"},
	"no unit":                      {text: "---\npath: x\n---\n", says: "a template is for nothing"},
	"an unknown unit":              {text: "---\nfor: table\npath: x\n---\n", says: `a template is for "table", which there is not`},
	"a unit that is nearly one":    {text: "---\nfor: entty\npath: x\n---\n", says: "did you mean entity?"},
	"no path":                      {text: "---\nfor: entity\n---\n", says: "the head has no path"},
	"an unknown type of a setting": {text: "---\nfor: entity\npath: x\nsettings: {a: {type: txt}}\n---\n", says: "did you mean text?"},
	"a default of another type":    {text: "---\nfor: entity\npath: x\nsettings: {a: {type: number, default: b}}\n---\n", says: "the default of a is no number"},
	"a setting of another type":    {text: "---\nfor: entity\npath: x\nsettings: {a: {type: boolean}}\n---\n", settings: map[string]any{"a": 1}, says: "settings.x.a is no boolean"},
	"a list of numbers":            {text: "---\nfor: entity\npath: x\nsettings: {a: {type: list}}\n---\n", settings: map[string]any{"a": []any{1}}, says: "settings.x.a is no list"},
	"an unknown setting":           {text: "---\nfor: entity\npath: x\nsettings: {owner: {type: text}}\n---\n", settings: map[string]any{"ownr": "b"}, says: "there is no setting ownr; did you mean owner?"},
	"an open action":               {text: "---\nfor: entity\npath: x\n---\na\n{{.Entity", says: "x.tmpl:6:"},
	"an open range":                {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Fields}}", says: "unexpected EOF"},
	"an unknown function":          {text: "---\nfor: entity\npath: x\n---\n{{shout .Entity.Name}}", says: `x.tmpl:5: function "shout" not defined`},
	"an open path":                 {text: "---\nfor: entity\npath: 'a{{'\n---\n", says: "x.tmpl: path"},
	"an open condition":            {text: "---\nfor: entity\npath: x\nwhen: (\n---\n", says: "x.tmpl"},
	"a field that there is not":    {text: "---\nfor: entity\npath: x\n---\na {{.Entity.Nam}}", says: "x.tmpl:5:11: Entity has no Nam; did you mean Name?"},
	"a field of another unit":      {text: "---\nfor: project\npath: x\n---\n{{.Entity.Name}}", says: "Data has no Entity"},
	"a branch that none takes":     {text: "---\nfor: entity\npath: x\n---\n{{if eq .Entity.Table \"none\"}}{{.Entity.Color}}{{end}}", says: "Entity has no Color"},
	"else":                         {text: "---\nfor: entity\npath: x\n---\n{{if .Entity.View}}{{else}}{{.Entity.Color}}{{end}}", says: "Entity has no Color"},
	"in a range":                   {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Fields}}{{.Colum}}{{end}}", says: "Field has no Colum; did you mean Column?"},
	"by a variable":                {text: "---\nfor: entity\npath: x\n---\n{{range $i, $f := .Entity.Fields}}{{$f.Colum}}{{end}}", says: "Field has no Colum"},
	"in with":                      {text: "---\nfor: entity\npath: x\n---\n{{with .Entity}}{{.Colum}}{{end}}", says: "Entity has no Colum"},
	"in a block":                   {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Fields}}{{template \"f\" .}}{{end}}{{define \"f\"}}{{.Colum}}{{end}}", says: "Field has no Colum"},
	"a block that there is not":    {text: "---\nfor: entity\npath: x\n---\n{{template \"f\" .}}", says: "there is no block f"},
	"from the start":               {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Fields}}{{$.Entty}}{{end}}", says: "Data has no Entty; did you mean Entity?"},
	"in the path":                  {text: "---\nfor: entity\npath: '{{.Entity.Fil}}'\n---\n", says: "x.tmpl: path: Entity has no Fil; did you mean File?"},
	"in the condition":             {text: "---\nfor: entity\npath: x\nwhen: .Entity.Vew\n---\n", says: "x.tmpl: when: Entity has no Vew; did you mean View?"},
	"a setting of none":            {text: "---\nfor: entity\npath: x\n---\n{{.Settings.owner}}", says: "the template has no setting owner"},
	"a range over a text":          {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Name}}{{end}}", says: "there is nothing to range over"},
	"a range over a number":        {text: "---\nfor: entity\npath: x\n---\n{{range 1000000000000}}{{end}}", says: "there is nothing to range over"},
	"a member of a text":           {text: "---\nfor: entity\npath: x\n---\n{{.Entity.Name.First}}", says: ".Entity.Name is a text, and has no First"},
	"a member of a list":           {text: "---\nfor: entity\npath: x\n---\n{{.Entity.Fields.Name}}", says: "is a list of Field, and has no Name"},
	"too few values":               {text: "---\nfor: entity\npath: x\n---\n{{replace \"a\" .Entity.Name}}", says: "replace takes 3 values, and has 2"},
	"too many values":              {text: "---\nfor: entity\npath: x\n---\n{{upper .Entity.Name .Entity.Table}}", says: "upper takes 1 values, and has 2"},
	"values of another type":       {text: "---\nfor: entity\npath: x\n---\n{{upper .Entity.Fields}}", says: "value 1 of upper is a list of Field, and must be a text"},
	"a piped value":                {text: "---\nfor: entity\npath: x\n---\n{{.Entity.Key | upper}}", says: "must be a text"},
	"a pipe into a field":          {text: "---\nfor: entity\npath: x\n---\n{{.Entity.Name | .Entity.Table}}", says: "is no function"},
	"a value printed whole":        {text: "---\nfor: entity\npath: x\n---\n{{if .Entity.View}}{{.Entity}}{{end}}", says: ".Entity cannot be printed: it is Entity"},
	"a list printed whole":         {text: "---\nfor: entity\npath: x\n---\n{{.Entity.Fields}}", says: ".Entity.Fields cannot be printed: it is a list of Field"},
	"settings printed whole":       {text: "---\nfor: entity\npath: x\n---\n{{.Settings}}", says: ".Settings cannot be printed: it is the settings"},
	"a key of a list":              {text: "---\nfor: entity\npath: x\n---\n{{range .Entity.Relations}}{{range .Columns}}{{.Form}}{{end}}{{end}}", says: "Pair has no Form; did you mean From?"},
	"a variable that there is not": {text: "---\nfor: entity\npath: x\n---\n{{$x}}", says: "undefined variable"},
	"a number for a text":          {text: "---\nfor: entity\npath: x\n---\n{{upper 3}}", says: "value 1 of upper is a number, and must be a text"},
	"a text for a number":          {text: "---\nfor: entity\npath: x\n---\n{{add .Entity.Name 1}}", says: "value 1 of add is a text, and must be a number"},
	"the length of a flag":         {text: "---\nfor: entity\npath: x\n---\n{{len .Entity.View}}", says: "true or false has no length"},
}

func TestWrongTemplates(t *testing.T) {
	for name, c := range wrong {
		t.Run(name, func(t *testing.T) {
			_, err := Parse(render.Template{Name: "x", File: "templates/x.tmpl", Text: []byte(c.text)}, map[string]map[string]any{"x": c.settings})
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.NotEmpty(t, fault.Next(err), "%v", err)
		})
	}
}

// TestWrongTexts are templates whose texts or paths are refused.
func TestWrongTexts(t *testing.T) {
	for name, c := range map[string]struct{ head, body, says string }{
		"no notice":         {"for: project\npath: a.txt", "text", "does not say where it comes from"},
		"a late notice":     {"for: project\npath: a.txt", strings.Repeat("x", 5000) + "{{.Notice}}", "does not say where it comes from"},
		"outside":           {"for: project\npath: ../a.txt", "{{.Notice}}", "is no path below the project"},
		"a full path":       {"for: project\npath: /tmp/a.txt", "{{.Notice}}", "is no path below the project"},
		"another system's":  {"for: project\npath: 'a\\b.txt'", "{{.Notice}}", "is no path below the project"},
		"an empty path":     {"for: entity\npath: '{{.Entity.Label}}'", "{{.Notice}}", "is no path below the project"},
		"a detour":          {"for: project\npath: a/../b.txt", "{{.Notice}}", "is no path below the project"},
		"a hidden file":     {"for: project\npath: .git/hooks/pre-commit", "{{.Notice}}", "leads to a hidden file"},
		"the ledger":        {"for: project\npath: a/.widegate/names.json", "{{.Notice}}", "leads to a hidden file"},
		"the project file":  {"for: project\npath: widegate.yaml", "# {{.Notice}}", "is that of a file of yours"},
		"the module":        {"for: project\npath: go.mod", "// {{.Notice}}", "is that of a file of yours"},
		"a starter":         {"for: project\npath: cmd/bees/main.go", "// {{.Notice}}\npackage main", "is that of a file of yours"},
		"a template":        {"for: project\npath: templates/y.md", "{{.Notice}}", "is that of a template"},
		"one path for all":  {"for: entity\npath: a.txt", "{{.Notice}}", "and so does"},
		"another case":      {"for: entity\npath: '{{if eq .Entity.Table \"hive\"}}A{{else}}a{{end}}.txt'", "{{.Notice}}", "and so does"},
		"no Go":             {"for: project\npath: a.go", "// {{.Notice}}\nfunc", "is no Go"},
		"no JSON":           {"for: project\npath: a.json", "{\"$comment\": \"{{.Notice}}\",}", "is no JSON"},
		"no YAML":           {"for: project\npath: a.yaml", "# {{.Notice}}\na: [", "is no YAML"},
		"addresses":         {"for: entity\npath: '{{.Entity.File}}.txt'", "{{.Notice}} {{print .Entity}}", "is not the same in two runs"},
		"too long":          {"for: project\npath: a.txt", "{{.Notice}}{{define \"x\"}}{{printf \"%1000000d\" 1}}{{template \"x\"}}{{end}}{{template \"x\"}}", "8 MiB"},
		"an index too far":  {"for: entity\npath: '{{.Entity.File}}.txt'", "{{.Notice}}\n{{(index .Entity.Fields 99).Name}}", "x.tmpl:6:"},
		"nothing of a view": {"for: entity\npath: '{{.Entity.File}}.txt'", "{{.Notice}}\n{{(index .Entity.Key 0).Name}}", "out of range"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Templates{}.Files(input(t, written(c.head, c.body)))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.NotEmpty(t, fault.Next(err), "%v", err)
		})
	}
}

// TestLayers takes the later of two templates of one name.
func TestLayers(t *testing.T) {
	first, second := written("for: project\npath: a.txt", "{{.Notice}} first"), written("for: project\npath: b.txt", "{{.Notice}} second")
	first.File = "../house/x.tmpl"
	assert.Equal(t, []string{"b.txt"}, sorted(texts(t, input(t, first, second))))
	in := input(t, first)
	in.Settings = map[string]map[string]any{"y": {"a": 1}}
	_, err := Templates{}.Files(in)
	assert.ErrorContains(t, err, "settings.y: there is no template y")
}

// TestExamples runs the templates that come with the repository.
func TestExamples(t *testing.T) {
	folder := filepath.Join("..", "..", "..", "examples", "templates")
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	var list []render.Template
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		require.NoError(t, err)
		list = append(list, render.Template{Name: strings.TrimSuffix(e.Name(), Ending), File: e.Name(), Text: text})
	}
	require.Greater(t, len(list), 3)
	files := texts(t, input(t, list...))
	assert.Contains(t, files["docs/dictionary.md"], "    Apiary ||--o{ Hive : \"apiary\"\n")
	assert.Contains(t, files["docs/dictionary.md"], "| mood |  | no |  One of calm, it's. |")
	assert.Contains(t, files["proto/store.proto"], "message Hive {\n  int64 id = 1;\n  int64 apiary_id = 2;\n  optional string name = 3;\n  string mood = 4;\n}\n")
	assert.Contains(t, files["requests/hive.http"], "GET http://localhost:8080/api/hives/1\n")
	assert.Contains(t, files["events/hive.go"], "type HiveChanged struct {")
	assert.NotContains(t, files, "events/overview.go")
	assert.Contains(t, files["sql/views/hive.sql"], "CREATE OR REPLACE VIEW \"hive_shown\" AS\nSELECT\n    \"id\"\n    , \"apiary_id\"\n    , \"name\"\n    , \"mood\"\nFROM \"hive\";\n\nCOMMENT ON VIEW \"hive_shown\" IS 'A box of bees.';\n\nGRANT SELECT ON \"hive_shown\" TO \"reader\";\n")
	assert.NotContains(t, files, "sql/views/overview.sql")
}

// TestGuide holds that everything that templates can say is told of.
func TestGuide(t *testing.T) {
	lines, err := Guide(input(t), "hive")
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, l := range lines {
		seen[l.Of+l.Name] = true
		if l.Of == "Entity" && l.Name == ".Table" {
			assert.Equal(t, "hive", l.Example)
		}
	}
	assert.True(t, seen["Data.Entity"] && seen["Field.Column"] && seen["Relation.To"] && seen["functionkebab"])
}

func FuzzParse(f *testing.F) {
	for _, c := range wrong {
		f.Add(c.text)
	}
	f.Add("---\nfor: entity\npath: '{{.Entity.File}}.md'\n---\n{{.Notice}}{{range $i, $f := .Entity.Fields}}{{if $i}}, {{end}}{{$f.Name | upper}}{{end}}")
	in := input(f)
	p := newProject(in.Model, in.Target)
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "template") || strings.Contains(text, "block") { // which may take until they are stopped
			return
		}
		tmpl, err := Parse(render.Template{Name: "x", File: "templates/x.tmpl", Text: []byte(text)}, nil)
		if err != nil {
			return
		}
		for _, data := range p.units(tmpl.Head.For) {
			at, _, err := tmpl.Text(data)
			if err == nil && at != "" {
				assert.NoError(t, allowed(at))
			}
		}
	})
}
