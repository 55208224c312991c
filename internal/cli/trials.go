package cli

import (
	"net/http"
	"slices"
	"sync"

	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/outputs"
)

// trials run the templates of the project for the page of the preview. The schema is
// read once; the templates are read again each time.
type trials struct {
	app    *app
	source read.Source

	lock sync.Mutex
	in   *render.Input
}

// Names are those of the built-in templates and of the project's own.
func (t *trials) Names() ([]string, error) {
	builtIn, err := outputs.BuiltIn()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, b := range builtIn {
		names = append(names, b.Name)
	}
	p, err := project.Load(t.app.config)
	if err != nil {
		return names, err
	}
	files, err := generate.ReadTemplates(p)
	if err != nil {
		return names, err
	}
	for _, f := range files {
		if !slices.Contains(names, f.Name) {
			names = append(names, f.Name)
		}
	}
	return names, nil
}

// input is what templates are run on, with the templates as they are now.
func (t *trials) input(r *http.Request) (p *project.Project, in render.Input, err error) {
	if p, err = project.Load(t.app.config); err != nil {
		return p, in, err
	}
	t.lock.Lock()
	defer t.lock.Unlock()
	if t.in == nil {
		made, err := generate.RenderInput(r.Context(), p, t.source)
		if err != nil {
			return p, in, err
		}
		t.in = &made
	}
	in = *t.in
	in.Settings = p.Settings
	in.Templates, err = generate.ReadTemplates(p)
	return p, in, err
}

// Try implements preview.Trials.
func (t *trials) Try(r *http.Request, name, table string, diff bool) (trial preview.Trial, err error) {
	p, in, err := t.input(r)
	if err != nil {
		return trial, err
	}
	if b, err := outputs.Find(name); err == nil {
		trial.File, trial.Text = name+", built-in", b.Text
	}
	for _, f := range in.Templates {
		if f.Name == name {
			trial.File, trial.Text = f.File, string(f.Text)
		}
	}
	files, err := outputs.Texts(in, name, table)
	if err != nil {
		return trial, err
	}
	for _, f := range files {
		text := string(f.Text)
		if diff {
			if text, err = difference(p, f); err != nil {
				return trial, err
			}
		}
		trial.Files = append(trial.Files, preview.Tried{Path: f.Path, Text: text})
	}
	return trial, nil
}
