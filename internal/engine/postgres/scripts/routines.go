package scripts

import (
	"slices"
	"strings"

	"widegate/internal/catalog"
)

var parameterModes = map[string]string{"FUNC_PARAM_OUT": "out", "FUNC_PARAM_INOUT": "inout", "FUNC_PARAM_VARIADIC": "variadic", "FUNC_PARAM_TABLE": "table"}

func (p *pg) createRoutine(n node, text string) {
	schema, name := p.typeTarget(n.names("funcname"))
	r := catalog.Routine{Schema: schema, Name: name, Kind: "function", Volatility: "volatile", Definition: text}
	if n.flag("is_procedure") {
		r.Kind = "procedure"
	}
	var outs, fields []string
	for _, parameter := range n.list("parameters") {
		typ := p.typeOf(parameter.at("argType"))
		a := catalog.Argument{Name: parameter.text("name"), Mode: parameterModes[parameter.text("mode")], Declared: bareType(typ.declared)}
		r.Arguments = append(r.Arguments, a)
		switch a.Mode {
		case "out", "inout":
			outs = append(outs, a.Declared)
		case "table":
			fields = append(fields, strings.TrimSpace(quoteIdent(a.Name)+" "+a.Declared))
		}
	}
	result := n.at("returnType")
	switch {
	case r.Kind == "procedure":
	case len(fields) > 0:
		r.Returns = "TABLE(" + strings.Join(fields, ", ") + ")"
	case n.has("returnType"):
		r.Returns = bareType(p.typeOf(result).declared)
		if result.flag("setof") {
			r.Returns = "SETOF " + r.Returns
		}
	case len(outs) == 1:
		r.Returns = outs[0]
	default:
		r.Returns = "record"
	}
	for _, o := range n.list("options") {
		if o.text("defname") == "volatility" {
			r.Volatility = o.at("arg").text("sval")
		}
	}
	same := func(other catalog.Routine) bool {
		return other.Schema == r.Schema && other.Name == r.Name && slices.Equal(inputTypes(other), inputTypes(r))
	}
	p.routines = append(slices.DeleteFunc(p.routines, same), r)
}

// inputTypes tell routines of one name apart.
func inputTypes(r catalog.Routine) []string {
	var list []string
	for _, a := range r.Arguments {
		if a.Mode != "out" && a.Mode != "table" {
			list = append(list, a.Declared)
		}
	}
	return list
}

// routineMatches reports whether an ObjectWithArgs node names a routine.
func (p *pg) routineMatches(object node, r catalog.Routine) bool {
	names := object.names("objname")
	if last(names) != r.Name || !slices.Contains(p.path(strings.Join(names[:len(names)-1], ".")), r.Schema) {
		return false
	}
	if object.flag("args_unspecified") {
		return true
	}
	var types []string
	for _, a := range object.list("objargs") {
		types = append(types, bareType(p.typeOf(a).declared))
	}
	return slices.Equal(types, inputTypes(r))
}

func (p *pg) dropRoutine(object node) {
	p.routines = slices.DeleteFunc(p.routines, func(r catalog.Routine) bool { return p.routineMatches(object, r) })
}

func (p *pg) comment(n node) {
	object, text := n.at("object"), n.text("comment")
	names := object.items()
	switch n.text("objtype") {
	case "OBJECT_TABLE", "OBJECT_VIEW", "OBJECT_MATVIEW", "OBJECT_FOREIGN_TABLE":
		if full, ok := p.named(names, func(s string) bool { return p.tables[s] != nil }); ok {
			p.tables[full].Comment = text
		}
	case "OBJECT_COLUMN":
		if len(names) < 2 {
			return
		}
		if full, ok := p.named(names[:len(names)-1], func(s string) bool { return p.tables[s] != nil }); ok {
			if c, ok := p.tables[full].Column(last(names)); ok {
				c.Comment = text
			}
		}
	case "OBJECT_TYPE", "OBJECT_DOMAIN":
		p.commentType(object.names("names"), text)
	case "OBJECT_FUNCTION", "OBJECT_PROCEDURE", "OBJECT_ROUTINE":
		for i := range p.routines {
			if p.routineMatches(object, p.routines[i]) {
				p.routines[i].Comment = text
			}
		}
	}
}

func (p *pg) commentType(names []string, text string) {
	full, ok := p.named(names, func(s string) bool { _, ok := p.types[s]; return ok })
	if !ok {
		return
	}
	switch {
	case p.enums[full] != nil:
		p.enums[full].Comment = text
	case p.domains[full] != nil:
		p.domains[full].Comment = text
	case p.composites[full] != nil:
		p.composites[full].Comment = text
	}
}
