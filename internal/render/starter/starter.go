// Package starter renders the files by which somebody takes over a project: what
// it is, how to run, test, change and deploy it. They are written once, and are
// the developer's from then on.
package starter

import (
	"bytes"
	"embed"
	"fmt"
	"text/template"

	"widegate/internal/render"
)

//go:embed templates/*
var templates embed.FS

// facts are what the files say of a project.
type facts struct {
	render.Target
	Base string // before the paths of the endpoints
	Path string // of a resource worth looking at first
	Open bool   // the service may be reached from other machines
}

// files are the templates and what they give.
var files = []struct{ template, path string }{
	{"README.md", "README.md"},
	{"Makefile", "Makefile"},
	{"Dockerfile", "Dockerfile"},
	{"dockerignore", ".dockerignore"},
	{"gitignore", ".gitignore"},
	{"env.example", ".env.example"},
	{"ci.example.yaml", "ci.example.yaml"},
}

// Starters are the files of a project with a module of its own and a service.
type Starters struct{}

// Files are written once each.
func (Starters) Files(in render.Input) ([]render.File, error) {
	if !in.Target.Starters || in.Target.APIFolder == "" {
		return nil, nil
	}
	f := facts{Target: in.Target, Base: in.Model.Base, Path: in.Model.Widest().Path, Open: in.Model.Open}
	t, err := template.ParseFS(templates, "templates/*")
	if err != nil {
		return nil, fmt.Errorf("reading the templates of starters: %w", err)
	}
	list := make([]render.File, len(files))
	for i, file := range files {
		var text bytes.Buffer
		if err := t.ExecuteTemplate(&text, file.template, f); err != nil {
			return nil, fmt.Errorf("rendering %s: %w", file.path, err)
		}
		list[i] = render.File{Path: file.path, Text: text.Bytes(), Starter: true}
	}
	return list, nil
}
