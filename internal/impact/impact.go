// Package impact says what a change of the schema means: for the generated code,
// for clients of the interface, for named queries, and for the developer's own
// code.
package impact

import (
	"fmt"
	"slices"
	"strings"

	"widegate/gate"
	"widegate/internal/catalog"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render/golang"
)

// Report is what a change means.
type Report struct {
	Changes   []catalog.Change `json:"changes"`
	Renames   []catalog.Rename `json:"renames"`
	Code      []Line           `json:"code"`
	Interface []Line           `json:"interface"`
	Queries   []string         `json:"queries"`   // named queries that do not hold any more, and why
	Uses      []Use            `json:"uses"`      // places in the developer's own code that will not build
	Callers   []Use            `json:"callers"`   // places in code that calls the service by the client
	Conflicts []merge.Conflict `json:"conflicts"` // places where an edit and the change meet
}

// Line is one thing that comes, goes or is different.
type Line struct {
	Kind   catalog.ChangeKind `json:"kind"`
	Thing  string             `json:"thing"`
	Name   string             `json:"name"`
	Text   string             `json:"text"`
	Breaks bool               `json:"breaks"`         // who relies on it must change something
	Rule   string             `json:"rule,omitempty"` // by which it breaks, or not
}

// Use is a place in the developer's own code.
type Use struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Decl    string `json:"decl,omitempty"`
	Message string `json:"message"`
	Now     string `json:"now,omitempty"` // what the name is now, where there is one
}

// Breaks reports whether somebody must do something.
func (r *Report) Breaks() bool {
	breaks := func(l Line) bool { return l.Breaks }
	return len(r.Queries)+len(r.Uses)+len(r.Callers)+len(r.Conflicts) > 0 || slices.ContainsFunc(r.Interface, breaks)
}

// Empty reports whether nothing is different at all.
func (r *Report) Empty() bool {
	return len(r.Changes)+len(r.Code)+len(r.Interface)+len(r.Queries)+len(r.Uses)+len(r.Callers)+len(r.Conflicts) == 0
}

// Code compares two models: entities, fields, relations, what finds a row by a
// key, enums and routines.
func Code(before, after *model.Model, renames []catalog.Rename) []Line {
	c := &comparison{renames: renames}
	for _, was := range before.Entities {
		now := after.Entity(c.tableNow(was.Table.FullName()))
		if now == nil {
			c.add(catalog.Dropped, "entity", was.Name, "%s is gone", was.Name)
			continue
		}
		c.entity(was, now)
	}
	for _, now := range after.Entities {
		if !slices.ContainsFunc(before.Entities, func(e *model.Entity) bool { return c.tableNow(e.Table.FullName()) == now.Table.FullName() }) {
			c.add(catalog.Added, "entity", now.Name, "%s is new, with %s", now.Name, count(len(now.Fields), "field"))
		}
	}
	c.enums(before, after)
	return c.lines
}

type comparison struct {
	renames []catalog.Rename
	lines   []Line
}

func (c *comparison) add(kind catalog.ChangeKind, thing, name, format string, args ...any) {
	c.lines = append(c.lines, Line{Kind: kind, Thing: thing, Name: name, Text: fmt.Sprintf(format, args...), Breaks: kind != catalog.Added})
}

func (c *comparison) tableNow(full string) string {
	for _, r := range c.renames {
		if r.Thing == catalog.RenamedTable && r.From == full {
			return r.To
		}
	}
	return full
}

func (c *comparison) columnNow(table, column string) string {
	for _, r := range c.renames {
		if r.Thing == catalog.RenamedColumn && r.In == table && r.From == column {
			return r.To
		}
	}
	return column
}

func (c *comparison) entity(was, now *model.Entity) {
	if was.Name != now.Name {
		c.add(catalog.Renamed, "entity", now.Name, "%s is called %s now, and %s %s", was.Name, now.Name, was.Plural, now.Plural)
	}
	at := now.Name + "."
	seen := map[*model.Field]bool{}
	for _, f := range was.Fields {
		g := now.Field(c.columnNow(now.Table.FullName(), f.Column.Name))
		if g == nil {
			c.add(catalog.Dropped, "field", at+f.Name, "%s%s is gone", at, f.Name)
			continue
		}
		seen[g] = true
		if f.Name != g.Name {
			c.add(catalog.Renamed, "field", at+g.Name, "%s%s is called %s now", at, f.Name, g.Name)
		}
		if golang.FieldType(f) != golang.FieldType(g) {
			c.add(catalog.Altered, "field", at+g.Name, "%s%s is %s now, was %s", at, g.Name, golang.FieldType(g), golang.FieldType(f))
		}
	}
	for _, g := range now.Fields {
		if !seen[g] {
			c.add(catalog.Added, "field", at+g.Name, "%s%s is new, %s", at, g.Name, golang.FieldType(g))
		}
	}
	if golang.KeyType(was) != golang.KeyType(now) {
		c.add(catalog.Altered, "key", now.Name, "the key of %s is %s now, was %s", now.Name, orNone(golang.KeyType(now)), orNone(golang.KeyType(was)))
	}
	c.relations(was, now)
	c.finders(was, now)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (c *comparison) relations(was, now *model.Entity) {
	at := now.Name + "."
	text := func(r *model.Relation) string { return fmt.Sprintf("%s %s", r.Kind, r.To.Name) }
	find := func(list []*model.Relation, name string) *model.Relation {
		i := slices.IndexFunc(list, func(r *model.Relation) bool { return r.Name == name })
		if i < 0 {
			return nil
		}
		return list[i]
	}
	for _, r := range was.Relations {
		switch x := find(now.Relations, r.Name); {
		case x == nil:
			c.add(catalog.Dropped, "relation", at+r.Name, "the relation %s%s is gone", at, r.Name)
		case x.Kind != r.Kind || c.tableNow(r.To.Table.FullName()) != x.To.Table.FullName():
			c.add(catalog.Altered, "relation", at+r.Name, "the relation %s%s is %s now, was %s", at, r.Name, text(x), text(r))
		}
	}
	for _, r := range now.Relations {
		if find(was.Relations, r.Name) == nil {
			c.add(catalog.Added, "relation", at+r.Name, "the relation %s%s is new, %s", at, r.Name, text(r))
		}
	}
}

func (c *comparison) finders(was, now *model.Entity) {
	has := func(list []model.Finder, f model.Finder) bool {
		return slices.ContainsFunc(list, func(x model.Finder) bool { return x.Name == f.Name })
	}
	for _, f := range was.Finders {
		if !has(now.Finders, f) {
			c.add(catalog.Dropped, "function", now.Plural+"."+f.Name, "%s.%s is gone", now.Plural, f.Name)
		}
	}
	for _, f := range now.Finders {
		if !has(was.Finders, f) {
			c.add(catalog.Added, "function", now.Plural+"."+f.Name, "%s.%s is new", now.Plural, f.Name)
		}
	}
}

func (c *comparison) enums(before, after *model.Model) {
	find := func(m *model.Model, name string) *model.Enum {
		i := slices.IndexFunc(m.Enums, func(e *model.Enum) bool { return e.Name == name })
		if i < 0 {
			return nil
		}
		return m.Enums[i]
	}
	for _, e := range before.Enums {
		now := find(after, e.Name)
		if now == nil {
			c.add(catalog.Dropped, "enum", e.Name, "the type %s is gone", e.Name)
			continue
		}
		c.labels(e, now)
	}
	for _, e := range after.Enums {
		if find(before, e.Name) == nil {
			c.add(catalog.Added, "enum", e.Name, "the type %s is new", e.Name)
		}
	}
}

// labels compares the constants of an enum.
func (c *comparison) labels(was, now *model.Enum) {
	renamed := map[model.Label]bool{}
	for _, l := range was.Labels {
		if slices.Contains(now.Labels, l) {
			continue
		}
		at := slices.IndexFunc(now.Labels, func(x model.Label) bool {
			return slices.ContainsFunc(c.renames, func(r catalog.Rename) bool {
				return r.Thing == catalog.RenamedLabel && r.From == l.Text && r.To == x.Text
			})
		})
		if at < 0 {
			c.add(catalog.Dropped, "constant", l.Name, "%s is gone", l.Name)
			continue
		}
		renamed[now.Labels[at]] = true
		c.add(catalog.Renamed, "constant", now.Labels[at].Name, "%s is called %s now", l.Name, now.Labels[at].Name)
	}
	for _, l := range now.Labels {
		if !slices.Contains(was.Labels, l) && !renamed[l] {
			c.add(catalog.Added, "constant", l.Name, "%s is new", l.Name)
		}
	}
}

// count is a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Clients compares the interfaces of two models, of which documents are given.
func Clients(was, now *model.Model, before, after []byte, renames []catalog.Rename) ([]Line, error) {
	list, err := compareDocuments(before, after, spellingOf(was, now, renames))
	if err != nil {
		return nil, err
	}
	c := &comparison{renames: renames}
	for _, e := range was.Entities {
		x := now.Entity(c.tableNow(e.Table.FullName()))
		if x == nil || len(e.Key) == 0 || len(x.Key) == 0 {
			continue
		}
		old, key := keyText(e), keyText(x)
		for i, f := range e.Key {
			if i < len(x.Key) && c.columnNow(x.Table.FullName(), f.Column.Name) == x.Key[i].Column.Name {
				old = strings.Replace(old, f.Column.Name, x.Key[i].Column.Name, 1)
			}
		}
		if old != key {
			list = append(list, Line{Kind: catalog.Altered, Thing: "key", Name: x.Name, Breaks: true, Rule: RuleAddress,
				Text: fmt.Sprintf("the key in the addresses of %s is %s now, was %s", x.Plural, key, old)})
		}
	}
	return list, nil
}

func keyText(e *model.Entity) string {
	names := make([]string, len(e.Key))
	for i, f := range e.Key {
		names[i] = f.Column.Name
	}
	return strings.Join(names, ", ")
}

// spellingOf is what renames do to the names in the interface of a model.
func spellingOf(before, after *model.Model, renames []catalog.Rename) spelling {
	c := &comparison{renames: renames}
	s := spelling{entities: map[string]string{}, properties: map[string]map[string]string{}}
	seen := func(m *model.Model, column string) string {
		if m.API.Names == project.Camel {
			return gate.CamelCase(column)
		}
		return column
	}
	for _, was := range before.Entities {
		now := after.Entity(c.tableNow(was.Table.FullName()))
		if now == nil {
			continue
		}
		if was.Name != now.Name {
			s.entities[was.Name] = now.Name
		}
		for _, r := range renames {
			if r.Thing == catalog.RenamedColumn && r.In == now.Table.FullName() {
				if s.properties[now.Name] == nil {
					s.properties[now.Name] = map[string]string{}
				}
				s.properties[now.Name][seen(before, r.From)] = seen(after, r.To)
			}
		}
	}
	return s
}

// Uses are places that will not build, with the new names of what they use.
func Uses(breaks []merge.Conflict, symbols map[string]string) []Use {
	uses := []Use{}
	for _, c := range breaks {
		message := strings.TrimPrefix(c.Message, "with the new rendering this does not build: ")
		message, _, _ = strings.Cut(message, ", and what this means is called ") // Now tells it
		uses = append(uses, Use{File: c.File, Line: c.Line, Decl: c.Decl, Message: message, Now: nameNow(message, symbols)})
	}
	return uses
}

// nameNow is what an error of the type checker misses, as it is called now.
func nameNow(message string, symbols map[string]string) string {
	name := merge.Missing(message)
	if name == "" {
		return ""
	}
	owner := ""
	for _, sign := range []string{"(type ", "literal of type "} {
		if _, after, ok := strings.Cut(message, sign); ok {
			owner, _, _ = strings.Cut(strings.TrimPrefix(after, "*"), " ")
			owner = owner[strings.LastIndexByte(owner, '.')+1:]
		}
	}
	best := ""
	for old, now := range symbols {
		was, _, isMember := strings.Cut(old, ".")
		switch {
		case old == name:
			return now
		case isMember && strings.HasSuffix(old, "."+name) && (best == "" || was == owner || symbols[was] == owner):
			best = now
		}
	}
	return best
}
