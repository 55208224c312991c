package render

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"go.yaml.in/yaml/v3"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/render/typecheck"
)

// BuiltIn is a template of an output, which a project may take and change.
type BuiltIn struct {
	Name  string // entity.go
	For   string // project, entity or query
	Gives string // the path of a file, as an example
	About string
	Text  string
}

// Version tells one text of a built-in template from another.
func (b BuiltIn) Version() string {
	sum := sha256.Sum256([]byte(b.Text))
	return hex.EncodeToString(sum[:6])
}

// FindBuiltIn is the template of a name in a list.
func FindBuiltIn(list []BuiltIn, name string) (BuiltIn, error) {
	var names []string
	for _, b := range list {
		if b.Name == name {
			return b, nil
		}
		names = append(names, b.Name)
	}
	next := "see the built-in templates by `widegate templates`"
	if near := catalog.Nearest(name, names); near != "" {
		next = "did you mean " + near + "? " + next
	}
	return BuiltIn{}, fault.New(next, "there is no built-in template %s", name)
}

// ReadBuiltIn fills in the texts of templates, from the files of their names.
func ReadBuiltIn(list []BuiltIn, files fs.FS) ([]BuiltIn, error) {
	full := slices.Clone(list)
	for i, b := range list {
		text, err := fs.ReadFile(files, "templates/"+b.Name+".tmpl")
		if err != nil {
			return nil, fmt.Errorf("reading the templates: %w", err)
		}
		full[i].Text = string(text)
	}
	return full, nil
}

// parse puts the text of the project's in the place of that of the built-in template in
// a set. The lines of the head are counted, so that errors tell those of the file.
func (t Taken) parse(root *template.Template) error {
	text := "{{/*" + strings.Repeat("\n", t.Lines) + "*/}}" + t.Text
	if _, err := root.New(t.Takes + ".tmpl").Parse(text); err != nil {
		return t.Wrong(PlacedIn(err, map[string]Taken{t.Takes: t}))
	}
	return nil
}

// Take puts the texts that a project has taken in the place of built-in ones in a set,
// and checks each against the type of what it gets.
func Take(root *template.Template, parts []BuiltIn, taken map[string]Taken, check func(name string) []error) error {
	var faults []error
	for _, p := range parts {
		t, ok := taken[p.Name]
		if !ok {
			continue
		}
		if err := t.parse(root); err != nil {
			return err
		}
		faults = append(faults, check(p.Name)...)
	}
	return errors.Join(faults...)
}

// Check checks a template of a set against the type of what it gets.
func Check(root *template.Template, name string, view reflect.Type, funcs map[string]typecheck.Func, taken map[string]Taken) []error {
	c := &typecheck.Checker{Set: root, Funcs: funcs, At: func(at, line, column string) string {
		if t, ok := taken[strings.TrimSuffix(at, ".tmpl")]; ok {
			at = t.File
		}
		return at + ":" + line + column
	}}
	return c.Check(name+".tmpl", view)
}

// Wrong is an error in the template, with what to do.
func (t Taken) Wrong(message string) error {
	return fault.New("correct the template, or take it anew by `widegate templates take "+t.Takes+"`", "%s", message)
}

var builtInPlace = regexp.MustCompile(`template: ([a-z]+\.[a-z]+)\.tmpl:(\d+(?::\d+)?):`)

// PlacedIn is a message of text/template with the places in the project's files.
func PlacedIn(err error, taken map[string]Taken) string {
	return builtInPlace.ReplaceAllStringFunc(err.Error(), func(found string) string {
		m := builtInPlace.FindStringSubmatch(found)
		if t, ok := taken[m[1]]; ok {
			return t.File + ":" + m[2] + ":"
		}
		return found
	})
}

// Taken is the text of the file of a project that has taken the template.
func (b BuiltIn) Taken() string {
	return "---\ntakes: " + b.Name + "\nversion: " + b.Version() + "\n---\n" + b.Text
}

// Taken is a built-in template as a project has it.
type Taken struct {
	Takes   string   `yaml:"takes"`   // its name
	Version string   `yaml:"version"` // of the text that was taken
	Imports []string `yaml:"imports"` // packages that it may use besides those of the built-in one, as in Go
	File    string   `yaml:"-"`
	Text    string   `yaml:"-"`
	Lines   int      `yaml:"-"` // of the head
}

// TakenOf are the built-in templates that are among the templates of a project, by
// name, and the others.
func TakenOf(list []Template) (taken map[string]Taken, others []Template, err error) {
	taken = map[string]Taken{}
	for _, t := range list {
		rest, ok := strings.CutPrefix(strings.ReplaceAll(string(t.Text), "\r\n", "\n"), "---\n")
		head, body, closed := strings.Cut(rest, "\n---\n")
		if !ok || !closed || !strings.HasPrefix(head, "takes:") && !strings.Contains(head, "\ntakes:") {
			others = append(others, t)
			continue
		}
		own := Taken{File: t.File, Text: body, Lines: strings.Count(head, "\n") + 3}
		decoder := yaml.NewDecoder(strings.NewReader(head))
		decoder.KnownFields(true)
		if err := decoder.Decode(&own); err != nil {
			return nil, nil, fault.New("the head of a template that was taken has takes, version and imports", "%s: %s", t.File, strings.TrimPrefix(err.Error(), "yaml: "))
		}
		taken[own.Takes] = own
	}
	return taken, others, nil
}
