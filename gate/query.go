package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
)

// Query is a reading of rows of type E. Its methods return a new Query and
// leave the one they are called on as it was, so that one query can be the
// start of many.
type Query[E any] struct {
	def    *Def[E]
	where  []expr
	order  []orderItem
	with   []Related[E]
	limit  int // 0 is none
	offset int
}

// Def returns the description of the rows.
//
//go:noinline
func (q *Query[E]) Def() *Def[E] { return q.def }

// Where narrows the query to rows for which all conditions hold.
//
//go:noinline
func (q *Query[E]) Where(conds ...Cond[E]) *Query[E] {
	next := *q
	next.where = slices.Clip(q.where)
	for _, c := range conds {
		if c.expr != nil {
			next.where = append(next.where, c.expr)
		}
	}
	return &next
}

// OrderBy appends steps to the order.
//
//go:noinline
func (q *Query[E]) OrderBy(steps ...Order[E]) *Query[E] {
	next := *q
	next.order = slices.Clip(q.order)
	for _, s := range steps {
		next.order = append(next.order, s.item)
	}
	return &next
}

// OrderByColumn appends a step by the name of a column in the database.
//
//go:noinline
func (q *Query[E]) OrderByColumn(name string, desc bool) *Query[E] {
	return q.OrderBy(Order[E]{orderItem{q.def.indexes([]string{name})[0], desc}})
}

// OrderByKey makes the order total by appending the primary key.
//
//go:noinline
func (q *Query[E]) OrderByKey() *Query[E] {
	next := *q
	next.order = slices.Clip(q.order)
	for _, k := range q.def.Keys {
		if !slices.ContainsFunc(next.order, func(o orderItem) bool { return o.column == k }) {
			next.order = append(next.order, orderItem{column: k})
		}
	}
	return &next
}

// Limit bounds the number of rows; 0 takes the bound away.
//
//go:noinline
func (q *Query[E]) Limit(n int) *Query[E] {
	next := *q
	next.limit = n
	return &next
}

// Offset skips rows.
//
//go:noinline
func (q *Query[E]) Offset(n int) *Query[E] {
	next := *q
	next.offset = n
	return &next
}

// With loads related rows too, with a fixed number of statements for each
// relation whatever the number of rows.
//
//go:noinline
func (q *Query[E]) With(related ...Related[E]) *Query[E] {
	next := *q
	next.with = append(slices.Clip(q.with), related...)
	return &next
}

// WhereColumn narrows the query by the name of a column in the database: to
// rows in which it has one of the values, given as text and read by the type
// of the column. No value at all means NULL.
//
//go:noinline
func (q *Query[E]) WhereColumn(name string, texts ...string) (*Query[E], error) {
	ref := refer(q.def, name)
	if ref.index < 0 {
		return q, fmt.Errorf("table %s has no column %s", q.def.Name, name)
	}
	if len(texts) == 0 {
		return q.Where(Cond[E]{nullTest{ref, false}}), nil
	}
	values := make([]any, len(texts))
	for i, text := range texts {
		f := fieldOf(q.def.Field(q.def.New(), ref.index))
		if err := f.parseText(text); err != nil {
			return q, err
		}
		values[i] = f.arg()
	}
	if len(values) == 1 {
		return q.Where(Cond[E]{comparison{ref, " = ", values[0]}}), nil
	}
	return q.Where(Cond[E]{inList{ref, values}}), nil
}

// All returns the rows; there are none where the slice is empty.
//
//go:noinline
func (q *Query[E]) All(ctx context.Context, db DB) ([]E, error) {
	list := []E{}
	if q.limit > 0 {
		list = make([]E, 0, min(q.limit, 1024))
	}
	s := selectRows(q, db.Engine())
	err := scan(ctx, db, q.def, s, nil, func() E {
		list = append(list, q.def.New())
		return list[len(list)-1]
	})
	if err != nil {
		return nil, err
	}
	return list, loadAll(ctx, db, list, q.with)
}

// First returns the first row, or ErrNotFound.
//
//go:noinline
func (q *Query[E]) First(ctx context.Context, db DB) (E, error) {
	var none E
	list, err := q.Limit(1).All(ctx, db)
	if err != nil {
		return none, err
	}
	if len(list) == 0 {
		return none, ErrNotFound
	}
	return list[0], nil
}

// Count returns the number of rows, whatever limit the query has.
//
//go:noinline
func (q *Query[E]) Count(ctx context.Context, db DB) (int64, error) {
	s := newStatement(db.Engine())
	s.add("SELECT count(*)")
	writeFrom(s, q)
	var n int64
	if err := queryRow(ctx, db, s, &n); err != nil {
		return 0, fmt.Errorf("counting %s: %w", q.def.Name, err)
	}
	return n, nil
}

// Exists reports whether there is a row.
//
//go:noinline
func (q *Query[E]) Exists(ctx context.Context, db DB) (bool, error) {
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1")
	writeFrom(s, q)
	s.add(")")
	var found bool
	if err := queryRow(ctx, db, s, &found); err != nil {
		return false, fmt.Errorf("looking into %s: %w", q.def.Name, err)
	}
	return found, nil
}

// queryRow reads the only value of the only row.
func queryRow(ctx context.Context, db DB, s *statement, to any) error {
	if s.err != nil {
		return s.err
	}
	rows, err := db.Query(ctx, s.String(), s.args)
	if err != nil {
		return err
	}
	defer rows.Close()
	if !rows.Next() {
		return errors.Join(rows.Err(), ErrNotFound)
	}
	return rows.Scan([]any{to})
}

// from writes the table and the conditions.
func writeFrom[E any](s *statement, q *Query[E]) {
	alias := s.newAlias()
	s.add(" FROM ", s.engine.table(q.def.Schema, q.def.Name), " AS ", alias)
	s.inAlias(alias, func() { s.where(q.where) })
}

// selectRows writes the query.
func selectRows[E any](q *Query[E], e *Engine) *statement {
	s := newStatement(e)
	alias := s.newAlias()
	s.inAlias(alias, func() {
		s.add("SELECT ")
		s.outputs(&q.def.Info)
		s.add(" FROM ", e.table(q.def.Schema, q.def.Name), " AS ", alias)
		s.where(q.where)
		writeOrder(s, &q.def.Info, q.order)
		writeLimit(s, q.limit, q.offset)
	})
	return s
}

func writeLimit(s *statement, limit, offset int) {
	if limit > 0 {
		s.add(" LIMIT ", strconv.Itoa(limit))
	} else if offset > 0 {
		s.add(" LIMIT 9223372036854775807")
	}
	if offset > 0 {
		s.add(" OFFSET ", strconv.Itoa(offset))
	}
}

func writeOrder(s *statement, t *Info, order []orderItem) {
	for i, o := range order {
		if i == 0 {
			s.add(" ORDER BY ")
		} else {
			s.add(", ")
		}
		s.column(t, o.column)
		if o.desc {
			s.add(" DESC")
		}
	}
}

// scan runs the statement and reads each row into before, then into the
// entity that next returns.
func scan[E any](ctx context.Context, db DB, d *Def[E], s *statement, before []any, next func() E) error {
	if s.err != nil {
		return s.err
	}
	rows, err := db.Query(ctx, s.String(), s.args)
	if err != nil {
		return fmt.Errorf("reading %s: %w", d.Name, err)
	}
	defer rows.Close()
	fields := make([]any, 0, len(before)+len(d.Columns))
	for rows.Next() {
		fields = append(fields[:0], before...)
		fields = d.appendFields(fields, next())
		if err := rows.Scan(fields); err != nil {
			return fmt.Errorf("reading a row of %s: %w", d.Name, err)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading %s: %w", d.Name, err)
	}
	return nil
}

func loadAll[E any](ctx context.Context, db DB, list []E, with []Related[E]) error {
	if len(list) == 0 {
		return nil
	}
	for _, r := range with {
		if err := r.load(ctx, db, list); err != nil {
			return err
		}
	}
	return nil
}

// cursor is the JSON form of a place in an order.
type cursor struct {
	Order  string    `json:"o"`
	Values []*string `json:"v"`
}

// ErrCursor is returned for a text that Cursor did not make for this order.
var ErrCursor = errors.New("the cursor does not belong to this query")

// Cursor returns the place of row in the order of the query as an opaque text.
//
//go:noinline
func (q *Query[E]) Cursor(row E) string {
	c := cursor{Order: orderText(&q.def.Info, q.order)}
	for _, o := range q.order {
		f := fieldOf(q.def.Field(row, o.column))
		if f.arg() == nil {
			c.Values = append(c.Values, nil)
			continue
		}
		text := string(f.appendText(nil))
		c.Values = append(c.Values, &text)
	}
	text, _ := json.Marshal(c) // strings only, cannot fail
	return base64.RawURLEncoding.EncodeToString(text)
}

func orderText(t *Info, order []orderItem) string {
	text := ""
	for _, o := range order {
		sign := "+"
		if o.desc {
			sign = "-"
		}
		text += sign + t.Columns[o.column].Name
	}
	return text
}

// After continues a query behind the place that Cursor gave, whatever rows
// have come and gone since. The order must be total; see OrderByKey.
//
//go:noinline
func (q *Query[E]) After(text string) (*Query[E], error) {
	var c cursor
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Order != orderText(&q.def.Info, q.order) || len(c.Values) != len(q.order) {
		return q, ErrCursor
	}
	place := seek{table: &q.def.Info, order: q.order}
	for i, o := range q.order {
		if c.Values[i] == nil {
			place.values = append(place.values, nil)
			continue
		}
		f := fieldOf(q.def.Field(q.def.New(), o.column))
		if err := f.parseText(*c.Values[i]); err != nil {
			return q, ErrCursor
		}
		place.values = append(place.values, f.arg())
	}
	return q.Where(Cond[E]{place}), nil
}

// seek holds for rows behind a place in an order: those that come later in its
// first column, or are equal there and come later in the second, and so on.
type seek struct {
	table  *Info
	order  []orderItem
	values []any
}

func (k seek) write(s *statement) {
	later := group{joiner: " OR "}
	var equal []expr
	for i, o := range k.order {
		ref := columnRef{k.table, o.column}
		if behind := k.behind(s.engine, ref, o.desc, k.values[i]); behind != nil {
			later.conds = append(later.conds, group{" AND ", append(slices.Clone(equal), behind)})
		}
		if k.values[i] == nil {
			equal = append(equal, nullTest{ref, false})
		} else {
			equal = append(equal, comparison{ref, " = ", k.values[i]})
		}
	}
	later.write(s)
}

// behind is the condition that a column comes after value, or nil where
// nothing does. NULL comes last exactly when it is the largest value and the
// order ascends, or the smallest and it descends.
func (k seek) behind(e *Engine, ref columnRef, desc bool, value any) expr {
	nullsLast := e.NullsHigh != desc
	nullable := ref.info().Is(Nullable)
	op := " > "
	if desc {
		op = " < "
	}
	switch {
	case value == nil && nullsLast:
		return nil
	case value == nil:
		return nullTest{ref, true}
	}
	var later expr = comparison{ref, op, value}
	if e.EnumsByPlace && ref.info().Type == TypeEnum {
		later = placeComparison{ref, op, 1 + slices.Index(ref.info().Labels, value.(string))}
	}
	if nullable && nullsLast {
		return group{" OR ", []expr{later, nullTest{ref, false}}}
	}
	return later
}

// placeComparison compares the place of an enum's label, counted from 1.
type placeComparison struct {
	column columnRef
	op     string
	place  int
}

func (c placeComparison) write(s *statement) {
	c.column.write(s)
	s.add("+0", c.op, strconv.Itoa(c.place))
}
