package gate

import (
	"fmt"
	"time"
)

// What a column offers are fields that hold functions, not methods: for each
// method of each type of each table's columns the compiler makes a function of
// its own, which for a few hundred tables is most of what a build takes. For
// the same reason nothing that generated code calls is inlined into it.

// ColumnOf is any column of a table of E.
type ColumnOf[E any] interface{ columnOf(E) columnRef }

// Expr is a value of type V that each row of E has: a column, or what Plus,
// Length and others make of columns.
type Expr[E, V any] interface{ operandOf(E, V) operand }

// Order is one step of an order of rows of E.
type Order[E any] struct{ item orderItem }

// Assignment is a value for a column of rows of E; see Query.Update.
type Assignment[E any] struct{ set assignment }

// equality are the conditions on any values.
type equality[E, V any] struct {
	x operand

	// Is holds where the value equals v.
	Is func(v V) Cond[E]
	// IsNot holds where there is another value than v, and not for NULL.
	IsNot func(v V) Cond[E]
	// In holds where the value is one of the given ones.
	In func(values ...V) Cond[E]
	// NotIn holds where the value is none of the given ones, and not for NULL.
	NotIn func(values ...V) Cond[E]
	// Asc orders by the value, smallest first.
	Asc func() Order[E]
	// Desc orders by the value, largest first.
	Desc func() Order[E]
}

// ordering adds the conditions on values that have an order.
type ordering[E, V any] struct {
	equality[E, V]

	// Less holds where the value is below v.
	Less func(v V) Cond[E]
	// AtMost holds where the value is v or below.
	AtMost func(v V) Cond[E]
	// More holds where the value is above v.
	More func(v V) Cond[E]
	// AtLeast holds where the value is v or above.
	AtLeast func(v V) Cond[E]
	// Between holds where the value lies from least to most, both included.
	Between func(least, most V) Cond[E]
}

// texts adds the conditions on text.
type texts[E any] struct {
	ordering[E, string]

	// Like holds where the text matches an SQL pattern: % is any text, _ any
	// character, ! takes the meaning from the next one. Whether case matters is
	// the database's to say.
	Like func(pattern string) Cond[E]
	// Contains holds where part stands anywhere in the text.
	Contains func(part string) Cond[E]
	// HasPrefix holds where the text begins with part.
	HasPrefix func(part string) Cond[E]
	// HasSuffix holds where the text ends with part.
	HasSuffix func(part string) Cond[E]
	// EqualFold is Is without regard to case, as the database folds it.
	EqualFold func(v string) Cond[E]
	// ContainsFold is Contains without regard to case, as the database folds it.
	ContainsFold func(part string) Cond[E]
}

// nulls are the conditions on values that may be missing.
type nulls[E any] struct {
	// IsNull holds where there is no value.
	IsNull func() Cond[E]
	// IsNotNull holds where there is a value.
	IsNotNull func() Cond[E]
}

// nulling adds to a column what can be done where it may be null.
type nulling[E any] struct {
	nulls[E]

	// SetNull stores NULL.
	SetNull func() Assignment[E]
}

// setting gives a column a value, in Query.Update.
type setting[E, V any] struct {
	// Set stores v.
	Set func(v V) Assignment[E]
	// SetTo stores what the database computes of the row as it was.
	SetTo func(v Expr[E, V]) Assignment[E]
}

// Value is a column of a table of E whose values are V.
type Value[E, V any] struct {
	equality[E, V]
	setting[E, V]
}

// Ordered is a column whose values have an order.
type Ordered[E, V any] struct {
	ordering[E, V]
	setting[E, V]
}

// Text is a column of text.
type Text[E any] struct {
	texts[E]
	setting[E, string]
}

// Document is a column of JSON.
type Document[E any] struct {
	equality[E, JSON]
	setting[E, JSON]

	// At is the text of what lies at a path of member names; a number counts
	// elements of an array, from 0.
	At func(path ...string) *TextExpr[E]
	// Has holds where something lies at a path.
	Has func(path ...string) Cond[E]
}

// Array is a column of lists of V.
type Array[E, V any] struct {
	equality[E, List[V]]
	setting[E, List[V]]

	// Contains holds where all of the values are in the list.
	Contains func(values ...V) Cond[E]
	// Overlaps holds where at least one of the values is in the list.
	Overlaps func(values ...V) Cond[E]
	// Within holds where the list has no other values than these.
	Within func(values ...V) Cond[E]
}

// Span is a column of ranges of V.
type Span[E, V any] struct {
	equality[E, Range[V]]
	setting[E, Range[V]]

	// Contains holds where v lies in the range.
	Contains func(v V) Cond[E]
	// Overlaps holds where the range has something in common with r.
	Overlaps func(r Range[V]) Cond[E]
	// Within holds where the range lies in r.
	Within func(r Range[V]) Cond[E]
}

// EnumOf is a label of the enum V: a value of its type, which a plain text is
// not.
type EnumOf[V any] interface{ Values() []V }

// Enum is a column of the labels of the enum V.
type Enum[E any, V EnumOf[V]] struct {
	x operand

	// Is holds where the value equals v.
	Is func(v EnumOf[V]) Cond[E]
	// IsNot holds where there is another value than v, and not for NULL.
	IsNot func(v EnumOf[V]) Cond[E]
	// In holds where the value is one of the given ones.
	In func(values ...EnumOf[V]) Cond[E]
	// NotIn holds where the value is none of the given ones, and not for NULL.
	NotIn func(values ...EnumOf[V]) Cond[E]
	// Asc orders by the value, as the database orders its labels.
	Asc func() Order[E]
	// Desc is the other way round.
	Desc func() Order[E]
	// Set stores v.
	Set func(v EnumOf[V]) Assignment[E]
	// SetTo stores what the database computes of the row as it was.
	SetTo func(v Expr[E, V]) Assignment[E]
}

// Labels are values of an enum for In and NotIn.
func Labels[V EnumOf[V]](values []V) []EnumOf[V] {
	list := make([]EnumOf[V], len(values))
	for i, v := range values {
		list[i] = v
	}
	return list
}

// The columns that may be null.
type (
	// NullableValue is a Value that may be null.
	NullableValue[E, V any] struct {
		Value[E, V]
		nulling[E]
	}
	// NullableOrdered is an Ordered that may be null.
	NullableOrdered[E, V any] struct {
		Ordered[E, V]
		nulling[E]
	}
	// NullableText is a Text that may be null.
	NullableText[E any] struct {
		Text[E]
		nulling[E]
	}
	// NullableEnum is an Enum that may be null.
	NullableEnum[E any, V EnumOf[V]] struct {
		Enum[E, V]
		nulling[E]
	}
	// NullableDocument is a Document that may be null.
	NullableDocument[E any] struct {
		Document[E]
		nulling[E]
	}
	// NullableArray is an Array that may be null.
	NullableArray[E, V any] struct {
		Array[E, V]
		nulling[E]
	}
	// NullableSpan is a Span that may be null.
	NullableSpan[E, V any] struct {
		Span[E, V]
		nulling[E]
	}
)

// The columns that the database computes, which are only read.
type (
	// ComputedValue is a computed column whose values have no order.
	ComputedValue[E, V any] struct{ ValueExpr[E, V] }
	// ComputedOrdered is a computed column whose values have an order.
	ComputedOrdered[E, V any] struct{ OrderedExpr[E, V] }
	// ComputedText is a computed column of text.
	ComputedText[E any] struct{ TextExpr[E] }
)

// NewValue returns the column of that name.
//
//go:noinline
func NewValue[V, E any](d *Def[E], name string) *Value[E, V] {
	ref := refer(d.info, name)
	return &Value[E, V]{equalityOf[E, V](ref), settingOf[E, V](ref)}
}

// NewOrdered returns the column of that name.
//
//go:noinline
func NewOrdered[V, E any](d *Def[E], name string) *Ordered[E, V] {
	ref := refer(d.info, name)
	return &Ordered[E, V]{orderingOf[E, V](ref), settingOf[E, V](ref)}
}

// NewText returns the column of that name.
//
//go:noinline
func NewText[E any](d *Def[E], name string) *Text[E] {
	ref := refer(d.info, name)
	return &Text[E]{textsOf[E](ref), settingOf[E, string](ref)}
}

// NewDocument returns the column of that name.
//
//go:noinline
func NewDocument[E any](d *Def[E], name string) *Document[E] {
	ref := refer(d.info, name)
	return &Document[E]{
		equality: equalityOf[E, JSON](ref),
		setting:  settingOf[E, JSON](ref),
		At:       func(path ...string) *TextExpr[E] { return textExpr[E](jsonAt{ref, path}) },
		Has:      func(path ...string) Cond[E] { return Cond[E]{jsonHas{ref, path}} },
	}
}

// NewArray returns the column of that name.
//
//go:noinline
func NewArray[V, E any](d *Def[E], name string) *Array[E, V] {
	ref := refer(d.info, name)
	holds := func(op string) func(values ...V) Cond[E] {
		return func(values ...V) Cond[E] { return compare[E](ref, op, ListOf(values...)) }
	}
	return &Array[E, V]{equalityOf[E, List[V]](ref), settingOf[E, List[V]](ref), holds(" @> "), holds(" && "), holds(" <@ ")}
}

// NewSpan returns the column of that name.
//
//go:noinline
func NewSpan[V, E any](d *Def[E], name string) *Span[E, V] {
	ref := refer(d.info, name)
	return &Span[E, V]{
		equality: equalityOf[E, Range[V]](ref),
		setting:  settingOf[E, Range[V]](ref),
		Contains: func(v V) Cond[E] {
			return compare[E](ref, " @> ", Range[V]{From: Just(v), To: Just(v), FromInside: true, ToInside: true})
		},
		Overlaps: func(r Range[V]) Cond[E] { return compare[E](ref, " && ", r) },
		Within:   func(r Range[V]) Cond[E] { return compare[E](ref, " <@ ", r) },
	}
}

// NewEnum returns the column of that name.
//
//go:noinline
func NewEnum[V EnumOf[V], E any](d *Def[E], name string) *Enum[E, V] {
	c := enumOf[E, V](refer(d.info, name))
	return &c
}

// NewNullableValue returns the column of that name.
//
//go:noinline
func NewNullableValue[V, E any](d *Def[E], name string) *NullableValue[E, V] {
	return &NullableValue[E, V]{*NewValue[V](d, name), nullingOf[E](refer(d.info, name))}
}

// NewNullableOrdered returns the column of that name.
//
//go:noinline
func NewNullableOrdered[V, E any](d *Def[E], name string) *NullableOrdered[E, V] {
	return &NullableOrdered[E, V]{*NewOrdered[V](d, name), nullingOf[E](refer(d.info, name))}
}

// NewNullableText returns the column of that name.
//
//go:noinline
func NewNullableText[E any](d *Def[E], name string) *NullableText[E] {
	return &NullableText[E]{*NewText(d, name), nullingOf[E](refer(d.info, name))}
}

// NewNullableEnum returns the column of that name.
//
//go:noinline
func NewNullableEnum[V EnumOf[V], E any](d *Def[E], name string) *NullableEnum[E, V] {
	return &NullableEnum[E, V]{enumOf[E, V](refer(d.info, name)), nullingOf[E](refer(d.info, name))}
}

// NewNullableDocument returns the column of that name.
//
//go:noinline
func NewNullableDocument[E any](d *Def[E], name string) *NullableDocument[E] {
	return &NullableDocument[E]{*NewDocument(d, name), nullingOf[E](refer(d.info, name))}
}

// NewNullableArray returns the column of that name.
//
//go:noinline
func NewNullableArray[V, E any](d *Def[E], name string) *NullableArray[E, V] {
	return &NullableArray[E, V]{*NewArray[V](d, name), nullingOf[E](refer(d.info, name))}
}

// NewNullableSpan returns the column of that name.
//
//go:noinline
func NewNullableSpan[V, E any](d *Def[E], name string) *NullableSpan[E, V] {
	return &NullableSpan[E, V]{*NewSpan[V](d, name), nullingOf[E](refer(d.info, name))}
}

// NewComputedValue returns the column of that name.
//
//go:noinline
func NewComputedValue[V, E any](d *Def[E], name string) *ComputedValue[E, V] {
	return &ComputedValue[E, V]{valueExpr[E, V](refer(d.info, name))}
}

// NewComputedOrdered returns the column of that name.
//
//go:noinline
func NewComputedOrdered[V, E any](d *Def[E], name string) *ComputedOrdered[E, V] {
	return &ComputedOrdered[E, V]{*orderedExpr[E, V](refer(d.info, name))}
}

// NewComputedText returns the column of that name.
//
//go:noinline
func NewComputedText[E any](d *Def[E], name string) *ComputedText[E] {
	return &ComputedText[E]{*textExpr[E](refer(d.info, name))}
}

func refer(t *Info, name string) columnRef { return columnRef{t, t.indexOf(name)} }

func (c *Value[E, V]) columnOf(E) columnRef   { return c.x.(columnRef) }
func (c *Ordered[E, V]) columnOf(E) columnRef { return c.x.(columnRef) }
func (c *Text[E]) columnOf(E) columnRef       { return c.x.(columnRef) }
func (c *Document[E]) columnOf(E) columnRef   { return c.x.(columnRef) }
func (c *Array[E, V]) columnOf(E) columnRef   { return c.x.(columnRef) }
func (c *Span[E, V]) columnOf(E) columnRef    { return c.x.(columnRef) }
func (c *Enum[E, V]) columnOf(E) columnRef    { return c.x.(columnRef) }
func (c *Enum[E, V]) operandOf(E, V) operand  { return c.x }

func (c *ComputedValue[E, V]) columnOf(E) columnRef   { return c.x.(columnRef) }
func (c *ComputedOrdered[E, V]) columnOf(E) columnRef { return c.x.(columnRef) }
func (c *ComputedText[E]) columnOf(E) columnRef       { return c.x.(columnRef) }

func (c *Value[E, V]) operandOf(E, V) operand   { return c.x }
func (c *Ordered[E, V]) operandOf(E, V) operand { return c.x }
func (c *Text[E]) operandOf(E, string) operand  { return c.x }

func equalityOf[E, V any](x operand) equality[E, V] {
	return equality[E, V]{
		x:     x,
		Is:    func(v V) Cond[E] { return compare[E](x, " = ", v) },
		IsNot: func(v V) Cond[E] { return compare[E](x, " <> ", v) },
		In:    func(values ...V) Cond[E] { return Cond[E]{inList{x, plainList(values)}} },
		NotIn: func(values ...V) Cond[E] { return Cond[E]{notIn(x, plainList(values))} },
		Asc:   func() Order[E] { return Order[E]{orderItem{x: x}} },
		Desc:  func() Order[E] { return Order[E]{orderItem{x: x, desc: true}} },
	}
}

func nullsOf[E any](x operand) nulls[E] {
	return nulls[E]{
		IsNull:    func() Cond[E] { return Cond[E]{nullTest{x, false}} },
		IsNotNull: func() Cond[E] { return Cond[E]{nullTest{x, true}} },
	}
}

func nullingOf[E any](ref columnRef) nulling[E] {
	return nulling[E]{nullsOf[E](ref), func() Assignment[E] { return Assignment[E]{assignment{column: ref}} }}
}

func enumOf[E any, V EnumOf[V]](ref columnRef) Enum[E, V] {
	own := equalityOf[E, V](ref)
	set := settingOf[E, V](ref)
	with := func(values []EnumOf[V], cond func(...V) Cond[E]) Cond[E] {
		list, err := labelsIn(values)
		if err != nil {
			return Cond[E]{failing{err}}
		}
		return cond(list...)
	}
	one := func(cond func(V) Cond[E]) func(...V) Cond[E] { return func(v ...V) Cond[E] { return cond(v[0]) } }
	return Enum[E, V]{
		x:     ref,
		Is:    func(v EnumOf[V]) Cond[E] { return with([]EnumOf[V]{v}, one(own.Is)) },
		IsNot: func(v EnumOf[V]) Cond[E] { return with([]EnumOf[V]{v}, one(own.IsNot)) },
		In:    func(values ...EnumOf[V]) Cond[E] { return with(values, own.In) },
		NotIn: func(values ...EnumOf[V]) Cond[E] { return with(values, own.NotIn) },
		Asc:   own.Asc,
		Desc:  own.Desc,
		Set: func(v EnumOf[V]) Assignment[E] {
			list, err := labelsIn([]EnumOf[V]{v})
			if err != nil {
				return Assignment[E]{assignment{column: ref, expr: failing{err}}}
			}
			return set.Set(list[0])
		},
		SetTo: set.SetTo,
	}
}

// labelsIn are the values of an enum. Other types can have its methods.
func labelsIn[V EnumOf[V]](values []EnumOf[V]) ([]V, error) {
	list := make([]V, len(values))
	for i, v := range values {
		label, ok := v.(V)
		if !ok {
			return nil, fmt.Errorf("%T is no value of %T; use one of the enum's constants", v, label)
		}
		list[i] = label
	}
	return list, nil
}

func orderingOf[E, V any](x operand) ordering[E, V] {
	return ordering[E, V]{
		equality: equalityOf[E, V](x),
		Less:     func(v V) Cond[E] { return compare[E](x, " < ", v) },
		AtMost:   func(v V) Cond[E] { return compare[E](x, " <= ", v) },
		More:     func(v V) Cond[E] { return compare[E](x, " > ", v) },
		AtLeast:  func(v V) Cond[E] { return compare[E](x, " >= ", v) },
		Between: func(least, most V) Cond[E] {
			return And(compare[E](x, " >= ", least), compare[E](x, " <= ", most))
		},
	}
}

func textsOf[E any](x operand) texts[E] {
	return texts[E]{
		ordering:     orderingOf[E, string](x),
		Like:         func(pattern string) Cond[E] { return Cond[E]{likePattern{x, pattern}} },
		Contains:     func(part string) Cond[E] { return Cond[E]{partOf{x, "", part, "", false}} },
		HasPrefix:    func(part string) Cond[E] { return Cond[E]{partOf{x, part, "", "", false}} },
		HasSuffix:    func(part string) Cond[E] { return Cond[E]{partOf{x, "", "", part, false}} },
		EqualFold:    func(v string) Cond[E] { return Cond[E]{equalFold{x, v}} },
		ContainsFold: func(part string) Cond[E] { return Cond[E]{partOf{x, "", part, "", true}} },
	}
}

func settingOf[E, V any](ref columnRef) setting[E, V] {
	return setting[E, V]{
		Set: func(v V) Assignment[E] { return Assignment[E]{assignment{column: ref, value: plain(v)}} },
		SetTo: func(v Expr[E, V]) Assignment[E] {
			var e E
			var none V
			return Assignment[E]{assignment{column: ref, expr: v.operandOf(e, none)}}
		},
	}
}

func compare[E, V any](x operand, op string, v V) Cond[E] {
	return Cond[E]{comparison{x, op, plain(v)}}
}

func plainList[V any](values []V) []any {
	list := make([]any, len(values))
	for i, v := range values {
		list[i] = plain(v)
	}
	return list
}

// plain turns a value into one that every driver takes.
func plain[V any](v V) any {
	switch v := any(v).(type) {
	case int64, string, bool, float64, []byte, time.Time:
		return v
	}
	f := fieldOf(&v)
	if _, foreign := f.(foreignField); foreign {
		return v // a driver.Valuer, which drivers take
	}
	return f.arg()
}

// assignment is a value for one column, or what the database computes.
type assignment struct {
	column columnRef
	value  any
	expr   operand
}

func (a assignment) write(s *statement) {
	s.column(a.column.table, a.column.index)
	s.add(" = ")
	if a.expr != nil {
		s.inAlias(s.engine.quote(a.column.table.Name), func() { a.expr.write(s) })
		return
	}
	s.bindStored(a.column.info(), a.value)
}

// orderItem is one step of an order.
type orderItem struct {
	x     operand
	desc  bool
	nulls nullsPlace
}

type nullsPlace uint8

const (
	nullsAsTheEngineDoes nullsPlace = iota
	nullsFirst
	nullsLast
)

// NullsFirst puts the rows without a value before all others.
func NullsFirst[E any](o Order[E]) Order[E] {
	o.item.nulls = nullsFirst
	return o
}

// NullsLast puts the rows without a value behind all others.
func NullsLast[E any](o Order[E]) Order[E] {
	o.item.nulls = nullsLast
	return o
}

// nullsComeLast reports where rows without a value stand in the order.
func (o orderItem) nullsComeLast(e *Engine) bool {
	if o.nulls == nullsAsTheEngineDoes {
		return e.NullsHigh != o.desc
	}
	return o.nulls == nullsLast
}

func writeOrder(s *statement, order []orderItem) {
	for i, o := range order {
		if i == 0 {
			s.add(" ORDER BY ")
		} else {
			s.add(", ")
		}
		writeOrderItem(s, o)
	}
}

func writeOrderItem(s *statement, o orderItem) {
	if natural := (orderItem{desc: o.desc}); o.nullsComeLast(s.engine) != natural.nullsComeLast(s.engine) {
		// A step of its own, which every engine knows.
		s.add("CASE WHEN ")
		o.x.write(s)
		if o.nulls == nullsLast {
			s.add(" IS NULL THEN 1 ELSE 0 END, ")
		} else {
			s.add(" IS NULL THEN 0 ELSE 1 END, ")
		}
	}
	o.x.write(s)
	if o.desc {
		s.add(" DESC")
	}
}
