// Package openapi renders a model as an OpenAPI 3.1 document of the service
// that is generated from it.
package openapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"widegate/internal/model"
)

// object is a JSON object whose members keep their order, so that a document
// reads in the order of the schema.
type object []member

type member struct {
	name  string
	value any
}

// appendValue appends v as JSON, indented. Everything that is not an object or a
// list is left to encoding/json, which would write nested objects again at each
// level.
func appendValue(b *bytes.Buffer, v any, indent string) {
	deeper := indent + "  "
	switch v := v.(type) {
	case object:
		appendItems(b, '{', '}', len(v), indent, func(i int) {
			appendScalar(b, v[i].name)
			b.WriteString(": ")
			appendValue(b, v[i].value, deeper)
		})
	case []object:
		appendItems(b, '[', ']', len(v), indent, func(i int) { appendValue(b, v[i], deeper) })
	case []string:
		appendItems(b, '[', ']', len(v), indent, func(i int) { appendScalar(b, v[i]) })
	case []any:
		appendItems(b, '[', ']', len(v), indent, func(i int) { appendValue(b, v[i], deeper) })
	default:
		appendScalar(b, v)
	}
}

func appendItems(b *bytes.Buffer, open, end byte, n int, indent string, item func(i int)) {
	b.WriteByte(open)
	for i := range n {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString("\n  " + indent)
		item(i)
	}
	if n > 0 {
		b.WriteString("\n" + indent)
	}
	b.WriteByte(end)
}

// appendScalar appends a text, a number, true, false or null; these can always
// be encoded.
func appendScalar(b *bytes.Buffer, v any) {
	enc := json.NewEncoder(b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		b.WriteString("null\n")
	}
	b.Truncate(b.Len() - 1) // the line end that Encode adds
}

// Render returns the document. title names the service.
func Render(m *model.Model, title string) []byte {
	d := document{model: m}
	for _, e := range m.Entities {
		d.addResource(e)
	}
	doc := object{
		{"openapi", "3.1.0"},
		{"info", object{{"title", title}, {"version", "1"}}},
		{"tags", d.tags},
		{"paths", append(d.paths, d.servicePaths()...)},
		{"components", object{
			{"schemas", append(d.schemas, problemSchemas()...)},
			{"responses", object{{"problem", object{
				{"description", "What went wrong, as RFC 9457 says it."},
				{"content", object{{"application/problem+json", object{{"schema", ref("problem")}}}}},
			}}}},
		}},
	}
	var text bytes.Buffer
	appendValue(&text, doc, "")
	text.WriteByte('\n')
	return text.Bytes()
}

type document struct {
	model   *model.Model
	tags    []object
	paths   object
	schemas object
}

// schemaName is the name of an entity among the schemas, which may hold ASCII
// letters, digits and few signs only.
func schemaName(e *model.Entity) string {
	var b strings.Builder
	for _, r := range e.Name {
		if r < utf8.RuneSelf {
			b.WriteRune(r)
			continue
		}
		fmt.Fprintf(&b, "_%x_", r)
	}
	return b.String()
}

func ref(schema string) object { return object{{"$ref", "#/components/schemas/" + schema}} }

func (d *document) addResource(e *model.Entity) {
	d.tags = append(d.tags, object{{"name", e.Path}, {"description", orElse(e.Table.Comment, "The "+string(e.Table.Kind)+" "+e.Table.FullName()+".")}})
	d.schemas = append(d.schemas, member{schemaName(e), d.rowSchema(e)})
	if e.Verbs != model.ReadOnly {
		d.schemas = append(d.schemas, member{schemaName(e) + ".new", writeSchema(e, nil, true)})
	}
	if e.Verbs == model.Full {
		d.schemas = append(d.schemas, member{schemaName(e) + ".change", writeSchema(e, nil, false)})
	}
	d.schemas = append(d.schemas, member{schemaName(e) + ".list", listSchema(e)})
	at := d.model.Base + "/" + e.Path
	d.paths = append(d.paths, member{at, d.collection(e)})
	if len(e.Key) == 0 {
		return
	}
	d.paths = append(d.paths, member{at + "/{key}", d.row(e)})
	for _, r := range e.Relations {
		d.addRelation(e, r, at+"/{key}/"+r.Path)
	}
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (d *document) collection(e *model.Entity) object {
	ops := object{{"get", operation(e, "list"+e.Plural, "Lists "+e.Path+".", listParameters(e), nil, http.StatusOK, ref(schemaName(e)+".list"))}}
	if e.Verbs != model.ReadOnly {
		ops = append(ops, member{"post", operation(e, "create"+e.Name, "Stores "+e.Article+".", nil,
			body("application/json", schemaName(e)+".new"), http.StatusCreated, ref(schemaName(e)))})
	}
	return ops
}

func (d *document) row(e *model.Entity) object {
	ops := object{
		{"parameters", []object{keyParameter(e, "key")}},
		{"get", operation(e, "get"+e.Name, "Returns "+e.Article+".", withParameter(e), nil, http.StatusOK, ref(schemaName(e)))},
	}
	if e.Verbs != model.Full {
		return ops
	}
	return append(ops,
		member{"put", operation(e, "replace"+e.Name, "Replaces "+e.Article+".", nil, body("application/json", schemaName(e)+".new"), http.StatusOK, ref(schemaName(e)))},
		member{"patch", operation(e, "change"+e.Name, "Changes "+e.Article+" by a JSON merge patch.", nil,
			body("application/merge-patch+json", schemaName(e)+".change"), http.StatusOK, ref(schemaName(e)))},
		member{"delete", operation(e, "delete"+e.Name, "Removes "+e.Article+".", nil, nil, http.StatusNoContent, nil)},
	)
}

func (d *document) addRelation(e *model.Entity, r *model.Relation, at string) {
	key := member{"parameters", []object{keyParameter(e, "key")}}
	name := e.Name + r.Name
	if r.Kind == model.ToOne {
		summary := fmt.Sprintf("Returns the %s of %s.", strings.ReplaceAll(r.JSON, "_", " "), e.Article)
		d.paths = append(d.paths, member{at, object{key, {"get", operation(e, "get"+name, summary, withParameter(r.To), nil, http.StatusOK, ref(schemaName(r.To)))}}})
		return
	}
	summary := fmt.Sprintf("Lists the %s of %s.", strings.ReplaceAll(r.JSON, "_", " "), e.Article)
	ops := object{key, {"get", operation(e, "list"+name, summary, listParameters(r.To), nil, http.StatusOK, ref(schemaName(r.To)+".list"))}}
	if r.Reverse() && r.To.Verbs != model.ReadOnly {
		ops = append(ops, member{"post", operation(e, "create"+name, "Stores "+r.To.Article+" that refers to the "+e.Words+".", nil,
			object{{"required", true}, {"content", object{{"application/json", object{{"schema", d.underSchema(r)}}}}}}, http.StatusCreated, ref(schemaName(r.To)))})
	}
	d.paths = append(d.paths, member{at, ops})
	if r.Linkable() {
		d.paths = append(d.paths, member{at + "/{other}", object{
			{"parameters", []object{keyParameter(e, "key"), keyParameter(r.To, "other")}},
			{"put", operation(e, "link"+name, "Links two rows; they may be linked already.", nil, nil, http.StatusNoContent, nil)},
			{"delete", operation(e, "unlink"+name, "Ends the link of two rows; there may be none.", nil, nil, http.StatusNoContent, nil)},
		}})
	}
}

// operation describes one verb of one path.
func operation(e *model.Entity, id, summary string, parameters []object, request object, status int, answer object) object {
	op := object{{"operationId", id}, {"tags", []string{e.Path}}, {"summary", summary}}
	if len(parameters) > 0 {
		op = append(op, member{"parameters", parameters})
	}
	if request != nil {
		op = append(op, member{"requestBody", request})
	}
	good := object{{"description", http.StatusText(status)}}
	if answer != nil {
		good = append(good, member{"content", object{{"application/json", object{{"schema", answer}}}}})
	}
	responses := object{{strconv.Itoa(status), good}}
	if strings.HasPrefix(id, "replace") && status == http.StatusOK {
		responses = append(responses, member{"201", append(object{{"description", http.StatusText(http.StatusCreated)}}, good[1:]...)})
	}
	responses = append(responses, member{"default", object{{"$ref", "#/components/responses/problem"}}})
	return append(op, member{"responses", responses})
}

func body(mediaType, schema string) object {
	return object{{"required", true}, {"content", object{{mediaType, object{{"schema", ref(schema)}}}}}}
}

func keyParameter(e *model.Entity, name string) object {
	columns := make([]string, len(e.Key))
	for i, f := range e.Key {
		columns[i] = f.Column.Name
	}
	schema := object{{"type", "string"}}
	if len(e.Key) == 1 {
		schema = valueSchema(e.Key[0])
	}
	description := "The key of " + e.Article + ": " + strings.Join(columns, ",") + "."
	return object{{"name", name}, {"in", "path"}, {"required", true}, {"description", description}, {"schema", schema}}
}

func query(name, description string, schema object) object {
	return object{{"name", name}, {"in", "query"}, {"description", description}, {"schema", schema}}
}

func listParameters(e *model.Entity) []object {
	list := []object{
		query("limit", "The most rows to return.", object{{"type", "integer"}, {"minimum", 1}, {"maximum", 1000}, {"default", 50}}),
		query("after", "The `next` of the page before.", object{{"type", "string"}}),
		query("sortby", "Columns to order by, separated by commas; one with - before it descends.", object{{"type", "string"}}),
		query("count", "Whether to count all rows that match.", object{{"type", "boolean"}, {"default", false}}),
	}
	list = append(list, withParameter(e)...)
	for _, f := range visible(e) {
		if f.Kind == model.KindJSON || f.Kind == model.KindBytes || f.Kind == model.KindList || f.Kind == model.KindRange || f.Kind == model.KindRecord {
			continue
		}
		p := query(f.Column.Name, "Only rows with this value, or one of several.", object{{"type", "array"}, {"items", valueSchema(f)}})
		list = append(list, append(p, member{"explode", true}))
	}
	return list
}

func withParameter(e *model.Entity) []object {
	if len(e.Relations) == 0 {
		return nil
	}
	names := make([]string, len(e.Relations))
	for i, r := range e.Relations {
		names[i] = r.JSON
	}
	schema := object{{"type", "array"}, {"items", object{{"type", "string"}, {"examples", names}}}} // one a line, so that edits beside them merge
	return []object{append(query("with", "Relations to embed, separated by commas; a dot leads on.", schema), member{"explode", false})}
}

func visible(e *model.Entity) []*model.Field {
	return slices.DeleteFunc(slices.Clone(e.Fields), func(f *model.Field) bool { return f.Hidden })
}

// rowSchema is a stored row, with the related rows that may be embedded.
func (d *document) rowSchema(e *model.Entity) object {
	var properties object
	required := []string{}
	for _, f := range visible(e) {
		properties = append(properties, member{f.Column.Name, fieldSchema(f)})
		required = append(required, f.Column.Name)
	}
	for _, r := range e.Relations {
		schema := object{{"oneOf", []object{ref(schemaName(r.To)), {{"type", "null"}}}}}
		if r.Kind != model.ToOne {
			schema = object{{"type", "array"}, {"items", ref(schemaName(r.To))}}
		}
		properties = append(properties, member{r.JSON, schema})
	}
	s := object{{"type", "object"}}
	if e.Table.Comment != "" {
		s = append(s, member{"description", e.Table.Comment})
	}
	return append(s, member{"required", required}, member{"properties", properties}, member{"additionalProperties", false})
}

// underSchema is a new row whose reference comes from the path.
func (d *document) underSchema(r *model.Relation) object {
	var given []string
	for _, p := range r.Pairs {
		given = append(given, p[1])
	}
	return writeSchema(r.To, given, true)
}

// writeSchema is a row as it is sent: whole to be stored, or part of it as a
// merge patch. The columns that are given come from elsewhere.
func writeSchema(e *model.Entity, given []string, whole bool) object {
	var properties object
	required := []string{}
	for _, f := range visible(e) {
		if f.Computed {
			continue
		}
		properties = append(properties, member{f.Column.Name, fieldSchema(f)})
		if whole && !f.Nullable && !f.ByDefault && f.Role == model.NoRole && !slices.Contains(given, f.Column.Name) {
			required = append(required, f.Column.Name)
		}
	}
	s := object{{"type", "object"}}
	if len(required) > 0 {
		s = append(s, member{"required", required})
	}
	return append(s, member{"properties", properties}, member{"additionalProperties", false})
}

func listSchema(e *model.Entity) object {
	return object{
		{"type", "object"},
		{"required", []string{"items"}},
		{"properties", object{
			{"items", object{{"type", "array"}, {"items", ref(schemaName(e))}}},
			{"next", object{{"type", "string"}, {"description", "Asks for the next page by `after`; missing on the last."}}},
			{"matched", object{{"type", "integer"}, {"description", "The number of all rows that match, with count=true."}}},
		}},
		{"additionalProperties", false},
	}
}

// fieldSchema is the schema of a member of a row.
func fieldSchema(f *model.Field) object {
	s := valueSchema(f)
	if f.Nullable {
		s = orNull(s)
	}
	if f.Column.Comment != "" {
		s = append(s, member{"description", f.Column.Comment})
	}
	if f.Computed {
		s = append(s, member{"readOnly", true})
	}
	return s
}

// elementSchema is the schema of what a list or range is of. Decimals are
// strings there, whatever their size.
func elementSchema(f *model.Field) object {
	if f.Element.Kind == model.KindNumeric {
		return orNull(object{{"type", "string"}})
	}
	return orNull(valueSchema(f.Element))
}

// orNull lets a schema hold null too.
func orNull(s object) object {
	for i := range s {
		switch s[i].name {
		case "anyOf":
			s[i].value = append(slices.Clone(s[i].value.([]object)), object{{"type", "null"}})
		case "type":
			s[i].value = []any{s[i].value, "null"}
		case "enum":
			s[i].value = append(slices.Clone(s[i].value.([]any)), nil)
		}
	}
	return s
}

// exactDigits is how many digits of a number every JSON reader keeps.
const exactDigits = 15

func valueSchema(f *model.Field) object {
	limited := func(s object) object {
		for _, l := range []struct{ word, text string }{
			{"minimum", f.Limits.Least}, {"maximum", f.Limits.Most}, {"exclusiveMinimum", f.Limits.Above}, {"exclusiveMaximum", f.Limits.Below},
		} {
			if l.text != "" {
				s = append(s, member{l.word, json.Number(l.text)})
			}
		}
		return s
	}
	text := func(format string) object { return object{{"type", "string"}, {"format", format}} }
	switch f.Kind {
	case model.KindTimeOfDay:
		return object{{"type", "string"}, {"pattern", `^-?[0-9]{2,3}:[0-5][0-9]:[0-5][0-9](\.[0-9]{1,6})?$`}}
	case model.KindInterval:
		return object{{"type", "string"}, {"pattern", `^P(-?[0-9]+[YMWD])*(T(-?[0-9]+[HM])*(-?[0-9]+(\.[0-9]{1,6})?S)?)?$`}}
	case model.KindList:
		return object{{"type", "array"}, {"items", elementSchema(f)}}
	case model.KindRange:
		bound := elementSchema(f)
		return object{{"type", "object"}, {"required", []string{"from", "to", "bounds"}}, {"properties", object{
			{"from", bound}, {"to", bound}, {"bounds", object{{"type", "string"}, {"enum", []any{"[)", "[]", "(]", "()", "empty"}}}},
		}}}
	case model.KindRecord:
		parts := make(object, len(f.Composite.Parts))
		for i, p := range f.Composite.Parts {
			parts[i] = member{p.Column.Name, orNull(valueSchema(p))}
		}
		return object{{"type", "object"}, {"properties", parts}, {"additionalProperties", false}}
	case model.KindInt16:
		return limited(object{{"type", "integer"}, {"format", "int16"}})
	case model.KindInt32:
		return limited(object{{"type", "integer"}, {"format", "int32"}})
	case model.KindInt64, model.KindUint64:
		return limited(object{{"type", "integer"}, {"format", strings.ToLower(string(f.Kind))}})
	case model.KindFloat32:
		return orNoNumber(limited(object{{"type", "number"}, {"format", "float"}}))
	case model.KindFloat64:
		return orNoNumber(limited(object{{"type", "number"}, {"format", "double"}}))
	case model.KindNumeric:
		if p := f.Column.Type.Precision; p == 0 || p > exactDigits {
			return object{{"type", "string"}, {"pattern", `^(-?[0-9]+(\.[0-9]+)?|NaN|-?Infinity)$`}}
		}
		return limited(object{{"type", "number"}})
	case model.KindBool:
		return object{{"type", "boolean"}}
	case model.KindBytes:
		return object{{"type", "string"}, {"contentEncoding", "base64"}}
	case model.KindDate:
		return text("date")
	case model.KindTimestamp, model.KindTimestampTZ:
		return text("date-time")
	case model.KindUUID:
		return text("uuid")
	case model.KindJSON:
		return object{}
	case model.KindEnum:
		labels := make([]any, len(f.Enum.Labels))
		for i, l := range f.Enum.Labels {
			labels[i] = l.Text
		}
		return object{{"type", "string"}, {"enum", labels}}
	}
	s := object{{"type", "string"}}
	if f.Column.Type.Size > 0 {
		s = append(s, member{"maxLength", f.Column.Type.Size})
	}
	return s
}

// orNoNumber lets a floating-point number be what JSON has no number for.
func orNoNumber(number object) object {
	return object{{"anyOf", []object{number, {{"type", "string"}, {"enum", []any{"NaN", "Infinity", "-Infinity"}}}}}}
}

func problemSchemas() object {
	return object{{"problem", object{
		{"type", "object"},
		{"required", []string{"type", "title", "status"}},
		{"properties", object{
			{"type", object{{"type", "string"}}},
			{"title", object{{"type", "string"}}},
			{"status", object{{"type", "integer"}}},
			{"detail", object{{"type", "string"}}},
			{"instance", object{{"type", "string"}}},
			{"errors", object{{"type", "array"}, {"items", object{
				{"type", "object"},
				{"properties", object{
					{"pointer", object{{"type", "string"}, {"description", "A JSON pointer (RFC 6901) into the body."}}},
					{"detail", object{{"type", "string"}}},
				}},
			}}}},
		}},
	}}}
}

func (d *document) servicePaths() object {
	health := func(id, summary string) object {
		return object{{"get", object{
			{"operationId", id}, {"summary", summary},
			{"responses", object{
				{"200", object{{"description", "OK"}, {"content", object{{"application/json", object{{"schema", object{{"type", "object"}}}}}}}}},
				{"default", object{{"$ref", "#/components/responses/problem"}}},
			}},
		}}}
	}
	return object{
		{"/health/live", health("getLive", "Tells that the service runs.")},
		{"/health/ready", health("getReady", "Tells that the database answers too.")},
	}
}
