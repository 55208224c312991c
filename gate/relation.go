package gate

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
)

// Related is a relation of P to load, perhaps narrowed, ordered and bounded.
type Related[P any] interface {
	load(ctx context.Context, db DB, parents []*P) error
}

// On pairs the columns by which rows of two tables belong together: the first
// of each pair is the parent's (or the join table's when it stands second).
type On [][2]string

// Join names the table between two that are related many-to-many.
type Join struct {
	Schema string
	Name   string
	Parent On // parent column, join table column
	Child  On // join table column, child column
}

// link is a relation without the types of its rows.
type link struct {
	parent, child *Info
	from, to      []int // columns of parent and child that are equal; with a join, of the two tables to the join
	join          *Join
}

func newLink(parent, child *Info, on On) link {
	first, second := on.sides()
	return link{parent: parent, child: child, from: parent.indexes(first), to: child.indexes(second)}
}

func newJoinLink(parent, child *Info, join Join) link {
	from, _ := join.Parent.sides()
	_, to := join.Child.sides()
	return link{parent: parent, child: child, from: parent.indexes(from), to: child.indexes(to), join: &join}
}

func (o On) sides() (first, second []string) {
	for _, pair := range o {
		first = append(first, pair[0])
		second = append(second, pair[1])
	}
	return first, second
}

// related holds for parents that have a child for which conds hold.
type related struct {
	link  link
	conds []expr
}

func (r related) write(s *statement) {
	outer, child := s.alias, s.newAlias()
	s.add("EXISTS (SELECT 1 FROM ", s.engine.table(r.link.child.Schema, r.link.child.Name), " AS ", child)
	s.inAlias(child, func() {
		if r.link.join == nil {
			s.add(" WHERE ")
			r.link.writeEqual(s, r.link.to, child, func(i int) { s.inAlias(outer, func() { s.column(r.link.parent, r.link.from[i]) }) })
		} else {
			join := s.newAlias()
			r.link.writeJoin(s, join)
			s.add(" WHERE ")
			r.link.writeParentOfJoin(s, join, func(i int) { s.inAlias(outer, func() { s.column(r.link.parent, r.link.from[i]) }) })
		}
		for _, c := range r.conds {
			s.add(" AND ")
			c.write(s)
		}
	})
	s.add(")")
}

// writeEqual writes that the child's columns equal what other writes.
func (l link) writeEqual(s *statement, columns []int, alias string, other func(i int)) {
	s.inAlias(alias, func() {
		for i, c := range columns {
			if i > 0 {
				s.add(" AND ")
			}
			s.column(l.child, c)
			s.add(" = ")
			other(i)
		}
	})
}

// writeJoin joins the table between to the child that is being read.
func (l link) writeJoin(s *statement, join string) {
	s.add(" JOIN ", s.engine.table(l.join.Schema, l.join.Name), " AS ", join, " ON ")
	for i, pair := range l.join.Child {
		if i > 0 {
			s.add(" AND ")
		}
		s.add(join, ".", s.engine.quote(pair[0]), " = ")
		s.column(l.child, l.to[i])
	}
}

func (l link) writeParentOfJoin(s *statement, join string, other func(i int)) {
	for i, pair := range l.join.Parent {
		if i > 0 {
			s.add(" AND ")
		}
		s.add(join, ".", s.engine.quote(pair[1]), " = ")
		other(i)
	}
}

// childOf holds for the children of one parent, whose linking values are given.
type childOf struct {
	link   link
	values []any
}

func (c childOf) write(s *statement) {
	if slices.Contains(c.values, nil) {
		group{joiner: " OR "}.write(s)
		return
	}
	bind := func(i int) { s.bindAs(&c.link.parent.Columns[c.link.from[i]], c.values[i]) }
	if c.link.join == nil {
		c.link.writeEqual(s, c.link.to, s.alias, bind)
		return
	}
	join := s.newAlias()
	s.add("EXISTS (SELECT 1 FROM ", s.engine.table(c.link.join.Schema, c.link.join.Name), " AS ", join, " WHERE ")
	c.link.writeParentOfJoin(s, join, bind)
	for i, pair := range c.link.join.Child {
		s.add(" AND ", join, ".", s.engine.quote(pair[0]), " = ")
		s.column(c.link.child, c.link.to[i])
	}
	s.add(")")
}

// relation is what the kinds of relations share: from rows of P to rows of C.
type relation[P, C any] struct {
	link   link
	parent *Def[P]
	child  Query[C]
}

// Has holds for rows with at least one related row for which all conditions
// hold.
func (r relation[P, C]) Has(conds ...Cond[C]) Cond[P] {
	return Cond[P]{related{r.link, append(slices.Clip(r.child.where), exprs(conds)...)}}
}

// HasNone holds for rows without a related row for which all conditions hold.
func (r relation[P, C]) HasNone(conds ...Cond[C]) Cond[P] { return Not(r.Has(conds...)) }

// Of is the query for the rows related to one parent.
func (r relation[P, C]) Of(parent *P) Query[C] {
	c := childOf{link: r.link}
	for _, i := range r.link.from {
		if i < 0 {
			return r.child.Where(Raw[C]("a relation of " + r.parent.Name + " names a column that is not described?"))
		}
		c.values = append(c.values, fieldOf(r.parent.Field(parent, i)).arg())
	}
	return r.child.Where(Cond[C]{c})
}

// Target is the description of the related rows.
func (r relation[P, C]) Target() *Info { return r.link.child }

// chunk is how many parents one statement asks for, where each is a parameter
// of its own.
const chunk = 1024

// load reads the children of all parents, and hands each parent its own in the
// order of the query. perParent bounds them; 0 does not.
func (r relation[P, C]) load(ctx context.Context, db DB, parents []*P, perParent int, give func(parent *P, children []*C)) error {
	keys, byKey, err := r.parentKeys(parents)
	if err != nil {
		return err
	}
	var list []*C
	children := make([][]*C, len(keys))
	for part := range slices.Chunk(keys, chunk) {
		found, err := r.loadChunk(ctx, db, part, perParent, func(key []byte, child *C) {
			if at, ok := byKey[string(key)]; ok {
				children[at] = append(children[at], child)
			}
		})
		if err != nil {
			return err
		}
		list = append(list, found...)
	}
	for _, p := range parents {
		at, ok := byKey[string(r.keyOf(p))]
		if !ok {
			give(p, nil)
			continue
		}
		give(p, children[at])
	}
	return r.child.loadNested(ctx, db, list)
}

func (q Query[E]) loadNested(ctx context.Context, db DB, list []*E) error {
	if len(list) == 0 {
		return nil
	}
	for _, r := range q.with {
		if err := r.load(ctx, db, list); err != nil {
			return err
		}
	}
	return nil
}

// parentKeys returns the distinct linking values of the parents, nulls left
// out, and for the binary form of each its place among them.
func (r relation[P, C]) parentKeys(parents []*P) ([][]any, map[string]int, error) {
	if slices.Contains(r.link.from, -1) || slices.Contains(r.link.to, -1) {
		return nil, nil, fmt.Errorf("a relation of %s to %s: %w", r.link.parent.Name, r.link.child.Name, errNoColumn)
	}
	var keys [][]any
	at := make(map[string]int, len(parents))
	for _, p := range parents {
		key := r.keyOf(p)
		if key == nil {
			continue
		}
		if _, known := at[string(key)]; known {
			continue
		}
		at[string(key)] = len(keys)
		values := make([]any, len(r.link.from))
		for i, c := range r.link.from {
			values[i] = fieldOf(r.parent.Field(p, c)).arg()
		}
		keys = append(keys, values)
	}
	return keys, at, nil
}

// keyOf returns the binary form of the parent's linking values, or nil where
// one is null.
func (r relation[P, C]) keyOf(p *P) []byte { return binaryKey(r.parent, p, r.link.from) }

// binaryKey makes values comparable as bytes: each is its text after its
// length.
func binaryKey[E any](d *Def[E], row *E, columns []int) []byte {
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
func (r relation[P, C]) loadChunk(ctx context.Context, db DB, keys [][]any, perParent int, give func(key []byte, child *C)) ([]*C, error) {
	var scratch P // where the join table's side of a many-to-many is read to
	var before []any
	if r.link.join != nil {
		for _, c := range r.link.from {
			before = append(before, r.parent.Field(&scratch, c))
		}
	}
	s := r.childStatement(db.Engine(), keys, perParent)
	var list []*C
	put := func(child *C) {
		if r.link.join != nil {
			give(binaryKey(r.parent, &scratch, r.link.from), child)
			return
		}
		give(binaryKey(r.child.def, child, r.link.to), child)
	}
	// A row is complete only when the next one is asked for.
	err := r.child.scan(ctx, db, s, before, func() *C {
		if n := len(list); n > 0 {
			put(list[n-1])
		}
		list = append(list, new(C))
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

// childStatement reads the children of the given parents. A bound for each
// parent is kept by numbering its children.
func (r relation[P, C]) childStatement(e *Engine, keys [][]any, perParent int) *statement {
	s := newStatement(e)
	alias := s.newAlias()
	q := r.child.OrderByKey()
	join := ""
	if r.link.join != nil {
		join = s.newAlias()
	}
	s.inAlias(alias, func() {
		if perParent > 0 {
			s.add("SELECT ")
			r.writeOutputNames(s, join)
			s.add(" FROM (")
		}
		s.add("SELECT ")
		r.writeOutputs(s, join, perParent > 0)
		if perParent > 0 {
			s.add(", row_number() OVER (PARTITION BY ")
			r.writeParentSide(s, alias, join)
			q.writeOrder(s)
			s.add(") AS place_of_row")
		}
		s.add(" FROM ", e.table(r.link.child.Schema, r.link.child.Name), " AS ", alias)
		if join != "" {
			r.link.writeJoin(s, join)
		}
		s.add(" WHERE ")
		r.writeKeys(s, alias, join, keys)
		for _, c := range q.where {
			s.add(" AND ")
			c.write(s)
		}
		if perParent > 0 {
			s.add(") AS ", alias, " WHERE place_of_row <= ", strconv.Itoa(perParent), " ORDER BY place_of_row")
			return
		}
		q.writeOrder(s)
	})
	return s
}

// parentColumn is the name under which the join table's i-th column travels
// out of a subquery.
func parentColumn(i int) string { return "parent_of_row_" + strconv.Itoa(i) }

func (r relation[P, C]) writeOutputs(s *statement, join string, named bool) {
	if join != "" {
		for i, pair := range r.link.join.Parent {
			s.add(join, ".", s.engine.quote(pair[1]))
			if named {
				s.add(" AS ", parentColumn(i))
			}
			s.add(", ")
		}
	}
	if named {
		for i := range r.link.child.Columns {
			if i > 0 {
				s.add(", ")
			}
			s.column(r.link.child, i)
		}
		return
	}
	s.outputs(r.link.child)
}

func (r relation[P, C]) writeOutputNames(s *statement, join string) {
	if join != "" {
		for i := range r.link.join.Parent {
			s.add(parentColumn(i), ", ")
		}
	}
	s.outputs(r.link.child)
}

// writeParentSide writes the columns that tell the parent of a child.
func (r relation[P, C]) writeParentSide(s *statement, alias, join string) {
	for i := range r.link.from {
		if i > 0 {
			s.add(", ")
		}
		r.writeParentColumn(s, alias, join, i)
	}
}

func (r relation[P, C]) writeParentColumn(s *statement, alias, join string, i int) {
	if join != "" {
		s.add(join, ".", s.engine.quote(r.link.join.Parent[i][1]))
		return
	}
	s.inAlias(alias, func() { s.column(r.link.child, r.link.to[i]) })
}

// writeKeys writes that a child belongs to one of the parents.
func (r relation[P, C]) writeKeys(s *statement, alias, join string, keys [][]any) {
	column := &r.link.parent.Columns[r.link.from[0]]
	if len(r.link.from) == 1 {
		values := make([]any, len(keys))
		for i, k := range keys {
			values[i] = k[0]
		}
		r.writeParentColumn(s, alias, join, 0)
		writeList(s, column, values)
		return
	}
	s.add("(")
	for n := range listSize(len(keys)) {
		if n > 0 {
			s.add(" OR ")
		}
		s.add("(")
		for i, v := range keys[min(n, len(keys)-1)] {
			if i > 0 {
				s.add(" AND ")
			}
			r.writeParentColumn(s, alias, join, i)
			s.add(" = ")
			s.bindAs(&r.link.parent.Columns[r.link.from[i]], v)
		}
		s.add(")")
	}
	s.add(")")
}

// ToOne is a relation to at most one row: by a reference that P holds, or by
// one to P that is unique.
type ToOne[P, C any] struct {
	relation[P, C]
	slot func(*P) **C
}

// NewToOne relates rows of P to at most one row of C each. slot is where a
// loaded row is put.
func NewToOne[P, C any](parent *Def[P], child *Def[C], on On, slot func(*P) **C) ToOne[P, C] {
	return ToOne[P, C]{relation[P, C]{newLink(&parent.Info, &child.Info, on), parent, Query[C]{def: child}}, slot}
}

// With loads relations of the related row too.
func (r ToOne[P, C]) With(related ...Related[C]) ToOne[P, C] {
	r.child = r.child.With(related...)
	return r
}

func (r ToOne[P, C]) load(ctx context.Context, db DB, parents []*P) error {
	return r.relation.load(ctx, db, parents, 0, func(p *P, children []*C) {
		if len(children) > 0 {
			*r.slot(p) = children[0]
		}
	})
}

// Single reports that there is at most one related row.
func (r ToOne[P, C]) Single() bool { return true }

// Each calls do with the row that was loaded, if there is one.
func (r ToOne[P, C]) Each(parent *P, do func(child any)) {
	if c := *r.slot(parent); c != nil {
		do(c)
	}
}

// Nested is With for callers that know the relations of C only as values.
func (r ToOne[P, C]) Nested(related []any) (Related[P], error) {
	list, err := asRelated[C](related)
	return r.With(list...), err
}

// ToMany is a relation to any number of rows.
type ToMany[P, C any] struct {
	relation[P, C]
	slot func(*P) *[]C
}

// NewToMany relates rows of P to the rows of C that refer to them. slot is
// where loaded rows are put.
func NewToMany[P, C any](parent *Def[P], child *Def[C], on On, slot func(*P) *[]C) ToMany[P, C] {
	return ToMany[P, C]{relation[P, C]{newLink(&parent.Info, &child.Info, on), parent, Query[C]{def: child}}, slot}
}

// Where narrows the related rows.
func (r ToMany[P, C]) Where(conds ...Cond[C]) ToMany[P, C] {
	r.child = r.child.Where(conds...)
	return r
}

// OrderBy orders the related rows of each parent.
func (r ToMany[P, C]) OrderBy(steps ...Order[C]) ToMany[P, C] {
	r.child = r.child.OrderBy(steps...)
	return r
}

// Limit bounds the related rows of each parent.
func (r ToMany[P, C]) Limit(n int) ToMany[P, C] {
	r.child.limit = n
	return r
}

// With loads relations of the related rows too.
func (r ToMany[P, C]) With(related ...Related[C]) ToMany[P, C] {
	r.child = r.child.With(related...)
	return r
}

// load copies the rows into place only when their own relations are loaded:
// the slices of the parents hold values.
func (r ToMany[P, C]) load(ctx context.Context, db DB, parents []*P) error {
	type family struct {
		parent   *P
		children []*C
	}
	var families []family
	err := r.relation.load(ctx, db, parents, r.child.limit, func(p *P, children []*C) {
		families = append(families, family{p, children})
	})
	if err != nil {
		return err
	}
	for _, f := range families {
		list := make([]C, len(f.children))
		for i, c := range f.children {
			list[i] = *c
		}
		*r.slot(f.parent) = list
	}
	return nil
}

// Single reports that there may be several related rows.
func (r ToMany[P, C]) Single() bool { return false }

// Each calls do with each row that was loaded.
func (r ToMany[P, C]) Each(parent *P, do func(child any)) {
	list := *r.slot(parent)
	for i := range list {
		do(&list[i])
	}
}

// Nested is With for callers that know the relations of C only as values.
func (r ToMany[P, C]) Nested(related []any) (Related[P], error) {
	list, err := asRelated[C](related)
	return r.With(list...), err
}

// ManyToMany is a relation to any number of rows through a table between.
type ManyToMany[P, C any] struct{ ToMany[P, C] }

// NewManyToMany relates rows of P and C through a table between. slot is where
// loaded rows are put.
func NewManyToMany[P, C any](parent *Def[P], child *Def[C], join Join, slot func(*P) *[]C) ManyToMany[P, C] {
	return ManyToMany[P, C]{ToMany[P, C]{
		relation[P, C]{newJoinLink(&parent.Info, &child.Info, join), parent, Query[C]{def: child}}, slot,
	}}
}

// Link relates two stored rows; it is no error when they are related already.
func (r ManyToMany[P, C]) Link(ctx context.Context, db DB, parent *P, child *C) error {
	linked, err := r.linked(ctx, db, parent, child)
	if err != nil || linked {
		return err
	}
	s := newStatement(db.Engine())
	s.add("INSERT INTO ", s.engine.table(r.link.join.Schema, r.link.join.Name), " (")
	names, values := r.sides(parent, child)
	for i, name := range names {
		if i > 0 {
			s.add(", ")
		}
		s.name(name)
	}
	s.add(") VALUES (")
	for i, v := range values {
		if i > 0 {
			s.add(", ")
		}
		s.bind(v)
	}
	s.add(")")
	if _, err := db.Exec(ctx, s.String(), s.args); err != nil {
		return fmt.Errorf("linking by %s: %w", r.link.join.Name, err)
	}
	return nil
}

// Unlink ends the relation of two rows; it is no error when there is none.
func (r ManyToMany[P, C]) Unlink(ctx context.Context, db DB, parent *P, child *C) error {
	s := newStatement(db.Engine())
	s.add("DELETE FROM ", s.engine.table(r.link.join.Schema, r.link.join.Name))
	r.writeSides(s, parent, child)
	if _, err := db.Exec(ctx, s.String(), s.args); err != nil {
		return fmt.Errorf("unlinking by %s: %w", r.link.join.Name, err)
	}
	return nil
}

func (r ManyToMany[P, C]) linked(ctx context.Context, db DB, parent *P, child *C) (bool, error) {
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1 FROM ", s.engine.table(r.link.join.Schema, r.link.join.Name))
	r.writeSides(s, parent, child)
	s.add(")")
	var found bool
	err := queryRow(ctx, db, s, &found)
	return found, err
}

func (r ManyToMany[P, C]) writeSides(s *statement, parent *P, child *C) {
	names, values := r.sides(parent, child)
	for i, name := range names {
		if i == 0 {
			s.add(" WHERE ")
		} else {
			s.add(" AND ")
		}
		s.name(name)
		s.add(" = ")
		s.bind(values[i])
	}
}

// sides returns the columns of the table between and their values for a pair.
func (r ManyToMany[P, C]) sides(parent *P, child *C) (names []string, values []any) {
	for i, pair := range r.link.join.Parent {
		names = append(names, pair[1])
		values = append(values, fieldOf(r.parent.Field(parent, r.link.from[i])).arg())
	}
	for i, pair := range r.link.join.Child {
		names = append(names, pair[0])
		values = append(values, fieldOf(r.child.def.Field(child, r.link.to[i])).arg())
	}
	return names, values
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

// Relation is a relation of P seen without the type of the related rows.
type Relation[P any] interface {
	Related[P]
	Nested(related []any) (Related[P], error)
	Target() *Info
	Single() bool
	Each(parent *P, do func(child any))
	Holds() []string
	Dangles(ctx context.Context, db DB, parent *P) (bool, error)
}

// Dangles reports whether parent refers to a row that is not there.
func (r relation[P, C]) Dangles(ctx context.Context, db DB, parent *P) (bool, error) {
	if r.Holds() == nil || r.keyOf(parent) == nil {
		return false, nil
	}
	found, err := r.Of(parent).Exists(ctx, db)
	return !found && err == nil, err
}

// Holds returns the columns of P that refer to the related row; there are none
// where the related rows refer to P.
func (r relation[P, C]) Holds() []string {
	if r.link.join != nil || !slices.Equal(r.link.to, r.link.child.Keys) || slices.Equal(r.link.from, r.link.parent.Keys) {
		return nil
	}
	var names []string
	for _, i := range r.link.from {
		names = append(names, r.link.parent.Columns[i].Name)
	}
	return names
}

// Attach makes child refer to parent, without storing it.
func (r ToMany[P, C]) Attach(parent *P, child *C) error {
	for i, from := range r.link.from {
		if from < 0 || r.link.to[i] < 0 {
			return errNoColumn
		}
		value := fieldOf(r.parent.Field(parent, from)).arg()
		if err := fieldOf(r.child.def.Field(child, r.link.to[i])).set(value); err != nil {
			return err
		}
	}
	return nil
}

// Referring returns the columns of C that refer to P.
func (r ToMany[P, C]) Referring() []string {
	names := make([]string, len(r.link.to))
	for i, at := range r.link.to {
		if at >= 0 {
			names[i] = r.link.child.Columns[at].Name
		}
	}
	return names
}
