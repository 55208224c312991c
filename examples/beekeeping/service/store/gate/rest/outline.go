package rest

import (
	"context"
	"slices"

	"beekeeping/store/gate"
)

// Outline is a resource as those see it who sent a request: what pages and other
// clients in the same program need to know of it.
type Outline struct {
	Path      string // below the base
	Table     string
	Keys      []string // the properties that make the key, in its order
	Columns   []Property
	Relations []Relationship
	Creates   bool
	Changes   bool
	Removes   bool
	Many      bool // changes and removes all rows that a request chooses
	Sums      bool // has summaries of its rows
	Limited   bool // a rule keeps some rows from whoever sent the request
}

// Property is a column as it looks from outside.
type Property struct {
	gate.Column        // with its name outside
	Fixed       bool   // whoever sent the request cannot give it a value
	Content     string // the path below a row's of a binary column that is a resource of its own
	URL         string // the name that the URL of it has in lists
}

// Relationship is a relation as it looks from outside.
type Relationship struct {
	Name    string
	Path    string // below a row's
	To      string // the path of the resource that it leads to
	Single  bool
	Holds   []string // the properties that refer to the row at the other end
	Target  []string // those that they equal there
	Given   []string // the properties of rows at the other end that refer to this one
	Creates bool     // new rows that refer to this one can be stored
}

// Outlines tells of the resources that whoever sent the request of a context may
// read, in the order in which they were mounted.
func (a *API) Outlines(ctx context.Context) []Outline {
	var list []Outline
	for _, r := range a.resources {
		seen, err := r.in(ctx, toRead)
		if err == nil {
			list = append(list, a.outline(ctx, seen))
		}
	}
	return list
}

// Asks reports whether there are credentials that callers may send.
func (a *API) Asks() bool { return a.config.Identify != nil }

// PageRows is how many rows a page has unasked, and how many at most.
func (a *API) PageRows() (usual, most int) { return a.config.Limits.Page, a.config.Limits.Rows }

// Camel reports whether properties are called keeperId where columns are keeper_id.
func (a *API) Camel() bool { return a.config.Camel }

// Base is what stands before all paths.
func (a *API) Base() string { return a.config.Base }

func (a *API) outline(ctx context.Context, r *resource) Outline {
	may := func(v verb) bool {
		return a.config.Identify == nil || holds(a.config.allowOf(r.own.path).roles(v), IdentityOf(ctx))
	}
	o := Outline{
		Path: r.path, Table: r.info.Name,
		Creates: a.answers("POST /"+r.own.path) && may(toCreate),
		Changes: a.answers("PATCH /"+r.own.path+"/{key}") && may(toChange),
		Removes: a.answers("DELETE /"+r.own.path+"/{key}") && may(toDelete),
		Many:    a.answers("PATCH /"+r.own.path) && may(toChange),
		Sums:    a.answers("GET /" + r.own.path + "/summary"),
	}
	if a.config.Identify != nil {
		_, o.Limited = r.rowsFor(IdentityOf(ctx), toRead)
	}
	for _, k := range r.info.Keys {
		o.Keys = append(o.Keys, r.facets[k].name)
	}
	for _, m := range r.stored() {
		f, column := r.facets[m.column], r.info.Columns[m.column]
		p := Property{Column: column, Fixed: f.change != nil || column.Is(gate.Generated)}
		p.Name = f.name
		if at := "/" + r.own.path + "/{key}/" + pathWord(column.Name); column.Type == gate.TypeBytes && a.answers("GET "+at) {
			p.Content, p.URL = pathWord(column.Name), r.linkName(m.column)
		}
		o.Columns = append(o.Columns, p)
	}
	for i := range r.relations {
		rel := &r.relations[i]
		own := r.own.relations[slices.IndexFunc(r.own.relations, func(x relation) bool { return x.rel.Same(rel.rel) })]
		l := Relationship{Name: rel.name, Path: pathWord(own.name), To: rel.at.path, Single: rel.rel.Single()}
		l.Holds = r.outwards(rel.rel.Holds())
		if l.Holds != nil {
			l.Target = rel.at.outwards(rel.rel.Targets())
		}
		l.Given = rel.at.outwards(rel.rel.ReferredBy())
		l.Creates = a.answers("POST /" + r.own.path + "/{key}/" + l.Path)
		o.Relations = append(o.Relations, l)
	}
	return o
}

// answers reports whether there is a route of a pattern.
func (a *API) answers(pattern string) bool { return a.patterns[pattern] }
