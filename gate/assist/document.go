package assist

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"unicode"
)

// document is what is read of the OpenAPI document of a service, as one caller sees it.
type document struct {
	etag      string
	text      []byte
	title     string
	resources []*resource
	calls     []*operation
}

// resource is a table or view of the service.
type resource struct {
	path    string
	comment string
	columns []column
	key     []string // names of columns
	ends    []string // names of relations
	links   []*operation
	unlinks []*operation

	list, get, summary, create, change, remove, changeMany, removeMany *operation

	row, draft map[string]any // schemas
	required   []string       // of a new row
}

// column is a property of a resource.
type column struct {
	name   string
	schema map[string]any
}

// operation is one thing that can be done.
type operation struct {
	id, method, path string
	summary, about   string
	tags             []string
	params           []param
	body             map[string]any
}

// param is a parameter of an operation.
type param struct {
	name, in, about string
	required        bool
	schema          map[string]any
}

// openAPI is an OpenAPI document as it is written (OpenAPI 3.1).
type openAPI struct {
	Info       struct{ Title string }
	Paths      map[string]map[string]json.RawMessage
	Components struct {
		Schemas    map[string]map[string]any
		Parameters map[string]openParam
	}
}

type openParam struct {
	Ref         string `json:"$ref"`
	Name, In    string
	Description string
	Required    bool
	Schema      map[string]any
}

type openOperation struct {
	OperationID string `json:"operationId"`
	Tags        []string
	Summary     string
	Description string
	Parameters  []openParam
	RequestBody struct {
		Content map[string]struct{ Schema map[string]any }
	}
}

// readDocument reads the document of a service whose paths begin with base.
func readDocument(text []byte, etag, base string) (*document, error) {
	var raw openAPI
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, fmt.Errorf("reading the document of the service: %w", err)
	}
	d := &document{etag: etag, text: text, title: raw.Info.Title}
	paths := make([]string, 0, len(raw.Paths))
	for path := range raw.Paths {
		if strings.HasPrefix(path, base+"/") {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	byPath := map[string]*resource{}
	for _, path := range paths {
		shared := paramsOf(raw, raw.Paths[path]["parameters"])
		for _, method := range []string{"get", "post", "put", "patch", "delete"} {
			text, ok := raw.Paths[path][method]
			if !ok {
				continue
			}
			op, err := operationOf(raw, text, strings.ToUpper(method), strings.TrimPrefix(path, base+"/"), shared)
			if err != nil {
				return nil, fmt.Errorf("reading the document of the service: %s %s: %w", method, path, err)
			}
			d.place(byPath, op)
		}
	}
	d.resources = slices.DeleteFunc(d.resources, func(r *resource) bool { return r.list == nil })
	for _, r := range d.resources {
		r.describe(raw)
	}
	return d, nil
}

func paramsOf(raw openAPI, text json.RawMessage) []openParam {
	var list []openParam
	_ = json.Unmarshal(text, &list) // absent where there are none
	return list
}

func operationOf(raw openAPI, text json.RawMessage, method, path string, shared []openParam) (*operation, error) {
	var o openOperation
	if err := json.Unmarshal(text, &o); err != nil {
		return nil, err
	}
	op := &operation{id: o.OperationID, method: method, path: path, summary: o.Summary, about: o.Description, tags: o.Tags}
	for _, p := range slices.Concat(shared, o.Parameters) {
		if name, ok := strings.CutPrefix(p.Ref, "#/components/parameters/"); ok {
			p = raw.Components.Parameters[name]
		}
		op.params = append(op.params, param{p.Name, p.In, p.Description, p.Required, p.Schema})
	}
	for _, media := range []string{"application/merge-patch+json", "application/json"} {
		if c, ok := o.RequestBody.Content[media]; ok {
			op.body = c.Schema
			break
		}
	}
	return op, nil
}

// place puts an operation where it belongs.
func (d *document) place(byPath map[string]*resource, op *operation) {
	words := strings.Split(op.path, "/")
	if words[0] == "batch" {
		return
	}
	if words[0] == "queries" || words[0] == "routines" {
		d.addCall(op)
		return
	}
	r := byPath[words[0]]
	if r == nil {
		r = &resource{path: words[0]}
		byPath[words[0]] = r
		d.resources = append(d.resources, r)
	}
	shape := strings.Join(words[1:], "/")
	if to := map[string]**operation{
		"GET ": &r.list, "POST ": &r.create, "PATCH ": &r.changeMany, "DELETE ": &r.removeMany, "GET summary": &r.summary,
		"GET {key}": &r.get, "PATCH {key}": &r.change, "DELETE {key}": &r.remove,
	}[op.method+" "+shape]; to != nil {
		*to = op
		return
	}
	if len(words) == 4 && words[3] == "{other}" {
		switch op.method {
		case http.MethodPut:
			r.links = append(r.links, op)
		case http.MethodDelete:
			r.unlinks = append(r.unlinks, op)
		}
	}
}

// addCall adds a named query or routine, once if it answers by two methods: by POST,
// whose body tells the types of its arguments.
func (d *document) addCall(op *operation) {
	for i, known := range d.calls {
		if known.path == op.path {
			if op.method == http.MethodGet {
				d.calls[i] = op
			}
			return
		}
	}
	d.calls = append(d.calls, op)
}

// describe finds the columns, the key and the relations of a resource.
func (r *resource) describe(raw openAPI) {
	for _, p := range r.list.params {
		if p.name == "properties" {
			items, _ := p.schema["items"].(map[string]any)
			for _, name := range texts(items["enum"]) {
				r.columns = append(r.columns, column{name: name})
			}
		}
		if p.name == "with" {
			items, _ := p.schema["items"].(map[string]any)
			r.ends = texts(items["examples"])
		}
	}
	for name, schema := range raw.Components.Schemas {
		part, ok := strings.CutSuffix(name, ".part")
		if ok && r.isOf(schema) {
			r.row = schema
			r.comment, _ = raw.Components.Schemas[part]["description"].(string)
			r.draft = raw.Components.Schemas[part+".draft"]
			r.required = texts(raw.Components.Schemas[part+".new"]["required"])
			r.required = append(r.required, alternatives(raw.Components.Schemas[part+".new"])...)
			break
		}
	}
	properties, _ := r.row["properties"].(map[string]any)
	for i := range r.columns {
		r.columns[i].schema, _ = properties[r.columns[i].name].(map[string]any)
	}
	if r.get != nil {
		for _, p := range r.get.params {
			if p.name == "key" {
				_, names, _ := strings.Cut(strings.TrimSuffix(p.about, "."), ": ")
				r.key = strings.Split(names, ",")
			}
		}
	}
}

// isOf reports whether a schema has the columns of the resource, and its operations.
func (r *resource) isOf(schema map[string]any) bool {
	properties, _ := schema["properties"].(map[string]any)
	n := 0
	for name := range properties {
		if slices.ContainsFunc(r.columns, func(c column) bool { return c.name == name }) || slices.Contains(r.ends, name) || strings.HasSuffix(name, "_url") || strings.HasSuffix(name, "Url") {
			n++
		}
	}
	return len(r.columns) > 0 && n == len(properties) && n >= len(r.columns)
}

// alternatives are the columns of references that a new row must have, if it does not
// bring the row that it refers to.
func alternatives(schema map[string]any) (names []string) {
	all, _ := schema["allOf"].([]any)
	for _, one := range all {
		part, _ := one.(map[string]any)
		some, _ := part["anyOf"].([]any)
		if len(some) > 0 {
			first, _ := some[0].(map[string]any)
			names = append(names, texts(first["required"])...)
		}
	}
	return names
}

func texts(list any) (names []string) {
	items, _ := list.([]any)
	for _, item := range items {
		if s, ok := item.(string); ok {
			names = append(names, s)
		}
	}
	return names
}

// mostComment is how much of a comment of the database is told.
const mostComment = 200

// told is a text of the database in the description of a tool: one line in quotes, which
// it cannot leave.
func told(text string) string {
	words := strings.FieldsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) })
	text = strings.NewReplacer(`"`, "'", "“", "'", "”", "'", "<", "(", ">", ")", "`", "'").Replace(strings.Join(words, " "))
	if runes := []rune(text); len(runes) > mostComment {
		text = string(runes[:mostComment]) + "…"
	}
	if text == "" {
		return ""
	}
	return `"` + text + `"`
}
