package own

import (
	_ "embed" // for the comments of the data
	"reflect"

	"widegate/internal/render"
	"widegate/internal/render/typecheck"
)

//go:embed data.go
var dataSource string

// views are the types of the data, in the order in which they are told of.
var views = []reflect.Type{
	reflect.TypeFor[Data](), reflect.TypeFor[Project](), reflect.TypeFor[Schema](), reflect.TypeFor[Entity](), reflect.TypeFor[Field](),
	reflect.TypeFor[Relation](), reflect.TypeFor[Pair](), reflect.TypeFor[Enum](), reflect.TypeFor[Label](), reflect.TypeFor[Query](), reflect.TypeFor[Route](),
}

// Guide tells of all that templates can say, by views, with an example from a table of
// a project, or from its first where none is named; functions come last.
func Guide(in render.Input, table string) ([]typecheck.Line, error) {
	about, err := typecheck.Comments(dataSource)
	if err != nil {
		return nil, err
	}
	guide := typecheck.Guide{Views: views, About: about, Funcs: described}
	if in.Model != nil {
		guide.Sample = sample(newProject(in.Model, in.Target), table)
	}
	return guide.Lines(), nil
}

// sample are data in which there is something of each view.
func sample(p *Project, table string) *Data {
	d := &Data{Project: p}
	for _, e := range p.Entities {
		if d.Entity == nil || e.Table == table || e.Name == table {
			d.Entity = e
		}
	}
	if d.Entity != nil && len(d.Entity.Relations) > 0 {
		d.Relation = d.Entity.Relations[0]
	}
	if d.Entity != nil && len(d.Entity.Routes) > 0 {
		d.Route = d.Entity.Routes[0]
	}
	for _, s := range p.Schemas {
		d.Schema = s
	}
	for _, e := range p.Enums {
		d.Enum = e
	}
	for _, q := range p.Queries {
		d.Query = q
	}
	return d
}
