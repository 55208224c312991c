package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render/diagram"
)

// aroundSteps is how far from the table in the middle others are drawn.
const aroundSteps = 1

// drawDiagram writes the diagram of the chosen tables, or of those around one.
func (a *app) drawDiagram(c, chosen *catalog.Catalog, p *project.Project, r reading) error {
	full, err := model.WithDeclared(c, p)
	if err != nil {
		return err
	}
	var tables []*catalog.Table
	for i := range full.Tables {
		t := &full.Tables[i]
		if _, ok := chosen.Table(t.Schema, t.Name); ok {
			tables = append(tables, t)
		}
	}
	title := count(len(tables), "table")
	if r.around != "" {
		near := diagram.Around(full, r.around, aroundSteps)
		if len(near) == 0 {
			return fault.New(model.NearTable(c, r.around), "there is no table %q", r.around)
		}
		tables, title = near, "around "+r.around
	}
	if len(tables) == 0 {
		return fault.New("create tables first", "there is nothing to draw")
	}
	d := diagram.Of(title, tables)
	text := ""
	switch ending := strings.ToLower(filepath.Ext(r.diagram)); ending {
	case ".svg":
		text = d.SVG()
	case ".dot", ".gv":
		text = d.DOT()
	case ".mmd", ".mermaid":
		text = d.Mermaid()
	default:
		return usageError{fmt.Errorf("--diagram %s: the ending says what to draw: .svg, .dot or .mmd", r.diagram)}
	}
	if err := os.WriteFile(r.diagram, []byte(text), 0o644); err != nil {
		return fault.New("name a file in a folder that is there and may be written", "writing the diagram: %w", err)
	}
	a.say("Drew %s and %s into %s.", count(len(d.Boxes), "table"), count(len(d.Lines), "reference"), r.diagram)
	return nil
}
