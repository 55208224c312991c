package gate

import (
	"context"
	"fmt"
	"slices"
	"strconv"
)

// What follows reads tables that are chosen while the program runs, by columns
// and relations that are found by name: what a request asks for. Queries and
// conditions of any are the untyped ones.

// Untyped is the query without the type of its rows, which are of it still.
func Untyped[E any](q *Query[E]) *Query[any] { return &Query[any]{q.q} }

// Typed is the query for rows of E, which they must be.
func Typed[E any](q *Query[any]) *Query[E] { return &Query[E]{q.q} }

// AllOf is the query for all rows of a table, those that are only marked as
// deleted among them.
func AllOf(t *Info) *Query[any] { return &Query[any]{query{info: t, deleted: true}} }

// Term is a value of a row, to compare with others.
type Term struct{ x operand }

// Term is the value of column i.
func (t *Info) Term(i int) Term { return Term{columnRef{t, i}} }

// Term is a value of the one related row, and null where there is none.
func (r Relation) Term(x Term) Term { return Term{through{r.e.link, x.x, r.e.child.conditions()}} }

// Holding holds for rows with a related row for which all conditions hold.
func (r Relation) Holding(conds ...Cond[any]) Cond[any] { return Cond[any]{r.e.has(exprs(conds))} }

// Of is the query for the rows related to parent.
func (r Relation) Of(parent any) *Query[any] { return &Query[any]{r.e.of(parent)} }

// Narrowed is the relation to those rows of it that query has, which must be
// made of Rows.
func (r Relation) Narrowed(query *Query[any]) Relation { return Relation{r.e.narrowed(query.q)} }

// Rows is the query for the rows at the other end.
func (r Relation) Rows() *Query[any] { return &Query[any]{r.e.child} }

// Compare compares with an argument; op is one of = <> < <= > >=, or of arrays
// @> <@ &&.
func (t Term) Compare(op string, arg any) Cond[any] {
	return Cond[any]{comparison{t.x, " " + op + " ", arg}}
}

// CompareTo compares two values of a row.
func (t Term) CompareTo(op string, other Term) Cond[any] {
	return Cond[any]{infix{t.x, " " + op + " ", other.x}}
}

// Null holds where there is no value.
func (t Term) Null() Cond[any] { return Cond[any]{nullTest{t.x, false}} }

// In holds where the value is one of the arguments.
func (t Term) In(args []any) Cond[any] { return Cond[any]{inList{t.x, args}} }

// Matches holds where a text is like the pattern, in which % is any text, _ any
// character, and \ takes the meaning from the next character.
func (t Term) Matches(pattern string) Cond[any] { return Cond[any]{matching{t.x, pattern, false}} }

// MatchesFold is Matches without regard to case.
func (t Term) MatchesFold(pattern string) Cond[any] { return Cond[any]{matching{t.x, pattern, true}} }

// HoldsText holds where part stands anywhere in the text, in any case.
func (t Term) HoldsText(part string) Cond[any] { return Cond[any]{partOf{t.x, "", part, "", true}} }

// LowerTerm is a text in small letters.
func LowerTerm(t Term) Term { return Term{function{"lower", t.x}} }

// TextTerm is a text that is the same in every row.
func TextTerm(s string) Term { return Term{fixedText(s)} }

// NumberTerm is a number that is the same in every row, given by its digits.
func NumberTerm(digits string) Term { return Term{number(digits)} }

// Calculate is a value of two numbers; op is one of + - * / % ^ or div. What is
// divided by zero is null.
func Calculate(op string, a, b Term) Term { return Term{calculation{op, a.x, b.x}} }

// Argument reads the text form of a value of column i, for Compare.
func (t *Info) Argument(i int, text string) (any, error) {
	p := t.fieldsOf(t.create())[i]
	if err := t.Columns[i].ReadText(p, text); err != nil {
		return nil, err
	}
	return fieldOf(p).arg(), nil
}

// OrderByTerm appends a step to the order.
func OrderByTerm(q *Query[any], t Term, desc bool) *Query[any] {
	return q.OrderBy(Order[any]{orderItem{x: t.x, desc: desc}})
}

// PlaceColumns are the columns that Place needs of a row: the key, and those of
// the order.
func PlaceColumns(q *Query[any]) []int {
	list := slices.Clone(q.q.info.Keys)
	for _, o := range q.q.order {
		if ref, ok := o.x.(columnRef); ok && !slices.Contains(list, ref.index) {
			list = append(list, ref.index)
		}
	}
	return list
}

// ReadInto reads the rows of a query: the columns, in the order given, go into
// the fields that next returns for a row; done is called behind each row.
// Relations are not loaded, and no hook runs. Fields may be Sinks.
func ReadInto(ctx context.Context, db DB, q *Query[any], columns []int, next func() []any, done func() error) error {
	read := q.q
	read.columns = columns
	rows, err := read.statement(db.Engine()).query(ctx, db)
	if err != nil {
		return wrapReading(read.info, err)
	}
	defer rows.Close()
	for rows.Next() {
		fields := next()
		if err := rows.Scan(fields); err != nil {
			err = scanOdd(ctx, rows, read.info, fields, func(n int) int { return columns[n] }, err)
			if err != nil {
				return fmt.Errorf("reading a row of %s: %w", read.info.Name, err)
			}
		}
		if err := done(); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return wrapReading(read.info, err)
	}
	return rows.Close()
}

// KeyQuery reads some columns of the row of a key. Its text is written once. It is
// not for several goroutines at once.
type KeyQuery struct {
	info    *Info
	columns []int
	engine  *Engine // that the text is for
	text    string
}

// KeyQuery prepares reading columns of the table, in the order given.
func (t *Info) KeyQuery(columns []int) *KeyQuery { return &KeyQuery{info: t, columns: columns} }

// Read reads the columns into fields, which may be Sinks; parts are pointers to the
// values of the key. No hook runs.
func (k *KeyQuery) Read(ctx context.Context, db DB, parts, fields []any) (found bool, err error) {
	rows, err := k.query(ctx, db, parts)
	if err != nil {
		return false, wrapReading(k.info, err)
	}
	defer rows.Close()
	if found = rows.Next(); found {
		if err := rows.Scan(fields); err != nil {
			return false, wrapReading(k.info, err)
		}
	}
	if err := rows.Err(); err != nil {
		return false, wrapReading(k.info, err)
	}
	return found, rows.Close()
}

func (k *KeyQuery) query(ctx context.Context, db DB, parts []any) (Rows, error) {
	e := db.Engine()
	if k.engine == e {
		args := make([]any, len(parts))
		for i, p := range parts {
			args[i] = e.arg(fieldOf(p).arg())
		}
		return db.Query(ctx, k.text, args)
	}
	s := query{info: k.info, where: k.info.hasKey(parts), limit: 1, columns: k.columns}.statement(e)
	if s.err == nil && len(s.args) == len(parts) {
		k.engine, k.text = e, s.String()
	}
	return s.query(ctx, db)
}

// Beginnings has only the first bytes read of some binary columns, which tell
// whether there are any.
func Beginnings(q *Query[any], columns []int) *Query[any] {
	next := *q
	next.q.brief = columns
	return &next
}

// Hooked reports whether something is to be done with each row of the table
// that is read.
func (t *Info) Hooked() bool { return len(t.hooks[AfterLoad]) > 0 }

// HookedInsert reports whether something is to be done with each new row.
func (t *Info) HookedInsert() bool { return t.hooked(BeforeInsert, AfterInsert) }

// IsWatched reports whether somebody is told of the changes of a database.
func IsWatched(db DB) bool {
	_, ok := find[*watched](db)
	return ok
}

// matching compares a text with a pattern; see Matches.
type matching struct {
	x       operand
	pattern string
	fold    bool
}

func (m matching) write(s *statement) {
	if s.engine.FoldingLike && !m.fold {
		m.x.write(s)
		s.add(" GLOB ")
		s.bind(translatePattern(m.pattern, "*", "?", globEscaper.Replace))
		return
	}
	writeLike(s, m.x, translatePattern(m.pattern, "%", "_", likeEscaper.Replace), m.fold)
}

// translatePattern writes a pattern with other signs.
func translatePattern(pattern, any, one string, escape func(string) string) string {
	var text []byte
	escaped := false
	for _, r := range pattern {
		switch {
		case escaped:
			text = append(text, escape(string(r))...)
			escaped = false
		case r == '\\':
			escaped = true
		case r == '%':
			text = append(text, any...)
		case r == '_':
			text = append(text, one...)
		default:
			text = append(text, escape(string(r))...)
		}
	}
	if escaped {
		text = append(text, escape(`\`)...)
	}
	return string(text)
}

// number is a constant number.
type number string

func (n number) info() *Column { return nil }

func (n number) write(s *statement) {
	if v, err := strconv.ParseInt(string(n), 10, 64); err == nil {
		constant{v}.write(s)
		return
	}
	v, after, err := s.engine.Dialect.Number(string(n))
	if err != nil {
		s.fail(err)
		return
	}
	s.bind(v)
	s.add(after)
}

// fixedText is a constant text.
type fixedText string

func (t fixedText) info() *Column { return nil }

func (t fixedText) write(s *statement) {
	s.bind(string(t))
	s.add(s.engine.Dialect.Typed(string(t)))
}

// calculation is what Calculate describes, in the way of each engine.
type calculation struct {
	op   string
	a, b operand
}

func (c calculation) info() *Column { return nil }

func (c calculation) write(s *statement) {
	before, between, guarded, fraction := s.engine.Dialect.Calculate(c.op)
	s.add(before)
	c.operand(s, c.a, fraction)
	s.add(between)
	if guarded {
		s.add("nullif(")
	}
	c.operand(s, c.b, fraction)
	if guarded {
		s.add(", 0)")
	}
	s.add(")")
}

// operand writes an operand, as a number with a fraction where whole numbers would be
// divided as such.
func (c calculation) operand(s *statement, x operand, fraction bool) {
	if !fraction {
		x.write(s)
		return
	}
	before, after := s.engine.Dialect.Fraction()
	s.add(before)
	x.write(s)
	s.add(after)
}

// Aggregate is a value of many rows: count, sum, avg, min or max of a value of
// them, distinct for the number of different values, or the count of the rows where
// the value is the zero Term.
func Aggregate(name string, of Term) Term {
	if name == "distinct" {
		return Term{aggregate{name: "count", distinct: true, x: of.x}}
	}
	return Term{aggregate{name: name, x: of.x}}
}

// Summary reads values of groups of rows.
type Summary struct {
	Rows   *Query[any] // of which the order and the limit are left aside
	By     []Term      // what the groups have in common; none makes one group of all
	Values []Term      // aggregates
	Having []Cond[any] // on aggregates
	Order  []Step
	Limit  int
	Offset int
}

// Step is a step of a summary's order: by a value of a group, counted through
// By and Values from 0.
type Step struct {
	Place int
	Desc  bool
}

// Read reads each group into the fields that next returns, which are those of
// By and then those of Values, and calls done behind it.
func (m Summary) Read(ctx context.Context, db DB, next func() []any, done func() error) error {
	rows, err := m.statement(db.Engine()).query(ctx, db)
	if err != nil {
		return wrapReading(m.Rows.q.info, err)
	}
	defer rows.Close()
	for rows.Next() {
		fields := next()
		if err := rows.Scan(fields); err != nil {
			if err = scanOdd(ctx, rows, m.Rows.q.info, fields, m.columnAt, err); err != nil {
				return fmt.Errorf("reading a group of %s: %w", m.Rows.q.info.Name, err)
			}
		}
		if err := done(); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return wrapReading(m.Rows.q.info, err)
	}
	return rows.Close()
}

// columnAt is the column whose values stand at a place of a group. One of another
// table is told of as the first of this one.
func (m Summary) columnAt(n int) int {
	x := slices.Concat(m.By, m.Values)[n].x
	if a, ok := x.(aggregate); ok {
		x = a.x
	}
	ref, ok := columnOf(x)
	switch {
	case !ok:
		return -1
	case ref.table != m.Rows.q.info:
		return 0
	}
	return ref.index
}

func (m Summary) statement(e *Engine) *statement {
	s := newStatement(e)
	alias := s.newAlias()
	s.inAlias(alias, func() {
		for i, t := range slices.Concat(m.By, m.Values) {
			s.add([]string{"SELECT ", ", "}[min(i, 1)])
			writePick(s, t.x)
		}
		m.Rows.q.writeSource(s, alias)
		s.where(m.Rows.q.conditions())
		for i := range m.By {
			s.add([]string{" GROUP BY ", ", "}[min(i, 1)], strconv.Itoa(i+1))
		}
		for i, h := range exprs(m.Having) {
			s.add([]string{" HAVING ", " AND "}[min(i, 1)])
			h.write(s)
		}
		for i, o := range m.Order {
			s.add([]string{" ORDER BY ", ", "}[min(i, 1)], strconv.Itoa(o.Place+1))
			if o.Desc {
				s.add(" DESC")
			}
		}
		writeLimit(s, m.Limit, m.Offset)
	})
	return s
}

// Field is a new value of the type of what a term gives, which may be null: of
// its column where it has one, else a number with a fraction.
func (t Term) Field() any {
	if a, ok := t.x.(aggregate); ok && a.info() == nil {
		if a.name == "count" {
			return new(int64)
		}
		if ref, ok := columnOf(a.x); ok && a.name == "sum" {
			switch ref.info().Type {
			case TypeFloat32, TypeFloat64:
			default:
				return new(Maybe[Decimal])
			}
		}
		return new(Maybe[float64])
	} else if ok {
		return Term{a.x}.Field()
	}
	if ref, ok := columnOf(t.x); ok {
		return maybeAny(ref)
	}
	return new(Maybe[float64])
}

// Same reports whether two relations lead by the same columns to the same table,
// whichever of its rows they are narrowed to.
func (r Relation) Same(other Relation) bool {
	a, b := r.e.link, other.e.link
	return a.parent == b.parent && a.child == b.child && slices.Equal(a.from, b.from) && slices.Equal(a.to, b.to) && a.join == b.join && r.e.link.up == other.e.link.up
}

// Targets are the columns at the other end that those of Holds equal.
func (r Relation) Targets() []string {
	if !r.e.link.up {
		return nil
	}
	return r.e.link.child.names(r.e.link.to)
}
