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

// query is embedded, so that what embeds it shows the verbs alone.
type query[E any] = Query[E]

// Where narrows the query to rows for which all conditions hold.
func (q Query[E]) Where(conds ...Cond[E]) Query[E] {
	q.where = slices.Clip(q.where)
	for _, c := range conds {
		if c.expr != nil {
			q.where = append(q.where, c.expr)
		}
	}
	return q
}

// OrderBy appends steps to the order.
func (q Query[E]) OrderBy(steps ...Order[E]) Query[E] {
	q.order = slices.Clip(q.order)
	for _, s := range steps {
		q.order = append(q.order, s.item)
	}
	return q
}

// OrderByColumn appends a step by the name of a column in the database.
func (q Query[E]) OrderByColumn(name string, desc bool) Query[E] {
	return q.OrderBy(Order[E]{orderItem{q.def.indexes([]string{name})[0], desc}})
}

// OrderByKey makes the order total by appending the primary key.
func (q Query[E]) OrderByKey() Query[E] {
	q.order = slices.Clip(q.order)
	for _, k := range q.def.Keys {
		if !slices.ContainsFunc(q.order, func(o orderItem) bool { return o.column == k }) {
			q.order = append(q.order, orderItem{column: k})
		}
	}
	return q
}

// Limit bounds the number of rows; 0 takes the bound away.
func (q Query[E]) Limit(n int) Query[E] {
	q.limit = n
	return q
}

// Offset skips rows.
func (q Query[E]) Offset(n int) Query[E] {
	q.offset = n
	return q
}

// With loads related rows too, with a fixed number of statements for each
// relation whatever the number of rows.
func (q Query[E]) With(related ...Related[E]) Query[E] {
	q.with = append(slices.Clip(q.with), related...)
	return q
}

// WhereColumn narrows the query by the name of a column in the database: to
// rows in which it has one of the values, given as text and read by the type
// of the column. No value at all means NULL.
func (q Query[E]) WhereColumn(name string, texts ...string) (Query[E], error) {
	ref := refer(q.def, name)
	if ref.index < 0 {
		return q, fmt.Errorf("table %s has no column %s", q.def.Name, name)
	}
	if len(texts) == 0 {
		return q.Where(Cond[E]{nullTest{ref, false}}), nil
	}
	values := make([]any, len(texts))
	for i, text := range texts {
		f := fieldOf(q.def.Field(new(E), ref.index))
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
func (q Query[E]) All(ctx context.Context, db DB) ([]E, error) {
	list := []E{}
	if q.limit > 0 {
		list = make([]E, 0, min(q.limit, 1024))
	}
	s := q.statement(db.Engine())
	err := q.scan(ctx, db, s, nil, func() *E {
		list = append(list, *new(E))
		return &list[len(list)-1]
	})
	if err != nil {
		return nil, err
	}
	return list, q.loadRelated(ctx, db, list)
}

// First returns the first row, or ErrNotFound.
func (q Query[E]) First(ctx context.Context, db DB) (*E, error) {
	list, err := q.Limit(1).All(ctx, db)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, ErrNotFound
	}
	return &list[0], nil
}

// Count returns the number of rows, whatever limit the query has.
func (q Query[E]) Count(ctx context.Context, db DB) (int64, error) {
	s := newStatement(db.Engine())
	s.add("SELECT count(*)")
	q.from(s)
	var n int64
	if err := queryRow(ctx, db, s, &n); err != nil {
		return 0, fmt.Errorf("counting %s: %w", q.def.Name, err)
	}
	return n, nil
}

// Exists reports whether there is a row.
func (q Query[E]) Exists(ctx context.Context, db DB) (bool, error) {
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1")
	q.from(s)
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
func (q Query[E]) from(s *statement) {
	alias := s.newAlias()
	s.add(" FROM ", s.engine.table(q.def.Schema, q.def.Name), " AS ", alias)
	s.inAlias(alias, func() { s.where(q.where) })
}

// statement writes the query.
func (q Query[E]) statement(e *Engine) *statement {
	s := newStatement(e)
	alias := s.newAlias()
	s.inAlias(alias, func() {
		s.add("SELECT ")
		s.outputs(&q.def.Info)
		s.add(" FROM ", e.table(q.def.Schema, q.def.Name), " AS ", alias)
		s.where(q.where)
		q.orderAndLimit(s)
	})
	return s
}

func (q Query[E]) orderAndLimit(s *statement) {
	q.writeOrder(s)
	if q.limit > 0 {
		s.add(" LIMIT ", strconv.Itoa(q.limit))
	} else if q.offset > 0 {
		s.add(" LIMIT 9223372036854775807")
	}
	if q.offset > 0 {
		s.add(" OFFSET ", strconv.Itoa(q.offset))
	}
}

func (q Query[E]) writeOrder(s *statement) {
	for i, o := range q.order {
		if i == 0 {
			s.add(" ORDER BY ")
		} else {
			s.add(", ")
		}
		s.column(&q.def.Info, o.column)
		if o.desc {
			s.add(" DESC")
		}
	}
}

// scan runs the statement and reads each row into before, then into the
// entity that next returns.
func (q Query[E]) scan(ctx context.Context, db DB, s *statement, before []any, next func() *E) error {
	if s.err != nil {
		return s.err
	}
	rows, err := db.Query(ctx, s.String(), s.args)
	if err != nil {
		return fmt.Errorf("reading %s: %w", q.def.Name, err)
	}
	defer rows.Close()
	fields := make([]any, 0, len(before)+len(q.def.Columns))
	for rows.Next() {
		fields = append(fields[:0], before...)
		fields = q.def.appendFields(fields, next())
		if err := rows.Scan(fields); err != nil {
			return fmt.Errorf("reading a row of %s: %w", q.def.Name, err)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading %s: %w", q.def.Name, err)
	}
	return nil
}

func (q Query[E]) loadRelated(ctx context.Context, db DB, list []E) error {
	if len(q.with) == 0 || len(list) == 0 {
		return nil
	}
	parents := make([]*E, len(list))
	for i := range list {
		parents[i] = &list[i]
	}
	for _, r := range q.with {
		if err := r.load(ctx, db, parents); err != nil {
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
func (q Query[E]) Cursor(row *E) string {
	c := cursor{Order: q.orderText()}
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

func (q Query[E]) orderText() string {
	text := ""
	for _, o := range q.order {
		sign := "+"
		if o.desc {
			sign = "-"
		}
		text += sign + q.def.Columns[o.column].Name
	}
	return text
}

// After continues a query behind the place that Cursor gave, whatever rows
// have come and gone since. The order must be total; see OrderByKey.
func (q Query[E]) After(text string) (Query[E], error) {
	var c cursor
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Order != q.orderText() || len(c.Values) != len(q.order) {
		return q, ErrCursor
	}
	place := seek{table: &q.def.Info, order: q.order}
	for i, o := range q.order {
		if c.Values[i] == nil {
			place.values = append(place.values, nil)
			continue
		}
		f := fieldOf(q.def.Field(new(E), o.column))
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
