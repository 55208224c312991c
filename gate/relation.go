package gate

import (
	"context"
	"slices"
)

// Related is a relation of P to load, perhaps narrowed, ordered and bounded.
// Like columns, relations have fields that hold functions; see column.go.
type Related[P any] interface{ relation(P) *edge }

// reach is what all relations from rows of P to rows of C offer.
type reach[P, C any] struct {
	edge *edge

	// Has holds for rows with a related row for which all conditions hold.
	Has func(conds ...Cond[C]) Cond[P]
	// HasNone holds for rows without a related row for which all conditions hold.
	HasNone func(conds ...Cond[C]) Cond[P]
	// Of is the query for the rows related to parent.
	Of func(parent P) *Query[C]
	// Load loads the related rows of rows that are there already.
	Load func(ctx context.Context, db DB, parents ...P) error
}

// many is what relations to any number of rows offer besides.
type many[P, C any] struct {
	// Count is the number of related rows for which all conditions hold.
	Count func(conds ...Cond[C]) *OrderedExpr[P, int64]
	// Create stores new rows that are related to parent.
	Create func(ctx context.Context, db DB, parent P, children ...C) error
	// Add stores that rows which are there are related to parent, and to no
	// other row where there can be one only.
	Add func(ctx context.Context, db DB, parent P, children ...C) error
	// Remove stores that rows are not related to parent any more.
	Remove func(ctx context.Context, db DB, parent P, children ...C) error
	// Replace stores that these rows are related to parent, and no others.
	Replace func(ctx context.Context, db DB, parent P, children ...C) error
}

// ToOne is a relation to at most one row: by a reference that P holds, or by
// one to P that is unique.
type ToOne[P, C any] struct {
	reach[P, C]

	// With loads relations of the related row too.
	With func(related ...Related[C]) *ToOne[P, C]
}

// ToMany is a relation to any number of rows.
type ToMany[P, C any] struct {
	reach[P, C]
	many[P, C]

	// Where narrows the related rows.
	Where func(conds ...Cond[C]) *ToMany[P, C]
	// OrderBy orders the related rows of each parent.
	OrderBy func(steps ...Order[C]) *ToMany[P, C]
	// Limit bounds the related rows of each parent.
	Limit func(n int) *ToMany[P, C]
	// With loads relations of the related rows too.
	With func(related ...Related[C]) *ToMany[P, C]
}

// ManyToMany is a relation to any number of rows through a table between.
type ManyToMany[P, C any] struct {
	reach[P, C]
	many[P, C]

	// Where narrows the related rows.
	Where func(conds ...Cond[C]) *ManyToMany[P, C]
	// OrderBy orders the related rows of each parent.
	OrderBy func(steps ...Order[C]) *ManyToMany[P, C]
	// Limit bounds the related rows of each parent.
	Limit func(n int) *ManyToMany[P, C]
	// With loads relations of the related rows too.
	With func(related ...Related[C]) *ManyToMany[P, C]
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
	return newToOne[P, C](e)
}

// NewOneToOne relates rows of P to the one row of C that refers to them. slot
// is where a loaded row is put.
//
//go:noinline
func NewOneToOne[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *C) *ToOne[P, C] {
	return newToOne[P, C](newSingleEdge(parent, child, on, slot))
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
	e.link.root = e
	parent.info.edges = append(parent.info.edges, e)
	return e
}

// NewToMany relates rows of P to the rows of C that refer to them. slot is
// where loaded rows are put.
//
//go:noinline
func NewToMany[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *[]C) *ToMany[P, C] {
	return newToMany[P, C](newManyEdge(parent, child, newLink(parent.info, child.info, on), slot))
}

// NewManyToMany relates rows of P and C through a table between. slot is where
// loaded rows are put.
//
//go:noinline
func NewManyToMany[P, C any](parent *Def[P], child *Def[C], join Join, slot func(P) *[]C) *ManyToMany[P, C] {
	return newManyToMany[P, C](newManyEdge(parent, child, newJoinLink(parent.info, child.info, join), slot))
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
	e.link.root = e
	parent.info.edges = append(parent.info.edges, e)
	return e
}

func newReach[P, C any](e *edge) reach[P, C] {
	return reach[P, C]{
		edge:    e,
		Has:     func(conds ...Cond[C]) Cond[P] { return Cond[P]{e.has(exprs(conds))} },
		HasNone: func(conds ...Cond[C]) Cond[P] { return Cond[P]{negation{e.has(exprs(conds))}} },
		Of:      func(parent P) *Query[C] { return &Query[C]{e.of(parent)} },
		Load: func(ctx context.Context, db DB, parents ...P) error {
			return e.load(ctx, db, untyped(parents))
		},
	}
}

func newMany[P, C any](e *edge) many[P, C] {
	change := func(do func(context.Context, DB, any, []any) error) func(context.Context, DB, P, ...C) error {
		return func(ctx context.Context, db DB, parent P, children ...C) error {
			return do(ctx, db, parent, untyped(children))
		}
	}
	return many[P, C]{
		Count: func(conds ...Cond[C]) *OrderedExpr[P, int64] {
			return orderedExpr[P, int64](countOf{e.link, append(slices.Clip(e.child.conditions()), exprs(conds)...)})
		},
		Create:  change(e.insertUnder),
		Add:     change(e.add),
		Remove:  change(e.remove),
		Replace: change(e.replace),
	}
}

// untyped are rows without their type.
func untyped[E any](rows []E) []any {
	list := make([]any, len(rows))
	for i, r := range rows {
		list[i] = r
	}
	return list
}

func newToOne[P, C any](e *edge) *ToOne[P, C] {
	q := &Query[C]{e.child}
	return &ToOne[P, C]{
		reach: newReach[P, C](e),
		With:  func(related ...Related[C]) *ToOne[P, C] { return newToOne[P, C](e.narrowed(q.With(related...).q)) },
	}
}

func newToMany[P, C any](e *edge) *ToMany[P, C] {
	q := &Query[C]{e.child}
	next := func(q *Query[C]) *ToMany[P, C] { return newToMany[P, C](e.narrowed(q.q)) }
	return &ToMany[P, C]{
		reach:   newReach[P, C](e),
		many:    newMany[P, C](e),
		Where:   func(conds ...Cond[C]) *ToMany[P, C] { return next(q.Where(conds...)) },
		OrderBy: func(steps ...Order[C]) *ToMany[P, C] { return next(q.OrderBy(steps...)) },
		Limit:   func(n int) *ToMany[P, C] { return next(q.Limit(n)) },
		With:    func(related ...Related[C]) *ToMany[P, C] { return next(q.With(related...)) },
	}
}

func newManyToMany[P, C any](e *edge) *ManyToMany[P, C] {
	q := &Query[C]{e.child}
	next := func(q *Query[C]) *ManyToMany[P, C] { return newManyToMany[P, C](e.narrowed(q.q)) }
	return &ManyToMany[P, C]{
		reach:   newReach[P, C](e),
		many:    newMany[P, C](e),
		Where:   func(conds ...Cond[C]) *ManyToMany[P, C] { return next(q.Where(conds...)) },
		OrderBy: func(steps ...Order[C]) *ManyToMany[P, C] { return next(q.OrderBy(steps...)) },
		Limit:   func(n int) *ManyToMany[P, C] { return next(q.Limit(n)) },
		With:    func(related ...Related[C]) *ManyToMany[P, C] { return next(q.With(related...)) },
	}
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
