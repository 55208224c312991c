package gate

import (
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
}

// ErrCursor is returned for a text that Cursor did not make for this order.
var ErrCursor = errors.New("the cursor does not belong to this query")

// errNotColumns is returned for orders that have no places.
var errNotColumns = errors.New("pages need an order by columns of the table")

// Cursor returns the place of row in the order of the query as an opaque text.
func Cursor[E any](q *Query[E], row E) (string, error) { return q.q.cursor(row) }

func (q query) cursor(row any) (string, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return "", err
	}
	c := cursor{Order: q.orderText(columns)}
	fields := q.info.fieldsOf(row)
	for _, i := range columns {
		f := fieldOf(fields[i])
		if f.arg() == nil {
			c.Values = append(c.Values, nil)
			continue
		}
		text := string(f.appendText(nil))
		c.Values = append(c.Values, &text)
	}
	text, _ := json.Marshal(c) // strings only, cannot fail
	return base64.RawURLEncoding.EncodeToString(text), nil
}

// orderColumns are the columns of the order.
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

func (q query) orderText(columns []int) string {
	text := ""
	for i, o := range q.order {
		sign := "+"
		if o.desc {
			sign = "-"
		}
		text += sign + [...]string{"", "<", ">"}[o.nulls] + q.info.Columns[columns[i]].Name
	}
	return text
}

// After continues a query behind the place that Cursor gave, whatever rows
// have come and gone since. The order must be total; see OrderByKey.
func After[E any](q *Query[E], text string) (*Query[E], error) {
	place, err := q.q.parseCursor(text)
	if err != nil {
		return q, err
	}
	return q.Where(Cond[E]{place}), nil
}

func (q query) parseCursor(text string) (seek, error) {
	columns, err := q.orderColumns()
	if err != nil {
		return seek{}, err
	}
	var c cursor
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || json.Unmarshal(raw, &c) != nil || c.Order != q.orderText(columns) || len(c.Values) != len(columns) {
		return seek{}, ErrCursor
	}
	fields := q.info.fieldsOf(q.info.create())
	place := seek{order: q.order, values: make([]any, len(columns))}
	for i, column := range columns {
		if c.Values[i] == nil {
			continue
		}
		f := fieldOf(fields[column])
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
	order  []orderItem // by columns
	values []any
}

func (k seek) write(s *statement) {
	later := group{joiner: " OR "}
	var equal []expr
	for i, o := range k.order {
		ref := o.x.(columnRef)
		if behind := k.behind(s.engine, ref, o, k.values[i]); behind != nil {
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
// nothing does.
func (k seek) behind(e *Engine, ref columnRef, o orderItem, value any) expr {
	nullsLast := o.nullsComeLast(e)
	c := ref.info()
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
	if c.Is(Nullable) && nullsLast {
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
