package typecheck

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Line is one thing that templates can say.
type Line struct {
	Of      string // the view that it belongs to
	Name    string // .Name
	Type    string // in words
	About   string
	Example string // in a project
}

// Guide tells of all that templates can say.
type Guide struct {
	Views  []reflect.Type    // in the order in which they are told of
	About  map[string]string // of fields and methods, by PACKAGE.VIEW.NAME
	Sample any               // data with values of the views; may be nil
	Funcs  map[string]Func
}

// Lines are those of the fields and methods, by views, and of the functions at the end.
func (g Guide) Lines() []Line {
	examples := map[reflect.Type]reflect.Value{}
	if g.Sample != nil {
		g.collect(reflect.ValueOf(g.Sample), examples)
	}
	var list []Line
	for _, view := range g.Views {
		for _, f := range reflect.VisibleFields(view) {
			if !f.IsExported() || f.Anonymous || len(f.Index) > 1 {
				continue
			}
			line := Line{Of: view.Name(), Name: "." + f.Name, Type: Named(f.Type), About: g.About[view.String()+"."+f.Name]}
			if v, ok := examples[view]; ok {
				line.Example = shown(v.FieldByIndex(f.Index))
			}
			list = append(list, line)
		}
		list = append(list, g.methods(view)...)
	}
	for _, name := range slices.Sorted(maps.Keys(g.Funcs)) {
		list = append(list, Line{Of: "function", Name: name, Type: Named(reflect.TypeOf(g.Funcs[name].Call).Out(0)), About: g.Funcs[name].Does})
	}
	return list
}

// methods are those that templates can call.
func (g Guide) methods(view reflect.Type) (list []Line) {
	of := reflect.PointerTo(view)
	for i := range of.NumMethod() {
		m := of.Method(i)
		about, told := g.About[view.String()+"."+m.Name]
		if told && m.Type.NumIn() == 1 && m.Type.NumOut() == 1 {
			list = append(list, Line{Of: view.Name(), Name: "." + m.Name, Type: Named(m.Type.Out(0)), About: about})
		}
	}
	return list
}

// Reached are the structs of some packages that are reached from a type, nearest first.
func Reached(from reflect.Type, packages ...string) []reflect.Type {
	var list []reflect.Type
	for waiting := []reflect.Type{from}; len(waiting) > 0; waiting = waiting[1:] {
		t := waiting[0]
		for slices.Contains([]reflect.Kind{reflect.Pointer, reflect.Slice, reflect.Map, reflect.Array}, t.Kind()) {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || slices.Contains(list, t) || !slices.Contains(packages, t.PkgPath()) {
			continue
		}
		list = append(list, t)
		for i := range t.NumField() {
			if f := t.Field(i); f.IsExported() || f.Anonymous {
				waiting = append(waiting, f.Type)
			}
		}
	}
	return list
}

// collect finds the first value of each view, nearest first.
func (g Guide) collect(v reflect.Value, found map[reflect.Type]reflect.Value) {
	waiting := []reflect.Value{v}
	for len(waiting) > 0 {
		v, waiting = waiting[0], waiting[1:]
		for v.Kind() == reflect.Pointer && !v.IsNil() {
			v = v.Elem()
		}
		switch v.Kind() {
		case reflect.Struct:
			if _, known := found[v.Type()]; known || !slices.Contains(g.Views, v.Type()) {
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
		if v.Elem().Kind() == reflect.Struct {
			if name := v.Elem().FieldByName("Name"); name.IsValid() && name.Kind() == reflect.String {
				return name.String()
			}
		}
	}
	return ""
}

// Comments are those of the fields and methods of the types of a Go source, by
// PACKAGE.TYPE.NAME: of a field what stands behind it, of a method its first sentence.
func Comments(source string) (map[string]string, error) {
	file, err := parser.ParseFile(token.NewFileSet(), "", source, parser.ParseComments|parser.SkipObjectResolution)
	if err != nil {
		return nil, fmt.Errorf("reading the comments of the data: %w", err)
	}
	about := map[string]string{}
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			if d.Recv != nil && d.Name.IsExported() && d.Doc != nil {
				about[file.Name.Name+"."+receiver(d.Recv.List[0].Type)+"."+d.Name.Name] = firstSentence(d.Doc.Text())
			}
		case *ast.GenDecl:
			for _, spec := range d.Specs {
				if t, ok := spec.(*ast.TypeSpec); ok {
					fieldComments(file.Name.Name+"."+t.Name.Name, t, about)
				}
			}
		}
	}
	return about, nil
}

func fieldComments(name string, t *ast.TypeSpec, about map[string]string) {
	s, ok := t.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range s.Fields.List {
		text := f.Comment.Text()
		if text == "" {
			text = f.Doc.Text()
		}
		for _, field := range f.Names {
			if field.IsExported() {
				about[name+"."+field.Name] = strings.Join(strings.Fields(text), " ")
			}
		}
	}
}

func receiver(t ast.Expr) string {
	if star, ok := t.(*ast.StarExpr); ok {
		t = star.X
	}
	if name, ok := t.(*ast.Ident); ok {
		return name.Name
	}
	return ""
}

func firstSentence(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if first, _, more := strings.Cut(text, ". "); more {
		return first + "."
	}
	return text
}
