package golang

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"text/template"

	"widegate/internal/fault"
	"widegate/internal/project"
	"widegate/internal/render"
)

// parts tell of the templates of this package, in the order in which a reader meets
// what they give.
var parts = []render.BuiltIn{
	{Name: "store.go", For: "project", Gives: "store/store.go", About: "the package of the store, and how it is opened"},
	{Name: "entity.go", For: "entity", Gives: "store/hive.go", About: "the rows of a table, its columns, keys and relations"},
	{Name: "queries.go", For: "query file", Gives: "store/yields_queries.go", About: "functions of named queries and routines"},
	{Name: "tests.go", For: "project", Gives: "store/tables_test.go", About: "a test of each table"},
	{Name: "service.go", For: "project", Gives: "api/service.go", About: "the service and its settings"},
	{Name: "resource.go", For: "entity", Gives: "api/hive.go", About: "the endpoints of a table"},
	{Name: "calls.go", For: "project", Gives: "api/calls.go", About: "endpoints of named queries and routines"},
	{Name: "desk.go", For: "project", Gives: "api/desk.go", About: "pages for people"},
	{Name: "client.go", For: "project", Gives: "client/client.go", About: "the client in Go, and how a service is reached"},
	{Name: "client_calls.go", For: "project", Gives: "client/calls.go", About: "calls of named queries and routines by that client"},
	{Name: "main.go", For: "project", Gives: "cmd/bees/main.go", About: "the command, written once"},
}

// BuiltIn are the templates of Go code.
func BuiltIn() ([]render.BuiltIn, error) { return render.ReadBuiltIn(parts, templates) }

// take puts the texts of a project in the place of built-in ones.
func (r *renderer) take(root *template.Template) error {
	return render.Take(root, parts, r.taken, func(name string) []error { return r.check(root, name) })
}

func (r *renderer) check(root *template.Template, name string) []error {
	return render.Check(root, name, roots[strings.TrimSuffix(name, ".go")], r.functions(), r.taken)
}

// Texts are the files that a built-in template gives, as the project has it: of all
// units, or of those of a table, a SQL file or a path.
func Texts(in render.Input, name, unit string) ([]render.File, error) {
	taken, _, err := render.TakenOf(in.Templates)
	if err != nil {
		return nil, err
	}
	r, err := newRenderer(in, taken)
	if err != nil {
		return nil, err
	}
	r.jobs = slices.DeleteFunc(r.jobs, func(j job) bool { return j.template+".go" != name || unit != "" && !j.of(unit) })
	if len(r.jobs) == 0 && unit != "" {
		return nil, fault.New("name one that `widegate read` shows", "%s gives nothing for %s", name, unit)
	}
	return r.run()
}

// of reports whether a file is that of a unit.
func (j job) of(unit string) bool {
	if p, ok := j.data.(page); ok && slices.Contains([]string{p.Entity.Table.Name, p.Entity.Table.FullName(), p.Entity.Name}, unit) {
		return true
	}
	return j.path == unit || strings.TrimSuffix(path.Base(j.path), ".go") == unit
}

// errUnmarked is returned for a text that does not say that it is written again.
var errUnmarked = errors.New("its first lines must say that it is written again, as the built-in template does")

// marked refuses texts by which a file of the developer's would pass for a generated
// one.
func (r *renderer) marked(j job, text []byte) error {
	t, taken := r.taken[j.template+".go"]
	if !taken || j.starter || project.Marked(text) {
		return nil
	}
	return fault.New("put that line back", "%s: what it gives for %s is not taken: %w", t.File, j.path, errUnmarked)
}

// failed is an error of rendering a file.
func (r *renderer) failed(j job, err error) error {
	if t, taken := r.taken[j.template+".go"]; taken {
		return t.Wrong(fmt.Sprintf("%s: rendering %q: %s", t.File, j.path, render.PlacedIn(err, r.taken)))
	}
	return fmt.Errorf("rendering %s: %w", j.path, err)
}
