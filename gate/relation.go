package gate

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
)

// Related is a relation of P to load, perhaps narrowed, ordered and bounded.
type Related[P any] interface {
	load(ctx context.Context, db DB, parents []P) error
}

// relation is what the kinds of relations share: from rows of P to rows of C.
// Like the types of columns they do not embed it, and what works on it are
// functions, so that the compiler makes few functions a relation.
type relation[P, C any] struct {
	link   link
	parent *Def[P]
	child  *Query[C]
}

// narrowed is the relation with another query for the related rows.
func narrowed[P, C any](r *relation[P, C], child *Query[C]) *relation[P, C] {
	return &relation[P, C]{r.link, r.parent, child}
}

// has is a condition on rows of P: that a related row meets the conditions.
func has[P, C any](r *relation[P, C], conds []Cond[C]) Cond[P] {
	return Cond[P]{related{r.link, append(slices.Clip(r.child.where), exprs(conds)...)}}
}

// relatedTo is the query for the rows related to one parent.
func relatedTo[P, C any](r *relation[P, C], parent P) *Query[C] {
	c := childOf{link: r.link}
	for _, i := range r.link.from {
		if i < 0 {
			return r.child.Where(Cond[C]{columnRef{r.link.parent, i}})
		}
		c.values = append(c.values, fieldOf(r.parent.Field(parent, i)).arg())
	}
	return r.child.Where(Cond[C]{c})
}

// Relation tells of a relation of P without the type of the related rows.
type Relation[P any] struct {
	// Target is the description of the related rows.
	Target *Info
	// Single says that there is at most one.
	Single bool
	// Holds are the columns of P that refer to the related row; there are none
	// where the related rows refer to P.
	Holds []string
	// Each calls do with each row that was loaded for parent.
	Each func(parent P, do func(child any))
	// Nested is the relation to load, with relations of the related rows.
	Nested func(related []any) (Related[P], error)
	// Dangles reports whether parent refers to a row that is not there.
	Dangles func(ctx context.Context, db DB, parent P) (bool, error)
}

func describe[P, C any](r *relation[P, C]) Relation[P] {
	holds := r.link.holds()
	return Relation[P]{
		Target: r.link.child,
		Holds:  holds,
		Dangles: func(ctx context.Context, db DB, parent P) (bool, error) {
			if holds == nil || binaryKey(r.parent, parent, r.link.from) == nil {
				return false, nil
			}
			found, err := relatedTo(r, parent).Exists(ctx, db)
			return !found && err == nil, err
		},
	}
}

// chunk is how many parents one statement asks for, where each is a parameter
// of its own.
const chunk = 1024

// loadRelated reads the children of all parents, and hands each parent its own
// in the order of the query. perParent bounds them; 0 does not.
func loadRelated[P, C any](ctx context.Context, db DB, r *relation[P, C], parents []P, perParent int, give func(parent P, children []C)) error {
	keys, place, err := parentKeys(r, parents)
	if err != nil {
		return err
	}
	var all []C
	children := make([][]C, len(keys))
	for part := range slices.Chunk(keys, chunk) {
		found, err := loadChunk(ctx, db, r, part, perParent, func(key []byte, child C) {
			if at, ok := place[string(key)]; ok {
				children[at] = append(children[at], child)
			}
		})
		if err != nil {
			return err
		}
		all = append(all, found...)
	}
	for _, p := range parents {
		at, ok := place[string(binaryKey(r.parent, p, r.link.from))]
		if !ok {
			give(p, nil)
			continue
		}
		give(p, children[at])
	}
	return loadAll(ctx, db, all, r.child.with)
}

// parentKeys returns the distinct linking values of the parents, nulls left
// out, and for the binary form of each its place among them.
func parentKeys[P, C any](r *relation[P, C], parents []P) ([][]any, map[string]int, error) {
	if slices.Contains(r.link.from, -1) || slices.Contains(r.link.to, -1) {
		return nil, nil, fmt.Errorf("a relation of %s to %s: %w", r.link.parent.Name, r.link.child.Name, errNoColumn)
	}
	var keys [][]any
	place := make(map[string]int, len(parents))
	for _, p := range parents {
		key := binaryKey(r.parent, p, r.link.from)
		if key == nil {
			continue
		}
		if _, known := place[string(key)]; known {
			continue
		}
		place[string(key)] = len(keys)
		values := make([]any, len(r.link.from))
		for i, c := range r.link.from {
			values[i] = fieldOf(r.parent.Field(p, c)).arg()
		}
		keys = append(keys, values)
	}
	return keys, place, nil
}

// binaryKey makes values comparable as bytes: each is its text after its
// length. It is nil where one of them is null.
func binaryKey[E any](d *Def[E], row E, columns []int) []byte {
	key := make([]byte, 0, 16*len(columns))
	for _, c := range columns {
		f := fieldOf(d.Field(row, c))
		if f.arg() == nil {
			return nil
		}
		at := len(key)
		key = f.appendText(append(key, 0, 0, 0, 0))
		binary.BigEndian.PutUint32(key[at:], uint32(len(key)-at-4))
	}
	return key
}

// loadChunk reads the children of some parents by one statement.
func loadChunk[P, C any](ctx context.Context, db DB, r *relation[P, C], keys [][]any, perParent int, give func(key []byte, child C)) ([]C, error) {
	scratch := r.parent.New() // where the join table's side of a many-to-many is read to
	var before []any
	if r.link.join != nil {
		for _, c := range r.link.from {
			before = append(before, r.parent.Field(scratch, c))
		}
	}
	query := r.child.OrderByKey()
	s := r.link.childStatement(db.Engine(), keys, query.where, query.order, perParent)
	var list []C
	put := func(child C) {
		if r.link.join != nil {
			give(binaryKey(r.parent, scratch, r.link.from), child)
			return
		}
		give(binaryKey(r.child.def, child, r.link.to), child)
	}
	// A row is complete only when the next one is asked for.
	err := scan(ctx, db, r.child.def, s, before, func() C {
		if n := len(list); n > 0 {
			put(list[n-1])
		}
		list = append(list, r.child.def.New())
		return list[len(list)-1]
	})
	if err != nil {
		return nil, err
	}
	if n := len(list); n > 0 {
		put(list[n-1])
	}
	return list, nil
}

func asRelated[C any](list []any) ([]Related[C], error) {
	typed := make([]Related[C], len(list))
	for i, r := range list {
		t, ok := r.(Related[C])
		if !ok {
			return nil, fmt.Errorf("%T is no relation of %T", r, *new(C))
		}
		typed[i] = t
	}
	return typed, nil
}

// ToOne is a relation to at most one row: by a reference that P holds, or by
// one to P that is unique.
type ToOne[P, C any] struct {
	rel  *relation[P, C]
	slot func(P) *C
}

// NewToOne relates rows of P to at most one row of C each. slot is where a
// loaded row is put.
func NewToOne[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *C) ToOne[P, C] {
	return ToOne[P, C]{&relation[P, C]{newLink(&parent.Info, &child.Info, on), parent, &Query[C]{def: child}}, slot}
}

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ToOne[P, C]) Has(conds ...Cond[C]) Cond[P] { return has(r.rel, conds) }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ToOne[P, C]) HasNone(conds ...Cond[C]) Cond[P] { return Not(has(r.rel, conds)) }

// Of is the query for the row related to parent.
//
//go:noinline
func (r *ToOne[P, C]) Of(parent P) *Query[C] { return relatedTo(r.rel, parent) }

// With loads relations of the related row too.
//
//go:noinline
func (r *ToOne[P, C]) With(related ...Related[C]) *ToOne[P, C] {
	return &ToOne[P, C]{narrowed(r.rel, r.rel.child.With(related...)), r.slot}
}

// Relation tells of the relation without its types.
//
//go:noinline
func (r ToOne[P, C]) Relation() Relation[P] {
	d := describe(r.rel)
	d.Single = true
	d.Each = func(parent P, do func(child any)) {
		var none C
		if c := any(*r.slot(parent)); c != any(none) {
			do(c)
		}
	}
	d.Nested = func(related []any) (Related[P], error) {
		list, err := asRelated[C](related)
		return r.With(list...), err
	}
	return d
}

//go:noinline
func (r ToOne[P, C]) load(ctx context.Context, db DB, parents []P) error {
	return loadRelated(ctx, db, r.rel, parents, 0, func(p P, children []C) {
		if len(children) > 0 {
			*r.slot(p) = children[0]
		}
	})
}

// ToMany is a relation to any number of rows.
type ToMany[P, C any] struct {
	rel  *relation[P, C]
	slot func(P) *[]C
}

// NewToMany relates rows of P to the rows of C that refer to them. slot is
// where loaded rows are put.
func NewToMany[P, C any](parent *Def[P], child *Def[C], on On, slot func(P) *[]C) ToMany[P, C] {
	return ToMany[P, C]{&relation[P, C]{newLink(&parent.Info, &child.Info, on), parent, &Query[C]{def: child}}, slot}
}

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ToMany[P, C]) Has(conds ...Cond[C]) Cond[P] { return has(r.rel, conds) }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ToMany[P, C]) HasNone(conds ...Cond[C]) Cond[P] { return Not(has(r.rel, conds)) }

// Of is the query for the rows related to parent.
//
//go:noinline
func (r *ToMany[P, C]) Of(parent P) *Query[C] { return relatedTo(r.rel, parent) }

// Where narrows the related rows.
//
//go:noinline
func (r *ToMany[P, C]) Where(conds ...Cond[C]) *ToMany[P, C] {
	return &ToMany[P, C]{narrowed(r.rel, r.rel.child.Where(conds...)), r.slot}
}

// OrderBy orders the related rows of each parent.
//
//go:noinline
func (r *ToMany[P, C]) OrderBy(steps ...Order[C]) *ToMany[P, C] {
	return &ToMany[P, C]{narrowed(r.rel, r.rel.child.OrderBy(steps...)), r.slot}
}

// Limit bounds the related rows of each parent.
//
//go:noinline
func (r *ToMany[P, C]) Limit(n int) *ToMany[P, C] {
	return &ToMany[P, C]{narrowed(r.rel, r.rel.child.Limit(n)), r.slot}
}

// With loads relations of the related rows too.
//
//go:noinline
func (r *ToMany[P, C]) With(related ...Related[C]) *ToMany[P, C] {
	return &ToMany[P, C]{narrowed(r.rel, r.rel.child.With(related...)), r.slot}
}

// Attach makes child refer to parent, without storing it.
//
//go:noinline
func (r *ToMany[P, C]) Attach(parent P, child C) error {
	for i, from := range r.rel.link.from {
		to := r.rel.link.to[i]
		if from < 0 || to < 0 {
			return errNoColumn
		}
		value := fieldOf(r.rel.parent.Field(parent, from)).arg()
		if err := fieldOf(r.rel.child.def.Field(child, to)).set(value); err != nil {
			return err
		}
	}
	return nil
}

// Referring returns the columns of C that refer to P.
//
//go:noinline
func (r *ToMany[P, C]) Referring() []string { return r.rel.link.child.names(r.rel.link.to) }

// Relation tells of the relation without its types.
//
//go:noinline
func (r ToMany[P, C]) Relation() Relation[P] {
	d := describe(r.rel)
	d.Each = eachOf(r.slot)
	d.Nested = func(related []any) (Related[P], error) {
		list, err := asRelated[C](related)
		return r.With(list...), err
	}
	return d
}

func eachOf[P, C any](slot func(P) *[]C) func(parent P, do func(child any)) {
	return func(parent P, do func(child any)) {
		for _, c := range *slot(parent) {
			do(c)
		}
	}
}

//go:noinline
func (r ToMany[P, C]) load(ctx context.Context, db DB, parents []P) error {
	return loadList(ctx, db, r.rel, parents, r.slot)
}

func loadList[P, C any](ctx context.Context, db DB, r *relation[P, C], parents []P, slot func(P) *[]C) error {
	return loadRelated(ctx, db, r, parents, r.child.limit, func(p P, children []C) {
		if children == nil {
			children = []C{} // loaded, though there are none
		}
		*slot(p) = children
	})
}

// ManyToMany is a relation to any number of rows through a table between.
type ManyToMany[P, C any] struct {
	rel  *relation[P, C]
	slot func(P) *[]C
}

// NewManyToMany relates rows of P and C through a table between. slot is where
// loaded rows are put.
func NewManyToMany[P, C any](parent *Def[P], child *Def[C], join Join, slot func(P) *[]C) ManyToMany[P, C] {
	return ManyToMany[P, C]{&relation[P, C]{newJoinLink(&parent.Info, &child.Info, join), parent, &Query[C]{def: child}}, slot}
}

// Has holds for rows with a related row for which all conditions hold.
//
//go:noinline
func (r *ManyToMany[P, C]) Has(conds ...Cond[C]) Cond[P] { return has(r.rel, conds) }

// HasNone holds for rows without a related row for which all conditions hold.
//
//go:noinline
func (r *ManyToMany[P, C]) HasNone(conds ...Cond[C]) Cond[P] { return Not(has(r.rel, conds)) }

// Of is the query for the rows related to parent.
//
//go:noinline
func (r *ManyToMany[P, C]) Of(parent P) *Query[C] { return relatedTo(r.rel, parent) }

// Where narrows the related rows.
//
//go:noinline
func (r *ManyToMany[P, C]) Where(conds ...Cond[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{narrowed(r.rel, r.rel.child.Where(conds...)), r.slot}
}

// OrderBy orders the related rows of each parent.
//
//go:noinline
func (r *ManyToMany[P, C]) OrderBy(steps ...Order[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{narrowed(r.rel, r.rel.child.OrderBy(steps...)), r.slot}
}

// Limit bounds the related rows of each parent.
//
//go:noinline
func (r *ManyToMany[P, C]) Limit(n int) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{narrowed(r.rel, r.rel.child.Limit(n)), r.slot}
}

// With loads relations of the related rows too.
//
//go:noinline
func (r *ManyToMany[P, C]) With(related ...Related[C]) *ManyToMany[P, C] {
	return &ManyToMany[P, C]{narrowed(r.rel, r.rel.child.With(related...)), r.slot}
}

// Relation tells of the relation without its types.
//
//go:noinline
func (r ManyToMany[P, C]) Relation() Relation[P] {
	d := describe(r.rel)
	d.Each = eachOf(r.slot)
	d.Nested = func(related []any) (Related[P], error) {
		list, err := asRelated[C](related)
		return r.With(list...), err
	}
	return d
}

//go:noinline
func (r ManyToMany[P, C]) load(ctx context.Context, db DB, parents []P) error {
	return loadList(ctx, db, r.rel, parents, r.slot)
}

// Link relates two stored rows; it is no error when they are related already.
//
//go:noinline
func (r *ManyToMany[P, C]) Link(ctx context.Context, db DB, parent P, child C) error {
	pair := linkingValues(r.rel, parent, child)
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1 FROM ", s.engine.table(pair.join.Schema, pair.join.Name))
	pair.where(s)
	s.add(")")
	var linked bool
	if err := queryRow(ctx, db, s, &linked); err != nil || linked {
		return err
	}
	s = newStatement(db.Engine())
	pair.insert(s)
	if _, err := db.Exec(ctx, s.String(), s.args); err != nil {
		return fmt.Errorf("linking by %s: %w", pair.join.Name, err)
	}
	return nil
}

// Unlink ends the relation of two rows; it is no error when there is none.
//
//go:noinline
func (r *ManyToMany[P, C]) Unlink(ctx context.Context, db DB, parent P, child C) error {
	pair := linkingValues(r.rel, parent, child)
	s := newStatement(db.Engine())
	s.add("DELETE FROM ", s.engine.table(pair.join.Schema, pair.join.Name))
	pair.where(s)
	if _, err := db.Exec(ctx, s.String(), s.args); err != nil {
		return fmt.Errorf("unlinking by %s: %w", pair.join.Name, err)
	}
	return nil
}

// linkingValues returns the row of the table between for two rows.
func linkingValues[P, C any](r *relation[P, C], parent P, child C) joinRow {
	row := joinRow{join: r.link.join}
	for i, pair := range r.link.join.Parent {
		row.names = append(row.names, pair[1])
		row.values = append(row.values, fieldOf(r.parent.Field(parent, r.link.from[i])).arg())
	}
	for i, pair := range r.link.join.Child {
		row.names = append(row.names, pair[0])
		row.values = append(row.values, fieldOf(r.child.def.Field(child, r.link.to[i])).arg())
	}
	return row
}
