package gate

import (
	"strconv"
	"strings"
)

// ValueExpr is a computed value without an order.
type ValueExpr[E, V any] struct {
	equality[E, V]
	nulls[E]
}

// OrderedExpr is a computed value that has an order.
type OrderedExpr[E, V any] struct {
	ordering[E, V]
	nulls[E]
}

// TextExpr is a computed text.
type TextExpr[E any] struct {
	texts[E]
	nulls[E]
}

func (c *ValueExpr[E, V]) operandOf(E, V) operand   { return c.x }
func (c *OrderedExpr[E, V]) operandOf(E, V) operand { return c.x }
func (c *TextExpr[E]) operandOf(E, string) operand  { return c.x }

func orderedExpr[E, V any](x operand) *OrderedExpr[E, V] {
	return &OrderedExpr[E, V]{orderingOf[E, V](x), nullsOf[E](x)}
}

func valueExpr[E, V any](x operand) ValueExpr[E, V] {
	return ValueExpr[E, V]{equalityOf[E, V](x), nullsOf[E](x)}
}

//go:noinline
func textExpr[E any](x operand) *TextExpr[E] { return &TextExpr[E]{textsOf[E](x), nullsOf[E](x)} }

// operandIn is the operand of an expression.
func operandIn[E, V any](x Expr[E, V]) operand {
	var e E
	var v V
	return x.operandOf(e, v)
}

// Equal holds where two values of a row are the same, and not for NULL.
func Equal[E, V any](a, b Expr[E, V]) Cond[E] { return compareExprs(a, " = ", b) }

// Unequal holds where two values of a row differ, and not for NULL.
func Unequal[E, V any](a, b Expr[E, V]) Cond[E] { return compareExprs(a, " <> ", b) }

// Less holds where a is below b in the same row.
func Less[E, V any](a, b Expr[E, V]) Cond[E] { return compareExprs(a, " < ", b) }

// AtMost holds where a is b or below in the same row.
func AtMost[E, V any](a, b Expr[E, V]) Cond[E] { return compareExprs(a, " <= ", b) }

func compareExprs[E, V any](a Expr[E, V], op string, b Expr[E, V]) Cond[E] {
	return Cond[E]{infix{operandIn(a), op, operandIn(b)}}
}

// Plus adds two values of a row.
func Plus[E, V any](a, b Expr[E, V]) *OrderedExpr[E, V] { return calculate(a, " + ", b) }

// Minus subtracts b from a.
func Minus[E, V any](a, b Expr[E, V]) *OrderedExpr[E, V] { return calculate(a, " - ", b) }

// Times multiplies two values of a row.
func Times[E, V any](a, b Expr[E, V]) *OrderedExpr[E, V] { return calculate(a, " * ", b) }

// Over divides a by b. Whole numbers are divided without a fraction.
func Over[E, V any](a, b Expr[E, V]) *OrderedExpr[E, V] {
	var v V
	switch any(v).(type) {
	case int64, int32, int16, uint64:
		return calculate(a, wholeQuotient, b)
	}
	return calculate(a, " / ", b)
}

// wholeQuotient is the operator that divides whole numbers, which only MySQL has
// besides the other.
const wholeQuotient = " DIV "

func calculate[E, V any](a Expr[E, V], op string, b Expr[E, V]) *OrderedExpr[E, V] {
	return orderedExpr[E, V](infix{operandIn(a), op, operandIn(b)})
}

// Const is a value that is the same in every row, to calculate with.
func Const[E, V any](v V) *OrderedExpr[E, V] { return orderedExpr[E, V](constant{plain(v)}) }

// Lower is a text in small letters.
func Lower[E any](x Expr[E, string]) *TextExpr[E] {
	return textExpr[E](function{"lower", operandIn(x)})
}

// Length is the length of a text in characters.
func Length[E any](x Expr[E, string]) *OrderedExpr[E, int64] {
	return orderedExpr[E, int64](function{"length", operandIn(x)})
}

// OrElse is a, or b where a is NULL.
func OrElse[E, V any](a, b Expr[E, V]) *OrderedExpr[E, V] {
	return orderedExpr[E, V](coalesce{operandIn(a), operandIn(b)})
}

// RawExpr is a value in the engine's own SQL; each ? in it stands for one of
// the values, which travel as bound parameters.
func RawExpr[E, V any](text string, values ...any) *OrderedExpr[E, V] {
	return orderedExpr[E, V](rawOperand{raw{text, values}})
}

// infix is two operands with an operator between them.
type infix struct {
	a  operand
	op string
	b  operand
}

func (c infix) info() *Column { return nil }

func (c infix) write(s *statement) {
	s.add("(")
	c.a.write(s)
	if c.op == wholeQuotient {
		c.op = s.engine.Dialect.Quotient()
	}
	s.add(c.op)
	c.b.write(s)
	s.add(")")
}

// constant is a bound value.
type constant struct{ value any }

func (c constant) info() *Column { return nil }

// write gives the parameter a type where the engine could not tell it.
func (c constant) write(s *statement) {
	s.bind(c.value)
	switch c.value.(type) {
	case int64, float64:
		s.add(s.engine.Dialect.Typed(c.value))
	}
}

// function is a function of SQL that every engine has.
type function struct {
	name string
	x    operand
}

func (f function) info() *Column { return nil }

func (f function) write(s *statement) {
	name := f.name
	if name == "length" {
		name = s.engine.Dialect.Length()
	}
	s.add(name, "(")
	f.x.write(s)
	s.add(")")
}

type coalesce struct{ a, b operand }

func (c coalesce) info() *Column { return c.a.info() }

func (c coalesce) write(s *statement) {
	s.add("coalesce(")
	c.a.write(s)
	s.add(", ")
	c.b.write(s)
	s.add(")")
}

type rawOperand struct{ raw }

func (rawOperand) info() *Column { return nil }

// jsonAt is the text of what lies at a path of a document.
type jsonAt struct {
	document columnRef
	path     []string
}

func (j jsonAt) info() *Column { return nil }

func (j jsonAt) write(s *statement) {
	before, between, arg, after := s.engine.Dialect.PathValue(j.path, jsonPath(j.path))
	s.add(before)
	j.document.write(s)
	s.add(between)
	s.bind(arg)
	s.add(after)
}

// jsonHas holds where something lies at a path, be it null.
type jsonHas struct {
	document columnRef
	path     []string
}

func (j jsonHas) write(s *statement) {
	before, between, arg, after := s.engine.Dialect.PathHas(j.path, jsonPath(j.path))
	s.add(before)
	j.document.write(s)
	s.add(between)
	s.bind(arg)
	s.add(after)
}

// jsonPath writes a path as $."name"[0].
func jsonPath(path []string) string {
	var b strings.Builder
	b.WriteByte('$')
	for _, step := range path {
		if n, err := strconv.Atoi(step); err == nil && n >= 0 {
			b.WriteString("[" + step + "]")
			continue
		}
		b.WriteString(`."` + strings.ReplaceAll(strings.ReplaceAll(step, `\`, `\\`), `"`, `\"`) + `"`)
	}
	return b.String()
}
