package own

import (
	_ "embed" // for the comments of the data
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"strings"

	"widegate/internal/render"
)

// Line is one thing that templates can say.
type Line struct {
	Of      string // the view that it belongs to
	Name    string // .Name
	Type    string // in words
	About   string
	Example string // in a project
}

//go:embed data.go
var dataSource string

// views are the types of the data, in the order in which they are told of.
var views = []reflect.Type{
	reflect.TypeFor[Data](), reflect.TypeFor[Project](), reflect.TypeFor[Schema](), reflect.TypeFor[Entity](), reflect.TypeFor[Field](),
	reflect.TypeFor[Relation](), reflect.TypeFor[Pair](), reflect.TypeFor[Enum](), reflect.TypeFor[Label](), reflect.TypeFor[Query](), reflect.TypeFor[Route](),
}

// Guide tells of all that templates can say, by views, with an example from a table of
// a project, or from its first where none is named; functions come last.
func Guide(in render.Input, table string) ([]Line, error) {
	about, err := comments()
	if err != nil {
		return nil, err
	}
	examples := map[reflect.Type]reflect.Value{}
	if in.Model != nil {
		collect(reflect.ValueOf(sample(newProject(in.Model, in.Target), table)), examples)
	}
	var list []Line
	for _, view := range views {
		for i := range view.NumField() {
			f := view.Field(i)
			line := Line{Of: view.Name(), Name: "." + f.Name, Type: named(f.Type), About: about[view.Name()+"."+f.Name]}
			if v, ok := examples[view]; ok {
				line.Example = shown(v.Field(i))
			}
			list = append(list, line)
		}
	}
	for _, name := range sorted(described) {
		list = append(list, Line{Of: "function", Name: name, Type: named(reflect.TypeOf(described[name].call).Out(0)), About: described[name].does})
	}
	return list, nil
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

// collect finds the first value of each view, nearest first.
func collect(v reflect.Value, found map[reflect.Type]reflect.Value) {
	waiting := []reflect.Value{v}
	for len(waiting) > 0 {
		v, waiting = waiting[0], waiting[1:]
		for v.Kind() == reflect.Pointer && !v.IsNil() {
			v = v.Elem()
		}
		switch v.Kind() {
		case reflect.Struct:
			if _, known := found[v.Type()]; known {
				continue
			}
			found[v.Type()] = v
			for i := v.NumField() - 1; i >= 0; i-- {
				waiting = append(waiting, v.Field(i))
			}
		case reflect.Slice:
			for i := range v.Len() {
				waiting = append(waiting, v.Index(i))
			}
		}
	}
}

// shown is a value as an example: lists by their lengths.
func shown(v reflect.Value) string {
	switch v.Kind() {
	case reflect.String, reflect.Bool, reflect.Int:
		return fmt.Sprint(v.Interface())
	case reflect.Slice:
		return fmt.Sprintf("(%d)", v.Len())
	case reflect.Pointer:
		if v.IsNil() {
			return "(none)"
		}
		if name := v.Elem().FieldByName("Name"); name.IsValid() {
			return name.String()
		}
	}
	return ""
}

// comments are those of the fields of the views, from the source.
func comments() (map[string]string, error) {
	file, err := parser.ParseFile(token.NewFileSet(), "data.go", dataSource, parser.ParseComments|parser.SkipObjectResolution)
	if err != nil {
		return nil, fmt.Errorf("reading the comments of the data: %w", err)
	}
	about := map[string]string{}
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.TypeSpec)
		if !ok {
			return true
		}
		s, ok := spec.Type.(*ast.StructType)
		if !ok {
			return false
		}
		for _, f := range s.Fields.List {
			for _, name := range f.Names {
				about[spec.Name.Name+"."+name.Name] = strings.TrimSpace(f.Comment.Text())
			}
		}
		return false
	})
	return about, nil
}
