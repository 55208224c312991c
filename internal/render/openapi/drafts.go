package openapi

import (
	"slices"
	"strconv"
	"strings"

	"widegate/internal/model"
)

// newSchema adds the schema of a new row, whose columns given come from
// elsewhere, and returns its name.
func (d *document) newSchema(e *model.Entity, given []string) string {
	name := schemaName(e) + ".new"
	if len(given) > 0 {
		name += ".without." + asciiName(strings.Join(given, "."))
	}
	if d.drafts[name] {
		return name
	}
	d.drafts[name] = true
	at := len(d.schemas)
	d.schemas = append(d.schemas, member{name, nil}) // rows of it may be embedded in rows of it
	schema := writeSchema(e, given, true)
	schema = d.withEmbedded(e, given, schema)
	d.schemas[at].value = schema
	return name
}

// withEmbedded adds what may be embedded in a new row. One that is referred to
// may stand there in place of the reference.
func (d *document) withEmbedded(e *model.Entity, given []string, schema object) object {
	var either []object
	for _, r := range e.Relations {
		if r.To.Verbs == model.ReadOnly || !r.Linkable() && !r.Reverse() && r.Kind != model.ToOne {
			continue
		}
		var inner object
		switch {
		case r.Linkable():
			inner = object{{"type", "array"}, {"items", ref(d.newSchema(r.To, nil))}}
		case r.Kind == model.ToOne && r.Owned:
			inner = ref(d.newSchema(r.To, nil))
			either = append(either, eitherOf(e, r, given)...)
		case r.Kind == model.ToOne:
			inner = ref(d.newSchema(r.To, r.Given()))
		default:
			inner = object{{"type", "array"}, {"items", ref(d.newSchema(r.To, r.Given()))}}
		}
		addProperty(schema, r.JSON, inner)
	}
	for _, one := range either {
		dropRequired(schema, one)
	}
	if len(either) > 0 {
		schema = append(schema, member{"allOf", either})
	}
	return schema
}

// eitherOf says that a reference is given by its columns or by the row.
func eitherOf(e *model.Entity, r *model.Relation, given []string) []object {
	var needed []string
	for _, p := range r.Pairs {
		if f := e.Field(p[0]); f != nil && !f.Nullable && !f.ByDefault && !slices.Contains(given, p[0]) {
			needed = append(needed, p[0])
		}
	}
	if needed == nil {
		return nil
	}
	return []object{{{"anyOf", []object{mustHave(needed...), mustHave(r.JSON)}}}}
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

// dropRequired takes the columns out of those required that a choice speaks of.
func dropRequired(schema, choice object) {
	columns := choice[0].value.([]object)[0][0].value.([]string)
	for i := range schema {
		if schema[i].name == "required" {
			schema[i].value = slices.DeleteFunc(slices.Clone(schema[i].value.([]string)), func(c string) bool { return slices.Contains(columns, c) })
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
