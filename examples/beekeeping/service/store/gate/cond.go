package gate

import (
	"fmt"
	"strings"
)

// Cond is a condition on rows of type E. The zero Cond holds for every row.
type Cond[E any] struct{ expr expr }

// And holds where all of the conditions do.
func And[E any](conds ...Cond[E]) Cond[E] { return Cond[E]{group{" AND ", exprs(conds)}} }

// Or holds where at least one of the conditions does.
func Or[E any](conds ...Cond[E]) Cond[E] { return Cond[E]{group{" OR ", exprs(conds)}} }

// Not holds where the condition does not.
func Not[E any](c Cond[E]) Cond[E] { return Cond[E]{negation{c.node()}} }

func (c Cond[E]) node() expr {
	if c.expr == nil {
		return group{joiner: " AND "}
	}
	return c.expr
}

func exprs[E any](conds []Cond[E]) []expr {
	list := make([]expr, len(conds))
	for i, c := range conds {
		list[i] = c.node()
	}
	return list
}

// expr is a condition without the type of its rows.
type expr interface{ write(s *statement) }

// columnRef names one column of one table.
type columnRef struct {
	table *Info
	index int
}

func (r columnRef) info() *ColumnInfo {
	if r.index < 0 {
		return &ColumnInfo{}
	}
	return &r.table.Columns[r.index]
}

func (r columnRef) write(s *statement) { s.column(r.table, r.index) }

type comparison struct {
	column columnRef
	op     string
	value  any
}

func (c comparison) write(s *statement) {
	c.column.write(s)
	s.add(c.op)
	s.bindAs(c.column.info(), c.value)
}

type nullTest struct {
	column columnRef
	not    bool
}

func (n nullTest) write(s *statement) {
	n.column.write(s)
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
	column columnRef
	values []any
}

func (l inList) write(s *statement) {
	if len(l.values) == 0 {
		group{joiner: " OR "}.write(s)
		return
	}
	l.column.write(s)
	writeList(s, l.column.info(), l.values)
}

// writeList writes that what stands before it is one of the values.
func writeList(s *statement, c *ColumnInfo, values []any) {
	if list, ok := arrayArg(values); ok && s.engine.ArrayArgs && c.Cast == "" && c.Type.array() {
		s.add(" = ANY(")
		s.bind(list)
		s.add(")")
		return
	}
	s.add(" IN (")
	for i := range listSize(len(values)) {
		if i > 0 {
			s.add(", ")
		}
		s.bindAs(c, values[min(i, len(values)-1)])
	}
	s.add(")")
}

// listSize rounds the length of a list up to a power of two, so that lists of
// any length make few statement texts; the last value is repeated.
func listSize(n int) int {
	size := 1
	for size < n {
		size *= 2
	}
	return size
}

// arrayArg makes one argument of values that are all of one type.
func arrayArg(values []any) (any, bool) {
	switch values[0].(type) {
	case int64:
		return sameType[int64](values)
	case string:
		return sameType[string](values)
	}
	return nil, false
}

func sameType[T any](values []any) (any, bool) {
	list := make([]T, len(values))
	for i, v := range values {
		t, ok := v.(T)
		if !ok {
			return nil, false
		}
		list[i] = t
	}
	return list, true
}

// likePattern compares text by a pattern; the escape character is !, which
// means the same on every engine.
type likePattern struct {
	column  columnRef
	pattern string
}

func (l likePattern) write(s *statement) {
	l.column.write(s)
	s.add(" LIKE ")
	s.bind(l.pattern)
	s.add(" ESCAPE '!'")
}

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
