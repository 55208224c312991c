package gate

import (
	"slices"
	"strconv"
)

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
	s.add("EXISTS (SELECT 1")
	r.link.writeChildren(s, s.newAlias(), r.conds)
	s.add(")")
}

// countOf is the number of the children of a row for which conds hold.
type countOf struct {
	link  link
	conds []expr
}

func (c countOf) info() *Column { return nil }

func (c countOf) write(s *statement) {
	s.add("(SELECT count(*)")
	c.link.writeChildren(s, s.newAlias(), c.conds)
	s.add(")")
}

// through is a value of the one child of a row, if conds hold for it.
type through struct {
	link  link
	x     operand
	conds []expr
}

func (t through) info() *Column { return t.x.info() }

func (t through) write(s *statement) {
	child := s.newAlias()
	s.add("(SELECT ")
	s.inAlias(child, func() { t.x.write(s) })
	t.link.writeChildren(s, child, t.conds)
	s.add(")")
}

// writeChildren writes from where, and which, the children of the row that the
// statement is about come.
func (l link) writeChildren(s *statement, child string, conds []expr) {
	outer := s.alias
	s.add(" FROM ", s.engine.table(l.child.Schema, l.child.Name), " AS ", child)
	s.inAlias(child, func() {
		parentColumn := func(i int) { s.inAlias(outer, func() { s.column(l.parent, l.from[i]) }) }
		if l.join == nil {
			s.add(" WHERE ")
			l.writeEqual(s, l.to, child, parentColumn)
		} else {
			join := s.newAlias()
			l.writeJoin(s, join)
			s.add(" WHERE ")
			l.writeParentOfJoin(s, join, parentColumn)
		}
		for _, c := range conds {
			s.add(" AND ")
			c.write(s)
		}
	})
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

// childStatement reads the children of the given parents. A bound for each
// parent is kept by numbering its children.
func (l link) childStatement(e *Engine, keys [][]any, q query, perParent int) *statement {
	where, order := q.conditions(), q.order
	s := newStatement(e)
	alias := s.newAlias()
	join := ""
	if l.join != nil {
		join = s.newAlias()
	}
	s.inAlias(alias, func() {
		if perParent > 0 {
			s.add("SELECT ")
			l.writeOutputNames(s, join)
			s.add(" FROM (")
		}
		s.add("SELECT ")
		l.writeOutputs(s, join, perParent > 0)
		if perParent > 0 {
			s.add(", row_number() OVER (PARTITION BY ")
			l.writeParentSide(s, alias, join)
			writeOrder(s, order)
			s.add(") AS place_of_row")
		}
		s.add(" FROM ", e.table(l.child.Schema, l.child.Name), " AS ", alias)
		if join != "" {
			l.writeJoin(s, join)
		}
		s.add(" WHERE ")
		l.writeKeys(s, alias, join, keys)
		for _, c := range where {
			s.add(" AND ")
			c.write(s)
		}
		if perParent > 0 {
			s.add(") AS ", alias, " WHERE place_of_row <= ", strconv.Itoa(perParent), " ORDER BY place_of_row")
			return
		}
		writeOrder(s, order)
	})
	return s
}

// parentColumn is the name under which the join table's i-th column travels
// out of a subquery.
func parentColumn(i int) string { return "parent_of_row_" + strconv.Itoa(i) }

func (l link) writeOutputs(s *statement, join string, named bool) {
	if join != "" {
		for i, pair := range l.join.Parent {
			s.add(join, ".", s.engine.quote(pair[1]))
			if named {
				s.add(" AS ", parentColumn(i))
			}
			s.add(", ")
		}
	}
	if named {
		for i := range l.child.Columns {
			if i > 0 {
				s.add(", ")
			}
			s.column(l.child, i)
		}
		return
	}
	s.outputs(l.child)
}

func (l link) writeOutputNames(s *statement, join string) {
	if join != "" {
		for i := range l.join.Parent {
			s.add(parentColumn(i), ", ")
		}
	}
	s.outputs(l.child)
}

// writeParentSide writes the columns that tell the parent of a child.
func (l link) writeParentSide(s *statement, alias, join string) {
	for i := range l.from {
		if i > 0 {
			s.add(", ")
		}
		l.writeParentColumn(s, alias, join, i)
	}
}

func (l link) writeParentColumn(s *statement, alias, join string, i int) {
	if join != "" {
		s.add(join, ".", s.engine.quote(l.join.Parent[i][1]))
		return
	}
	s.inAlias(alias, func() { s.column(l.child, l.to[i]) })
}

// writeKeys writes that a child belongs to one of the parents.
func (l link) writeKeys(s *statement, alias, join string, keys [][]any) {
	column := &l.parent.Columns[l.from[0]]
	if len(l.from) == 1 {
		values := make([]any, len(keys))
		for i, k := range keys {
			values[i] = k[0]
		}
		l.writeParentColumn(s, alias, join, 0)
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
			l.writeParentColumn(s, alias, join, i)
			s.add(" = ")
			s.bindAs(&l.parent.Columns[l.from[i]], v)
		}
		s.add(")")
	}
	s.add(")")
}

// joinRow is a row of a table between two others.
type joinRow struct {
	join   *Join
	names  []string
	values []any
}

func (r joinRow) where(s *statement) {
	for i, name := range r.names {
		if i == 0 {
			s.add(" WHERE ")
		} else {
			s.add(" AND ")
		}
		s.name(name)
		s.add(" = ")
		s.bind(r.values[i])
	}
}

func (r joinRow) insert(s *statement) {
	s.add("INSERT INTO ", s.engine.table(r.join.Schema, r.join.Name), " (")
	for i, name := range r.names {
		if i > 0 {
			s.add(", ")
		}
		s.name(name)
	}
	s.add(") VALUES (")
	for i, v := range r.values {
		if i > 0 {
			s.add(", ")
		}
		s.bind(v)
	}
	s.add(")")
}
