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

// cursor is the JSON form of a place in an order.
type cursor struct {
	Order  string    `json:"o"`
	Values []*string `json:"v"`
	Before bool      `json:"b,omitempty"` // the rows before the place are meant
}

// ErrCursor is returned for a text that Cursor did not make for this order.
var ErrCursor = errors.New("the cursor does not belong to this query")

// errNotColumns is returned for orders that have no places.
var errNotColumns = errors.New("pages need an order by columns of the table")

// Cursor returns the place of row in the order of the query as an opaque text.
func Cursor[E any](q *Query[E], row E) (string, error) {
	place, err := q.q.place(row)
	if err != nil {
		return "", err
	}
	return place.encode(), nil
}

// Place is Cursor for an order that may lead through relations, whose values it
// reads. Where before is said, After reads the rows before the place.
func Place(ctx context.Context, db DB, q *Query[any], row any, before bool) (string, error) {
	place, err := q.q.place(row)
	if errors.Is(err, errNotColumns) {
		place, err = q.q.readPlace(ctx, db, row)
	}
	if err != nil {
		return "", err
	}
	place.Before = before
	return place.encode(), nil
}

func (c cursor) encode() string {
	text, _ := json.Marshal(c) // strings only, cannot fail
	return base64.RawURLEncoding.EncodeToString(text)
}

func (c *cursor) add(f field) {
	if f.arg() == nil {
		c.Values = append(c.Values, nil)
		return
	}
	text := string(f.appendText(nil))
	c.Values = append(c.Values, &text)
}

// place is where row stands, in an order by columns.
func (q query) place(row any) (cursor, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return cursor{}, err
	}
	c := cursor{Order: q.orderText()}
	fields := q.info.fieldsOf(row)
	for _, i := range columns {
		c.add(fieldOf(fields[i]))
	}
	return c, nil
}

// readPlace reads the values of the order for row.
func (q query) readPlace(ctx context.Context, db DB, row any) (cursor, error) {
	var fields []any
	s := newStatement(db.Engine())
	alias := s.newAlias()
	s.inAlias(alias, func() {
		for i, o := range q.order {
			s.add([]string{"SELECT ", ", "}[min(i, 1)])
			writePick(s, o.x)
			ref, ok := columnOf(o.x)
			if !ok {
				s.fail(errNotColumns)
				return
			}
			fields = append(fields, maybeAny(ref))
		}
		q.writeSource(s, alias)
		s.where([]expr{q.info.sameKey(row)})
	})
	c := cursor{Order: q.orderText()}
	rows, err := s.query(ctx, db)
	if err != nil {
		return c, wrapReading(q.info, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := rows.Scan(fields); err != nil {
			return c, wrapReading(q.info, err)
		}
		for _, f := range fields {
			c.add(fieldOf(f))
		}
	}
	if len(c.Values) == 0 && rows.Err() == nil {
		return c, ErrNotFound // it is gone meanwhile
	}
	return c, rows.Err()
}

// columnOf is the column that an operand gives, of this table or, through
// relations, of another.
func columnOf(x operand) (columnRef, bool) {
	for {
		switch o := x.(type) {
		case columnRef:
			return o, o.index >= 0
		case through:
			x = o.x
		default:
			return columnRef{}, false
		}
	}
}

// maybeAny is a value of the type of a column that may be null.
func maybeAny(ref columnRef) any {
	return &nullable{inner: fieldOf(ref.table.fieldsOf(ref.table.create())[ref.index])}
}

// nullable lets a field of any type be null.
type nullable struct {
	inner field
	there bool
}

func (n *nullable) set(src any) error {
	if n.there = src != nil; !n.there {
		return nil
	}
	return n.inner.set(src)
}

func (n *nullable) arg() any {
	if !n.there {
		return nil
	}
	return n.inner.arg()
}

func (n *nullable) zero() bool { return !n.there }

func (n *nullable) appendJSON(b []byte) []byte {
	if !n.there {
		return append(b, "null"...)
	}
	return n.inner.appendJSON(b)
}

func (n *nullable) appendText(b []byte) []byte {
	if !n.there {
		return b
	}
	return n.inner.appendText(b)
}

func (n *nullable) parseJSON(raw []byte) error {
	n.there = true
	return n.inner.parseJSON(raw)
}

func (n *nullable) parseText(s string) error {
	n.there = true
	return n.inner.parseText(s)
}

// orderColumns are the columns of an order by those of the table alone.
func (q query) orderColumns() ([]int, error) {
	columns := make([]int, len(q.order))
	for i, o := range q.order {
		ref, ok := o.x.(columnRef)
		if !ok || ref.index < 0 {
			return nil, fmt.Errorf("table %s: %w", q.info.Name, errNotColumns)
		}
		columns[i] = ref.index
	}
	return columns, nil
}

func (q query) orderText() string {
	text := ""
	for _, o := range q.order {
		sign := "+"
		if o.desc {
			sign = "-"
		}
		ref, _ := columnOf(o.x)
		name := ""
		if ref.table != nil && ref.table != q.info {
			name = ref.table.Name + "."
		}
		if ref.table != nil {
			name += ref.table.Columns[ref.index].Name
		}
		text += sign + [...]string{"", "<", ">"}[o.nulls] + name
	}
	return text
}

// After continues a query behind the place that Cursor gave, whatever rows
// have come and gone since. The order must be total; see OrderByKey.
func After[E any](q *Query[E], text string) (*Query[E], error) {
	page, _, err := From(q, text)
	return page, err
}

// From is After for a place of Place. Where that means the rows before it, the
// query reads them backwards, from the place on.
func From[E any](q *Query[E], text string) (page *Query[E], backwards bool, err error) {
	place, err := q.q.parseCursor(text)
	if err != nil {
		return q, false, err
	}
	if !place.before {
		return q.Where(Cond[E]{place}), false, nil
	}
	back := q.q
	back.order = make([]orderItem, len(q.q.order))
	for i, o := range q.q.order {
		back.order[i] = orderItem{x: o.x, desc: !o.desc, nulls: [...]nullsPlace{nullsAsTheEngineDoes, nullsLast, nullsFirst}[o.nulls]}
	}
	place.order = back.order
	back.where = append(slices.Clip(back.where), place)
	return &Query[E]{back}, true, nil
}

func (q query) parseCursor(text string) (seek, error) {
	var c cursor
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Order != q.orderText() || len(c.Values) != len(q.order) {
		return seek{}, ErrCursor
	}
	place := seek{order: q.order, values: make([]any, len(q.order)), before: c.Before}
	for i, o := range q.order {
		ref, ok := columnOf(o.x)
		if !ok {
			return seek{}, fmt.Errorf("table %s: %w", q.info.Name, errNotColumns)
		}
		if c.Values[i] == nil {
			continue
		}
		f := fieldOf(ref.table.fieldsOf(ref.table.create())[ref.index])
		if err := f.parseText(*c.Values[i]); err != nil {
			return seek{}, ErrCursor
		}
		place.values[i] = f.arg()
	}
	return place, nil
}

// behind is the query from behind row on; start is as it was at the beginning.
func (q query) behind(start query, row any) (query, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return q, err
	}
	fields := q.info.fieldsOf(row)
	place := seek{order: q.order, values: make([]any, len(columns))}
	for i, column := range columns {
		place.values[i] = fieldOf(fields[column]).arg()
	}
	q.where = append(slices.Clip(start.where), place)
	q.offset = 0
	return q, nil
}

// seek holds for rows behind a place in an order: those that come later in its
// first column, or are equal there and come later in the second, and so on.
type seek struct {
	order  []orderItem // by columns, of the table or through relations
	values []any
	before bool // the rows before the place are meant
}

func (k seek) write(s *statement) {
	later := group{joiner: " OR "}
	var equal []expr
	for i, o := range k.order {
		if behind := k.behind(s.engine, o, k.values[i]); behind != nil {
			later.conds = append(later.conds, group{" AND ", append(slices.Clone(equal), behind)})
		}
		if k.values[i] == nil {
			equal = append(equal, nullTest{o.x, false})
		} else {
			equal = append(equal, comparison{o.x, " = ", k.values[i]})
		}
	}
	later.write(s)
}

// behind is the condition that a column comes after value, or nil where
// nothing does.
func (k seek) behind(e *Engine, o orderItem, value any) expr {
	nullsLast := o.nullsComeLast(e)
	ref, c := o.x, o.x.info()
	_, own := ref.(columnRef)
	op := " > "
	if o.desc {
		op = " < "
	}
	switch {
	case value == nil && nullsLast:
		return nil
	case value == nil:
		return nullTest{ref, true}
	}
	var later expr = comparison{ref, op, value}
	if label, ok := value.(string); ok && e.EnumsByPlace && c.Type == TypeEnum {
		later = placeComparison{ref, op, 1 + slices.Index(c.Labels, label)}
	}
	if (!own || c.Is(Nullable)) && nullsLast {
		return group{" OR ", []expr{later, nullTest{ref, false}}}
	}
	return later
}

// placeComparison compares the place of an enum's label, counted from 1.
type placeComparison struct {
	column operand
	op     string
	place  int
}

func (c placeComparison) write(s *statement) {
	c.column.write(s)
	s.add("+0", c.op, strconv.Itoa(c.place))
}
