package generate_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// looked is what a project file says of how things look.
const looked = `
  desk: true
entities:
  hive:
    label: Bee hives
    group: In the field
    help: Where the bees live.
    tells: name
    order: [name, apiary_id]
    columns:
      weight_kg: {label: Weight, format: number, help: On the scale.}
      created_at: {aside: true}
  keeper: {columns: {email: {format: mail}, phone: {format: phone}}}
`

// TestDeskOfAService asks the generated service for its pages.
func TestDeskOfAService(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, looked)
	s := startService(t, folder)
	page := func(path string, status int) string {
		a := s.call("GET", path, "")
		require.Equal(t, status, a.status, path)
		assert.Contains(t, a.header.Get("Content-Type"), "text/html", path)
		assert.Contains(t, a.header.Get("Content-Security-Policy"), "default-src 'none'", path)
		return a.text
	}
	assert.Contains(t, page("/desk/", 200), "In the field")
	hives := page("/desk/rows/hives?sortby=weight_kg", 200)
	for _, part := range []string{"<h1>Bee hives</h1>", "Where the bees live.", "On the scale.", ">North Field</a>"} {
		assert.Contains(t, hives, part)
	}
	assert.NotContains(t, hives, "Created at</a>")
	keepers := page("/desk/rows/keepers", 200)
	assert.Contains(t, keepers, `href="mailto:`)
	assert.Contains(t, keepers, `href="tel:`)
	for _, path := range []string{"/desk/row/batch-harvests/1,1", "/desk/under/apiaries/1/forages", "/desk/new/apiaries", "/desk/edit/inspections/3", "/desk/docs", "/desk/docs?find=summary", "/desk/rows/apiary-yields", "/desk/rows/inspection-photos"} {
		page(path, 200)
	}
	page("/desk/row/hives/999", 404)
	assert.Contains(t, page("/docs", 200), "<h1>The API</h1>")
	assert.Contains(t, s.get("/openapi.json").text, `"title": "Bee hives"`)
	assert.Contains(t, s.get("/openapi.json").text, `"title": "Weight"`)

	p := newPreview(t, folder, true)
	same(t, s.base, p.URL, "GET", "/openapi.json", "")
	text := same(t, s.base, p.URL, "GET", "/desk/assets/desk.css", "")
	assert.Contains(t, text, "--accent")
}

// TestBadLooks names what means nothing.
func TestBadLooks(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	file := filepath.Join(folder, "widegate.yaml")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	for text, fault := range map[string]string{
		"  hive: {tells: nam}": `did you mean "name"?`, "  hive: {order: [id, wight_kg]}": `did you mean "weight_kg"?`, "  hive: {columns: {name: {format: currancy}}}": "did you mean currency?", "  hive: {columns: {name: {input: huge}}}": "write long",
	} {
		require.NoError(t, os.WriteFile(file, append(slices.Clone(before), "\nentities:\n"+text+"\n"...), 0o644))
		var out strings.Builder
		assert.NotEqual(t, 0, cli.Run([]string{"write", "--config", file}, nil, &out, &out), text)
		assert.Contains(t, out.String(), fault)
	}
}
