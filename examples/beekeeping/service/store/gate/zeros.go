package gate

import (
	"context"
	"slices"
)

// WithZeros returns db as a database on which new rows store an empty field of
// these columns as it is: 0, false or the empty text. Elsewhere, such a field
// takes the default of its column.
//
//	store.Hives.Insert(ctx, gate.WithZeros(db, store.Hives.Frames), hive)
func WithZeros[E any](db DB, columns ...ColumnOf[E]) DB {
	var e E
	z := &zeros{DB: db}
	for _, c := range columns {
		z.columns = append(z.columns, c.columnOf(e))
	}
	return z
}

// WithRowZeros is WithZeros for single rows: columns by their indexes.
func WithRowZeros(db DB, rows map[any][]int) DB { return &zeros{DB: db, rows: rows} }

type zeros struct {
	DB
	columns []columnRef
	rows    map[any][]int
}

func (z *zeros) inner() any { return z.DB }

func (z *zeros) InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error {
	return z.DB.InTx(ctx, o, func(tx DB) error { return do(&zeros{tx, z.columns, z.rows}) })
}

// zeroed returns which empty columns of a row are stored as they are on db.
func (t *Info) zeroed(db DB, row any) (columns []int) {
	for {
		z, ok := find[*zeros](db)
		if !ok {
			return columns
		}
		for _, ref := range z.columns {
			if ref.table == t {
				columns = append(columns, ref.index)
			}
		}
		columns = append(columns, z.rows[row]...)
		db = z.DB
	}
}

// LeftToDefault appends those of some columns of a new row, given by its fields,
// that are empty, so that an insert leaves them to the default.
func (t *Info) LeftToDefault(to []int, fields []any, columns []int) []int {
	for _, i := range columns {
		if c := &t.Columns[i]; c.Is(HasDefault) && !c.Is(Generated|Auto) && fieldOf(fields[i]).zero() {
			to = append(to, i)
		}
	}
	return to
}

// sent appends the columns to which a new row gives a value, those in zeroed
// also where they are empty.
func (t *Info) sent(to []int, fields []any, zeroed []int) []int {
	for i := range t.Columns {
		c := &t.Columns[i]
		if !c.leftToDatabase(fieldOf(fields[i])) || slices.Contains(zeroed, i) && !c.Is(Generated|Auto) {
			to = append(to, i)
		}
	}
	return to
}
