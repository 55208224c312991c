package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"unicode/utf8"
)

// cursor is the JSON form of a place in an order.
type cursor struct {
	Order  string    `json:"o"`
	Values []*string `json:"v"`
	Before bool      `json:"b,omitempty"` // the rows before the place are meant
	Odd    []string  `json:"s,omitempty"` // what is stored in place of values that do not fit
	Skip   int       `json:"n,omitempty"` // rows that are equal in all values stand before the place
	End    bool      `json:"e,omitempty"` // the place is behind the last row
}

// ErrCursor is returned for a text that Cursor did not make for this order.
var ErrCursor = errors.New("the cursor does not belong to this query")

// errNotColumns is returned for orders that have no places.
var errNotColumns = errors.New("pages need an order by columns of the table")

// Cursor returns the place of row in the order of the query as an opaque text.
func Cursor[E any](q *Query[E], row E) (string, error) {
	place, err := q.q.place(row, nil)
	if err != nil {
		return "", err
	}
	return place.encode(), nil
}

// Place is Cursor for an order that may lead through relations, whose values it
// reads. Where before is said, After reads the rows before the place.
func Place(ctx context.Context, db DB, q *Query[any], row any, before bool) (string, error) {
	return PlaceAmong(ctx, db, q, row, before, 0)
}

// PlaceAmong is Place where skip rows that are equal to row, in an order that is
// not total, stand before the place.
func PlaceAmong(ctx context.Context, db DB, q *Query[any], row any, before bool, skip int) (string, error) {
	place, err := q.q.place(row, OddOf(ctx))
	if errors.Is(err, errNotColumns) {
		place, err = q.q.readPlace(ctx, db, row)
	}
	if err != nil {
		return "", err
	}
	place.Before, place.Skip = before, skip
	return place.encode(), nil
}

// EndPlace is the place behind the last row, before which the last page is.
func EndPlace(q *Query[any]) string {
	return cursor{Order: q.q.orderText(), Before: true, End: true}.encode()
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

// addOdd adds a value, or what is stored in its place.
func (c *cursor) addOdd(p any, odd *Odd) {
	c.add(fieldOf(p))
	src, found := odd.stored(p)
	if text, ok := fieldOf(p).arg().(string); !found && ok && !utf8.ValidString(text) {
		src, found = text, true // which JSON would change
	}
	if !found {
		return
	}
	if c.Odd == nil {
		c.Odd = make([]string, 0, 4)
	}
	for len(c.Odd) < len(c.Values)-1 {
		c.Odd = append(c.Odd, "")
	}
	c.Odd = append(c.Odd, oddText(src))
	c.Values[len(c.Values)-1] = nil
}

// oddText writes a stored value with its kind before it; readOdd reads it.
func oddText(src any) string {
	switch v := src.(type) {
	case int64:
		return "i" + strconv.FormatInt(v, 10)
	case float64:
		return "f" + strconv.FormatFloat(v, 'g', -1, 64)
	case string:
		return "t" + base64.RawURLEncoding.EncodeToString([]byte(v))
	case []byte:
		if utf8.Valid(v) { // drivers give texts like this too
			return "t" + base64.RawURLEncoding.EncodeToString(v)
		}
		return "b" + base64.RawURLEncoding.EncodeToString(v)
	}
	return ""
}

func readOdd(text string) (any, error) {
	switch text[0] {
	case 'i':
		return strconv.ParseInt(text[1:], 10, 64)
	case 'f':
		return strconv.ParseFloat(text[1:], 64)
	case 't', 'b':
		raw, err := base64.RawURLEncoding.DecodeString(text[1:])
		if text[0] == 't' {
			return string(raw), err
		}
		return raw, err
	}
	return nil, ErrCursor
}

// place is where row stands, in an order by columns.
func (q query) place(row any, odd *Odd) (cursor, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return cursor{}, err
	}
	c := cursor{Order: q.orderText()}
	fields := q.info.fieldsOf(row)
	for _, i := range columns {
		c.addOdd(fields[i], odd)
	}
	return c, nil
}

// readPlace reads the values of the order for row.
func (q query) readPlace(ctx context.Context, db DB, row any) (cursor, error) {
	var fields []any
	var refs []columnRef
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
			fields, refs = append(fields, maybeAny(ref)), append(refs, ref)
		}
		q.writeSource(s, alias)
		s.where([]expr{q.info.sameRow(s.engine, row, OddOf(ctx))})
		writeLimit(s, 1, 0)
	})
	c := cursor{Order: q.orderText()}
	rows, err := s.query(ctx, db)
	if err != nil {
		return c, wrapReading(q.info, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := rows.Scan(fields); err != nil {
			if err = scanOdd(ctx, rows, q.info, fields, func(n int) int { return refs[n].index }, err); err != nil {
				return c, wrapReading(q.info, err)
			}
		}
		for _, f := range fields {
			c.addOdd(f, OddOf(ctx))
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
		case exactly:
			return o.columnRef, o.index >= 0
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
		x := o.x
		if e, ok := x.(exactly); ok {
			x = e.columnRef
		}
		ref, ok := x.(columnRef)
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
		next := q.Where(Cond[E]{place})
		if place.skip > 0 {
			next = next.Offset(place.skip)
		}
		return next, false, nil
	}
	back := q.q.reversed()
	place.order = back.order
	if !place.end {
		back.where = append(slices.Clip(back.where), place)
	}
	return &Query[E]{back}, true, nil
}

// reversed is the query from its last row to the first.
func (q query) reversed() query {
	forwards := q.order
	q.order = make([]orderItem, len(forwards))
	for i, o := range forwards {
		q.order[i] = orderItem{x: o.x, desc: !o.desc, nulls: [...]nullsPlace{nullsAsTheEngineDoes, nullsLast, nullsFirst}[o.nulls]}
	}
	return q
}

func (q query) parseCursor(text string) (seek, error) {
	var c cursor
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Order != q.orderText() || c.Skip < 0 {
		return seek{}, ErrCursor
	}
	place := seek{order: q.order, values: make([]any, len(q.order)), before: c.Before, skip: c.Skip, end: c.End && c.Before}
	if place.end {
		return place, nil
	}
	if len(c.Values) != len(q.order) || len(c.Odd) > len(c.Values) {
		return seek{}, ErrCursor
	}
	for i, o := range q.order {
		ref, ok := columnOf(o.x)
		if !ok {
			return seek{}, fmt.Errorf("table %s: %w", q.info.Name, errNotColumns)
		}
		if i < len(c.Odd) && c.Odd[i] != "" {
			own, err := readOdd(c.Odd[i])
			if err != nil {
				return seek{}, ErrCursor
			}
			place.values[i], place.odd = asStored{own}, true
			continue
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
func (q query) behind(start query, row any, odd *Odd) (query, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return q, err
	}
	fields := q.info.fieldsOf(row)
	place := seek{order: q.order, values: make([]any, len(columns))}
	for i, column := range columns {
		place.values[i] = fieldOf(fields[column]).arg()
		if src, found := odd.stored(fields[column]); found {
			if place.values[i] = nil; src != nil {
				place.values[i], place.odd = asStored{src}, true
			}
		}
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
	skip   int  // rows that are equal in all values stand before the place
	odd    bool // a value is none of its column
	end    bool // the place is behind the last row
}

func (k seek) write(s *statement) {
	if k.odd && !s.engine.Checks() {
		s.fail(ErrCursor) // such values are kept by other engines
		return
	}
	later := group{joiner: " OR "}
	equal := k.same().conds
	for i, o := range k.order {
		if behind := k.behind(s.engine, o, k.values[i]); behind != nil {
			later.conds = append(later.conds, group{" AND ", append(slices.Clone(equal[:i]), behind)})
		}
	}
	if k.skip > 0 { // read the rows at the place again, and skip the first of them
		later.conds = append(later.conds, k.same())
	}
	later.write(s)
}

// same holds for the rows at the place itself.
func (k seek) same() group {
	equal := group{joiner: " AND "}
	for i, o := range k.order {
		if k.values[i] == nil {
			equal.conds = append(equal.conds, nullTest{o.x, false})
		} else {
			equal.conds = append(equal.conds, comparison{o.x, " = ", k.values[i]})
		}
	}
	return equal
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
	plain := value
	if own, odd := value.(asStored); odd {
		plain = own.value
	}
	if label, ok := plain.(string); ok && e.EnumsByPlace && c.Type == TypeEnum {
		later = placeComparison{ref, op, 1 + slices.Index(c.Labels, label)}
	}
	if (!own || c.Is(Nullable) || e.Mixed != nil && !c.Is(Auto)) && nullsLast {
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
