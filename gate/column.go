package gate

import "time"

// The types of columns below say most of their methods again instead of
// embedding one another, and take pointers where values would do: the compiler
// makes functions of its own for each method of each table's types, twice for
// value receivers and again at each level of embedding. They are most of what
// a generated package takes to build. That nothing is inlined into them, here
// and in the types of tables, queries and relations, halves it.

// Value is a column of a table of E whose values are V.
type Value[E, V any] struct{ ref columnRef }

// NewValue returns the column of that name.
func NewValue[V, E any](d *Def[E], name string) Value[E, V] { return Value[E, V]{refer(d, name)} }

func refer[E any](d *Def[E], name string) columnRef {
	return columnRef{&d.Info, d.indexes([]string{name})[0]}
}

// ColumnOf is any column of a table of E.
type ColumnOf[E any] interface{ of(E) columnRef }

//go:noinline
func (c Value[E, V]) of(E) columnRef { return c.ref }

// Is holds where the column equals v.
//
//go:noinline
func (c *Value[E, V]) Is(v V) Cond[E] { return compare[E](c.ref, " = ", v) }

// IsNot holds where the column has another value than v, and not for NULL.
//
//go:noinline
func (c *Value[E, V]) IsNot(v V) Cond[E] { return compare[E](c.ref, " <> ", v) }

// In holds where the column has one of the values.
//
//go:noinline
func (c *Value[E, V]) In(values ...V) Cond[E] { return oneOf[E](c.ref, values) }

// IsNull holds where the column has no value.
//
//go:noinline
func (c *Value[E, V]) IsNull() Cond[E] { return Cond[E]{nullTest{c.ref, false}} }

// IsNotNull holds where the column has a value.
//
//go:noinline
func (c *Value[E, V]) IsNotNull() Cond[E] { return Cond[E]{nullTest{c.ref, true}} }

// Ordered is a column whose values have an order.
type Ordered[E, V any] struct{ ref columnRef }

// NewOrdered returns the column of that name.
func NewOrdered[V, E any](d *Def[E], name string) Ordered[E, V] { return Ordered[E, V]{refer(d, name)} }

//go:noinline
func (c Ordered[E, V]) of(E) columnRef { return c.ref }

// Is holds where the column equals v.
//
//go:noinline
func (c *Ordered[E, V]) Is(v V) Cond[E] { return compare[E](c.ref, " = ", v) }

// IsNot holds where the column has another value than v, and not for NULL.
//
//go:noinline
func (c *Ordered[E, V]) IsNot(v V) Cond[E] { return compare[E](c.ref, " <> ", v) }

// In holds where the column has one of the values.
//
//go:noinline
func (c *Ordered[E, V]) In(values ...V) Cond[E] { return oneOf[E](c.ref, values) }

// IsNull holds where the column has no value.
//
//go:noinline
func (c *Ordered[E, V]) IsNull() Cond[E] { return Cond[E]{nullTest{c.ref, false}} }

// IsNotNull holds where the column has a value.
//
//go:noinline
func (c *Ordered[E, V]) IsNotNull() Cond[E] { return Cond[E]{nullTest{c.ref, true}} }

// Less holds where the column is below v.
//
//go:noinline
func (c *Ordered[E, V]) Less(v V) Cond[E] { return compare[E](c.ref, " < ", v) }

// AtMost holds where the column is v or below.
//
//go:noinline
func (c *Ordered[E, V]) AtMost(v V) Cond[E] { return compare[E](c.ref, " <= ", v) }

// More holds where the column is above v.
//
//go:noinline
func (c *Ordered[E, V]) More(v V) Cond[E] { return compare[E](c.ref, " > ", v) }

// AtLeast holds where the column is v or above.
//
//go:noinline
func (c *Ordered[E, V]) AtLeast(v V) Cond[E] { return compare[E](c.ref, " >= ", v) }

// Between holds where the column lies from least to most, both included.
//
//go:noinline
func (c *Ordered[E, V]) Between(least, most V) Cond[E] { return And(c.AtLeast(least), c.AtMost(most)) }

// Asc orders by the column, smallest first.
//
//go:noinline
func (c *Ordered[E, V]) Asc() Order[E] { return Order[E]{orderItem{c.ref.index, false}} }

// Desc orders by the column, largest first.
//
//go:noinline
func (c *Ordered[E, V]) Desc() Order[E] { return Order[E]{orderItem{c.ref.index, true}} }

// Text is a column of text.
type Text[E any] struct{ ref columnRef }

// NewText returns the column of that name.
func NewText[E any](d *Def[E], name string) Text[E] { return Text[E]{refer(d, name)} }

//go:noinline
func (c Text[E]) of(E) columnRef { return c.ref }

// Is holds where the column equals v.
//
//go:noinline
func (c *Text[E]) Is(v string) Cond[E] { return compare[E](c.ref, " = ", v) }

// IsNot holds where the column has another value than v, and not for NULL.
//
//go:noinline
func (c *Text[E]) IsNot(v string) Cond[E] { return compare[E](c.ref, " <> ", v) }

// In holds where the column has one of the values.
//
//go:noinline
func (c *Text[E]) In(values ...string) Cond[E] { return oneOf[E](c.ref, values) }

// IsNull holds where the column has no value.
//
//go:noinline
func (c *Text[E]) IsNull() Cond[E] { return Cond[E]{nullTest{c.ref, false}} }

// IsNotNull holds where the column has a value.
//
//go:noinline
func (c *Text[E]) IsNotNull() Cond[E] { return Cond[E]{nullTest{c.ref, true}} }

// Less holds where the column is below v.
//
//go:noinline
func (c *Text[E]) Less(v string) Cond[E] { return compare[E](c.ref, " < ", v) }

// AtMost holds where the column is v or below.
//
//go:noinline
func (c *Text[E]) AtMost(v string) Cond[E] { return compare[E](c.ref, " <= ", v) }

// More holds where the column is above v.
//
//go:noinline
func (c *Text[E]) More(v string) Cond[E] { return compare[E](c.ref, " > ", v) }

// AtLeast holds where the column is v or above.
//
//go:noinline
func (c *Text[E]) AtLeast(v string) Cond[E] { return compare[E](c.ref, " >= ", v) }

// Between holds where the column lies from least to most, both included.
//
//go:noinline
func (c *Text[E]) Between(least, most string) Cond[E] { return And(c.AtLeast(least), c.AtMost(most)) }

// Asc orders by the column, smallest first.
//
//go:noinline
func (c *Text[E]) Asc() Order[E] { return Order[E]{orderItem{c.ref.index, false}} }

// Desc orders by the column, largest first.
//
//go:noinline
func (c *Text[E]) Desc() Order[E] { return Order[E]{orderItem{c.ref.index, true}} }

// Like holds where the column matches an SQL pattern: % is any text, _ any
// character, ! takes the meaning from the next one.
//
//go:noinline
func (c *Text[E]) Like(pattern string) Cond[E] { return Cond[E]{likePattern{c.ref, pattern}} }

// Contains holds where part stands anywhere in the column.
//
//go:noinline
func (c *Text[E]) Contains(part string) Cond[E] { return c.Like("%" + likeEscaper.Replace(part) + "%") }

// HasPrefix holds where the column begins with prefix.
//
//go:noinline
func (c *Text[E]) HasPrefix(prefix string) Cond[E] { return c.Like(likeEscaper.Replace(prefix) + "%") }

func compare[E, V any](ref columnRef, op string, v V) Cond[E] {
	return Cond[E]{comparison{ref, op, plain(v)}}
}

func oneOf[E, V any](ref columnRef, values []V) Cond[E] {
	list := make([]any, len(values))
	for i, v := range values {
		list[i] = plain(v)
	}
	return Cond[E]{inList{ref, list}}
}

// plain turns a value into one that every driver takes.
func plain[V any](v V) any {
	switch v := any(v).(type) {
	case int64, string, bool, float64, []byte, time.Time:
		return v
	}
	f := fieldOf(&v)
	if _, foreign := f.(foreignField); foreign {
		return v // a named string or a driver.Valuer, which drivers take
	}
	return f.arg()
}

// Order is one step of an order of rows of E.
type Order[E any] struct{ item orderItem }

type orderItem struct {
	column int
	desc   bool
}
