// Package outputs lists the kinds of output.
package outputs

import (
	"cmp"

	"widegate/internal/fault"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
	"widegate/internal/render/own"
	"widegate/internal/render/starter"
	"widegate/internal/render/typescript"
)

// all are the known ones.
var all = []render.Output{
	golang.Code{},
	golang.Runtime{},
	openapi.Document{},
	typescript.Client{},
	starter.Starters{},
	own.Templates{},
}

// Files are what a project gets of all outputs.
func Files(in render.Input) ([]render.File, error) {
	var list []render.File
	by := map[string]render.File{}
	for _, o := range all {
		files, err := o.Files(in)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			if other, twice := by[f.Path]; twice {
				return nil, fault.New("give it another path", "%s gives %s, which is generated already", cmp.Or(f.By, other.By, "a template"), f.Path)
			}
			by[f.Path] = f
		}
		list = append(list, files...)
	}
	return list, nil
}
