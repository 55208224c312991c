// Package outputs lists the kinds of output.
package outputs

import (
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
	"widegate/internal/render/starter"
)

// all are the known ones.
var all = []render.Output{
	golang.Code{},
	golang.Runtime{},
	openapi.Document{},
	starter.Starters{},
}

// Files are what a project gets of all outputs.
func Files(in render.Input) ([]render.File, error) {
	var list []render.File
	for _, o := range all {
		files, err := o.Files(in)
		if err != nil {
			return nil, err
		}
		list = append(list, files...)
	}
	return list, nil
}
