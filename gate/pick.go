package gate

import (
	"context"
	"fmt"
	"iter"
	"slices"
)

// Pair is two values of one row.
type Pair[A, B any] struct {
	First  A
	Second B
}

// Triple is three values of one row.
type Triple[A, B, C any] struct {
	First  A
	Second B
	Third  C
}

// Selection reads values of the rows of a query in place of the rows. Where
// one of them is an aggregate, the rows are grouped by the others.
type Selection[E, T any] struct {
	q        query
	picks    []operand
	into     func(*T) []any
	distinct bool
	having   []expr
}

// Values reads one value of each row. One that may be null is read by OrNull.
func Values[E, A any](q *Query[E], a Expr[E, A]) *Selection[E, A] {
	return &Selection[E, A]{q: q.q, picks: []operand{operandIn(a)}, into: func(v *A) []any { return []any{v} }}
}

// Pairs reads two values of each row.
func Pairs[E, A, B any](q *Query[E], a Expr[E, A], b Expr[E, B]) *Selection[E, Pair[A, B]] {
	return &Selection[E, Pair[A, B]]{q: q.q, picks: []operand{operandIn(a), operandIn(b)},
		into: func(v *Pair[A, B]) []any { return []any{&v.First, &v.Second} }}
}

// Triples reads three values of each row.
func Triples[E, A, B, C any](q *Query[E], a Expr[E, A], b Expr[E, B], c Expr[E, C]) *Selection[E, Triple[A, B, C]] {
	return &Selection[E, Triple[A, B, C]]{q: q.q, picks: []operand{operandIn(a), operandIn(b), operandIn(c)},
		into: func(v *Triple[A, B, C]) []any { return []any{&v.First, &v.Second, &v.Third} }}
}

// Distinct leaves out values that came before.
func (s *Selection[E, T]) Distinct() *Selection[E, T] {
	next := *s
	next.distinct = true
	return &next
}

// Having narrows groups to those for which all conditions hold.
func (s *Selection[E, T]) Having(conds ...Cond[E]) *Selection[E, T] {
	next := *s
	next.having = append(slices.Clip(s.having), exprs(conds)...)
	return &next
}

// OrderBy appends steps to the order of the query.
func (s *Selection[E, T]) OrderBy(steps ...Order[E]) *Selection[E, T] {
	next := *s
	q := &Query[E]{s.q}
	next.q = q.OrderBy(steps...).q
	return &next
}

// Limit bounds the number of values; 0 takes the bound away.
func (s *Selection[E, T]) Limit(n int) *Selection[E, T] {
	next := *s
	next.q.limit = n
	return &next
}

// All returns the values; there are none where the slice is empty.
func (s *Selection[E, T]) All(ctx context.Context, db DB) ([]T, error) {
	list := []T{}
	for v, err := range s.Each(ctx, db) {
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	return list, nil
}

// One returns the first value, or ErrNotFound.
func (s *Selection[E, T]) One(ctx context.Context, db DB) (T, error) {
	for v, err := range s.Limit(1).Each(ctx, db) {
		return v, err
	}
	var none T
	return none, ErrNotFound
}

// Each goes through the values one by one, without holding them all. In a loop
// the error comes last.
func (s *Selection[E, T]) Each(ctx context.Context, db DB) iter.Seq2[T, error] {
	if from, ok := remoteOf(db); ok {
		return s.eachRemote(ctx, from)
	}
	return func(yield func(T, error) bool) {
		var none T
		rows, err := s.statement(db.Engine()).query(ctx, db)
		if err != nil {
			yield(none, wrapReading(s.q.info, err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			var v T
			if err := rows.Scan(s.into(&v)); err != nil {
				yield(none, fmt.Errorf("reading values of %s: %w", s.q.info.Name, err))
				return
			}
			if !yield(v, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(none, wrapReading(s.q.info, err))
		}
	}
}

func (s *Selection[E, T]) statement(e *Engine) *statement {
	text := newStatement(e)
	alias := text.newAlias()
	text.inAlias(alias, func() {
		text.add("SELECT ")
		if s.distinct {
			text.add("DISTINCT ")
		}
		for i, p := range s.picks {
			if i > 0 {
				text.add(", ")
			}
			writePick(text, p)
		}
		s.q.writeSource(text, alias)
		text.where(s.q.conditions())
		s.writeGroups(text)
		writeOrder(text, s.q.order)
		writeLimit(text, s.q.limit, s.q.offset)
	})
	return text
}

// writePick writes a column as it is read, and anything else as it is.
func writePick(s *statement, p operand) {
	if ref, ok := p.(columnRef); ok {
		s.output(ref.table, ref.index)
		return
	}
	p.write(s)
}

func (s *Selection[E, T]) writeGroups(text *statement) {
	keys := slices.DeleteFunc(slices.Clone(s.picks), aggregates)
	if len(keys) < len(s.picks) {
		for i, k := range keys {
			if i == 0 {
				text.add(" GROUP BY ")
			} else {
				text.add(", ")
			}
			k.write(text)
		}
	}
	for i, h := range s.having {
		if i == 0 {
			text.add(" HAVING ")
		} else {
			text.add(" AND ")
		}
		h.write(text)
	}
}

// aggregate is one value of many rows.
type aggregate struct {
	name     string
	distinct bool
	x        operand // nil is the row
}

func (a aggregate) info() *Column {
	if a.name == "min" || a.name == "max" {
		return a.x.info()
	}
	return nil
}

func (a aggregate) write(s *statement) {
	ref, ok := columnOf(a.x)
	s.add(s.engine.Dialect.Aggregate(a.name, ok && ref.info().Type == TypeNumeric && !a.distinct), "(")
	if a.x == nil {
		s.add("*)")
		return
	}
	if a.distinct {
		s.add("DISTINCT ")
	}
	a.x.write(s)
	s.add(")")
}

// aggregates reports whether an operand is made of many rows.
func aggregates(x operand) bool {
	switch x := x.(type) {
	case aggregate:
		return true
	case infix:
		return aggregates(x.a) || aggregates(x.b)
	case coalesce:
		return aggregates(x.a) || aggregates(x.b)
	case function:
		return aggregates(x.x)
	}
	return false
}

// RowCount is the number of rows of a group.
func RowCount[E any]() *OrderedExpr[E, int64] {
	return orderedExpr[E, int64](aggregate{name: "count"})
}

// CountOf is the number of rows that have a value.
func CountOf[E, V any](x Expr[E, V]) *OrderedExpr[E, int64] {
	return orderedExpr[E, int64](aggregate{name: "count", x: operandIn(x)})
}

// CountDistinct is the number of different values.
func CountDistinct[E, V any](x Expr[E, V]) *OrderedExpr[E, int64] {
	return orderedExpr[E, int64](aggregate{"count", true, operandIn(x)})
}

// Sum adds the values of the rows; it is null where there are none.
func Sum[E, V any](x Expr[E, V]) *OrderedExpr[E, Maybe[V]] {
	return orderedExpr[E, Maybe[V]](aggregate{name: "sum", x: operandIn(x)})
}

// Avg is the mean of the values; it is null where there are none.
func Avg[E, V any](x Expr[E, V]) *OrderedExpr[E, Maybe[float64]] {
	return orderedExpr[E, Maybe[float64]](aggregate{name: "avg", x: operandIn(x)})
}

// Min is the smallest value; it is null where there are none.
func Min[E, V any](x Expr[E, V]) *OrderedExpr[E, Maybe[V]] {
	return orderedExpr[E, Maybe[V]](aggregate{name: "min", x: operandIn(x)})
}

// Max is the largest value; it is null where there are none.
func Max[E, V any](x Expr[E, V]) *OrderedExpr[E, Maybe[V]] {
	return orderedExpr[E, Maybe[V]](aggregate{name: "max", x: operandIn(x)})
}

// OrNull is a value that may be null, to read it by Values and the like.
func OrNull[E, V any](x Expr[E, V]) *OrderedExpr[E, Maybe[V]] {
	return orderedExpr[E, Maybe[V]](operandIn(x))
}

// Joined reads rows together with rows that are related to them, as pairs.
type Joined[P, C any] struct {
	q    query
	edge *edge
	left bool
}

// JoinOne pairs each row with the one it is related to.
func JoinOne[P, C any](q *Query[P], r *ToOne[P, C]) *Joined[P, C] {
	return &Joined[P, C]{q: q.q, edge: r.edge}
}

// JoinMany pairs each row with each of those that are related to it. The
// relation can be narrowed and ordered; a bound has no effect.
func JoinMany[P, C any](q *Query[P], r *ToMany[P, C]) *Joined[P, C] {
	return &Joined[P, C]{q: q.q, edge: r.edge}
}

// JoinThrough pairs each row with each of those that are related to it by a
// table between.
func JoinThrough[P, C any](q *Query[P], r *ManyToMany[P, C]) *Joined[P, C] {
	return &Joined[P, C]{q: q.q, edge: r.edge}
}

// Left keeps rows to which none is related; Second is then empty.
func (j *Joined[P, C]) Left() *Joined[P, C] {
	next := *j
	next.left = true
	return &next
}

// All returns the pairs; there are none where the slice is empty.
func (j *Joined[P, C]) All(ctx context.Context, db DB) ([]Pair[P, C], error) {
	list := []Pair[P, C]{}
	for pair, err := range j.Each(ctx, db) {
		if err != nil {
			return nil, err
		}
		list = append(list, pair)
	}
	return list, nil
}

// Each goes through the pairs one by one. In a loop the error comes last.
func (j *Joined[P, C]) Each(ctx context.Context, db DB) iter.Seq2[Pair[P, C], error] {
	return func(yield func(Pair[P, C], error) bool) {
		if _, ok := remoteOf(db); ok {
			yield(Pair[P, C]{}, notOffered("pairs of rows; load them by With"))
			return
		}
		rows, err := j.statement(db.Engine()).query(ctx, db)
		if err != nil {
			yield(Pair[P, C]{}, wrapReading(j.q.info, err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			pair, err := j.scan(rows)
			if err != nil {
				yield(Pair[P, C]{}, fmt.Errorf("reading %s with %s: %w", j.q.info.Name, j.edge.link.child.Name, err))
				return
			}
			if !yield(pair, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(Pair[P, C]{}, wrapReading(j.q.info, err))
		}
	}
}

func (j *Joined[P, C]) scan(rows Rows) (Pair[P, C], error) {
	parent, child := j.q.info.create(), j.edge.link.child.create()
	fields := j.q.info.fieldsOf(parent)
	there := false
	for _, p := range j.edge.link.child.fieldsOf(child) {
		if j.left {
			p = optional{fieldOf(p), func() { there = true }}
		}
		fields = append(fields, p)
	}
	if err := rows.Scan(fields); err != nil {
		return Pair[P, C]{}, err
	}
	pair := Pair[P, C]{First: parent.(P)}
	if there || !j.left {
		pair.Second = child.(C)
	}
	return pair, nil
}

func (j *Joined[P, C]) statement(e *Engine) *statement {
	s := newStatement(e)
	if err := j.edge.check(); err != nil {
		s.fail(err)
		return s
	}
	l := j.edge.link
	parent, child := s.newAlias(), s.newAlias()
	s.add("SELECT ")
	s.inAlias(parent, func() { s.outputs(j.q.info) })
	s.add(", ")
	s.inAlias(child, func() { s.outputs(l.child) })
	j.q.writeSource(s, parent)
	if j.left {
		s.add(" LEFT")
	}
	s.add(" JOIN ")
	parentColumn := func(i int) { s.inAlias(parent, func() { s.column(l.parent, l.from[i]) }) }
	s.inAlias(child, func() {
		if l.join == nil {
			s.add(e.table(l.child.Schema, l.child.Name), " AS ", child, " ON ")
			l.writeEqual(s, l.to, child, parentColumn)
		} else {
			join := s.newAlias()
			s.add("(", e.table(l.child.Schema, l.child.Name), " AS ", child)
			l.writeJoin(s, join)
			s.add(") ON ")
			l.writeParentOfJoin(s, join, parentColumn)
		}
		for _, c := range j.edge.child.conditions() {
			s.add(" AND ")
			c.write(s)
		}
	})
	s.inAlias(parent, func() { s.where(j.q.conditions()) })
	writeOrder(s, slices.Concat(inAliases(parent, j.q.order), inAliases(child, j.edge.child.order)))
	writeLimit(s, j.q.limit, j.q.offset)
	return s
}

// inAliases are the steps of an order with their values in a table's alias.
func inAliases(alias string, order []orderItem) []orderItem {
	list := slices.Clone(order)
	for i := range list {
		list[i].x = aliased{list[i].x, alias}
	}
	return list
}

// aliased is a value of another table than the one that is being written.
type aliased struct {
	operand
	alias string
}

func (a aliased) write(s *statement) { s.inAlias(a.alias, func() { a.operand.write(s) }) }
