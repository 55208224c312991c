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
	required := requiredOf(e, given)
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

// requiredOf are the columns that a new row must have, but for those given, and those
// in whose place the row itself may stand that they refer to.
func requiredOf(e *model.Entity, given []string) []string {
	var list []string
	for _, f := range e.Fields {
		if written(f) && !f.Nullable && !f.ByDefault && f.Role == model.NoRole && !slices.Contains(given, f.Column.Name) {
			list = append(list, f.Column.Name)
		}
	}
	for _, r := range e.Relations {
		if embeds(r) && r.Kind == model.ToOne && r.Owned {
			list = slices.DeleteFunc(list, func(c string) bool { return slices.Contains(neededFor(e, r, given), c) })
		}
	}
	return list
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
		if embeds(r) {
			addProperty(schema, r.JSON, d.embedded(r))
		}
	}
	d.schemas[at].value = schema
	return name
}

// embeds reports whether rows of a relation may be embedded in a new row.
func embeds(r *model.Relation) bool {
	return r.To.Verbs != model.ReadOnly && (r.Linkable() || r.Reverse() || r.Kind == model.ToOne)
}

// embedded is the schema of what a relation embeds in a new row.
func (d *document) embedded(r *model.Relation) object {
	given := r.Given()
	if r.Linkable() || r.Kind == model.ToOne && r.Owned {
		given = nil
	}
	one := ref(d.newSchema(r.To, given))
	if r.Kind == model.ToOne {
		return one
	}
	return object{{"type", "array"}, {"items", one}}
}

// eitherOf says of each reference that it is given by its columns or by the row.
func eitherOf(e *model.Entity, given []string) []object {
	var list []object
	for _, r := range e.Relations {
		if !embeds(r) || r.Kind != model.ToOne || !r.Owned {
			continue
		}
		if needed := neededFor(e, r, given); needed != nil {
			list = append(list, object{{"anyOf", []object{mustHave(needed...), mustHave(r.JSON)}}})
		}
	}
	return list
}

// neededFor are the columns of a reference that a new row must have.
func neededFor(e *model.Entity, r *model.Relation, given []string) []string {
	var needed []string
	for _, p := range r.Pairs {
		if f := e.Field(p[0]); f != nil && !f.Nullable && !f.ByDefault && !slices.Contains(given, p[0]) {
			needed = append(needed, p[0])
		}
	}
	return needed
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
