package generate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"widegate"

	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/own"
)

// ReadTemplates reads the templates of a project: those of the folders that the
// project file names, and those of its own folder, which come last.
func ReadTemplates(p *project.Project) ([]render.Template, error) {
	if p.Root == "" {
		return nil, nil
	}
	var list []render.Template
	for _, folder := range p.Templates {
		if _, err := os.Stat(p.Resolve(folder)); err != nil {
			return nil, fault.New("name a folder that is there", "templates: there is no folder %s", folder)
		}
		found, err := templatesIn(p.Resolve(folder), filepath.ToSlash(folder))
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
	}
	found, err := templatesIn(p.Resolve(project.TemplatesFolder), project.TemplatesFolder)
	return append(list, found...), err
}

// RenderInput is what the outputs of a project are made from: its schema as it is now,
// with its queries and templates. Nothing is rendered.
func RenderInput(ctx context.Context, p *project.Project, source read.Source) (in render.Input, err error) {
	list, err := ReadTemplates(p)
	if err != nil {
		return in, err
	}
	plan, err := understood(ctx, p, source)
	if err != nil {
		return in, err
	}
	if plan.module, err = gomodule.Find(p.Root); err != nil {
		return in, err
	}
	in = render.Input{Model: plan.Model, Sources: widegate.Sources, Templates: list, Settings: p.Settings}
	in.Target, err = plan.target()
	return in, err
}

// TakeTemplate copies a built-in template into the folder of the project's templates,
// and returns where it is now.
func TakeTemplate(p *project.Project, name string) (at string, err error) {
	builtIn, err := golang.Find(name)
	if err != nil {
		return "", err
	}
	at = filepath.Join(p.Resolve(project.TemplatesFolder), name+own.Ending)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return "", fmt.Errorf("taking a template: %w", err)
	}
	file, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return "", fault.New("remove it to take the template anew", "%s is there already", at)
	}
	if err != nil {
		return "", fmt.Errorf("taking a template: %w", err)
	}
	_, err = file.WriteString(builtIn.Taken())
	if err := errors.Join(err, file.Close()); err != nil {
		return "", fmt.Errorf("taking a template: %w", err)
	}
	return at, nil
}

// templatesIn reads the templates of a folder, if it is there.
func templatesIn(folder, name string) (list []render.Template, err error) {
	err = filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if !entry.Type().IsRegular() || !strings.HasSuffix(entry.Name(), own.Ending) { // links may lead anywhere
			return nil
		}
		below, err := filepath.Rel(folder, at)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		below = filepath.ToSlash(below)
		list = append(list, render.Template{Name: strings.TrimSuffix(below, own.Ending), File: path.Join(name, below), Text: text})
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	return list, nil
}

// templated reports whether Go code is made by templates of the project's, which may
// give what does not build.
func (plan *Plan) templated() bool {
	for _, f := range plan.files {
		if f.By != "" && strings.HasSuffix(f.Path, ".go") {
			return true
		}
	}
	return false
}

// noticeTemplates says of which built-in templates the project has an older text.
func (plan *Plan) noticeTemplates() error {
	taken, _, err := render.TakenOf(plan.own)
	if err != nil || len(taken) == 0 {
		return err
	}
	builtIn, err := golang.BuiltIn()
	if err != nil {
		return err
	}
	for _, b := range builtIn {
		if t, ok := taken[b.Name]; ok && t.Version != b.Version() {
			plan.Notices = append(plan.Notices, merge.Notice{
				File: t.File, Message: fmt.Sprintf("the built-in %s is another one than the text that was taken; see it by `widegate templates show %s`, bring over what you want, and set version: %s", b.Name, b.Name, b.Version()),
			})
		}
	}
	return nil
}
