package model

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqlquery"
)

// Exposed is a named query or routine that has an endpoint.
type Exposed struct {
	*NamedQuery
	Path    string // queries/best-apiaries
	Handler string // of GET, or of POST where it changes something
	Roles   []string
}

// Expose gives named queries and routines endpoints, by the names of their
// functions.
func (m *Model) Expose(roles map[string][]string) error {
	known := map[string]*NamedQuery{}
	for _, f := range m.Queries {
		for _, q := range f.Queries {
			known[q.Name] = q
		}
	}
	for _, name := range slices.Sorted(maps.Keys(roles)) {
		q := known[name]
		if q == nil {
			names := slices.Sorted(maps.Keys(known))
			next := "the functions are " + cmp.Or(strings.Join(names, ", "), "none: write named queries first")
			if n := catalog.Nearest(name, names); n != "" {
				next = "did you mean " + n + "?"
			}
			return fault.New(next, "widegate.yaml: api.expose names %s, which is no function of a named query or routine", name)
		}
		e := &Exposed{NamedQuery: m.seenQuery(q), Path: "queries/" + kebab(m.steady.Split(name)), Handler: "query" + name, Roles: roles[name]}
		if q.Routine {
			e.Path, e.Handler = "routines/"+kebab(m.steady.Split(name)), "call"+name
		}
		m.Exposed = append(m.Exposed, e)
	}
	for _, v := range m.Versions {
		v.Model.Exposed = m.Exposed
	}
	return nil
}

// seenQuery is a query with the names that callers of the service see.
func (m *Model) seenQuery(q *NamedQuery) *NamedQuery {
	own := *q
	own.Args = slices.Clone(q.Args)
	for i := range own.Args {
		own.Args[i].Field = own.Args[i].Field.named(m.Outward(own.Args[i].Field.Column.Name))
	}
	own.Fields = slices.Clone(q.Fields)
	for i, f := range own.Fields {
		own.Fields[i] = f.named(m.Outward(f.Column.Name))
	}
	return &own
}

// Methods are the verbs of the endpoint.
func (e *Exposed) Methods() []string {
	switch {
	case e.Reads && e.Routine:
		return []string{"GET", "POST"}
	case e.Reads && e.Shape != sqlquery.Count && e.Shape != sqlquery.Nothing:
		return []string{"GET"}
	}
	return []string{"POST"}
}

// RowName is the type of the rows, or of the value.
func (q *NamedQuery) RowName() string {
	if q.Entity != nil {
		return q.Entity.Name
	}
	return q.Row
}
