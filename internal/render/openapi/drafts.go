package openapi

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/catalog"
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
			inner = ref(d.newSchema(r.To, givenBy(r)))
		default:
			inner = object{{"type", "array"}, {"items", ref(d.newSchema(r.To, givenBy(r)))}}
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
	return []object{{{"anyOf", []object{{{"required", needed}}, {{"required", []string{r.JSON}}}}}}}
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

// example is a new row that the schema takes: what it must have, and few
// columns more.
func (d *document) example(e *model.Entity, given []string) object {
	row := object{}
	year := 2026 // of later columns a later one: what ends comes behind what begins
	for _, f := range visible(e) {
		needed := !f.Nullable && !f.ByDefault && f.Role == model.NoRole
		if f.Computed || f.Auto || slices.Contains(given, f.Column.Name) || !needed {
			continue
		}
		value := exampleValue(e, f)
		if text, ok := value.(string); ok && strings.HasPrefix(text, "2026-") {
			value = strconv.Itoa(year) + text[4:]
			year++
		}
		row = append(row, member{f.Column.Name, value})
	}
	return row
}

// exampleValue is a value that a column takes.
func exampleValue(e *model.Entity, f *model.Field) any {
	switch f.Kind {
	case model.KindInt16, model.KindInt32, model.KindInt64, model.KindUint64, model.KindNumeric, model.KindFloat32, model.KindFloat64:
		n := json.Number(exampleNumber(f))
		if f.Kind == model.KindNumeric && quoted(f) {
			return string(n)
		}
		return n
	case model.KindBool:
		return true
	case model.KindDate:
		return "2026-05-01"
	case model.KindTimestamp:
		return "2026-05-01T09:30:00"
	case model.KindTimestampTZ:
		return "2026-05-01T09:30:00Z"
	case model.KindTimeOfDay:
		return "09:30:00"
	case model.KindInterval:
		return "PT30M"
	case model.KindUUID:
		return "6f1c2a34-0000-4000-8000-00000000abcd"
	case model.KindJSON, model.KindRecord:
		return object{}
	case model.KindBytes:
		return "aG9uZXk="
	case model.KindList:
		return []any{}
	case model.KindRange:
		return object{{"from", nil}, {"to", nil}, {"bounds", "empty"}}
	case model.KindEnum:
		return f.Enum.Labels[0].Text
	}
	text := []rune("A new " + e.Words)
	if f.Column.Type.Size > 0 && len(text) > f.Column.Type.Size {
		text = text[:f.Column.Type.Size]
	}
	return string(text)
}

// exampleNumber is the smallest number that the limits allow, or 1.
func exampleNumber(f *model.Field) string {
	switch {
	case f.Limits.Least != "":
		return f.Limits.Least
	case f.Limits.Above != "":
		if n, err := strconv.ParseFloat(f.Limits.Above, 64); err == nil {
			return strconv.FormatFloat(n+1, 'f', -1, 64)
		}
	case f.Column.Type.Kind == catalog.Decimal && f.Column.Type.Precision > 0 && f.Column.Type.Precision == f.Column.Type.Scale:
		return "0"
	}
	return "1"
}

func quoted(f *model.Field) bool {
	p := f.Column.Type.Precision
	return p == 0 || p > exactDigits
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
