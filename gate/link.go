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
	up            bool  // the parent refers to the child
	join          *Join
	root          *edge // the relation as it was described
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

// writeEqual writes that the child's columns equal what other writes. What is
// referred to stands first: its rules count.
func (l link) writeEqual(s *statement, columns []int, alias string, other func(i int)) {
	s.inAlias(alias, func() {
		for i, c := range columns {
			if i > 0 {
				s.add(" AND ")
			}
			if l.up {
				s.column(l.child, c)
				s.add(" = ")
				other(i)
				continue
			}
			other(i)
			s.add(" = ")
			s.column(l.child, c)
		}
	})
}

// writeJoin joins the table between to the child that is being read.
func (l link) writeJoin(s *statement, join string) {
	s.add(" JOIN ", s.engine.table(l.join.Schema, l.join.Name), " AS ", join, " ON ")
	l.writeChildOfJoin(s, join)
}

// writeChildOfJoin writes that the table between refers to the child.
func (l link) writeChildOfJoin(s *statement, join string) {
	for i, pair := range l.join.Child {
		if i > 0 {
			s.add(" AND ")
		}
		s.column(l.child, l.to[i])
		s.add(" = ", join, ".", s.engine.quote(pair[0]))
	}
}

func (l link) writeParentOfJoin(s *statement, join string, other func(i int)) {
	for i, pair := range l.join.Parent {
		if i > 0 {
			s.add(" AND ")
		}
		other(i)
		s.add(" = ", join, ".", s.engine.quote(pair[1]))
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
	s.add(" AND ")
	c.link.writeChildOfJoin(s, join)
	s.add(")")
}

// childStatement reads the children of the given parents: first the place of
// the parent among the keys where the engine must match them, else the columns
// of the table between that tell the parent, and then the child. A bound for
// each parent is kept by numbering its children.
func (l link) childStatement(e *Engine, keys [][]any, q query, perParent int) *statement {
	s := newStatement(e)
	r := childReading{link: l, keys: keys, alias: s.newAlias()}
	if l.join != nil {
		r.join = s.newAlias()
	}
	if !l.exact(e) {
		r.table = s.newAlias()
	}
	s.inAlias(r.alias, func() {
		if perParent > 0 {
			s.add("SELECT ")
			r.writeParentNames(s)
			q.writeOutputs(s)
			s.add(" FROM (")
		}
		s.add("SELECT ")
		r.writeParents(s, perParent > 0)
		if perParent == 0 {
			q.writeOutputs(s)
		} else {
			s.columnList(l.child, allColumns(l.child))
			s.add(", row_number() OVER (PARTITION BY ")
			r.writeParentSide(s)
			writeOrder(s, q.order)
			s.add(") AS place_of_row")
		}
		r.writeSource(s)
		r.writeConditions(s, q.conditions())
		if perParent > 0 {
			s.add(") AS ", r.alias, " WHERE place_of_row <= ", strconv.Itoa(perParent), " ORDER BY place_of_row")
			return
		}
		writeOrder(s, q.order)
	})
	return s
}

// exact reports whether children can be matched with their parents by their
// values, without asking the engine which are the same.
func (l link) exact(e *Engine) bool {
	return len(l.from) == 1 && e.exactKey(&l.parent.Columns[l.from[0]]) && (l.join != nil || e.exactKey(&l.child.Columns[l.to[0]]))
}

// childReading is the statement that reads the children of some parents.
type childReading struct {
	link  link
	keys  [][]any
	alias string // of the child
	join  string // of the table between, if there is one
	table string // of the keys, where they are a table
}

// parentColumn is the name under which the i-th column that tells the parent
// travels out of a subquery.
func parentColumn(i int) string { return "parent_of_row_" + strconv.Itoa(i) }

// writeParents writes what tells the parent of a row and is no column of it,
// each followed by a comma.
func (r childReading) writeParents(s *statement, named bool) {
	for i := range r.parentColumns() {
		if r.table != "" {
			s.add(r.table, ".place")
		} else {
			s.add(r.join, ".", s.engine.quote(r.link.join.Parent[i][1]))
		}
		if named {
			s.add(" AS ", parentColumn(i))
		}
		s.add(", ")
	}
}

func (r childReading) writeParentNames(s *statement) {
	for i := range r.parentColumns() {
		s.add(parentColumn(i), ", ")
	}
}

// parentColumns is how many columns before those of the child tell its parent.
func (r childReading) parentColumns() int {
	switch {
	case r.table != "":
		return 1
	case r.join != "":
		return len(r.link.from)
	}
	return 0
}

// writeParentSide writes the columns that tell the parent of a child.
func (r childReading) writeParentSide(s *statement) {
	if r.table != "" {
		s.add(r.table, ".place")
		return
	}
	r.writeParentColumn(s, 0)
}

// writeParentColumn writes the i-th column that equals one of the parent.
func (r childReading) writeParentColumn(s *statement, i int) {
	if r.join != "" {
		s.add(r.join, ".", s.engine.quote(r.link.join.Parent[i][1]))
		return
	}
	s.inAlias(r.alias, func() { s.column(r.link.child, r.link.to[i]) })
}

func (r childReading) writeSource(s *statement) {
	l := r.link
	s.add(" FROM ")
	if r.table != "" {
		s.inAlias("", func() { keyTable{l.parent, l.from, r.keys}.write(s, r.table) })
		s.add(" JOIN ")
		if r.join != "" {
			s.add(s.engine.table(l.join.Schema, l.join.Name), " AS ", r.join, " ON ")
			r.writeSame(s)
			s.add(" JOIN ")
		}
	}
	s.add(s.engine.table(l.child.Schema, l.child.Name), " AS ", r.alias)
	switch {
	case r.table != "" && r.join != "":
		s.add(" ON ")
		l.writeChildOfJoin(s, r.join)
	case r.table != "":
		s.add(" ON ")
		r.writeSame(s)
	case r.join != "":
		l.writeJoin(s, r.join)
	}
}

// writeSame writes that a row of the keys and what refers to the parent, or is
// referred to, are the same. What is referred to stands first: its rules count.
func (r childReading) writeSame(s *statement) {
	for i := range r.link.from {
		if i > 0 {
			s.add(" AND ")
		}
		key := r.table + "." + keyColumn(i)
		if r.link.up {
			r.writeParentColumn(s, i)
			s.add(" = ", key)
			continue
		}
		s.add(key, " = ")
		r.writeParentColumn(s, i)
	}
}

func (r childReading) writeConditions(s *statement, conds []expr) {
	if r.table == "" {
		values := make([]any, len(r.keys))
		for i, k := range r.keys {
			values[i] = k[0]
		}
		s.add(" WHERE ")
		r.writeParentColumn(s, 0)
		writeList(s, &r.link.parent.Columns[r.link.from[0]], false, values)
	}
	for i, c := range conds {
		if i == 0 && r.table != "" {
			s.add(" WHERE ")
		} else {
			s.add(" AND ")
		}
		c.write(s)
	}
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
