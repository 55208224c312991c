package rest

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"

	"widegate/gate"
)

// view is the resources as they look in one version of the interface to those
// with the same roles. What may not be read is not there, for relations,
// filters and summaries alike.
type view struct {
	resources map[*resource]*resource // by the shape's own
	ruled     bool                    // what there is differs from one caller to the next
	document  sync.Map                // of *documents, their text as those see it who have the view
}

// views are known by the version and the roles that they are of.
type views struct {
	list sync.Map // of viewKey, *view
}

type viewKey struct {
	version *Version
	roles   string
}

// facet is a column as it looks from outside.
type facet struct {
	name   string
	hidden bool
	secret bool     // it is taken though it is hidden, since rows must have a value of it
	change []string // the roles that may give it a value, where the caller has none of them
	value  *string  // for new rows, where the column is not part of a version
}

// in is the resource as it looks to whoever sent the request, which must be
// allowed to do this with it.
func (r *resource) in(ctx context.Context, v verb) (*resource, error) {
	a := r.api
	if a.config.Identify == nil {
		return r.seen(ctx), nil
	}
	id := IdentityOf(ctx)
	roles := a.config.allowOf(r.path).roles(v)
	switch {
	case holds(roles, id):
		return r.seen(ctx).limited(v), nil
	case id == nil:
		return nil, a.config.unknown("to %s %s", v, r.path)
	}
	return nil, NewProblem(http.StatusForbidden, "to %s %s one needs %s", v, r.path, needed(roles))
}

// seen is the resource as whoever sent the request sees it, whatever they may
// do with it.
func (r *resource) seen(ctx context.Context) *resource {
	return r.api.viewFor(ctx).resources[r].boundTo(ctx)
}

// viewFor is what the sender of a request sees.
func (a *API) viewFor(ctx context.Context) *view {
	version, _ := ctx.Value(versionKey{}).(*Version)
	if a.config.Identify == nil && version == nil {
		return a.whole
	}
	key := a.viewKeyFor(ctx)
	if v, ok := a.views.list.Load(key); ok {
		return v.(*view)
	}
	v, _ := a.views.list.LoadOrStore(key, a.newView(version, IdentityOf(ctx)))
	return v.(*view)
}

// viewKeyFor tells apart who sees different things.
func (a *API) viewKeyFor(ctx context.Context) viewKey {
	version, _ := ctx.Value(versionKey{}).(*Version)
	key := viewKey{version: version}
	if id := IdentityOf(ctx); id != nil {
		// Only roles that are spoken of make a difference, so that tokens with
		// many of their own do not make many views.
		roles := slices.DeleteFunc(slices.Clone(id.Roles), func(role string) bool { return !slices.Contains(a.roles, role) })
		slices.Sort(roles)
		key.roles = "known," + strings.Join(slices.Compact(roles), ",")
	}
	return key
}

// newView makes the view of a version for the roles of an identity.
func (a *API) newView(version *Version, id *Identity) *view {
	v := &view{resources: make(map[*resource]*resource, len(a.resources))}
	guarded := a.config.Identify != nil
	for _, r := range a.resources {
		copied := *r
		copied.view = v
		copied.facets = slices.Clone(r.facets)
		if guarded {
			copied.narrowTo(a.config.allowOf(r.path), id)
			v.ruled = v.ruled || len(r.rules) > 0
		}
		if a.config.Camel {
			copied.spell()
		}
		if version != nil {
			copied.dress(version)
		}
		v.ruled = v.ruled || len(r.computed) > 0
		copied.index()
		if version == nil { // an earlier one has the values in lists
			copied.list(a)
		}
		v.resources[r] = &copied
	}
	readable := func(path string) bool {
		return (!guarded || holds(a.config.allowOf(path).roles(toRead), id)) && (version == nil || !version.Resources[path].Hidden)
	}
	for _, r := range a.resources {
		seen := v.resources[r]
		seen.relations = nil
		for _, rel := range r.relations {
			if !readable(rel.at.path) || version.lacks(r.path, rel.name) {
				continue
			}
			rel.at = v.resources[rel.at]
			was := version.relationName(r.path, rel.name)
			if a.config.Camel && was == rel.name {
				was = gate.CamelCase(was)
			}
			rel.rename(was)
			seen.relations = append(seen.relations, rel)
		}
		seen.referredBy = nil
		for _, other := range r.referredBy {
			if readable(other.path) {
				seen.referredBy = append(seen.referredBy, v.resources[other])
			}
		}
	}
	return v
}

// spell gives the properties the names that they have in camel case.
func (r *resource) spell() {
	for i := range r.facets {
		r.facets[i].name = gate.CamelCase(r.facets[i].name)
	}
}

// narrowTo hides what the roles of an identity may not see.
func (r *resource) narrowTo(allow Allow, id *Identity) {
	if !holds(allow.roles(toCreate), id) {
		r.create = nil
	}
	for i := range r.facets {
		f := &r.facets[i]
		own, ok := allow.Columns[f.name]
		if !ok {
			continue
		}
		f.hidden = f.hidden || own.Read != nil && !holds(own.Read, id)
		if own.Change != nil && !holds(own.Change, id) {
			f.change = own.Change
		}
	}
}

// index makes what follows from the facets.
func (r *resource) index() {
	r.members = nil
	r.places = make(map[string]int, len(r.facets))
	for i, f := range r.facets {
		if f.hidden {
			continue
		}
		r.places[f.name] = i
		r.members = append(r.members, member{column: i, prefix: memberPrefix(f.name)})
	}
	for i, c := range r.computed {
		r.members = append(r.members, member{column: -1 - i, prefix: memberPrefix(c.name)})
	}
	r.listed = r.members
	r.plans = &sync.Pool{}
}

// list finds the binary columns that are resources of their own: in lists their
// URLs stand in their place.
func (r *resource) list(a *API) {
	r.contents, r.listed = nil, r.members
	for i, m := range r.members {
		if m.column < 0 || r.info.Columns[m.column].Type != gate.TypeBytes {
			continue
		}
		word := pathWord(r.info.Columns[m.column].Name)
		if !a.offered["GET /"+r.own.path+"/{key}/"+word] {
			continue
		}
		if r.contents == nil {
			r.listed = slices.Clone(r.members)
		}
		r.contents = append(r.contents, m.column)
		r.listed[i] = member{m.column, memberPrefix(r.linkName(m.column)), word}
	}
}

// linkName is what the URL of a binary column is called.
func (r *resource) linkName(column int) string {
	name := r.facets[column].name + "_url"
	if r.api.config.Camel {
		name = r.facets[column].name + "Url"
	}
	for {
		if _, taken := r.places[name]; !taken {
			return name
		}
		name += "_"
	}
}

// appendLink writes the URL of a binary value, or null where there is none.
func (r *resource) appendLink(b []byte, m member, field, row any) []byte {
	if gate.IsNull(field) {
		return append(b, "null"...)
	}
	return gate.AppendJSONString(b, r.location(row)+"/"+m.link)
}

// to is the resource that the relation leads to.
func (rel *relation) to() *resource {
	if !rel.bound {
		return rel.at
	}
	if rel.seen == nil {
		rel.seen = rel.at.boundTo(rel.ctx)
	}
	return rel.seen
}

// boundTo is the resource as one caller sees it: its relations lead to the rows
// that they may read, and no others.
func (r *resource) boundTo(ctx context.Context) *resource {
	if !r.view.ruled {
		return r
	}
	id := IdentityOf(ctx)
	bound := *r
	bound.ctx, bound.who = ctx, id
	bound.relations = slices.Clone(r.relations)
	for i := range bound.relations {
		rel := &bound.relations[i]
		rel.ctx, rel.who, rel.bound = ctx, id, true
		if cond, ruled := rel.at.rowsFor(id, toRead); ruled {
			rel.rel = rel.rel.Narrowed(rel.rel.Rows().Where(cond))
		}
	}
	return &bound
}

// limited is the resource for doing something with it: with the rows that its
// caller may do that with, if not with all.
func (r *resource) limited(v verb) *resource {
	if len(r.rules) == 0 {
		return r
	}
	own := *r
	own.rows = nil
	verbs := []verb{toRead, v}
	if v == toRead || !holds(r.api.config.allowOf(r.own.path).roles(toRead), r.who) {
		verbs = verbs[1:]
	}
	for _, v := range verbs {
		if cond, ruled := r.rowsFor(r.who, v); ruled {
			own.rows = append(own.rows, cond)
		}
	}
	return &own
}

// among narrows a query of the resource to the rows that its caller may see.
func (r *resource) among(q *gate.Query[any]) *gate.Query[any] { return q.Where(r.rows...) }
