package gate

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"reflect"
	"time"
)

// SQL is a statement that is put together from the engine's own SQL and values,
// which travel as bound parameters.
type SQL struct{ s *statement }

// NewSQL begins a statement for a database.
func NewSQL(db DB) *SQL { return &SQL{newStatement(db.Engine())} }

// Text appends SQL.
func (q *SQL) Text(text string) *SQL {
	q.s.add(text)
	return q
}

// Arg appends a place for a value.
func (q *SQL) Arg(v any) *SQL {
	value, err := argument(v)
	if err != nil {
		q.s.fail(err)
	}
	q.s.bind(value)
	return q
}

// Choice appends one of several texts, by its number from 0.
func (q *SQL) Choice(n int, texts ...string) *SQL {
	if n < 0 || n >= len(texts) {
		q.s.fail(fmt.Errorf("there is no choice %d among %d", n, len(texts)))
		return q
	}
	return q.Text(texts[n])
}

// In appends that what stands before is one of values, or with not, none of
// them.
func In[V any](q *SQL, not bool, values []V) *SQL {
	writeList(q.s, nil, not, plainList(values))
	return q
}

// argument turns a value into one that every driver takes.
func argument(v any) (any, error) {
	switch v := v.(type) {
	case nil, int64, string, bool, float64, []byte, time.Time:
		return v, nil
	case driver.Valuer:
		return v.Value()
	}
	switch r := reflect.ValueOf(v); {
	case r.CanInt():
		return r.Int(), nil
	case r.CanUint():
		n := uint64Field(r.Uint())
		return n.arg(), nil
	case r.CanFloat():
		return r.Float(), nil
	case r.Kind() == reflect.String:
		return r.String(), nil
	case r.Kind() == reflect.Struct:
		copied := reflect.New(r.Type())
		copied.Elem().Set(r)
		if record, ok := copied.Interface().(Record); ok {
			return recordField{record}.arg(), nil
		}
	}
	return nil, fmt.Errorf("%T cannot be passed to a database", v)
}

// FieldsOf appends pointers to the values of a row of a table.
//
//go:noinline
func FieldsOf[E any](d *Def[E]) func(row E, to []any) []any {
	return func(row E, to []any) []any { return d.info.fields(to, row) }
}

// ReadRows runs the statement and returns its rows. fields appends pointers to
// what the columns of a row are read to.
func ReadRows[T any](ctx context.Context, db DB, q *SQL, fields func(row *T, to []any) []any) ([]*T, error) {
	list := []*T{}
	err := q.read(ctx, db, func(to []any) []any {
		list = append(list, new(T))
		return fields(list[len(list)-1], to)
	})
	if err != nil {
		return nil, err
	}
	return list, nil
}

// ReadRow runs the statement and returns its only row, ErrNotFound where there
// is none and ErrMany where there are more.
func ReadRow[T any](ctx context.Context, db DB, q *SQL, fields func(row *T, to []any) []any) (*T, error) {
	list, err := ReadRows(ctx, db, q, fields)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, ErrNotFound
	case len(list) > 1:
		return nil, ErrMany
	}
	return list[0], nil
}

// ReadMaybeRow is ReadRow for a row that may be missing.
func ReadMaybeRow[T any](ctx context.Context, db DB, q *SQL, fields func(row *T, to []any) []any) (row *T, found bool, err error) {
	row, err = ReadRow(ctx, db, q, fields)
	if errors.Is(err, ErrNotFound) {
		return nil, false, nil
	}
	return row, err == nil, err
}

// ReadValues runs a statement that gives one column. field points to what a
// value is read to.
func ReadValues[T any](ctx context.Context, db DB, q *SQL, field func(v *T) any) ([]T, error) {
	list := []T{}
	var v T
	err := q.readThen(ctx, db, func(to []any) []any {
		v = *new(T)
		return append(to, field(&v))
	}, func() { list = append(list, v) })
	if err != nil {
		return nil, err
	}
	return list, nil
}

// ReadValue runs a statement that gives one value.
func ReadValue[T any](ctx context.Context, db DB, q *SQL, field func(v *T) any) (T, error) {
	var none T
	list, err := ReadValues(ctx, db, q, field)
	switch {
	case err != nil:
		return none, err
	case len(list) == 0:
		return none, ErrNotFound
	case len(list) > 1:
		return none, ErrMany
	}
	return list[0], nil
}

// ReadMaybeValue is ReadValue for a value that may be missing.
func ReadMaybeValue[T any](ctx context.Context, db DB, q *SQL, field func(v *T) any) (v T, found bool, err error) {
	v, err = ReadValue(ctx, db, q, field)
	if errors.Is(err, ErrNotFound) {
		return v, false, nil
	}
	return v, err == nil, err
}

// ReadOut runs a call that leaves its results in variables of the session, and
// reads these by a second statement on the same connection. What is in set runs
// before the call, to give variables their first values.
func ReadOut[T any](ctx context.Context, db DB, call *SQL, variables string, fields func(row *T, to []any) []any, set ...*SQL) (*T, error) {
	var row *T
	err := together(ctx, db, func(tx DB) (err error) {
		for _, statement := range append(set, call) {
			if _, err := statement.Run(ctx, tx); err != nil {
				return err
			}
		}
		row, err = ReadRow(ctx, tx, NewSQL(tx).Text(variables), fields)
		return err
	})
	return row, err
}

// Run runs a statement that gives no rows, and returns how many it touched.
func (q *SQL) Run(ctx context.Context, db DB) (int64, error) {
	result, err := q.s.exec(ctx, db)
	return result.Rows, err
}

func (q *SQL) read(ctx context.Context, db DB, fields func(to []any) []any) error {
	return q.readThen(ctx, db, fields, func() {})
}

func (q *SQL) readThen(ctx context.Context, db DB, fields func(to []any) []any, then func()) error {
	rows, err := q.s.query(ctx, db)
	if err != nil {
		return err
	}
	defer rows.Close()
	var to []any
	for rows.Next() {
		to = fields(to[:0])
		if err := rows.Scan(to); err != nil {
			return fmt.Errorf("reading a row: %w", err)
		}
		then()
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return rows.Close()
}

// AppendFields appends pointers to the values of a new row, which it puts into
// slot.
//
//go:noinline
func AppendFields[E any](d *Def[E], to []any, slot *E) []any {
	*slot = d.info.create().(E)
	return d.info.fields(to, *slot)
}

// AppendOptional appends pointers to the values of a new row, which goes into
// slot when one of them is not null.
//
//go:noinline
func AppendOptional[E any](d *Def[E], to []any, slot *E) []any {
	row := d.info.create()
	for _, p := range d.info.fieldsOf(row) {
		to = append(to, optional{fieldOf(p), func() { *slot = row.(E) }})
	}
	return to
}

// optional is a value of a row that may be missing as a whole.
type optional struct {
	field
	found func()
}

func (o optional) set(src any) error {
	err := o.field.set(src)
	if src == nil {
		return nil // null is no fault in a row that is not there
	}
	o.found()
	return err
}
