package impact

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// The rules by which a change of the interface breaks clients of its OpenAPI
// document, or does not.
const (
	RuleEndpointGone    = "a client may call it"
	RuleEndpointNew     = "no client calls it yet"
	RuleAnswerGone      = "a client may read it"
	RuleAnswerNew       = "clients leave alone what they do not know"
	RuleAnswerNull      = "a client may not expect null"
	RuleAnswerType      = "a client reads it as it was"
	RuleAnswerNarrower  = "what comes was possible before"
	RuleRequestGone     = "requests that have it are refused"
	RuleRequestNew      = "requests need not have it"
	RuleRequestRequired = "requests without it are refused"
	RuleRequestType     = "requests with the old type are refused"
	RuleRequestNarrower = "requests that were good may be refused"
	RuleRequestWider    = "requests that were good still are"
	RuleAddress         = "clients keep the addresses of rows"
	RuleLabelNew        = "clients must be ready for labels that they do not know"
)

// spelling is what is called otherwise in the interface.
type spelling struct {
	entities   map[string]string            // new name by the old one
	properties map[string]map[string]string // likewise, by the new name of the entity
}

// compareDocuments compares two OpenAPI documents of services that this tool
// writes.
func compareDocuments(before, after []byte, names spelling) ([]Line, error) {
	if bytes.Equal(before, after) {
		return []Line{}, nil
	}
	a, b, err := differing(before, after)
	if err != nil {
		return nil, err
	}
	i := &interfaces{spelling: names, lines: []Line{}}
	i.endpoints(a, b)
	i.parameters(a, b)
	i.bodies(a, b)
	return i.lines, nil
}

// document is what is looked at of an OpenAPI document.
type document struct {
	paths      map[string]map[string]json.RawMessage
	parameters map[string]parameter // that operations share
	schemas    map[string]schema
	names      map[string]bool // of all schemas
}

// outline is a document of which only the parts are told apart.
type outline struct {
	Paths      map[string]json.RawMessage `json:"paths"`
	Components struct {
		Parameters map[string]parameter       `json:"parameters"`
		Schemas    map[string]json.RawMessage `json:"schemas"`
	} `json:"components"`
}

// parameter is one of an operation, or a reference to a shared one.
type parameter struct {
	Ref      string `json:"$ref"`
	Name     string `json:"name"`
	Required bool   `json:"required"`
}

// differing reads two documents, of which what is the same is not looked into: of
// a thousand tables one or two are different. Their paths stay, as names.
func differing(before, after []byte) (a, b document, err error) {
	var old, now outline
	if err := json.Unmarshal(before, &old); err != nil {
		return a, b, fmt.Errorf("reading the OpenAPI document of before: %w", err)
	}
	if err := json.Unmarshal(after, &now); err != nil {
		return a, b, fmt.Errorf("reading the OpenAPI document of now: %w", err)
	}
	if a, err = old.without(now); err == nil {
		b, err = now.without(old)
	}
	return a, b, err
}

// without decodes what another document has not, or has otherwise.
func (o outline) without(other outline) (document, error) {
	d := document{paths: map[string]map[string]json.RawMessage{}, parameters: o.Components.Parameters, schemas: map[string]schema{}, names: map[string]bool{}}
	for path, text := range o.Paths {
		item := map[string]json.RawMessage{}
		if same, there := other.Paths[path]; !there || !bytes.Equal(same, text) {
			if err := json.Unmarshal(text, &item); err != nil {
				return d, fmt.Errorf("reading the path %s of an OpenAPI document: %w", path, err)
			}
		}
		d.paths[path] = item
	}
	for name := range o.Components.Schemas {
		d.names[name] = true
		if o.sameSchema(other, name) && o.sameSchema(other, baseOf(name)) {
			continue
		}
		s, err := o.schema(name)
		if err != nil {
			return d, err
		}
		d.schemas[name] = s
	}
	return d, nil
}

func (o outline) sameSchema(other outline, name string) bool {
	text, here := o.Components.Schemas[name]
	same, there := other.Components.Schemas[name]
	return here == there && bytes.Equal(text, same)
}

// schema decodes a schema, with the properties of the one that it builds on.
func (o outline) schema(name string) (s schema, err error) {
	for _, part := range []string{baseOf(name), name} {
		if text, there := o.Components.Schemas[part]; there {
			if err := json.Unmarshal(text, &s); err != nil {
				return s, fmt.Errorf("reading the schema %s of an OpenAPI document: %w", part, err)
			}
		}
	}
	return s, nil
}

// baseOf is the schema that has the properties of a row, or of a new one.
func baseOf(name string) string {
	entity, role, _ := strings.Cut(name, ".")
	switch {
	case role == "":
		return entity + ".part"
	case strings.HasPrefix("."+role, inNew):
		return entity + ".draft"
	}
	return ""
}

// schema is a JSON Schema of an object.
type schema struct {
	Required   []string       `json:"required"`
	Properties map[string]any `json:"properties"`
}

type interfaces struct {
	spelling spelling
	lines    []Line
}

func (i *interfaces) add(kind catalog.ChangeKind, thing, name string, breaks bool, rule, format string, args ...any) {
	i.lines = append(i.lines, Line{Kind: kind, Thing: thing, Name: name, Text: fmt.Sprintf(format, args...), Breaks: breaks, Rule: rule})
}

var methods = []string{"get", "post", "put", "patch", "delete"}

// endpoints tells of resources that come or go as a whole in one line.
func (i *interfaces) endpoints(a, b document) {
	i.only(a, b, func(path string, whole bool, calls []string) {
		if whole {
			i.add(catalog.Dropped, "endpoint", path, true, RuleEndpointGone, "%s is gone, with all below it", path)
			return
		}
		for _, call := range calls {
			i.add(catalog.Dropped, "endpoint", call, true, RuleEndpointGone, "%s is gone", call)
		}
	})
	i.only(b, a, func(path string, whole bool, calls []string) {
		if whole {
			i.add(catalog.Added, "endpoint", path, false, RuleEndpointNew, "%s is new, with all below it", path)
			return
		}
		for _, call := range calls {
			i.add(catalog.Added, "endpoint", call, false, RuleEndpointNew, "%s is new", call)
		}
	})
}

// only visits what one document has and the other has not, by collection.
func (i *interfaces) only(a, b document, do func(path string, whole bool, calls []string)) {
	groups := map[string][]string{}
	kept := map[string]bool{}
	for path, item := range a.paths {
		collection, _, _ := strings.Cut(path, "/{")
		collection = strings.TrimSuffix(collection, "/summary")
		if _, both := b.paths[path]; both {
			kept[collection] = true
		}
		for _, method := range methods {
			if item[method] == nil || b.paths[path][method] != nil {
				continue
			}
			groups[collection] = append(groups[collection], strings.ToUpper(method)+" "+path)
		}
	}
	for _, collection := range slices.Sorted(maps.Keys(groups)) {
		slices.Sort(groups[collection])
		do(collection, !kept[collection] && len(groups[collection]) > 1, groups[collection])
	}
}

// parameters compares those of operations that are in both, each in one line
// however many operations have it.
func (i *interfaces) parameters(a, b document) {
	gone, fresh, needed := map[string][]string{}, map[string][]string{}, map[string][]string{}
	for _, path := range slices.Sorted(maps.Keys(a.paths)) {
		for _, method := range methods {
			if a.paths[path][method] == nil || b.paths[path][method] == nil {
				continue
			}
			was, now := a.parametersOf(a.paths[path][method]), b.parametersOf(b.paths[path][method])
			call := strings.ToUpper(method) + " " + path
			for name := range was {
				if _, there := now[name]; !there {
					gone[name] = append(gone[name], call)
				}
			}
			for name, must := range now {
				if _, there := was[name]; !there && must {
					needed[name] = append(needed[name], call)
				} else if !there {
					fresh[name] = append(fresh[name], call)
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(gone)) {
		i.add(catalog.Dropped, "parameter", name, true, RuleRequestGone, "the parameter %s is gone from %s", name, someOf(gone[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(needed)) {
		i.add(catalog.Added, "parameter", name, true, RuleRequestRequired, "the parameter %s must be given to %s now", name, someOf(needed[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(fresh)) {
		i.add(catalog.Added, "parameter", name, false, RuleRequestNew, "the parameter %s is new at %s", name, someOf(fresh[name]))
	}
}

// someOf is the first of a list, and how many more there are.
func someOf(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return fmt.Sprintf("%s and %d more", list[0], len(list)-1)
}

// parametersOf are the names of an operation's, and whether they must be given.
func (d document) parametersOf(operation json.RawMessage) map[string]bool {
	var o struct {
		Parameters []parameter `json:"parameters"`
	}
	names := map[string]bool{}
	if operation == nil || json.Unmarshal(operation, &o) != nil {
		return names
	}
	for _, p := range o.Parameters {
		if p.Ref != "" {
			p = d.parameters[p.Ref[strings.LastIndexByte(p.Ref, '/')+1:]]
		}
		names[p.Name] = p.Required
	}
	return names
}

// The roles of schemas, which their names end in.
const (
	inNew    = ".new"
	inChange = ".change"
)

// bodies compares what is in answers and requests, property by property.
func (i *interfaces) bodies(a, b document) {
	for _, old := range slices.Sorted(maps.Keys(a.names)) {
		name := old
		if now, renamed := i.spelling.entities[old]; renamed {
			name = now
		}
		if strings.Contains(name, ".") || !b.names[name] {
			continue
		}
		answers := pairOf{a.schemas[old], b.schemas[name]}
		requests := pairOf{a.schemas[old+inNew], b.schemas[name+inNew]}
		if len(requests.was.Properties) == 0 {
			requests = pairOf{a.schemas[old+inChange], b.schemas[name+inChange]}
		}
		for _, was := range slices.Sorted(maps.Keys(i.spelling.properties[name])) {
			i.renamed(name, was, i.spelling.properties[name][was], answers, requests)
		}
		names := map[string]bool{}
		for _, s := range []schema{answers.was, answers.now, requests.was, requests.now} {
			for property := range s.Properties {
				names[property] = true
			}
		}
		for _, property := range slices.Sorted(maps.Keys(names)) {
			i.property(name, property, answers, requests)
		}
	}
}

type pairOf struct{ was, now schema }

// renamed tells of a property with another name, and puts the old one under it
// so that what else is different of it is found.
func (i *interfaces) renamed(entity, was, now string, pairs ...pairOf) {
	found := false
	for _, p := range pairs {
		if old, there := p.was.Properties[was]; there && p.now.Properties[now] != nil {
			found = true
			delete(p.was.Properties, was)
			p.was.Properties[now] = old
			if k := slices.Index(p.was.Required, was); k >= 0 {
				p.was.Required[k] = now
			}
		}
	}
	if found {
		i.add(catalog.Renamed, "property", entity+"."+now, true, RuleAnswerGone, "%s.%s is called %s now", entity, was, now)
	}
}

// property compares one of answers and requests.
func (i *interfaces) property(entity, name string, answers, requests pairOf) {
	at := entity + "." + name
	wasRead, isRead := answers.has(name)
	wasSent, isSent := requests.has(name)
	switch {
	case wasRead && !isRead && wasSent && !isSent:
		i.add(catalog.Dropped, "property", at, true, RuleAnswerGone, "%s is gone from answers and requests", at)
	case wasRead && !isRead:
		i.add(catalog.Dropped, "property", at, true, RuleAnswerGone, "%s is gone from answers", at)
	case wasSent && !isSent:
		i.add(catalog.Dropped, "property", at, true, RuleRequestGone, "%s is gone from requests", at)
	}
	switch must := slices.Contains(requests.now.Required, name); {
	case !wasSent && isSent && must:
		i.add(catalog.Added, "property", at, true, RuleRequestRequired, "%s is new, and must be given in requests", at)
	case !wasRead && isRead:
		i.add(catalog.Added, "property", at, false, RuleAnswerNew, "%s is new", at)
	case !wasSent && isSent:
		i.add(catalog.Added, "property", at, false, RuleRequestNew, "%s is new in requests", at)
	}
	if wasRead && isRead {
		i.differs(at, answers.was.Properties[name], answers.now.Properties[name], "answers")
	}
	if wasSent && isSent {
		i.differs(at, requests.was.Properties[name], requests.now.Properties[name], "requests")
		i.required(at, name, requests)
	}
}

func (p pairOf) has(name string) (was, now bool) {
	_, was = p.was.Properties[name]
	_, now = p.now.Properties[name]
	return was, now
}

func (i *interfaces) required(at, name string, p pairOf) {
	was, must := slices.Contains(p.was.Required, name), slices.Contains(p.now.Required, name)
	switch {
	case must && !was:
		i.add(catalog.Altered, "property", at, true, RuleRequestRequired, "%s must be given in requests now", at)
	case was && !must:
		i.add(catalog.Altered, "property", at, false, RuleRequestWider, "%s need not be given in requests any more", at)
	}
}

// differs compares the schema of one property.
func (i *interfaces) differs(at string, was, now any, where string) {
	a, b := asObject(was), asObject(now)
	if a == nil || b == nil {
		return
	}
	typesA, nullA := typesOf(a)
	typesB, nullB := typesOf(b)
	answers := where == "answers"
	if shape(a, typesA) != shape(b, typesB) {
		rule := RuleRequestType
		if answers {
			rule = RuleAnswerType
		}
		i.add(catalog.Altered, "property", at, true, rule, "%s is %s in %s now, was %s", at, shape(b, typesB), where, shape(a, typesA))
		return
	}
	switch {
	case nullA != nullB && answers && nullB:
		i.add(catalog.Altered, "property", at, true, RuleAnswerNull, "%s may be null in answers now", at)
	case nullA != nullB && answers:
		i.add(catalog.Altered, "property", at, false, RuleAnswerNarrower, "%s is never null in answers any more", at)
	case nullA != nullB && nullA:
		i.add(catalog.Altered, "property", at, true, RuleRequestNarrower, "%s must not be null in requests any more", at)
	case nullA != nullB:
		i.add(catalog.Altered, "property", at, false, RuleRequestWider, "%s may be null in requests now", at)
	}
	i.labels(at, a, b, answers)
	if !answers {
		i.limits(at, a, b)
	}
}

func (i *interfaces) labels(at string, a, b map[string]any, answers bool) {
	was, now := textsOf(a["enum"]), textsOf(b["enum"])
	for _, l := range was {
		if !slices.Contains(now, l) && !answers {
			i.add(catalog.Dropped, "label", at, true, RuleRequestNarrower, "%s can be %q no more", at, l)
		}
	}
	for _, l := range now {
		if !slices.Contains(was, l) && answers {
			i.add(catalog.Added, "label", at, false, RuleLabelNew, "%s can be %q now", at, l)
		}
	}
}

// limits compares the bounds of a value that is sent.
func (i *interfaces) limits(at string, a, b map[string]any) {
	for _, bound := range []struct {
		key   string
		lower bool // a greater bound is the narrower one
	}{{"maxLength", false}, {"maximum", false}, {"exclusiveMaximum", false}, {"minLength", true}, {"minimum", true}, {"exclusiveMinimum", true}} {
		was, hadOne := a[bound.key].(float64)
		now, hasOne := b[bound.key].(float64)
		if was == now && hadOne == hasOne {
			continue
		}
		narrower := hasOne && (!hadOne || now < was != bound.lower)
		rule := RuleRequestWider
		if narrower {
			rule = RuleRequestNarrower
		}
		i.add(catalog.Altered, "property", at, narrower, rule, "%s has the %s %v in requests now, was %v", at, bound.key, orNothing(b[bound.key]), orNothing(a[bound.key]))
	}
}

func orNothing(v any) any {
	if v == nil {
		return "none"
	}
	return v
}

func asObject(v any) map[string]any {
	o, _ := v.(map[string]any)
	return o
}

// typesOf are the types of a schema without null, and whether null is one.
func typesOf(s map[string]any) ([]string, bool) {
	var list []string
	null := false
	for _, t := range append(textsOf(s["type"]), textOf(s["type"])) {
		switch t {
		case "null":
			null = true
		case "":
		default:
			list = append(list, t)
		}
	}
	for _, key := range []string{"oneOf", "anyOf"} {
		options, _ := s[key].([]any)
		for _, o := range options {
			null = null || reflect.DeepEqual(o, map[string]any{"type": "null"})
		}
	}
	return list, null
}

// shape is a type in words: what a client takes a value for.
func shape(s map[string]any, types []string) string {
	text := strings.Join(types, " or ")
	if format := textOf(s["format"]); format != "" {
		text += " (" + format + ")"
	}
	if items := asObject(s["items"]); items != nil {
		of, _ := typesOf(items)
		text += " of " + shape(items, of)
	}
	switch {
	case text != "":
		return text
	case s["$ref"] != nil:
		return "a related row"
	}
	var options []string
	for _, key := range []string{"oneOf", "anyOf"} {
		list, _ := s[key].([]any)
		for _, o := range list {
			option := asObject(o)
			of, null := typesOf(option)
			if text := shape(option, of); option != nil && !(null && len(of) == 0) && !slices.Contains(options, text) {
				options = append(options, text)
			}
		}
	}
	if len(options) == 0 {
		return "any value"
	}
	return strings.Join(options, " or ")
}

func textOf(v any) string {
	s, _ := v.(string)
	return s
}

func textsOf(v any) []string {
	list, _ := v.([]any)
	var texts []string
	for _, x := range list {
		if s, ok := x.(string); ok {
			texts = append(texts, s)
		}
	}
	return texts
}
