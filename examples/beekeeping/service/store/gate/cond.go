package gate

import (
	"fmt"
	"strconv"
	"strings"
)

// Cond is a condition on rows of type E. The zero Cond holds for every row.
type Cond[E any] struct{ expr expr }

// And holds where all of the conditions do.
func And[E any](conds ...Cond[E]) Cond[E] { return Cond[E]{group{" AND ", exprs(conds)}} }

// Or holds where at least one of the conditions does. Conditions that say
// nothing, as Given makes of a missing value, do not count; where all of them
// do not, neither does Or say anything.
func Or[E any](conds ...Cond[E]) Cond[E] {
	list := exprs(conds)
	if len(list) == 0 && len(conds) > 0 {
		return Cond[E]{}
	}
	return Cond[E]{group{" OR ", list}}
}

// Not holds where the condition does not.
func Not[E any](c Cond[E]) Cond[E] {
	if c.expr == nil {
		return Cond[E]{negation{group{joiner: " AND "}}}
	}
	return Cond[E]{negation{c.expr}}
}

// When is the condition where it is asked for, and else adds nothing.
func When[E any](asked bool, c Cond[E]) Cond[E] {
	if !asked {
		return Cond[E]{}
	}
	return c
}

// Given makes a condition of a value that may be missing, such as a field of a
// search form: Given(form.Name, store.Hives.Name.Is). A missing value adds
// nothing.
func Given[E, V any](v *V, cond func(V) Cond[E]) Cond[E] {
	if v == nil {
		return Cond[E]{}
	}
	return cond(*v)
}

// GivenMaybe is Given for a Maybe; null and absent add nothing.
func GivenMaybe[E, V any](v Maybe[V], cond func(V) Cond[E]) Cond[E] {
	value, ok := v.Get()
	if !ok {
		return Cond[E]{}
	}
	return cond(value)
}

// GivenSome makes a condition of a list; an empty one adds nothing.
func GivenSome[E, V any](values []V, cond func(...V) Cond[E]) Cond[E] {
	if len(values) == 0 {
		return Cond[E]{}
	}
	return cond(values...)
}

// GivenLabels is GivenSome for the labels of an enum.
func GivenLabels[E any, V EnumOf[V]](values []V, cond func(...EnumOf[V]) Cond[E]) Cond[E] {
	if len(values) == 0 {
		return Cond[E]{}
	}
	return cond(Labels(values)...)
}

// exprs are the conditions that say something.
func exprs[E any](conds []Cond[E]) []expr {
	list := make([]expr, 0, len(conds))
	for _, c := range conds {
		if c.expr != nil {
			list = append(list, c.expr)
		}
	}
	return list
}

// expr is a condition without the type of its rows.
type expr interface{ write(s *statement) }

// operand is a value in a statement. Its info is that of the column by which
// values that it is compared with are bound; it is nil where there is none.
type operand interface {
	expr
	info() *Column
}

// columnRef names one column of one table.
type columnRef struct {
	table *Info
	index int
}

func (r columnRef) info() *Column {
	if r.index < 0 {
		return nil
	}
	return &r.table.Columns[r.index]
}

// write writes the column in the form in which its values compare.
func (r columnRef) write(s *statement) {
	if r.index < 0 || s.engine.Mixed == nil || !s.engine.Mixed(r.table, r.index) {
		s.column(r.table, r.index)
		return
	}
	s.add("gate_shown(")
	s.column(r.table, r.index)
	s.add(", ", strconv.Itoa(int(r.table.Columns[r.index].Type)), ")")
}

type comparison struct {
	x     operand
	op    string
	value any
}

func (c comparison) write(s *statement) {
	c.x.write(s)
	s.add(c.op)
	s.bindAs(c.x.info(), c.value)
}

type nullTest struct {
	x   operand
	not bool
}

func (n nullTest) write(s *statement) {
	n.x.write(s)
	if n.not {
		s.add(" IS NOT NULL")
		return
	}
	s.add(" IS NULL")
}

// group joins conditions; an empty AND is true and an empty OR is false.
type group struct {
	joiner string
	conds  []expr
}

func (g group) write(s *statement) {
	if len(g.conds) == 0 {
		if g.joiner == " OR " {
			s.add("1=0")
		} else {
			s.add("1=1")
		}
		return
	}
	s.add("(")
	for i, c := range g.conds {
		if i > 0 {
			s.add(g.joiner)
		}
		c.write(s)
	}
	s.add(")")
}

type negation struct{ cond expr }

func (n negation) write(s *statement) {
	s.add("NOT (")
	n.cond.write(s)
	s.add(")")
}

// inList holds where the column has one of the values.
type inList struct {
	x      operand
	values []any
}

func (l inList) write(s *statement) {
	if len(l.values) == 0 {
		group{joiner: " OR "}.write(s)
		return
	}
	l.x.write(s)
	writeList(s, l.x.info(), false, l.values)
}

// notIn holds where there is a value and it is none of the given ones.
func notIn(x operand, values []any) expr {
	if len(values) == 0 {
		return nullTest{x, true}
	}
	return negation{inList{x, values}}
}

// likePattern compares text by a pattern; the escape character is !, which
// means the same on every engine.
type likePattern struct {
	x       operand
	pattern string
}

func (l likePattern) write(s *statement) {
	l.x.write(s)
	s.add(" LIKE ")
	s.bind(l.pattern)
	s.add(" ESCAPE '!'")
}

// partOf holds where the text begins with, contains and ends with something.
type partOf struct {
	x                 operand
	first, part, last string
	fold              bool
}

func (p partOf) write(s *statement) {
	if s.engine.FoldingLike && !p.fold {
		p.x.write(s)
		s.add(" GLOB ")
		s.bind(p.pattern(globEscaper, "*"))
		return
	}
	writeLike(s, p.x, p.pattern(likeEscaper, "%"), p.fold)
}

// writeLike compares text with a pattern of likePattern, without regard to case
// where fold says so.
func writeLike(s *statement, x operand, pattern string, fold bool) {
	if !fold || s.engine.FoldingLike {
		likePattern{x, pattern}.write(s)
		return
	}
	s.add("lower(")
	x.write(s)
	s.add(") LIKE lower(")
	s.bind(pattern)
	s.add(") ESCAPE '!'")
}

func (p partOf) pattern(escape *strings.Replacer, any string) string {
	text := escape.Replace(p.first)
	if p.first == "" {
		text += any + escape.Replace(p.part)
	}
	if p.last == "" {
		return text + any
	}
	return text + escape.Replace(p.last)
}

// equalFold compares text without regard to case.
type equalFold struct {
	x     operand
	value string
}

func (e equalFold) write(s *statement) {
	s.add("lower(")
	e.x.write(s)
	s.add(") = lower(")
	s.bind(e.value)
	s.add(")")
}

var globEscaper = strings.NewReplacer("[", "[[]", "*", "[*]", "?", "[?]")

var likeEscaper = strings.NewReplacer("!", "!!", "%", "!%", "_", "!_")

// raw is a fragment of SQL; each ? in it stands for a value.
type raw struct {
	text   string
	values []any
}

func (r raw) write(s *statement) {
	parts := strings.Split(r.text, "?")
	if len(parts) != len(r.values)+1 {
		s.fail(fmt.Errorf("raw condition %q has %d places for %d values", r.text, len(parts)-1, len(r.values)))
		return
	}
	s.add("(")
	for i, part := range parts {
		s.add(part)
		if i < len(r.values) {
			s.bind(r.values[i])
		}
	}
	s.add(")")
}

// Raw is a condition in the engine's own SQL, the way out where the typed ones
// do not suffice. Each ? stands for one of the values, which travel as bound
// parameters. Columns need no qualification unless the text has subqueries.
func Raw[E any](text string, values ...any) Cond[E] { return Cond[E]{raw{text, values}} }
