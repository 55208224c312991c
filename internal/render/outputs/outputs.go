// Package outputs lists the kinds of output.
package outputs

import (
	"cmp"
	"strings"

	"widegate/internal/fault"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
	"widegate/internal/render/own"
	"widegate/internal/render/starter"
	"widegate/internal/render/typecheck"
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

// BuiltIn are the templates of all outputs.
func BuiltIn() ([]render.BuiltIn, error) {
	code, err := golang.BuiltIn()
	if err != nil {
		return nil, err
	}
	client, err := typescript.BuiltIn()
	return append(code, client...), err
}

// Find is the built-in template of a name.
func Find(name string) (render.BuiltIn, error) {
	list, err := BuiltIn()
	if err != nil {
		return render.BuiltIn{}, err
	}
	return render.FindBuiltIn(list, name)
}

// Texts are the files that a template gives, be it built-in, taken or own: of all
// units, or of one.
func Texts(in render.Input, name, unit string) ([]render.File, error) {
	if _, err := Find(name); err != nil {
		return own.Texts(in, name, unit)
	}
	if strings.HasSuffix(name, ".ts") {
		return typescript.Texts(in, name, unit)
	}
	return golang.Texts(in, name, unit)
}

// Guide tells of what a built-in template gets, with examples from a table.
func Guide(in render.Input, name, table string) ([]typecheck.Line, error) {
	if _, err := Find(name); err != nil {
		return nil, err
	}
	if strings.HasSuffix(name, ".ts") {
		return typescript.Guide(in, name, table), nil
	}
	return golang.Guide(in, name, table), nil
}

// Files are what a project gets of all outputs.
func Files(in render.Input) ([]render.File, error) {
	taken, _, err := render.TakenOf(in.Templates)
	if err != nil {
		return nil, err
	}
	for name, t := range taken {
		if _, err := Find(name); err != nil {
			return nil, fault.New("correct the name behind takes:, or delete the file", "%s: %w", t.File, err)
		}
	}
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
