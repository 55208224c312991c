package openapi

import (
	"bytes"
	"encoding/json"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/pb33f/libopenapi"
	validator "github.com/pb33f/libopenapi-validator"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
)

func oneTable() *catalog.Catalog {
	return &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{{
		Name: "hive", Kind: catalog.BaseTable, Comment: "A \"box\" of <bees> & combs.", PrimaryKey: &catalog.Key{Columns: []string{"id"}},
		Columns: []catalog.Column{
			{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Default: &catalog.Default{Kind: catalog.Identity}},
			{Name: "name", Type: catalog.Type{Kind: catalog.Text, Size: 60}},
			{Name: "mood", Type: catalog.Type{Kind: catalog.EnumKind, Labels: []string{"calm", "it's"}}, Nullable: true},
			{Name: "weight", Type: catalog.Type{Kind: catalog.Decimal, Precision: 6, Scale: 2}, Nullable: true},
			{Name: "total", Type: catalog.Type{Kind: catalog.Decimal, Precision: 30}, Generated: "weight * 2"},
			{Name: "password", Type: catalog.Type{Kind: catalog.Text}, Nullable: true},
			{Name: "facts", Type: catalog.Type{Kind: catalog.JSON}, Nullable: true},
		},
		Checks: []catalog.Check{{Expr: "weight > 0 AND weight <= 500"}},
	}}}
}

// schema digs into the document.
func dig(t *testing.T, doc map[string]any, path ...string) any {
	t.Helper()
	var at any = doc
	for _, name := range path {
		object, ok := at.(map[string]any)
		require.True(t, ok, "%v", path)
		at = object[name]
	}
	return at
}

func TestDocument(t *testing.T) {
	m, err := model.Build(oneTable(), project.Default(), project.NewNames())
	require.NoError(t, err)
	text := Render(m, "bees")
	assert.Equal(t, text, Render(m, "bees"))
	for line := range bytes.Lines(text) {
		assert.False(t, len(bytes.TrimSpace(line)) > 2*longestLine && bytes.Contains(line, []byte("{")), "%s", line)
	}
	var doc map[string]any
	require.NoError(t, json.Unmarshal(text, &doc))
	hive := func(path ...string) any {
		return dig(t, doc, append([]string{"components", "schemas"}, path...)...)
	}
	assert.Equal(t, `A "box" of <bees> & combs.`, hive("Hive", "description"))
	assert.Equal(t, []any{"id", "name", "mood", "weight", "total", "facts"}, hive("Hive", "required"))
	assert.Equal(t, []any{"name"}, hive("Hive.new", "required"))
	assert.Nil(t, hive("Hive.change", "required"))
	assert.Contains(t, hive("Hive.draft", "properties"), "name")
	assert.NotContains(t, hive("Hive.draft", "properties"), "total", "what the database computes is not sent")
	assert.Equal(t, []any{map[string]any{"$ref": "#/components/schemas/Hive.draft"}}, hive("Hive.new", "allOf"))
	assert.Equal(t, []any{map[string]any{"$ref": "#/components/schemas/Hive.part"}}, hive("Hive", "allOf"))
	assert.NotContains(t, string(text), "password")
	assert.Equal(t, map[string]any{"type": []any{"string", "null"}, "enum": []any{"calm", "it's", nil}}, hive("Hive.part", "properties", "mood"))
	assert.Equal(t, map[string]any{"type": []any{"number", "null"}, "exclusiveMinimum": 0.0, "maximum": 500.0}, hive("Hive.part", "properties", "weight"))
	assert.Equal(t, "string", hive("Hive.part", "properties", "total", "type"), "more digits than a number keeps")
	assert.Equal(t, 60.0, hive("Hive.part", "properties", "name", "maxLength"))
	assert.Equal(t, map[string]any{}, hive("Hive.part", "properties", "facts"))
	assert.NotNil(t, dig(t, doc, "paths", "/api/hives/{key}", "patch", "requestBody", "content", "application/merge-patch+json"))
	assert.NotNil(t, dig(t, doc, "paths", "/health/ready"))

	parsed, err := libopenapi.NewDocument(text)
	require.NoError(t, err)
	checks, errs := validator.NewValidator(parsed)
	require.Empty(t, errs)
	valid, faults := checks.ValidateDocument()
	assert.True(t, valid, "%v", faults)
}

func TestReadOnlyAndKeyless(t *testing.T) {
	c := oneTable()
	c.Tables[0].PrimaryKey = nil
	view := c.Tables[0]
	view.Name, view.Kind = "hive_view", catalog.View
	c.Tables = append(c.Tables, view)
	m, err := model.Build(c, project.Default(), project.NewNames())
	require.NoError(t, err)
	text := Render(m, "bees")
	var doc map[string]any
	require.NoError(t, json.Unmarshal(text, &doc))
	paths := dig(t, doc, "paths").(map[string]any)
	assert.Len(t, paths, 8) // two collections, their summaries, batches, and the health and metrics of the service
	assert.Contains(t, paths["/api/hives"], "post")
	assert.NotContains(t, paths["/api/hive-views"], "post")
	assert.NotContains(t, paths, "/api/hives/{key}")
	assert.Nil(t, dig(t, doc, "components", "schemas", "HiveView.new"))
}

// TestWhatIsHiddenIsSent looks for a column that rows must have and that is not
// shown, and for the header that makes a request repeatable.
func TestWhatIsHiddenIsSent(t *testing.T) {
	c := oneTable()
	c.Tables[0].Columns[5].Nullable = false
	p := project.Default()
	m, err := model.Build(c, p, project.NewNames())
	require.NoError(t, err)
	read := func() (doc map[string]any) {
		require.NoError(t, json.Unmarshal(Render(m, "bees"), &doc))
		return doc
	}
	doc := read()
	schemas := dig(t, doc, "components", "schemas")
	assert.NotContains(t, dig(t, schemas.(map[string]any), "Hive.part", "properties"), "password")
	for _, name := range []string{"Hive.draft", "Hive.change"} {
		assert.Equal(t, true, dig(t, schemas.(map[string]any), name, "properties", "password").(map[string]any)["writeOnly"])
	}
	assert.Contains(t, dig(t, schemas.(map[string]any), "Hive.new", "required"), "password")
	assert.NotContains(t, string(Render(m, "bees")), "Idempotency-Key")
	m.API.Repeats = "request_key"
	assert.Equal(t, "Idempotency-Key", dig(t, read(), "components", "parameters", "idempotency-key", "name"))
	assert.Contains(t, dig(t, read(), "paths", "/api/hives", "post", "parameters"), map[string]any{"$ref": "#/components/parameters/idempotency-key"})
}
