package rest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"widegate/gate"
	"widegate/gate/apidoc"
)

// Whole document to anybody, or to nobody; see Config.Document.
const (
	ToAnybody = "anybody"
	ToNobody  = "nobody"
)

// documents are an OpenAPI document as different callers see it.
type documents struct {
	api     *API
	version *Version
	text    []byte
	uses    map[string]use // of operations, by method and path
}

// use is what an operation does with which resource.
type use struct {
	route    Route
	resource *resource // at the beginning of the path; nil for calls
	pattern  string    // without the base
}

// newDocuments keeps a document, and what its operations are.
func (a *API) newDocuments(text []byte, v *Version, parts []Part) (*documents, error) {
	text, err := a.complete(text, v, parts)
	if err != nil {
		return nil, err
	}
	d := &documents{api: a, version: v, text: text, uses: map[string]use{}}
	for _, p := range parts {
		for _, r := range p.routes {
			if pattern := a.patternIn(v, p.resource, r.pattern); pattern != "" {
				r.may = a.mayUse(p.resource, r.pattern)
				d.uses[pattern] = use{r, p.resource, r.pattern}
			}
		}
	}
	return d, nil
}

// ServeHTTP answers with the document.
func (d *documents) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	text, err := d.forCaller(r)
	if err != nil {
		d.api.problemOf(r.Context(), nil, err).send(w, r)
		return
	}
	if d.api.config.Identify != nil {
		w.Header().Set("Cache-Control", "private, no-cache")
		w.Header().Add("Vary", "Authorization, X-API-Key")
	}
	w.Header().Set("ETag", documentETag(text))
	serveText(w, r, mediaJSON, text)
}

// documentETag is the ETag that an OpenAPI document is served with.
func documentETag(text []byte) string {
	sum := sha256.Sum256(text)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// page answers with a page that tells of the document.
func (d *documents) page(w http.ResponseWriter, r *http.Request) {
	text, err := d.forCaller(r)
	if err == nil {
		text, err = apidoc.Page(text, r.URL.Query().Get("tag"), r.URL.Query().Get("find"))
	}
	if err != nil {
		d.api.problemOf(r.Context(), nil, err).send(w, r)
		return
	}
	w.Header().Set("Content-Security-Policy", apidoc.Policy)
	w.Header().Set("Cache-Control", "private, no-cache")
	serveText(w, r, "text/html; charset=utf-8", text)
}

// forCaller is the document without what the sender of a request may not see.
func (d *documents) forCaller(r *http.Request) ([]byte, error) {
	a := d.api
	if a.config.Document == ToNobody {
		return nil, NewProblem(http.StatusNotFound, "this service does not show its document")
	}
	if a.config.Identify == nil || a.config.Document == ToAnybody {
		return d.text, nil
	}
	r, err := a.identify(r)
	if err != nil {
		return nil, err
	}
	ctx := r.Context()
	if d.version != nil {
		ctx = context.WithValue(ctx, versionKey{}, d.version)
	}
	seen := a.viewFor(ctx)
	if text, ok := seen.document.Load(d); ok {
		return d.sent(ctx, text.([]byte))
	}
	text, err := d.narrowed(ctx)
	if err != nil {
		return nil, err
	}
	seen.document.Store(d, text)
	return d.sent(ctx, text)
}

// sent is the document, unless there is nothing in it for those who are not
// known.
func (d *documents) sent(ctx context.Context, text []byte) ([]byte, error) {
	if len(text) == 0 && IdentityOf(ctx) == nil {
		return nil, d.api.config.unknown("to read this")
	}
	if len(text) == 0 {
		return nil, NewProblem(http.StatusForbidden, "none of what this service has is for you")
	}
	return text, nil
}

// narrowed leaves out of the document what may not be seen. It is empty where
// nothing is left.
func (d *documents) narrowed(ctx context.Context) ([]byte, error) {
	var doc map[string]any
	if err := json.Unmarshal(d.text, &doc); err != nil {
		return nil, fmt.Errorf("reading the OpenAPI document: %w", err)
	}
	paths, _ := doc["paths"].(map[string]any)
	kept, used := 0, map[string]bool{}
	shows, before := d.shows(ctx, doc), reached(doc)
	for path, item := range paths {
		operations, _ := item.(map[string]any)
		for method, operation := range operations {
			u, known := d.uses[strings.ToUpper(method)+" "+path]
			if !known {
				continue
			}
			shown, may := d.allowed(ctx, u)
			if !may {
				delete(operations, method)
				continue
			}
			kept++
			op, _ := operation.(map[string]any)
			for _, tag := range asList(op["tags"]) {
				used[fmt.Sprint(tag)] = true
			}
			if shown != nil {
				shown.narrowOperation(doc, op)
			}
		}
		if !slices.ContainsFunc(apidoc.Methods, func(m string) bool { return operations[m] != nil }) {
			delete(paths, path)
		}
	}
	if kept == 0 {
		return nil, nil
	}
	doc["tags"] = slices.DeleteFunc(asList(doc["tags"]), func(tag any) bool { return !used[fmt.Sprint(at(tag, "name"))] })
	narrowComponents(doc, shows)
	after := reached(doc)
	for c := range before {
		if list, _ := at(doc, "components", c.kind).(map[string]any); !after[c] {
			delete(list, c.name)
		}
	}
	text, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("narrowing the OpenAPI document: %w", err)
	}
	return append(text, '\n'), nil
}

// narrowComponents leaves out of the components of resources what may not be seen of
// these.
func narrowComponents(doc map[string]any, shows map[string]*resource) {
	schemas, _ := at(doc, "components", "schemas").(map[string]any)
	for name, schema := range schemas {
		first, _, _ := strings.Cut(name, ".")
		if r := shows[first]; r != nil && !strings.HasSuffix(name, ".list") {
			r.narrowSchema(schema)
		}
	}
	parameters, _ := at(doc, "components", "parameters").(map[string]any)
	for name, p := range parameters {
		first, _, _ := strings.Cut(name, "-")
		if r := shows[first]; r != nil {
			r.narrowParameter(p)
		}
	}
}

// shows are the resources by the names of the schemas of their rows.
func (d *documents) shows(ctx context.Context, doc map[string]any) map[string]*resource {
	list := map[string]*resource{}
	for _, r := range d.api.resources {
		_, path, _ := strings.Cut(d.api.patternIn(d.version, r, "GET /"+r.path), " ")
		if name := listedSchema(doc, at(doc, "paths", path, "get")); name != "" {
			list[name] = r.seen(ctx)
		}
	}
	return list
}

// allowed reports whether the sender of a request may use an operation, and what
// it shows rows of.
func (d *documents) allowed(ctx context.Context, u use) (shown *resource, may bool) {
	if u.resource == nil {
		return nil, u.route.may(ctx) == nil
	}
	method, path, _ := strings.Cut(u.pattern, " ")
	words := strings.Split(path, "/") // "", hives, {key}, relation, {other}
	r, v := u.resource, verbOf(method)
	if len(words) < 4 {
		return r.seen(ctx), r.maySee(ctx, v)
	}
	i := slices.IndexFunc(r.relations, func(rel relation) bool { return pathWord(rel.name) == words[3] })
	if i < 0 { // the content of a column, or what was added by hand
		if v != toRead {
			v = toChange
		}
		seen := r.seen(ctx)
		column := slices.IndexFunc(r.info.Columns, func(c gate.Column) bool { return pathWord(c.Name) == words[3] })
		return seen, (column < 0 || !seen.facets[column].hidden) && r.maySee(ctx, v)
	}
	child := r.relations[i].at
	if len(words) > 4 {
		return child.seen(ctx), r.maySee(ctx, toChange) && child.maySee(ctx, toRead)
	}
	return child.seen(ctx), r.maySee(ctx, toRead) && child.maySee(ctx, v)
}

// maySee reports whether the sender of a request may do something with some rows.
func (r *resource) maySee(ctx context.Context, v verb) bool {
	_, err := r.in(ctx, v)
	return err == nil
}

// listedSchema is the name of the schema of the rows that an operation lists.
func listedSchema(doc, operation any) string {
	list, _ := at(resolved(doc, at(operation, "responses", "200")), "content", mediaJSON, "schema", "$ref").(string)
	return strings.TrimSuffix(strings.TrimPrefix(list, "#/components/schemas/"), ".list")
}

// resolved follows a reference to a component.
func resolved(doc, v any) any {
	if c, ok := componentOf(v); ok {
		return at(doc, "components", c.kind, c.name)
	}
	return v
}

// component is one of the components of a document, and its kind.
type component struct{ kind, name string }

// componentOf is the component that an object refers to.
func componentOf(v any) (c component, ok bool) {
	ref, _ := at(v, "$ref").(string)
	if ref, ok = strings.CutPrefix(ref, "#/components/"); ok {
		c.kind, c.name, ok = strings.Cut(ref, "/")
	}
	return c, ok
}

// knows reports whether a row has a property or a relation of that name, for
// whom the resource is seen by.
func (r *resource) knows(name string) bool {
	return r.holds(name) || r.relation(name) != nil
}

// holds reports whether a name is that of a column or of a computed value.
func (r *resource) holds(name string) bool {
	_, column := r.find(name)
	return column || slices.ContainsFunc(r.computed, func(c computed) bool { return c.name == name })
}

// narrowOperation leaves out of an operation the parameters and examples that
// speak of what may not be seen.
func (r *resource) narrowOperation(doc, op map[string]any) {
	parameters := asList(op["parameters"])
	op["parameters"] = slices.DeleteFunc(parameters, func(p any) bool {
		if _, shared := componentOf(p); !shared {
			r.narrowParameter(p)
		}
		p = resolved(doc, p)
		name, _ := at(p, "name").(string)
		return at(p, "in") == "query" && !slices.Contains(listParameters, name) && !slices.Contains(summaryParameters, name) && !r.knows(name)
	})
	if len(parameters) == 0 {
		delete(op, "parameters")
	}
	examples, _ := at(op, "requestBody", "content", mediaJSON, "examples").(map[string]any)
	for _, e := range examples {
		row, _ := at(e, "value").(map[string]any)
		maps.DeleteFunc(row, func(name string, _ any) bool { return !r.knows(name) })
	}
}

// narrowParameter leaves out of what a parameter may say what may not be seen.
func (r *resource) narrowParameter(p any) {
	switch at(p, "name") {
	case "properties":
		keepKnown(at(p, "schema", "items"), "enum", r.knows)
	case "with":
		keepKnown(at(p, "schema", "items"), "examples", r.knows)
		p.(map[string]any)["description"] = "Relations to embed, separated by commas; a dot leads on. Those to several rows take bounds: (limit:5;sortby:-id;filter:id > 5)."
	}
}

// keepKnown leaves names out of a list of a schema.
func keepKnown(schema any, list string, knows func(string) bool) {
	o, ok := schema.(map[string]any)
	if !ok {
		return
	}
	o[list] = slices.DeleteFunc(asList(o[list]), func(name any) bool { return !knows(fmt.Sprint(name)) })
	if len(asList(o[list])) == 0 {
		delete(o, list)
	}
}

// narrowSchema leaves out of the schema of a row what may not be seen.
func (r *resource) narrowSchema(schema any) {
	properties, _ := at(schema, "properties").(map[string]any)
	maps.DeleteFunc(properties, func(name string, _ any) bool { return !r.knows(name) })
	keepKnown(schema, "required", r.knows)
	for _, either := range asList(at(schema, "allOf")) {
		for _, one := range asList(at(either, "anyOf")) {
			keepKnown(one, "required", r.knows)
			own, _ := at(one, "properties").(map[string]any)
			maps.DeleteFunc(own, func(name string, _ any) bool { return !r.knows(name) })
		}
	}
}

// reached are the components of a document that its paths lead to.
func reached(doc map[string]any) map[component]bool {
	found := map[component]bool{}
	var follow func(v any)
	follow = func(v any) {
		switch v := v.(type) {
		case []any:
			for _, item := range v {
				follow(item)
			}
		case map[string]any:
			if c, ok := componentOf(v); ok && !found[c] {
				found[c] = true
				follow(resolved(doc, v))
			}
			for _, item := range v {
				follow(item)
			}
		}
	}
	follow(doc["paths"])
	return found
}

func asList(v any) []any {
	l, _ := v.([]any)
	return l
}
