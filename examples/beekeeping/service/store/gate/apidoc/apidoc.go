// Package apidoc reads an OpenAPI document for people: the operations of each
// tag, with their parameters, a body to begin with, and their answers. Page makes
// a page of them.
package apidoc

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Tag is the operations of one resource.
type Tag struct {
	Name, Description string
	Operations        []*Operation
}

// Operation is a verb of a path, as the OpenAPI document tells of it.
type Operation struct {
	ID, Method, Path, Summary string
	Parameters                []Parameter
	Media                     string // of the body; empty where there is none
	Example                   string // of the body
	Answers                   []Answer
}

// Parameter is one of an operation.
type Parameter struct {
	Name, In, Description, Type string
	Required                    bool
	Choices                     []string
	Default                     string
}

// Answer is what may come back.
type Answer struct{ Status, Text string }

// mostFound is how many operations are shown that have some words in them.
const mostFound = 40

// Find returns the operations that have all of some words in them.
func Find(tags []*Tag, words []string) []*Tag {
	var list []*Tag
	n := 0
	for _, t := range tags {
		own := &Tag{Name: t.Name}
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

// View is the part of a document that a page shows.
type View struct {
	Service string   // its title
	Names   []string // of all tags
	Tag     string   // the one that is shown
	Find    string   // or what was looked for
	Tags    []*Tag
	All     int
}

// NewView chooses the operations of a tag, or those that have the words of find
// in them.
func NewView(document []byte, tag, find string) (*View, error) {
	var doc map[string]any
	dec := json.NewDecoder(bytes.NewReader(document))
	dec.UseNumber()
	if err := dec.Decode(&doc); err != nil {
		return nil, fmt.Errorf("reading the OpenAPI document: %w", err)
	}
	v := &View{Service: text(doc["info"], "title"), Find: strings.TrimSpace(find)}
	tags := Read(doc)
	for _, t := range tags {
		v.All += len(t.Operations)
		v.Names = append(v.Names, t.Name)
	}
	if v.Find != "" {
		v.Tags = Find(tags, strings.Fields(strings.ToLower(v.Find)))
		return v, nil
	}
	if len(tags) > 0 {
		i := max(slices.Index(v.Names, tag), 0)
		v.Tag, v.Tags = tags[i].Name, tags[i:i+1]
	}
	return v, nil
}

// Methods are the verbs of a path, in the order in which they are told of.
var Methods = []string{"get", "post", "put", "patch", "delete"}

// Read reads the operations of a document, by their tags.
func Read(doc map[string]any) []*Tag {
	var tags []*Tag
	byName := map[string]*Tag{}
	tag := func(name string) *Tag {
		if byName[name] == nil {
			byName[name] = &Tag{Name: name}
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
		for _, method := range Methods {
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
	return slices.DeleteFunc(tags, func(t *Tag) bool { return len(t.Operations) == 0 })
}

func operationOf(doc map[string]any, path, method string, item, op map[string]any) *Operation {
	o := &Operation{ID: text(op, "operationId"), Method: strings.ToUpper(method), Path: path, Summary: text(op, "summary")}
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
		o.Answers = append(o.Answers, Answer{status, text(a, "description")})
	}
	slices.SortFunc(o.Answers, func(a, b Answer) int { return strings.Compare(a.Status, b.Status) })
	return o
}

func parameterOf(p map[string]any) Parameter {
	schema, _ := p["schema"].(map[string]any)
	out := Parameter{Name: text(p, "name"), In: text(p, "in"), Description: text(p, "description"), Type: text(schema, "type"), Default: plain(schema["default"])}
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

// plain is a value of the document as text.
func plain(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return fmt.Sprint(v)
}

func indented(v any) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if enc.Encode(v) != nil {
		return "{}"
	}
	return strings.TrimSuffix(b.String(), "\n")
}
