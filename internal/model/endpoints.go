package model

import (
	"slices"
	"strings"
)

// Endpoint is a path of the service and what can be done with it.
type Endpoint struct {
	Path    string // with the base, {column} standing for a value
	Methods []string
}

// Endpoints lists the paths of an entity below the base, the summary apart.
func (e *Entity) Endpoints(base string) []Endpoint {
	var list []Endpoint
	for _, r := range e.Routes() {
		method, path, _ := strings.Cut(r.Pattern, " ")
		if r.Does == DoesSummarize {
			continue
		}
		path = strings.Replace(path, "{key}", e.keyPlaces(), 1)
		if r.Relation != nil {
			path = strings.Replace(path, "{other}", r.Relation.To.keyPlaces(), 1)
		}
		at := slices.IndexFunc(list, func(p Endpoint) bool { return p.Path == base+path })
		if at < 0 {
			at = len(list)
			list = append(list, Endpoint{Path: base + path})
		}
		list[at].Methods = append(list[at].Methods, method)
	}
	return list
}

func (e *Entity) keyPlaces() string {
	places := make([]string, len(e.Key))
	for i, f := range e.Key {
		places[i] = "{" + f.Column.Name + "}"
	}
	return strings.Join(places, ",")
}

// Opposite finds the other side of a relation, or nil where the other entity
// has none.
func (e *Entity) Opposite(r *Relation) *Relation {
	for _, o := range r.To.Relations {
		if o.To != e || o == r || len(o.Pairs) != len(r.Pairs) || (o.Join == nil) != (r.Join == nil) {
			continue
		}
		if r.Join != nil {
			if o.Join.Table == r.Join.Table {
				return o
			}
			continue
		}
		same := o.Owned != r.Owned
		for i := range r.Pairs {
			same = same && r.Pairs[i] == [2]string{o.Pairs[i][1], o.Pairs[i][0]}
		}
		if same {
			return o
		}
	}
	return nil
}

// Entity finds the entity of a table by its full name, or nil.
func (m *Model) Entity(table string) *Entity {
	for _, e := range m.Entities {
		if e.Table.FullName() == table {
			return e
		}
	}
	return nil
}

// IsJoin reports whether a table is only a relation.
func (m *Model) IsJoin(table string) bool {
	for _, t := range m.Joins {
		if t.FullName() == table {
			return true
		}
	}
	return false
}
