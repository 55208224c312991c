package generate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/outputs"
	"widegate/internal/rooted"
)

// Trial is a file that a set of templates gives on its example, beside what is
// expected; one of the two texts is nil where there is no such file.
type Trial struct {
	Path      string // below the project
	Got, Want []byte
}

// Passes reports whether the file is what is expected.
func (t Trial) Passes() bool { return bytes.Equal(t.Got, t.Want) && (t.Got == nil) == (t.Want == nil) }

// exampleModule is the import path of the example of a set, wherever the set lies.
const exampleModule = "example"

// TrySet renders the templates of a folder on the project in its folder example, and
// compares the files that they give with those in its folder expected.
func TrySet(ctx context.Context, folder string) ([]Trial, error) {
	file := filepath.Join(folder, exampleFolder, project.FileName)
	if _, err := os.Stat(file); err != nil {
		return nil, fault.New("make one there, whose database is a script: `database: {ddl: [schema.sql]}`", "the templates in %s have no example: there is no %s", folder, file)
	}
	p, err := project.Load(file)
	if err != nil {
		return nil, err
	}
	p.Templates = append([]string{".."}, p.Templates...)
	in, err := renderInput(ctx, p, Source(p), gomodule.Named(exampleModule))
	if err != nil {
		return nil, err
	}
	got, err := given(in)
	if err != nil {
		return nil, err
	}
	want, err := expected(folder)
	if err != nil {
		return nil, err
	}
	paths := slices.Sorted(maps.Keys(got))
	for at := range want {
		if got[at] == nil {
			paths = append(paths, at)
		}
	}
	slices.Sort(paths)
	var trials []Trial
	for _, at := range paths {
		trials = append(trials, Trial{Path: at, Got: got[at], Want: want[at]})
	}
	return trials, nil
}

// given are the files that templates of the project's own give, by path.
func given(in render.Input) (map[string][]byte, error) {
	files, err := outputs.Files(in)
	if err != nil {
		return nil, err
	}
	texts := map[string][]byte{}
	for _, f := range files {
		if f.By != "" {
			texts[f.Path] = f.Text
		}
	}
	if len(texts) == 0 {
		return nil, fault.New("write a template, or take one by `widegate templates take`", "the templates give no file")
	}
	return texts, nil
}

// expected are the files below the folder expected, by path.
func expected(folder string) (map[string][]byte, error) {
	root := os.DirFS(filepath.Join(folder, expectedFolder))
	texts := map[string][]byte{}
	err := fs.WalkDir(root, ".", func(at string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		text, err := fs.ReadFile(root, at)
		texts[at] = text
		return err
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading what is expected: %w", err)
	}
	return texts, nil
}

// Accept makes what the templates give the expected files.
func Accept(folder string, trials []Trial) error {
	at := filepath.Join(folder, expectedFolder)
	if err := os.MkdirAll(at, 0o755); err != nil {
		return fmt.Errorf("saving what is expected: %w", err)
	}
	home, err := rooted.Open(at)
	if err != nil {
		return err
	}
	defer home.Close()
	for _, t := range trials {
		switch {
		case t.Passes():
			continue
		case t.Got == nil:
			err = home.Remove(t.Path)
		default:
			if err = home.MkdirAll(path.Dir(t.Path)); err == nil {
				err = home.Write(t.Path, t.Got, 0o644)
			}
		}
		if err != nil {
			return fmt.Errorf("saving what is expected: %w", err)
		}
	}
	return nil
}

// GivenFile is a file that a template gives.
type GivenFile struct {
	Path     string // below the project
	Template string // its name
	From     string // the file of the template; empty for a built-in one
}

// GivenFiles are the files that the templates of a project give. Nothing is written.
func GivenFiles(ctx context.Context, p *project.Project, source read.Source) ([]GivenFile, error) {
	in, err := RenderInput(ctx, p, source)
	if err != nil {
		return nil, err
	}
	files, err := outputs.Files(in)
	if err != nil {
		return nil, err
	}
	var list []GivenFile
	for _, f := range files {
		if f.Of != "" {
			list = append(list, GivenFile{Path: f.Path, Template: f.Of, From: f.By})
		}
	}
	slices.SortFunc(list, func(a, b GivenFile) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}
