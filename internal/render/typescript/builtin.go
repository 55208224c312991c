package typescript

import (
	"reflect"

	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

// parts tell of the templates of this package.
var parts = []render.BuiltIn{
	{Name: "resource.ts", For: "entity", Gives: "clients/typescript/resources/hive.ts", About: "the types of a resource, and its value"},
	{Name: "calls.ts", For: "project", Gives: "clients/typescript/calls.ts", About: "named queries and routines"},
	{Name: "interface.ts", For: "project", Gives: "clients/typescript/interface.ts", About: "what the client was made from"},
	{Name: "dates.ts", For: "project", Gives: "clients/typescript/dates.ts", About: "where points in time are, if they are to be Dates"},
	{Name: "index.ts", For: "project", Gives: "clients/typescript/index.ts", About: "all resources, and how a service is reached"},
}

// roots are the views that the templates get.
var roots = map[string]reflect.Type{
	"resource.ts": reflect.TypeFor[resourceView](), "calls.ts": reflect.TypeFor[callsView](), "interface.ts": reflect.TypeFor[madeView](), "dates.ts": reflect.TypeFor[datesView](), "index.ts": reflect.TypeFor[indexView](),
}

// BuiltIn are the templates of the client.
func BuiltIn() ([]render.BuiltIn, error) { return render.ReadBuiltIn(parts, templates) }

// Texts are the files that a template gives, of all tables or of one.
func Texts(in render.Input, name, table string) ([]render.File, error) {
	c := in.Clients.TypeScript
	if c == nil {
		c = &project.TypeScript{Folder: "clients/typescript"}
	}
	r, err := newRenderer(in, *c)
	if err != nil {
		return nil, err
	}
	e := entityOf(r.model, table)
	if e == nil && table != "" {
		return nil, fault.New("name one that `widegate read` shows", "%s gives nothing for %s", name, table)
	}
	return r.texts(name, e)
}

// Guide tells of what a template gets, with examples from a table.
func Guide(in render.Input, name, table string) []typecheck.Line {
	var c project.TypeScript
	if in.Clients.TypeScript != nil {
		c = *in.Clients.TypeScript
	}
	r := &renderer{model: modelOf(in.Model, c), client: c, command: in.Target.Command()}
	guide := typecheck.Guide{Views: typecheck.Reached(roots[name], roots[name].PkgPath()), Funcs: functions}
	e := entityOf(r.model, table)
	if e == nil && len(r.model.Entities) > 0 {
		e = r.model.Entities[0]
	}
	if name == "resource.ts" && e != nil {
		guide.Sample = r.resource(e)
	}
	return guide.Lines()
}

func entityOf(m *model.Model, table string) *model.Entity {
	for _, e := range m.Entities {
		if table != "" && (e.Table.Name == table || e.Name == table || e.Table.FullName() == table) {
			return e
		}
	}
	return nil
}
