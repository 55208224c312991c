// Package openapi renders a model as an OpenAPI 3.1 document of the service
// that is generated from it.
package openapi

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/render"
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
	if appendLine(b, v) {
		return
	}
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
	}
}

// longestLine is how many bytes an object has at most that stands on one line.
const longestLine = 90

// appendLine appends a value on one line: one that is no object or list, a short
// object, or a list of one element. It reports false, and appends nothing, for
// another: the elements of longer lists have lines of their own, so that edits
// beside them merge.
func appendLine(b *bytes.Buffer, v any) bool {
	from := b.Len()
	if appendFlat(b, v, from) {
		return true
	}
	b.Truncate(from)
	return false
}

// appendFlat appends as much of a value as a line takes that begins at a place, and
// reports whether that was all.
func appendFlat(b *bytes.Buffer, v any, from int) bool {
	open, end, n := byte('['), byte(']'), 0
	var item func(i int) bool
	switch v := v.(type) {
	case object:
		open, end, n = '{', '}', len(v)
		item = func(i int) bool {
			appendScalar(b, v[i].name)
			b.WriteString(": ")
			return appendFlat(b, v[i].value, from)
		}
	case []object:
		n, item = len(v), func(i int) bool { return appendFlat(b, v[i], from) }
	case []string:
		n, item = len(v), func(i int) bool { return appendFlat(b, v[i], from) }
	case []any:
		n, item = len(v), func(i int) bool { return appendFlat(b, v[i], from) }
	default:
		appendScalar(b, v)
		return true
	}
	if open == '[' && n > 1 {
		return false
	}
	b.WriteByte(open)
	for i := range n {
		if i > 0 {
			b.WriteString(", ")
		}
		if !item(i) || b.Len()-from > longestLine {
			return false
		}
	}
	b.WriteByte(end)
	return true
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
	if s, ok := v.(string); ok && plain(s) {
		b.WriteByte('"')
		b.WriteString(s)
		b.WriteByte('"')
		return
	}
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		b.WriteString("null")
		return
	}
	b.WriteString(printable.Text(strings.TrimSuffix(text.String(), "\n")))
}

// Document is the description of the interface, and of its earlier versions.
type Document struct{}

// Files are the documents of a service.
func (Document) Files(in render.Input) ([]render.File, error) {
	t := in.Target
	if t.APIFolder == "" {
		return nil, nil
	}
	document := func(version string, of func() []byte) render.File {
		at := path.Join(t.APIFolder, render.DocumentFile(version))
		text := in.Again(at)
		if text == nil {
			text = of()
		}
		return render.File{Path: at, Text: text}
	}
	files := []render.File{document("", func() []byte { return Render(in.Model.Seen(), t.Command()) })}
	for _, v := range in.Model.Versions {
		files = append(files, document(v.Name, func() []byte { return Render(v.Model, t.Command()+" "+v.Name) }))
	}
	return files, nil
}

// Tag is the ETag that the service gives a document.
func Tag(document []byte) string {
	sum := sha256.Sum256(document)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// Render returns the document. title names the service.
func Render(m *model.Model, title string) []byte {
	d := document{model: m, drafts: map[string]bool{}, ids: map[string]bool{}, examples: map[*model.Entity]int{}}
	for _, e := range m.Entities {
		for _, verb := range []string{"list", "create", "change", "delete", "summarize"} {
			d.ids[verb+e.Plural] = true
		}
		for _, verb := range []string{"get", "replace", "change", "delete"} {
			d.ids[verb+e.Name] = true
		}
	}
	for _, e := range m.Entities {
		d.addResource(e)
	}
	d.addCalls()
	components := object{
		{"schemas", append(append(d.schemas, problemSchemas()...), patchSchema()...)},
		{"parameters", append(sharedParameters(m.API), d.parameters...)},
		{"headers", sharedHeaders()},
		{"responses", slices.Concat(sharedResponses(), d.responses, problemResponses(m.API.Guarded()))},
	}
	doc := object{
		{"openapi", "3.1.0"},
		{"info", object{{"title", title}, {"version", "1"}, {"description", "The tables, views and relations of a database over HTTP. Errors are problem documents (RFC 9457)."}, {"contact", object{{"name", title}}}}},
		{"servers", []object{{{"url", "/"}}}},
		{"tags", append(d.tags, object{{"name", serviceTag}, {"description", "What belongs to no resource."}})},
	}
	if schemes, needed := security(m); schemes != nil {
		components = append(components, member{"securitySchemes", schemes})
		doc = append(doc, member{"security", needed})
	} else {
		doc = append(doc, member{"security", []any{}})
	}
	paths := append(d.paths, d.servicePaths()...)
	doc = append(doc, member{"paths", paths}, member{"components", prune(paths, components)})
	var text bytes.Buffer
	appendValue(&text, doc, "")
	text.WriteByte('\n')
	return text.Bytes()
}

// plain reports whether a text stands in JSON as it is.
func plain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// security is how callers say who they are; nil where the service does not ask.
func security(m *model.Model) (schemes object, needed []object) {
	if m.API.Tokens != nil {
		schemes = append(schemes, member{"bearer", object{{"type", "http"}, {"scheme", "bearer"}, {"bearerFormat", "JWT"}}})
		needed = append(needed, object{{"bearer", []any{}}})
	}
	if m.API.KeyFile != "" {
		schemes = append(schemes, member{"apiKey", object{{"type", "apiKey"}, {"in", "header"}, {"name", "X-API-Key"}}})
		needed = append(needed, object{{"apiKey", []any{}}})
	}
	return schemes, needed
}

type document struct {
	model      *model.Model
	tags       []object
	paths      object
	schemas    object
	parameters object // that operations on the rows of a resource share
	responses  object // likewise

	drafts map[string]bool // schemas of new rows that are there
	ids    map[string]bool // of operations

	examples map[*model.Entity]int // how many there are of each
}

// id is the id of an operation on a relation of an entity, which no other has.
func (d *document) id(verb string, e *model.Entity, name string) string {
	id := verb + e.Name + name
	if d.ids[id] {
		id = verb + name + "Of" + e.Name
	}
	for n := 2; d.ids[id]; n++ {
		id = fmt.Sprintf("%s%sOf%s%d", verb, name, e.Name, n)
	}
	d.ids[id] = true
	return id
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
	d.tags = append(d.tags, object{{"name", e.Path}, {"description", cmp.Or(e.Table.Comment, "The "+string(e.Table.Kind)+" "+e.Table.FullName()+".")}})
	d.addRow(e)
	if e.Verbs != model.ReadOnly {
		d.newSchema(e, nil)
	}
	if e.Verbs == model.Full {
		d.schemas = append(d.schemas, member{schemaName(e) + ".change", writeSchema(e)})
	}
	d.schemas = append(d.schemas, member{schemaName(e) + ".list", listSchema(e)})
	d.shareParameters(e)
	d.shareResponses(e)
	at := d.model.Base + "/" + e.Path
	d.paths = append(d.paths, member{at, d.collection(e)}, member{at + "/summary", d.summary(e)})
	if len(e.Key) == 0 {
		return
	}
	d.paths = append(d.paths, member{at + "/{key}", d.row(e)})
	for _, f := range e.Contents() {
		d.paths = append(d.paths, member{at + "/{key}/" + f.Content.Path, d.content(e, f)})
	}
	for _, r := range e.Relations {
		d.addRelation(e, r, at+"/{key}/"+r.Path)
	}
}

func visible(e *model.Entity) []*model.Field {
	return slices.DeleteFunc(slices.Clone(e.Fields), func(f *model.Field) bool { return f.Hidden })
}

// addRow adds the schemas of a stored row, whole and with some properties only, with
// the related rows that may be embedded.
func (d *document) addRow(e *model.Entity) {
	titled := object{}
	if e.Said.Label != "" {
		titled = append(titled, member{"title", e.Said.Label})
	}
	if text := cmp.Or(e.Said.Help, e.Table.Comment); text != "" {
		titled = append(titled, member{"description", text})
	}
	var properties object
	required := []string{}
	for _, f := range visible(e) {
		properties = append(properties, member{f.Column.Name, d.titled(e, f, fieldSchema(f))})
		if f.Content != nil && len(e.Key) > 0 {
			properties = append(properties, member{d.linkName(e, f), linkSchema(f)})
		} else if e.Everyone(f) {
			required = append(required, f.Column.Name)
		}
	}
	for _, r := range e.Relations {
		schema := object{{"oneOf", []object{ref(schemaName(r.To)), {{"type", "null"}}}}}
		if r.Kind != model.ToOne {
			schema = object{{"type", "array"}, {"items", ref(schemaName(r.To))}}
		}
		properties = append(properties, member{r.JSON, schema})
	}
	d.schemas = append(d.schemas,
		member{schemaName(e), append(titled, member{"required", required}, member{"allOf", []object{ref(schemaName(e) + ".part")}})},
		member{schemaName(e) + ".part", object{{"type", "object"}, {"properties", properties}, {"additionalProperties", false}}},
	)
}

// linkName is what the URL of a binary column is called in lists.
func (d *document) linkName(e *model.Entity, f *model.Field) string {
	name := f.Column.Name + "_url"
	if d.model.API.Names == project.Camel {
		name = f.Column.Name + "Url"
	}
	for slices.ContainsFunc(visible(e), func(o *model.Field) bool { return o.Column.Name == name }) {
		name += "_"
	}
	return name
}

func linkSchema(f *model.Field) object {
	return orNull(object{
		{"type", "string"}, {"format", "uri-reference"}, {"readOnly", true},
		{"description", "Where the " + strings.ReplaceAll(f.Column.Name, "_", " ") + " is. Lists have it in place of the value, unless properties asks for that."},
	})
}

// titled adds what the project file says of a property to its schema.
func (d *document) titled(e *model.Entity, f *model.Field, s object) object {
	for _, c := range d.looks(e) {
		if c.Name != f.Column.Name {
			continue
		}
		if c.Label != "" {
			s = append(s, member{"title", c.Label})
		}
		if c.Help != "" && f.Column.Comment == "" {
			s = append(s, member{"description", c.Help})
		}
	}
	return s
}

func (d *document) looks(e *model.Entity) []model.ColumnLook {
	if len(e.Said.Columns) == 0 {
		return nil
	}
	return d.model.Look(e).Columns
}

// writeSchema is all that may be sent of a row.
func writeSchema(e *model.Entity) object {
	var properties object
	for _, f := range e.Fields {
		if !f.Written() {
			continue
		}
		schema := fieldSchema(f)
		if f.Hidden {
			schema = append(schema, member{"writeOnly", true})
		}
		properties = append(properties, member{f.Column.Name, schema})
	}
	return object{{"type", "object"}, {"properties", properties}, {"additionalProperties", false}}
}

func listSchema(e *model.Entity) object {
	return object{
		{"type", "object"},
		{"required", []string{"items"}},
		{"properties", object{
			{"items", object{{"type", "array"}, {"items", object{{"anyOf", []object{ref(schemaName(e)), ref(schemaName(e) + ".part")}}}}}},
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
	if f.Computed || f.Role == model.DeletedRole {
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

func valueSchema(f *model.Field) object { return schemas[f.Kind](f) }

// schemas has an entry for each kind.
var schemas map[model.Kind]func(f *model.Field) object

func init() { // records have schemas of their parts
	schemas = map[model.Kind]func(f *model.Field) object{
		model.KindInt16:       number("integer", "int16"),
		model.KindInt32:       number("integer", "int32"),
		model.KindInt64:       number("integer", "int64"),
		model.KindUint64:      number("integer", "uint64"),
		model.KindFloat32:     func(f *model.Field) object { return orNoNumber(number("number", "float")(f)) },
		model.KindFloat64:     func(f *model.Field) object { return orNoNumber(number("number", "double")(f)) },
		model.KindNumeric:     decimalSchema,
		model.KindBool:        fixed(object{{"type", "boolean"}}),
		model.KindText:        textSchema,
		model.KindOther:       textSchema,
		model.KindBytes:       fixed(object{{"type", "string"}, {"contentEncoding", "base64"}}),
		model.KindUUID:        fixed(formatted("uuid")),
		model.KindDate:        fixed(formatted("date")),
		model.KindTimestamp:   fixed(formatted("date-time-local")), // which has no zone; see the format registry of OpenAPI
		model.KindTimestampTZ: fixed(formatted("date-time")),
		model.KindTimeOfDay:   fixed(object{{"type", "string"}, {"pattern", `^-?[0-9]{2,3}:[0-5][0-9]:[0-5][0-9](\.[0-9]{1,6})?$`}}),
		model.KindInterval:    fixed(object{{"type", "string"}, {"pattern", `^P(-?[0-9]+[YMWD])*(T(-?[0-9]+[HM])*(-?[0-9]+(\.[0-9]{1,6})?S)?)?$`}}),
		model.KindJSON:        fixed(object{}),
		model.KindEnum:        enumSchema,
		model.KindList:        func(f *model.Field) object { return object{{"type", "array"}, {"items", elementSchema(f)}} },
		model.KindRange:       rangeSchema,
		model.KindRecord:      recordSchema,
	}
}

func fixed(schema object) func(*model.Field) object {
	return func(*model.Field) object { return slices.Clone(schema) } // which the caller may change
}

func formatted(format string) object { return object{{"type", "string"}, {"format", format}} }

func number(typ, format string) func(*model.Field) object {
	return func(f *model.Field) object { return limited(object{{"type", typ}, {"format", format}}, f.Limits) }
}

// limited adds the limits of a field to the schema of a number.
func limited(s object, l model.Limits) object {
	for _, limit := range []struct{ word, text string }{
		{"minimum", l.Least}, {"maximum", l.Most}, {"exclusiveMinimum", l.Above}, {"exclusiveMaximum", l.Below},
	} {
		if limit.text != "" {
			s = append(s, member{limit.word, json.Number(limit.text)})
		}
	}
	return s
}

func decimalSchema(f *model.Field) object {
	switch {
	case f.Quoted():
		return object{{"type", "string"}, {"pattern", `^(-?[0-9]+(\.[0-9]+)?|NaN|-?Infinity)$`}}
	case f.NaN:
		return object{{"anyOf", []object{limited(object{{"type", "number"}}, f.Limits), {{"type", "string"}, {"enum", []any{"NaN"}}}}}}
	}
	return limited(object{{"type", "number"}}, f.Limits)
}

func enumSchema(f *model.Field) object {
	labels := make([]any, len(f.Enum.Labels))
	for i, l := range f.Enum.Labels {
		labels[i] = l.Text
	}
	return object{{"type", "string"}, {"enum", labels}}
}

func rangeSchema(f *model.Field) object {
	bound := elementSchema(f)
	return object{{"type", "object"}, {"required", []string{"from", "to", "bounds"}}, {"properties", object{
		{"from", bound}, {"to", bound}, {"bounds", object{{"type", "string"}, {"enum", []any{"[)", "[]", "(]", "()", "empty"}}}},
	}}}
}

func recordSchema(f *model.Field) object {
	parts := make(object, len(f.Composite.Parts))
	for i, p := range f.Composite.Parts {
		parts[i] = member{p.Column.Name, orNull(valueSchema(p))}
	}
	return object{{"type", "object"}, {"properties", parts}, {"additionalProperties", false}}
}

func textSchema(f *model.Field) object {
	s := object{{"type", "string"}}
	if f.Set != nil {
		s = append(s, member{"pattern", setPattern(f.Set)})
	}
	if f.Column.Type.Size > 0 {
		s = append(s, member{"maxLength", f.Column.Type.Size})
	}
	return s
}

// setPattern is of labels between commas.
func setPattern(set *model.Enum) string {
	labels := make([]string, len(set.Labels))
	for i, l := range set.Labels {
		labels[i] = regexp.QuoteMeta(l.Text)
	}
	one := "(" + strings.Join(labels, "|") + ")"
	return "^(" + one + "(," + one + ")*)?$"
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

// serviceTag is that of operations which belong to no resource.
const serviceTag = "service"

func (d *document) servicePaths() object {
	health := func(id, summary string) object {
		return object{{"get", object{
			{"operationId", id}, {"tags", []string{serviceTag}}, {"summary", summary}, {"description", "For those who watch over the service."},
			{"responses", object{
				{"200", object{{"description", "OK"}, {"content", object{{"application/json", object{{"schema", object{{"type", "object"}}}}}}}}},
				{"4XX", object{{"$ref", "#/components/responses/problem"}}},
				{"default", object{{"$ref", "#/components/responses/problem"}}},
			}},
		}}}
	}
	return object{
		{d.model.Base + "/batch", d.batchPath()},
		{"/health/live", health("getLive", "Tells that the service runs.")},
		{"/health/ready", health("getReady", "Tells that the database answers too.")},
		{"/metrics", object{{"get", object{
			{"operationId", "getMetrics"}, {"tags", []string{serviceTag}}, {"description", "For those who watch over the service."}, {"summary", "Counts and times the requests, in the text form of OpenMetrics."},
			{"responses", object{
				{"200", object{{"description", "OK"}, {"content", object{{"application/openmetrics-text", object{{"schema", object{{"type", "string"}}}}}}}}},
				{"4XX", object{{"$ref", "#/components/responses/problem"}}},
				{"default", object{{"$ref", "#/components/responses/problem"}}},
			}},
		}}}},
	}
}
