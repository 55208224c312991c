package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
)

// Rows without a key, such as those of many views, are ordered by all of their
// columns. Those that are equal in all of them are counted: a place in the order is
// then a row and how many of its equals stand before it.

// OrderByAll appends all columns to the order. Rows that are equal then look the
// same.
func OrderByAll[E any](q *Query[E], e *Engine) *Query[E] {
	return &Query[E]{q.q.orderByAll(e.Dialect.Digits())}
}

// orderByAll is OrderByAll; digits says that numbers which are equal may have
// different digits, such as 1.0 and 1.00.
func (q query) orderByAll(digits bool) query {
	q.order = slices.Clip(q.order)
	for i := range q.info.Columns {
		c, ref := &q.info.Columns[i], columnRef{q.info, i}
		add := func(x operand) {
			if !slices.ContainsFunc(q.order, func(o orderItem) bool { return o.x == x }) {
				q.order = append(q.order, orderItem{x: x})
			}
		}
		if c.Sortable() && c.Type != TypeText {
			add(ref)
		}
		if c.Type == TypeText || c.Type == TypeJSON || c.Type == TypeOther || c.Type == TypeNumeric && digits {
			add(exactly{ref}) // what compares equal may differ still
		}
	}
	return q
}

// exactly is a column by the text of its values, byte for byte.
type exactly struct{ columnRef }

// exactColumn is how values are bound that such texts are compared with.
var exactColumn = &Column{Type: TypeText, Flags: Nullable}

func (exactly) info() *Column { return exactColumn }

func (e exactly) write(s *statement) {
	c := e.columnRef.info()
	before, after, shown := s.engine.Dialect.Exactly(c.Cast, c.Type.Several())
	s.add(before)
	if shown {
		e.columnRef.write(s)
	} else {
		s.output(e.table, e.index)
	}
	s.add(after)
}

// Resumption is how a page goes on from a place.
type Resumption struct {
	Backwards bool   // the page is read from its end to its beginning
	Last      bool   // it is the last page
	Place     string // without what is said of it beside the values
	Skip      int    // how many equals of the place stand before it
}

// Resume is From for orders in which rows may be equal.
func Resume(ctx context.Context, db DB, q *Query[any], text string) (page *Query[any], from Resumption, err error) {
	place, err := q.q.parseCursor(text)
	if err != nil {
		return q, from, err
	}
	from = Resumption{Backwards: place.before, Last: place.end, Place: bareCursor(text), Skip: place.skip}
	if !place.before || place.end || place.skip == 0 {
		page, _, err = From(q, text)
		return page, from, err
	}
	equal, err := CountEqual(ctx, db, q, from.Place)
	if err != nil {
		return q, from, err
	}
	back := q.q.reversed()
	place.order = back.order
	back.where = append(slices.Clip(back.where), place)
	back.offset = max(int(equal)-place.skip, 0)
	return &Query[any]{back}, from, nil
}

// EqualAtEnd is how many of the last rows are equal in an order, and the place of
// them all.
func EqualAtEnd(ctx context.Context, db DB, q *Query[any], rows []any) (n int, bare string, err error) {
	for i := len(rows) - 1; i >= 0; i-- {
		place, err := PlaceAmong(ctx, db, q, rows[i], false, 0)
		if err != nil {
			return 0, "", err
		}
		if n == 0 {
			bare = place
		}
		if place != bare {
			break
		}
		n++
	}
	return n, bare, nil
}

// Forwards is the same place, from which the page behind it is read.
func Forwards(text string) string {
	c := readCursor(text)
	c.Before = false
	return c.encode()
}

// bareCursor is a place without what is said of it beside the values.
func bareCursor(text string) string {
	c := readCursor(text)
	c.Before, c.Skip = false, 0
	return c.encode()
}

// readCursor reads a cursor, which was checked.
func readCursor(text string) (c cursor) {
	raw, _ := base64.RawURLEncoding.DecodeString(text)
	_ = json.Unmarshal(raw, &c)
	return c
}

// CountEqual is the number of rows that are equal to those at a place.
func CountEqual(ctx context.Context, db DB, q *Query[any], text string) (int64, error) {
	return q.q.countAround(ctx, db, text, func(k seek) expr { return k.same() })
}

// CountBefore is the number of rows that come before a place and are not equal to
// those there.
func CountBefore(ctx context.Context, db DB, q *Query[any], text string) (int64, error) {
	return q.q.countAround(ctx, db, text, func(k seek) expr {
		k.order = q.q.reversed().order
		return k
	})
}

func (q query) countAround(ctx context.Context, db DB, text string, of func(seek) expr) (int64, error) {
	place, err := q.parseCursor(text)
	if err != nil {
		return 0, err
	}
	q.where = append(slices.Clip(q.where), of(place))
	q.order = nil
	return q.count(ctx, db)
}

// sameRow holds for the row by its key; without one, for those that look the same.
func (t *Info) sameRow(e *Engine, row any, odd *Odd) expr {
	fields := t.fieldsOf(row)
	keyed := len(t.Keys) > 0
	for _, k := range t.Keys {
		_, strange := odd.stored(fields[k])
		keyed = keyed && !strange && fieldOf(fields[k]).arg() != nil
	}
	if keyed {
		return t.sameKey(row)
	}
	all := query{info: t}.orderByAll(e.Dialect.Digits())
	place, err := all.place(row, odd)
	if err != nil {
		return group{joiner: " OR "}
	}
	k, err := all.parseCursor(place.encode())
	if err != nil {
		return group{joiner: " OR "}
	}
	return k.same()
}

// HasEmptyKey reports whether a row of a table has NULL in its key, which SQLite
// lets happen.
func HasEmptyKey(ctx context.Context, db DB, t *Info) (bool, error) {
	if db.Engine().Mixed == nil || len(t.Keys) == 0 || len(t.Keys) == 1 && t.Columns[t.Keys[0]].Is(Auto) {
		return false, nil
	}
	q := query{info: t, deleted: true}
	var empty group
	empty.joiner = " OR "
	for _, k := range t.Keys {
		empty.conds = append(empty.conds, nullTest{columnRef{t, k}, false})
	}
	q.where = []expr{empty}
	return q.exists(ctx, db)
}
