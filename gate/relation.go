package gate

import (
	"context"
	"slices"
)

// The verbs of relations are methods of each by itself, for the reason that table.go
// gives.

// Related is a relation of P to load, perhaps narrowed, ordered and bounded.
type Related[P any] interface{ relation(P) *edge }

// ToOne is a relation to at most one row: by a reference that P holds, or by
// one to P that is unique.
type ToOne[P, C any] struct{ edge *edge }

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ToOne[P, C]) Has(conds ...Cond[C]) Cond[P] { return Cond[P]{r.edge.has(exprs(conds))} }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ToOne[P, C]) HasNone(conds ...Cond[C]) Cond[P] {
	return Cond[P]{negation{r.edge.has(exprs(conds))}}
}

// Of is the query for the rows related to parent.
//
//go:noinline
func (r *ToOne[P, C]) Of(parent P) *Query[C] { return &Query[C]{r.edge.of(parent)} }

// Load loads the related rows of rows that are there already.
//
//go:noinline
func (r *ToOne[P, C]) Load(ctx context.Context, db DB, parents ...P) error {
	return r.edge.load(ctx, db, untyped(parents))
}

// With loads relations of the related row too.
//
//go:noinline
func (r *ToOne[P, C]) With(related ...Related[C]) *ToOne[P, C] {
	return &ToOne[P, C]{r.edge.narrowed(rowsOf[C](r.edge).With(related...).q)}
}

// ToMany is a relation to any number of rows.
type ToMany[P, C any] struct{ edge *edge }

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ToMany[P, C]) Has(conds ...Cond[C]) Cond[P] { return Cond[P]{r.edge.has(exprs(conds))} }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ToMany[P, C]) HasNone(conds ...Cond[C]) Cond[P] {
	return Cond[P]{negation{r.edge.has(exprs(conds))}}
}

// Of is the query for the rows related to parent.
//
//go:noinline
func (r *ToMany[P, C]) Of(parent P) *Query[C] { return &Query[C]{r.edge.of(parent)} }

// Load loads the related rows of rows that are there already.
//
//go:noinline
func (r *ToMany[P, C]) Load(ctx context.Context, db DB, parents ...P) error {
	return r.edge.load(ctx, db, untyped(parents))
}

// Count is the number of related rows for which all conditions hold.
//
//go:noinline
func (r *ToMany[P, C]) Count(conds ...Cond[C]) *OrderedExpr[P, int64] {
	return orderedExpr[P, int64](r.edge.count(exprs(conds)))
}

// Create stores new rows that are related to parent.
//
//go:noinline
func (r *ToMany[P, C]) Create(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.insertUnder(ctx, db, parent, untyped(children))
}

// Add stores that rows which are there are related to parent, and to no other row
// where there can be one only.
//
//go:noinline
func (r *ToMany[P, C]) Add(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.add(ctx, db, parent, untyped(children))
}

// Remove stores that rows are not related to parent any more.
//
//go:noinline
func (r *ToMany[P, C]) Remove(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.remove(ctx, db, parent, untyped(children))
}

// Replace stores that these rows are related to parent, and no others.
//
//go:noinline
func (r *ToMany[P, C]) Replace(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.replace(ctx, db, parent, untyped(children))
}

// Where narrows the related rows.
//
//go:noinline
func (r *ToMany[P, C]) Where(conds ...Cond[C]) *ToMany[P, C] {
	return &ToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).Where(conds...).q)}
}

// OrderBy orders the related rows of each parent.
//
//go:noinline
func (r *ToMany[P, C]) OrderBy(steps ...Order[C]) *ToMany[P, C] {
	return &ToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).OrderBy(steps...).q)}
}

// Limit bounds the related rows of each parent.
//
//go:noinline
func (r *ToMany[P, C]) Limit(n int) *ToMany[P, C] {
	return &ToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).Limit(n).q)}
}

// With loads relations of the related rows too.
//
//go:noinline
func (r *ToMany[P, C]) With(related ...Related[C]) *ToMany[P, C] {
	return &ToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).With(related...).q)}
}

// ManyToMany is a relation to any number of rows through a table between.
type ManyToMany[P, C any] struct{ edge *edge }

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ManyToMany[P, C]) Has(conds ...Cond[C]) Cond[P] { return Cond[P]{r.edge.has(exprs(conds))} }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ManyToMany[P, C]) HasNone(conds ...Cond[C]) Cond[P] {
	return Cond[P]{negation{r.edge.has(exprs(conds))}}
}

// Of is the query for the rows related to parent.
//
//go:noinline
func (r *ManyToMany[P, C]) Of(parent P) *Query[C] { return &Query[C]{r.edge.of(parent)} }

// Load loads the related rows of rows that are there already.
//
//go:noinline
func (r *ManyToMany[P, C]) Load(ctx context.Context, db DB, parents ...P) error {
	return r.edge.load(ctx, db, untyped(parents))
}

// Count is the number of related rows for which all conditions hold.
//
//go:noinline
func (r *ManyToMany[P, C]) Count(conds ...Cond[C]) *OrderedExpr[P, int64] {
	return orderedExpr[P, int64](r.edge.count(exprs(conds)))
}

// Create stores new rows that are related to parent.
//
//go:noinline
func (r *ManyToMany[P, C]) Create(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.insertUnder(ctx, db, parent, untyped(children))
}

// Add stores that rows which are there are related to parent, and to no other row
// where there can be one only.
//
//go:noinline
func (r *ManyToMany[P, C]) Add(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.add(ctx, db, parent, untyped(children))
}

// Remove stores that rows are not related to parent any more.
//
//go:noinline
func (r *ManyToMany[P, C]) Remove(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.remove(ctx, db, parent, untyped(children))
}

// Replace stores that these rows are related to parent, and no others.
//
//go:noinline
func (r *ManyToMany[P, C]) Replace(ctx context.Context, db DB, parent P, children ...C) error {
	return r.edge.replace(ctx, db, parent, untyped(children))
}

// Where narrows the related rows.
//
//go:noinline
func (r *ManyToMany[P, C]) Where(conds ...Cond[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).Where(conds...).q)}
}

// OrderBy orders the related rows of each parent.
//
//go:noinline
func (r *ManyToMany[P, C]) OrderBy(steps ...Order[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).OrderBy(steps...).q)}
}

// Limit bounds the related rows of each parent.
//
//go:noinline
func (r *ManyToMany[P, C]) Limit(n int) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).Limit(n).q)}
}

// With loads relations of the related rows too.
//
//go:noinline
func (r *ManyToMany[P, C]) With(related ...Related[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{r.edge.narrowed(rowsOf[C](r.edge).With(related...).q)}
}

func (r *ToOne[P, C]) relation(P) *edge      { return r.edge }
func (r *ToMany[P, C]) relation(P) *edge     { return r.edge }
func (r *ManyToMany[P, C]) relation(P) *edge { return r.edge }

// NewToOne relates rows of P to the row of C that they refer to. slot is where
// a loaded row is put.
//
//go:noinline
func NewToOne[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *C) *ToOne[P, C] {
	e := newSingleEdge(parent, child, on, slot)
	e.link.up = true
	return &ToOne[P, C]{e}
}

// NewOneToOne relates rows of P to the one row of C that refers to them. slot
// is where a loaded row is put.
//
//go:noinline
func NewOneToOne[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *C) *ToOne[P, C] {
	return &ToOne[P, C]{newSingleEdge(parent, child, on, slot)}
}

func newSingleEdge[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *C) *edge {
	e := &edge{link: newLink(parent.info, child.info, on), single: true, child: query{info: child.info}}
	e.get = func(parent any) []any {
		var none C
		if c := any(*slot(parent.(P))); c != any(none) {
			return []any{c}
		}
		return nil
	}
	e.put = func(parent any, children []any) {
		if len(children) > 0 {
			*slot(parent.(P)) = children[0].(C)
		}
	}
	parent.info.edges = append(parent.info.edges, e)
	return e
}

// NewToMany relates rows of P to the rows of C that refer to them. slot is
// where loaded rows are put.
//
//go:noinline
func NewToMany[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *[]C) *ToMany[P, C] {
	return &ToMany[P, C]{newManyEdge(parent, child, newLink(parent.info, child.info, on), slot)}
}

// NewManyToMany relates rows of P and C through a table between. slot is where
// loaded rows are put.
//
//go:noinline
func NewManyToMany[P, C any](parent *Def[P], child *Def[C], join Join, slot func(P) *[]C) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{newManyEdge(parent, child, newJoinLink(parent.info, child.info, join), slot)}
}

func newManyEdge[P, C any](parent *Def[P], child *Def[C], l link, slot func(P) *[]C) *edge {
	e := &edge{link: l, child: query{info: child.info}}
	e.get = func(parent any) []any {
		children := *slot(parent.(P))
		list := make([]any, len(children))
		for i, c := range children {
			list[i] = c
		}
		return list
	}
	e.put = func(parent any, children []any) {
		list := make([]C, len(children)) // not nil: loaded, though there may be none
		for i, c := range children {
			list[i] = c.(C)
		}
		*slot(parent.(P)) = list
	}
	parent.info.edges = append(parent.info.edges, e)
	return e
}

// count is the number of related rows for which conditions hold.
func (e *edge) count(conds []expr) countOf {
	return countOf{e.link, append(slices.Clip(e.child.conditions()), conds...)}
}

// rowsOf is the query for the related rows.
func rowsOf[C any](e *edge) *Query[C] { return &Query[C]{e.child} }

// untyped are rows without their type.
func untyped[E any](rows []E) []any {
	list := make([]any, len(rows))
	for i, r := range rows {
		list[i] = r
	}
	return list
}

// Via is a value of the one row that a row is related to, to compare or to
// order by: Via(store.Hives.Apiary, store.Apiaries.Name).Asc().
func Via[P, C, V any](r *ToOne[P, C], x Expr[C, V]) *OrderedExpr[P, V] {
	return orderedExpr[P, V](through{r.edge.link, operandIn(x), r.edge.child.conditions()})
}

// Referring returns the columns of C that refer to P.
func Referring[P, C any](r *ToMany[P, C]) []string { return r.edge.link.child.names(r.edge.link.to) }

// Attach makes child refer to parent, without storing it.
func Attach[P, C any](r *ToMany[P, C], parent P, child C) error { return r.edge.attach(parent, child) }
