package generate

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime/debug"
	"strings"

	"widegate"

	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/outputs"
	"widegate/internal/render/own"
)

// ReadTemplates reads the templates of a project: those of the folders that the
// project file names, and those of its own folder, which come last.
func ReadTemplates(p *project.Project) ([]render.Template, error) {
	if p.Root == "" {
		return nil, nil
	}
	var list []render.Template
	for _, at := range p.Templates {
		found, err := setAt(p.Resolve(at), filepath.ToSlash(at))
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
	}
	found, err := templatesIn(os.DirFS(p.Resolve(project.TemplatesFolder)), project.TemplatesFolder)
	return append(list, found...), err
}

// archiveEnding is that of archives of templates.
const archiveEnding = ".zip"

// setAt reads the templates of a folder or archive, which messages name.
func setAt(at, name string) ([]render.Template, error) {
	info, err := os.Stat(at)
	if err != nil {
		return nil, fault.New("name a folder or a "+archiveEnding+" file that exists", "templates: there is no folder %s", name)
	}
	if info.IsDir() {
		return templatesIn(os.DirFS(at), name)
	}
	if !strings.EqualFold(filepath.Ext(at), archiveEnding) {
		return nil, fault.New("name a folder or a "+archiveEnding+" file", "templates: %s is neither", name)
	}
	archive, err := zip.OpenReader(at)
	if err != nil {
		return nil, fault.New("make the archive again", "templates: reading %s: %w", name, err)
	}
	defer archive.Close()
	size := uint64(0)
	for _, f := range archive.File {
		size += f.UncompressedSize64
	}
	if len(archive.File) > mostArchived || size > mostUnpacked {
		return nil, fault.New("put nothing but the templates into the archive", "templates: %s has %d files of %d bytes together; at most %d of %d are read", name, len(archive.File), size, mostArchived, mostUnpacked)
	}
	root, err := topOf(archive)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	return templatesIn(root, name)
}

// The bounds of an archive.
const (
	mostArchived = 10_000
	mostUnpacked = 64 << 20 // bytes
)

// topOf is the folder of an archive that has the templates: the only one at its top,
// if there is nothing else.
func topOf(archive fs.FS) (fs.FS, error) {
	entries, err := fs.ReadDir(archive, ".")
	if err != nil {
		return nil, err
	}
	if len(entries) == 1 && entries[0].IsDir() {
		return fs.Sub(archive, entries[0].Name())
	}
	return archive, nil
}

// RenderInput is what the outputs of a project are made from: its schema as it is now,
// with its queries and templates. Nothing is rendered.
func RenderInput(ctx context.Context, p *project.Project, source read.Source) (in render.Input, err error) {
	module, err := gomodule.Find(p.Root)
	if err != nil {
		return in, err
	}
	return renderInput(ctx, p, source, module)
}

func renderInput(ctx context.Context, p *project.Project, source read.Source, module *gomodule.Module) (in render.Input, err error) {
	list, err := ReadTemplates(p)
	if err != nil {
		return in, err
	}
	plan, err := understood(ctx, p, source)
	if err != nil {
		return in, err
	}
	plan.module, plan.own = module, list
	if err := plan.checkNeeds(); err != nil {
		return in, err
	}
	in = render.Input{Model: plan.Model, Sources: widegate.Sources, Templates: list, Settings: p.Settings, Clients: p.Clients}
	in.Target, err = plan.target()
	return in, err
}

// checkNeeds refuses templates that need another tool or another database.
func (plan *Plan) checkNeeds() error {
	version := ""
	if info, ok := debug.ReadBuildInfo(); ok {
		version = info.Main.Version
	}
	return own.CheckNeeds(plan.own, plan.Catalog.Engine.Name, registry.Names(), version)
}

// TakeTemplate copies a built-in template into the folder of the project's templates,
// and returns where it is now.
func TakeTemplate(p *project.Project, name string) (at string, err error) {
	builtIn, err := outputs.Find(name)
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

// Folders of a set that hold no templates of it: a project to try it on, and what it
// gives there.
const (
	exampleFolder  = "example"
	expectedFolder = "expected"
)

// templatesIn reads the templates of a folder, if it exists, with its manifest.
func templatesIn(folder fs.FS, name string) (list []render.Template, err error) {
	var set *render.Set
	switch text, err := readBounded(folder, own.ManifestFile); {
	case err == nil:
		set = &render.Set{File: path.Join(name, own.ManifestFile), Text: text}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	err = fs.WalkDir(folder, ".", func(at string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && (at == exampleFolder || at == expectedFolder):
			return fs.SkipDir
		case !entry.Type().IsRegular() || !strings.HasSuffix(entry.Name(), own.Ending): // links may lead anywhere
			return nil
		}
		text, err := readBounded(folder, at)
		if err != nil {
			return err
		}
		list = append(list, render.Template{Name: strings.TrimSuffix(at, own.Ending), File: path.Join(name, at), Text: text, Set: set})
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

// mostTemplate is how many bytes a template has at most.
const mostTemplate = 4 << 20

func readBounded(folder fs.FS, name string) ([]byte, error) {
	file, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostTemplate+1))
	if err == nil && len(text) > mostTemplate {
		err = fault.New("split it", "%s has more than %d bytes", name, mostTemplate)
	}
	return text, err
}

// templated reports whether a file is Go code by a template of the project's, which may
// give what does not build.
func (plan *Plan) templated(name string) bool {
	return strings.HasSuffix(name, ".go") && plan.files[name].By != ""
}

// renewTemplates merges the built-in templates that the project has taken with those of
// this version of the tool, as files that are written here. What comes out is what the
// code is rendered from.
func (plan *Plan) renewTemplates() error {
	foreign := plan.ledger.Others(plan.project.Root)
	for i, t := range plan.own {
		taken, _, err := render.TakenOf([]render.Template{t})
		if err != nil {
			return err
		}
		for name, own := range taken {
			builtIn, err := outputs.Find(name)
			if err != nil {
				return fault.New("correct the name after takes:, or delete the file", "%s: %w", t.File, err)
			}
			base := plan.ledger.Base[t.File]
			if base == nil && own.Version == builtIn.Version() {
				base, plan.rebased[t.File] = []byte(builtIn.Taken()), true
			}
			if own.Version != builtIn.Version() && (base == nil || foreign[t.File] != "" || !plan.inOwnFolder(t.File)) {
				plan.stale = append(plan.stale, merge.Notice{File: t.File, Message: fmt.Sprintf(
					"the built-in %s has changed since it was taken. See it by `widegate templates show %s`, copy what you want, and set version: %s", name, name, builtIn.Version())})
				continue
			}
			if foreign[t.File] == "" && plan.inOwnFolder(t.File) {
				plan.own[i].Text = plan.renewed(t, base, []byte(builtIn.Taken()))
			}
		}
	}
	return nil
}

func (plan *Plan) inOwnFolder(file string) bool {
	return strings.HasPrefix(file, project.TemplatesFolder+"/")
}

// renewed is the text of a taken template, with what is new in the built-in one.
// Conflicts are found again, and told of, when all files are merged.
func (plan *Plan) renewed(t render.Template, base, builtIn []byte) []byte {
	plan.ledger.Base[t.File] = base
	plan.files[t.File] = render.File{Path: t.File, Text: builtIn}
	if bytes.Equal(base, builtIn) {
		return t.Text
	}
	options := &merge.Options{Choices: plan.options.Choices, Root: plan.project.Root}
	result := merge.Files(context.Background(), t.File, base, t.Text, builtIn, options)
	if text, changed := result.Changed[t.File]; changed && len(result.Conflicts) == 0 {
		return text
	}
	return t.Text
}
