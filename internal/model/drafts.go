package model

import "slices"

// Written reports whether callers may send a column.
func (f *Field) Written() bool { return !f.Computed && (!f.Hidden || f.Sent()) }

// Embeds reports whether a new row may hold the rows that the relation leads to.
func (r *Relation) Embeds() bool {
	return r.To.Verbs != ReadOnly && (r.Linkable() || r.Reverse() || r.Kind == ToOne)
}

// References reports whether the row itself has the columns of a relation to one row
// that it may be stored with.
func (r *Relation) References() bool { return r.Embeds() && r.Kind == ToOne && r.Owned }

// Brought are the columns that the rows at the other end need not have where they are
// stored with this one.
func (r *Relation) Brought() []string {
	if r.Linkable() || r.Kind == ToOne && r.Owned {
		return nil
	}
	return r.Given()
}

// NeededFor are the columns of a reference that a new row must have, but for those
// given.
func (e *Entity) NeededFor(r *Relation, given []string) []string {
	var needed []string
	for _, p := range r.Pairs {
		if f := e.Field(p[0]); f != nil && !f.Nullable && !f.ByDefault && !slices.Contains(given, p[0]) {
			needed = append(needed, p[0])
		}
	}
	return needed
}

// RequiredNew are the columns that a new row must have, but for those given, and those
// in whose place the row itself may stand that they refer to.
func (e *Entity) RequiredNew(given []string) []string {
	var list []string
	for _, f := range e.Fields {
		if f.Written() && !f.Nullable && !f.ByDefault && f.Role == NoRole && !slices.Contains(given, f.Column.Name) {
			list = append(list, f.Column.Name)
		}
	}
	for _, r := range e.Relations {
		if r.References() {
			list = slices.DeleteFunc(list, func(c string) bool { return slices.Contains(e.NeededFor(r, given), c) })
		}
	}
	return list
}
