package openapi

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"widegate/internal/model"
	"widegate/internal/sqlquery"
)

// addCalls adds the paths of named queries and routines.
func (d *document) addCalls() {
	tags := map[string]string{"queries": "Named queries.", "routines": "Functions and procedures of the database."}
	for _, e := range d.model.Exposed {
		tag, _, _ := strings.Cut(e.Path, "/")
		if text, ok := tags[tag]; ok {
			d.tags = append(d.tags, object{{"name", tag}, {"description", text}})
			delete(tags, tag)
		}
		var ops object
		for _, method := range e.Methods() {
			ops = append(ops, member{strings.ToLower(method), d.call(e, tag, method)})
		}
		d.paths = append(d.paths, member{d.model.Base + "/" + e.Path, ops})
	}
}

func (d *document) call(e *model.Exposed, tag, method string) object {
	id := e.Handler
	if method == http.MethodPost && e.Reads {
		id += "ByBody"
	}
	for n := 2; d.ids[id]; n++ {
		id = fmt.Sprintf("%s%d", e.Handler, n)
	}
	d.ids[id] = true
	op := operation{
		guarded: d.model.API.Guarded(), tag: tag, id: id, summary: cmp.Or(strings.Join(strings.Fields(e.Doc), " "), "Calls "+e.Name+"."),
		good:     []answer{d.callAnswer(e)},
		problems: []int{http.StatusBadRequest, http.StatusNotFound, http.StatusNotAcceptable, http.StatusUnprocessableEntity},
	}
	if method == http.MethodGet {
		for _, a := range e.Args {
			op.parameters = append(op.parameters, argumentParameter(a))
		}
		if e.Shape == sqlquery.Rows {
			op.parameters = append(op.parameters, query("f", "The format, in place of Accept.", object{{"type", "string"}, {"enum", []any{"json", "ndjson"}}}))
		}
		return op.object()
	}
	op.parameters = d.repeatable()
	var properties object
	required := []string{}
	for _, a := range e.Args {
		properties = append(properties, member{a.Field.Column.Name, argumentSchema(a)})
		if needed(a) {
			required = append(required, a.Field.Column.Name)
		}
	}
	schema := object{{"type", "object"}, {"required", required}, {"properties", properties}, {"additionalProperties", false}}
	if len(e.Args) == 0 {
		schema = object{{"type", "object"}, {"additionalProperties", false}}
	}
	op.body = object{{"required", len(e.Args) > 0}, {"content", jsonContent(schema)}}
	return op.object()
}

// needed reports whether an argument cannot be left out.
func needed(a model.QueryArg) bool {
	return a.Order == nil && !a.List && !a.Maybe
}

func argumentSchema(a model.QueryArg) object {
	switch {
	case a.Order != nil:
		words := make([]any, len(a.Order))
		for i, o := range a.Order {
			words[i] = o.Key
		}
		return object{{"type", "string"}, {"enum", words}, {"default", words[0]}}
	case a.List:
		return object{{"type", "array"}, {"items", valueSchema(a.Field)}}
	case !needed(a):
		return orNull(valueSchema(a.Field))
	}
	return valueSchema(a.Field)
}

func argumentParameter(a model.QueryArg) object {
	schema := argumentSchema(a)
	if a.Order == nil && !a.List {
		schema = valueSchema(a.Field)
	}
	p := query(a.Field.Column.Name, "An argument of the query.", schema)
	if a.List {
		p = append(p, member{"explode", true})
	}
	return append(p, member{"required", needed(a)})
}

// callAnswer is what comes back of a call.
func (d *document) callAnswer(e *model.Exposed) answer {
	switch e.Shape {
	case sqlquery.Nothing:
		return answer{status: http.StatusNoContent}
	case sqlquery.Count:
		return answer{status: http.StatusOK, content: jsonContent(countSchema)}
	case sqlquery.Rows:
		schema := object{{"type", "object"}, {"required", []string{"items"}}, {"properties", object{{"items", object{{"type", "array"}, {"items", d.resultSchema(e)}}}}}, {"additionalProperties", false}}
		return answer{status: http.StatusOK, content: rowsContent(schema, "application/x-ndjson")}
	}
	schema := d.resultSchema(e)
	if e.Value != nil {
		schema = object{{"type", "object"}, {"required", []string{"value"}}, {"properties", object{{"value", schema}}}, {"additionalProperties", false}}
	}
	return answer{status: http.StatusOK, content: jsonContent(schema)}
}

// resultSchema is the schema of a row of a call.
func (d *document) resultSchema(e *model.Exposed) object {
	switch {
	case e.Entity != nil:
		return d.rowOf(e.Entity)
	case e.Value != nil:
		return fieldSchema(e.Value)
	}
	var properties object
	required := []string{}
	for _, f := range e.Fields {
		var schema object
		switch {
		case f.Entity == nil:
			schema = fieldSchema(f)
		case f.Nullable:
			schema = object{{"oneOf", []object{d.rowOf(f.Entity), {{"type", "null"}}}}}
		default:
			schema = d.rowOf(f.Entity)
		}
		properties = append(properties, member{f.Column.Name, schema})
		required = append(required, f.Column.Name)
	}
	return object{{"type", "object"}, {"required", required}, {"properties", properties}, {"additionalProperties", false}}
}

// rowOf is the schema of a row of an entity, which a version may not have.
func (d *document) rowOf(e *model.Entity) object {
	if slices.ContainsFunc(d.model.Entities, func(own *model.Entity) bool { return own.Name == e.Name }) {
		return ref(schemaName(e))
	}
	return object{{"type", "object"}}
}
