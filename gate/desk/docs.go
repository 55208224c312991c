package desk

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
)

// docsView is the page that tells of the API.
type docsView struct {
	frame
	Names []string // of all tags
	Tag   string   // the one that is shown
	Find  string   // or what was looked for
	Tags  []*docTag
	All   int
}

// docTag is the operations of one resource.
type docTag struct {
	Name, Description string
	Operations        []*operation
}

// operation is a verb of a path, as the OpenAPI document tells of it.
type operation struct {
	ID, Method, Path, Summary string
	Parameters                []parameter
	Media                     string // of the body; empty where there is none
	Example                   string // of the body
	Answers                   []docAnswer
}

type parameter struct {
	Name, In, Description, Type string
	Required                    bool
	Choices                     []string
	Default                     string
}

type docAnswer struct{ Status, Text string }

// docs shows the OpenAPI document, with a form for each operation.
func (v *visit) docs() error {
	r, err := http.NewRequestWithContext(v.r.Context(), http.MethodGet, "/openapi.json", nil)
	if err != nil {
		return err
	}
	for _, name := range passedOn {
		if value := v.r.Header.Get(name); value != "" {
			r.Header.Set(name, value)
		}
	}
	r.Host = v.r.Host
	w := &written{header: http.Header{}}
	v.data.ServeHTTP(w, r)
	var doc map[string]any
	if err := decode(w.body.Bytes(), &doc); err != nil {
		return err
	}
	view := &docsView{frame: v.frame("The API", crumb{"The API", v.at("docs")}), Find: strings.TrimSpace(v.r.URL.Query().Get("find"))}
	tags := tagsOf(doc)
	for _, t := range tags {
		view.All += len(t.Operations)
		view.Names = append(view.Names, t.Name)
	}
	if view.Find != "" {
		view.Tags = found(tags, strings.Fields(strings.ToLower(view.Find)))
		return v.show(http.StatusOK, "docs", view)
	}
	view.Tag = v.r.URL.Query().Get("tag")
	i := max(slices.Index(view.Names, view.Tag), 0)
	if len(tags) > 0 {
		view.Tag, view.Tags = tags[i].Name, tags[i:i+1]
	}
	return v.show(http.StatusOK, "docs", view)
}

// mostFound is how many operations are shown that have some words in them.
const mostFound = 40

// found are the operations that have all of some words in them.
func found(tags []*docTag, words []string) []*docTag {
	var list []*docTag
	n := 0
	for _, t := range tags {
		own := &docTag{Name: t.Name}
		for _, o := range t.Operations {
			text := strings.ToLower(o.Method + " " + o.Path + " " + o.Summary)
			missing := func(w string) bool { return !strings.Contains(text, w) }
			if n < mostFound && !slices.ContainsFunc(words, missing) {
				own.Operations = append(own.Operations, o)
				n++
			}
		}
		if own.Operations != nil {
			list = append(list, own)
		}
	}
	return list
}

// methods are the verbs of a path, in the order in which they are told of.
var methods = []string{"get", "post", "put", "patch", "delete"}

func tagsOf(doc map[string]any) []*docTag {
	var tags []*docTag
	byName := map[string]*docTag{}
	tag := func(name string) *docTag {
		if byName[name] == nil {
			byName[name] = &docTag{Name: name}
			tags = append(tags, byName[name])
		}
		return byName[name]
	}
	for _, t := range list(doc["tags"]) {
		tag(text(t, "name")).Description = text(t, "description")
	}
	paths, _ := doc["paths"].(map[string]any)
	names := make([]string, 0, len(paths))
	for path := range paths {
		names = append(names, path)
	}
	slices.Sort(names)
	for _, path := range names {
		item, _ := paths[path].(map[string]any)
		for _, method := range methods {
			op, ok := item[method].(map[string]any)
			if !ok {
				continue
			}
			name := "service"
			if named := list(op["tags"]); len(named) > 0 {
				name, _ = named[0].(string)
			}
			t := tag(name)
			t.Operations = append(t.Operations, operationOf(doc, path, method, item, op))
		}
	}
	return slices.DeleteFunc(tags, func(t *docTag) bool { return len(t.Operations) == 0 })
}

func operationOf(doc map[string]any, path, method string, item, op map[string]any) *operation {
	o := &operation{ID: text(op, "operationId"), Method: strings.ToUpper(method), Path: path, Summary: text(op, "summary")}
	if o.ID == "" {
		o.ID = method + strings.NewReplacer("/", "-", "{", "", "}", "").Replace(path)
	}
	for _, p := range append(list(item["parameters"]), list(op["parameters"])...) {
		o.Parameters = append(o.Parameters, parameterOf(resolve(doc, p)))
	}
	body := resolve(doc, op["requestBody"])
	content, _ := body["content"].(map[string]any)
	for _, media := range []string{"application/json", "application/merge-patch+json"} {
		if c, ok := content[media].(map[string]any); ok {
			o.Media = media
			o.Example = exampleOf(doc, c)
			break
		}
	}
	answers, _ := op["responses"].(map[string]any)
	for status := range answers {
		a := resolve(doc, answers[status])
		o.Answers = append(o.Answers, docAnswer{status, text(a, "description")})
	}
	slices.SortFunc(o.Answers, func(a, b docAnswer) int { return strings.Compare(a.Status, b.Status) })
	return o
}

func parameterOf(p map[string]any) parameter {
	schema, _ := p["schema"].(map[string]any)
	out := parameter{Name: text(p, "name"), In: text(p, "in"), Description: text(p, "description"), Type: text(schema, "type"), Default: plain(schema["default"])}
	out.Required, _ = p["required"].(bool)
	for _, choice := range list(schema["enum"]) {
		out.Choices = append(out.Choices, plain(choice))
	}
	if out.Type == "" {
		out.Type = "text"
	}
	return out
}

// exampleOf is a body to begin with: the example of the document, or an object
// with the properties of its schema.
func exampleOf(doc, content map[string]any) string {
	if examples, ok := content["examples"].(map[string]any); ok {
		for _, e := range examples {
			if example, ok := e.(map[string]any); ok {
				return indented(example["value"])
			}
		}
	}
	return "{}"
}

// resolve follows a reference within the document.
func resolve(doc map[string]any, v any) map[string]any {
	o, _ := v.(map[string]any)
	ref, ok := o["$ref"].(string)
	if !ok {
		return o
	}
	var at any = doc
	for _, name := range strings.Split(strings.TrimPrefix(ref, "#/"), "/") {
		inner, _ := at.(map[string]any)
		at = inner[name]
	}
	o, _ = at.(map[string]any)
	return o
}

func list(v any) []any {
	l, _ := v.([]any)
	return l
}

func text(v any, name string) string {
	o, _ := v.(map[string]any)
	switch s := o[name].(type) {
	case string:
		return s
	case json.Number:
		return s.String()
	}
	return ""
}
