package typescript

import (
	"strings"

	"widegate/internal/model"
	"widegate/internal/sqlquery"
)

// kinds has the type of each kind of value, as it is in JSON. Those without one have
// a name, parts or an element.
var kinds = map[model.Kind]string{
	model.KindInt16: "number", model.KindInt32: "number", model.KindInt64: "number", model.KindUint64: "number",
	model.KindFloat32: `number | "NaN" | "Infinity" | "-Infinity"`, model.KindFloat64: `number | "NaN" | "Infinity" | "-Infinity"`, model.KindNumeric: "number",
	model.KindBool: "boolean", model.KindText: "string", model.KindBytes: "string", model.KindUUID: "string",
	model.KindDate: "string", model.KindTimestamp: "string", model.KindTimestampTZ: "string", model.KindTimeOfDay: "string", model.KindInterval: "string",
	model.KindJSON: "$.Json", model.KindEnum: "", model.KindList: "", model.KindRange: "", model.KindRecord: "", model.KindOther: "string",
}

// typeOf is the type of a field's values; enum names the types of labels.
func (r *renderer) typeOf(f *model.Field, enum func(*model.Enum) string) string {
	switch f.Kind {
	case model.KindEnum:
		return enum(f.Enum)
	case model.KindList:
		return "(" + orNull(r.elementOf(f, enum), true) + ")[]"
	case model.KindRange:
		return "$.Range<" + r.elementOf(f, enum) + ">"
	case model.KindRecord:
		var parts []string
		for _, p := range f.Composite.Parts {
			parts = append(parts, property(p.Column.Name)+": "+orNull(r.inner(p, enum), true))
		}
		return "{ " + strings.Join(parts, "; ") + " }"
	case model.KindNumeric:
		switch {
		case f.Quoted():
			return "string"
		case f.NaN:
			return `number | "NaN"`
		}
	case model.KindTimestampTZ:
		if r.client.Dates {
			return "Date"
		}
	case model.KindInt64, model.KindUint64:
		if r.client.Exact {
			return "number | bigint"
		}
	}
	return kinds[f.Kind]
}

// elementOf is the type of what a list or range is of. Decimals are texts there.
func (r *renderer) elementOf(f *model.Field, enum func(*model.Enum) string) string {
	if f.Element.Kind == model.KindNumeric {
		return "string"
	}
	return r.inner(f.Element, enum)
}

// inner is the type of a part of a value, in which points in time are texts.
func (r *renderer) inner(f *model.Field, enum func(*model.Enum) string) string {
	if f.Kind == model.KindTimestampTZ {
		return kinds[f.Kind]
	}
	return r.typeOf(f, enum)
}

func (r *renderer) calls() callsView {
	v := callsView{Notice: notice}
	imports := map[*model.Entity][]string{}
	use := func(of *model.Entity, name string) string {
		for _, known := range imports[of] {
			if known == name {
				return name
			}
		}
		imports[of] = append(imports[of], name)
		return name
	}
	typeOf := func(f *model.Field) string {
		return r.typeOf(f, func(en *model.Enum) string { return r.enumName(en, nil, use) })
	}
	for _, e := range r.model.Exposed {
		v.Calls = append(v.Calls, r.call(e, typeOf, use))
	}
	for _, of := range r.model.Entities {
		if names := imports[of]; names != nil {
			v.Imports = append(v.Imports, importView{Names: strings.Join(names, ", "), From: "./resources/" + of.File + ".ts"})
		}
	}
	return v
}

func (r *renderer) call(e *model.Exposed, typeOf func(*model.Field) string, use func(*model.Entity, string) string) callView {
	c := callView{Name: lowerFirst(e.Name), Doc: doc("  ", e.Doc), Method: "POST", Path: e.Path, AllOpen: true}
	if e.Methods()[0] == "GET" {
		c.Method = "GET"
	}
	for _, a := range e.Args {
		arg := fieldView{Name: property(a.Field.Column.Name), Type: typeOf(a.Field), Optional: a.Maybe || a.Optional}
		switch {
		case a.Order != nil:
			var words []string
			for _, o := range a.Order {
				words = append(words, o.Key)
			}
			arg.Type = union(words)
		case a.List:
			arg.Type = "readonly (" + arg.Type + ")[]"
		case arg.Optional:
			arg.Type += " | null"
		}
		c.AllOpen = c.AllOpen && arg.Optional
		c.Args = append(c.Args, arg)
	}
	row := r.rowOf(e, typeOf, use)
	if r.client.Dates {
		c.Dates = datesOfCall(e)
	}
	switch e.Shape {
	case sqlquery.Rows:
		c.Result, c.Returns = "("+row+")[]", ".items"
	case sqlquery.Row:
		c.Result = row
	case sqlquery.MaybeRow:
		c.Result, c.Returns = row+" | undefined", ""
	case sqlquery.Count:
		c.Result, c.Returns = "number", ".count"
	default:
		c.Result = "void"
	}
	return c
}

// rowOf is the type of a row of a call.
func (r *renderer) rowOf(e *model.Exposed, typeOf func(*model.Field) string, use func(*model.Entity, string) string) string {
	switch {
	case e.Entity != nil:
		return r.rowType(e.Entity, use)
	case e.Value != nil:
		return orNull(r.inner(e.Value, func(en *model.Enum) string { return r.enumName(en, nil, use) }), e.Value.Nullable)
	}
	var parts []string
	for _, f := range e.Fields {
		if f.Entity != nil {
			parts = append(parts, property(f.Column.Name)+": "+r.rowType(f.Entity, use))
			continue
		}
		parts = append(parts, property(f.Column.Name)+": "+orNull(typeOf(f), f.Nullable))
	}
	return "{ " + strings.Join(parts, "; ") + " }"
}

// rowType is the type of the rows of an entity, of the model of today, as callers of the
// client's version know them.
func (r *renderer) rowType(e *model.Entity, use func(*model.Entity, string) string) string {
	for _, of := range r.model.Entities {
		if of.Table == e.Table || of.Name == e.Name {
			return use(of, of.Name)
		}
	}
	return "$.Json" // the version hides the resource
}

// datesOfCall says where the points in time of a row of a call are, as code: in members
// of it, and in the resources that it or members of it are.
func datesOfCall(e *model.Exposed) string {
	if e.Entity != nil {
		return quote(e.Entity.Path)
	}
	var own, to []string
	for _, f := range e.Fields {
		switch {
		case f.Entity != nil:
			to = append(to, property(f.Column.Name)+": "+quote(f.Entity.Path))
		case f.Kind == model.KindTimestampTZ:
			own = append(own, f.Column.Name)
		}
	}
	if own == nil && to == nil {
		return ""
	}
	return "{ own: " + quotedList(own) + ", to: { " + strings.Join(to, ", ") + " } }"
}

func lowerFirst(s string) string { return strings.ToLower(s[:1]) + s[1:] }
