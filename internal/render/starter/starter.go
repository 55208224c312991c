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

// Facts are what the files say of a project.
type Facts struct {
	Name     string // of the service
	Module   string
	Command  string // ./cmd/NAME
	Engine   string // as people call it
	Example  string // a URL of the engine
	URL      string // that the service uses where the environment names none
	Embedded bool   // the database is a file
	Scripts  string // the folder or file of scripts that the database is made from
	Base     string // before the paths of the endpoints
	Path     string // of a resource worth looking at first
	Store    string // the folder of the store package
	API      string // the folder of the api package
	Guarded  bool   // callers need credentials
	Open     bool   // it may be reached from other machines
	Desk     bool   // it has pages
	Go       string // version of the language
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

// Render returns the files.
func Render(f Facts) ([]render.File, error) {
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
