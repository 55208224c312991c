package openapi

import (
	"slices"
	"strconv"
	"strings"

	"widegate/internal/model"
)

// newSchema adds the schema of a new row, whose columns given come from
// elsewhere, and returns its name. What it may hold is in a schema that all of a
// resource share; what it must, in its own.
func (d *document) newSchema(e *model.Entity, given []string) string {
	name := schemaName(e) + ".new"
	if len(given) > 0 {
		name += ".without." + asciiName(strings.Join(given, "."))
	}
	if d.drafts[name] {
		return name
	}
	d.drafts[name] = true
	parts := append([]object{ref(d.draftSchema(e))}, eitherOf(e, given)...)
	required := e.RequiredNew(given)
	switch {
	case len(required) > 0:
		d.schemas = append(d.schemas, member{name, object{{"required", required}, {"allOf", parts}}})
	case len(parts) > 1:
		d.schemas = append(d.schemas, member{name, object{{"allOf", parts}}})
	default:
		d.schemas = append(d.schemas, member{name, parts[0]})
	}
	return name
}

// draftSchema adds the schema of all that a new row may hold, and returns its name.
func (d *document) draftSchema(e *model.Entity) string {
	name := schemaName(e) + ".draft"
	if d.drafts[name] {
		return name
	}
	d.drafts[name] = true
	at := len(d.schemas)
	d.schemas = append(d.schemas, member{name, nil}) // rows of it may be embedded in rows of it
	schema := writeSchema(e)
	for _, r := range e.Relations {
		if r.Embeds() {
			addProperty(schema, r.JSON, d.embedded(r))
		}
	}
	d.schemas[at].value = schema
	return name
}

// embedded is the schema of what a relation embeds in a new row.
func (d *document) embedded(r *model.Relation) object {
	one := ref(d.newSchema(r.To, r.Brought()))
	if r.Kind == model.ToOne {
		return one
	}
	return object{{"type", "array"}, {"items", one}}
}

// eitherOf says of each reference that it is given by its columns or by the row.
func eitherOf(e *model.Entity, given []string) []object {
	var list []object
	for _, r := range e.Relations {
		if !r.References() {
			continue
		}
		if needed := e.NeededFor(r, given); needed != nil {
			list = append(list, object{{"anyOf", []object{mustHave(needed...), mustHave(r.JSON)}}})
		}
	}
	return list
}

// mustHave is the schema of an object that has some properties, whatever they are.
func mustHave(names ...string) object {
	var properties object
	for _, name := range names {
		properties = append(properties, member{name, object{}})
	}
	return object{{"required", names}, {"properties", properties}}
}

func addProperty(schema object, name string, value object) {
	for i := range schema {
		if schema[i].name == "properties" {
			list, _ := schema[i].value.(object)
			if !slices.ContainsFunc(list, func(m member) bool { return m.name == name }) {
				schema[i].value = append(list, member{name, value})
			}
		}
	}
}

func asciiName(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r < 0x80 && (r == '.' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
			b.WriteRune(r)
			continue
		}
		b.WriteString("_" + strconv.FormatInt(int64(r), 16) + "_")
	}
	return b.String()
}

// example is a new row that the schema takes.
func (d *document) example(e *model.Entity, given []string) object {
	d.examples[e]++
	row := object{}
	for _, v := range e.ExampleNumber(given, d.examples[e]) {
		row = append(row, member{v.Name, v.Value})
	}
	return row
}

// patchSchema is a JSON patch.
func patchSchema() object {
	return object{{"patch", object{
		{"type", "array"},
		{"items", object{
			{"type", "object"},
			{"required", []string{"op", "path"}},
			{"properties", object{
				{"op", object{{"type", "string"}, {"enum", []any{"add", "remove", "replace", "move", "copy", "test"}}}},
				{"path", object{{"type", "string"}}},
				{"from", object{{"type", "string"}}},
				{"value", object{}},
			}},
		}},
	}}}
}
