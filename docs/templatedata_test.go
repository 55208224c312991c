package docs_test

import (
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/render"
	"widegate/internal/render/own"
)

var update = flag.Bool("update", false, "write the page on the data of templates anew")

// TestTemplateData holds the page on the data of templates to the code.
func TestTemplateData(t *testing.T) {
	lines, err := own.Guide(render.Input{}, "")
	require.NoError(t, err)
	var b strings.Builder
	b.WriteString("# The data of templates\n\nEverything that a template of a project can say. It is made from the code; `widegate templates data TABLE` shows the same\nwith the values of a table. [Templates of your own](templates.md) says how to write one.\n\nA template has `Data` as its dot. What belongs to another unit than its own is empty, and refused before it is run.\n")
	escape := strings.NewReplacer("|", "\\|", "<", "&lt;")
	for i, l := range lines {
		if i == 0 || lines[i-1].Of != l.Of {
			heading := l.Of
			if heading == "function" {
				heading = "Functions, besides those of `text/template`"
			}
			b.WriteString("\n## " + heading + "\n\n| name | is | |\n|---|---|---|\n")
		}
		b.WriteString("| `" + l.Name + "` | " + escape.Replace(l.Type) + " | " + escape.Replace(l.About) + " |\n")
	}
	if *update {
		require.NoError(t, os.WriteFile("template-data.md", []byte(b.String()), 0o644))
	}
	page, err := os.ReadFile("template-data.md")
	require.NoError(t, err)
	assert.Equal(t, b.String(), string(page), "write it anew by `make golden`")
}
