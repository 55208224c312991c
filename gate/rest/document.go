package rest

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
)

// Described says what the OpenAPI document tells of a route of one's own: an
// operation object of OpenAPI 3.1. Routes that say nothing, and are not in the
// document, are listed there with their path only.
func (r Route) Described(operation string) Route {
	r.operation = json.RawMessage(operation)
	return r
}

// complete adds to the document of a version what is made by hand: routes that
// it does not list, and properties that are computed.
func (a *API) complete(text []byte, v *Version, parts []Part) ([]byte, error) {
	var doc map[string]any
	if err := json.Unmarshal(text, &doc); err != nil {
		return text, nil // without a document there is nothing to complete
	}
	paths, _ := doc["paths"].(map[string]any)
	if paths == nil {
		return text, nil
	}
	added := a.addOperations(paths, v, parts)
	for _, p := range parts {
		if p.resource != nil && len(p.resource.computed) > 0 {
			if err := a.addComputed(doc, v, p.resource); err != nil {
				return nil, err
			}
			added = true
		}
	}
	if !added {
		return text, nil // as it was written, in its order
	}
	out, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("completing the OpenAPI document: %w", err)
	}
	return append(out, '\n'), nil
}

func (a *API) addOperations(paths map[string]any, v *Version, parts []Part) (added bool) {
	for _, p := range parts {
		for _, r := range p.routes {
			method, path, there := strings.Cut(a.patternIn(v, p.resource, r.pattern), " ")
			if !there {
				continue
			}
			item, _ := paths[path].(map[string]any)
			if item == nil {
				item = map[string]any{}
			}
			if _, known := item[strings.ToLower(method)]; known {
				continue
			}
			item[strings.ToLower(method)] = r.operationOn(method, path)
			paths[path] = item
			added = true
		}
	}
	return added
}

var wildcard = regexp.MustCompile(`\{(\w+)\}`)

// operationOn is what the document tells of a route.
func (r Route) operationOn(method, path string) map[string]any {
	op := map[string]any{}
	if r.operation != nil {
		_ = json.Unmarshal(r.operation, &op) // which was checked
	}
	if op["responses"] == nil {
		op["responses"] = map[string]any{"default": map[string]any{"description": http.StatusText(http.StatusOK)}}
	}
	if op["summary"] == nil {
		op["summary"] = method + " " + path
	}
	if op["parameters"] == nil {
		var list []any
		for _, m := range wildcard.FindAllStringSubmatch(path, -1) {
			list = append(list, map[string]any{"name": m[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
		}
		if list != nil {
			op["parameters"] = list
		}
	}
	return op
}

// addComputed adds the computed properties of a resource to the schemas of its
// rows, which the schema of its list refers to.
func (a *API) addComputed(doc map[string]any, v *Version, r *resource) error {
	_, path, there := strings.Cut(a.patternIn(v, r, "GET /"+r.path), " ")
	if !there {
		return nil
	}
	name := listedSchema(doc, at(doc, "paths", path, "get"))
	found := false
	for _, schema := range []string{name, name + ".part"} {
		properties, ok := at(doc, "components", "schemas", schema, "properties").(map[string]any)
		if !ok {
			continue // it builds on the other
		}
		found = true
		for _, c := range r.computed {
			properties[c.name] = withReadOnly(c.schema)
		}
	}
	if !found {
		return fmt.Errorf("the OpenAPI document has no schema of the rows at %s", path)
	}
	return nil
}

func withReadOnly(schema json.RawMessage) map[string]any {
	s := map[string]any{}
	_ = json.Unmarshal(schema, &s) // which was checked
	s["readOnly"] = true
	return s
}

// at follows names into nested objects.
func at(v any, names ...string) any {
	for _, name := range names {
		o, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = o[name]
	}
	return v
}

// checkDescribed finds texts that are no JSON objects.
func checkDescribed(parts []Part) error {
	object := func(text json.RawMessage) error { return json.Unmarshal(text, &map[string]any{}) }
	for _, p := range parts {
		for _, r := range p.routes {
			if r.operation != nil && object(r.operation) != nil {
				return fmt.Errorf("route %q is described by what is no JSON object", r.pattern)
			}
		}
		if p.resource == nil {
			continue
		}
		for _, c := range p.resource.computed {
			if object(c.schema) != nil {
				return fmt.Errorf("the schema of %s of %s is no JSON object", c.name, p.resource.path)
			}
			if _, taken := p.resource.places[c.name]; taken {
				return fmt.Errorf("%s has a column %s already", p.resource.path, c.name)
			}
		}
	}
	return nil
}
