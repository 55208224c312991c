package model

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

// Why names are what they are, apart from English.
const (
	saysSo    = "widegate.yaml says so"
	wasBefore = "as it was written before"
)

// Named is one thing of the schema with the name that was chosen for it.
type Named struct {
	Thing  string // apiary_id → apiaries
	Name   string // of what it is in Go
	Path   string // below the base; empty where there is none
	Why    string
	Settle string // lines of the project file that give it this name, to be changed there
}

// whyCalled says how the name of an entity follows from its table.
func (b *builder) whyCalled(t *catalog.Table, one, many []string) string {
	whole := b.words.Split(t.Name)
	switch {
	case b.settings(t).Name != "":
		return saysSo
	case slices.Equal(one, whole) && !slices.Equal(one, many):
		return "the table's name"
	case slices.Equal(one, many):
		return "the table's name; it has no plural"
	case slices.Equal(b.tableWords(t), whole):
		return "the singular"
	}
	return "the singular, without " + b.project.Words.Prefix
}

// Names lists the names of an entity: its own, those of its relations, and those of
// fields that do not follow from their columns.
func (m *Model) Names(e *Entity) []Named {
	table := e.Table.FullName()
	why := e.why
	if rest, cut := strings.CutPrefix(e.Name, m.steady.exported(e.words)); cut && rest != "" {
		why += "; " + m.steady.exported(e.words) + " is taken"
	}
	list := []Named{{
		Thing: table, Name: e.Name + ", " + e.Plural, Path: "/" + e.Path, Why: why,
		Settle: entityLines(e.Table, fmt.Sprintf("name: %s\n    plural: %s\n    path: %s", e.Name, e.Plural, e.Path)),
	}}
	for _, f := range e.Fields {
		if f.Name != m.steady.exported(m.steady.Split(f.Column.Name)) {
			list = append(list, Named{Thing: f.Column.Name, Name: f.Name, Why: f.whyCalled(),
				Settle: entityLines(e.Table, fmt.Sprintf("columns:\n      %s: {name: %s}", project.Quoted(f.Column.Name), f.Name))})
		}
	}
	for _, r := range e.Relations {
		n := Named{Name: r.Name, Path: "/" + e.Path + "/{key}/" + r.Path, Why: r.why}
		switch own, other := sidesOf(r); {
		case r.Join != nil:
			n.Thing = "↔ " + r.To.Table.FullName()
		case r.Owned:
			n.Thing, n.Settle = own+" → "+r.To.Table.FullName(), relationLines(e, r)
		default:
			n.Thing, n.Settle = "← "+r.To.Table.FullName()+"."+other, relationLines(e, r)
		}
		list = append(list, n)
	}
	return list
}

func (f *Field) whyCalled() string {
	if f.set {
		return saysSo
	}
	return "another name is taken, or it is as it was written before"
}

// sidesOf are the columns of a relation on this side and on the other.
func sidesOf(r *Relation) (own, other string) {
	var a, b []string
	for _, p := range r.Pairs {
		a, b = append(a, p[0]), append(b, p[1])
	}
	return strings.Join(a, ", "), strings.Join(b, ", ")
}

// SettleNames is the part of the project file that gives all of those names: each
// table stands there once, and its columns below it.
func SettleNames(list []Named) string {
	var entities, relations []string
	written := map[string]bool{}
	for _, n := range list {
		if rest, found := strings.CutPrefix(n.Settle, "relations:\n"); found {
			relations = append(relations, rest)
			continue
		}
		table := ""
		for line := range strings.SplitSeq(strings.TrimPrefix(n.Settle, "entities:\n"), "\n") {
			switch {
			case !strings.HasPrefix(line, "    "): // a table
				table = line
				if written[table] {
					continue
				}
				written[table] = true
			case line == "    columns:":
				if written[table+line] {
					continue
				}
				written[table+line] = true
			}
			if line != "" {
				entities = append(entities, line)
			}
		}
	}
	var parts []string
	if len(entities) > 0 {
		parts = append(parts, "entities:\n"+strings.Join(entities, "\n"))
	}
	if len(relations) > 0 {
		parts = append(parts, "relations:\n"+strings.Join(relations, "\n"))
	}
	return strings.Join(parts, "\n")
}
