package gate

import (
	"context"
	"fmt"
	"iter"
	"slices"
)

// What a table offers are fields that hold functions, for the reason that
// column.go gives.

// reading are the beginnings of queries.
type reading[E any] struct {
	info *Info

	// All returns all rows.
	All func(ctx context.Context, db DB) ([]E, error)
	// Each goes through all rows, one by one and without holding them all.
	Each func(ctx context.Context, db DB) iter.Seq2[E, error]
	// Count returns the number of rows.
	Count func(ctx context.Context, db DB) (int64, error)
	// Query is the query for all rows.
	Query func() *Query[E]
	// Where is the query for the rows for which all conditions hold.
	Where func(conds ...Cond[E]) *Query[E]
	// With is the query for all rows, together with rows related to them.
	With func(related ...Related[E]) *Query[E]
	// OrderBy is the query for all rows in an order.
	OrderBy func(steps ...Order[E]) *Query[E]
	// OnLoad runs do on each row that is read, before its relations are. Hooks
	// are registered at the start of a program.
	OnLoad func(do func(ctx context.Context, db DB, row E) error)
}

// finding is by key.
type finding[E, K any] struct {
	parts func(*K) []any

	// Find returns the row of that key, or ErrNotFound.
	Find func(ctx context.Context, db DB, key K) (E, error)
	// FindAll returns the rows of those keys that are there, in no order.
	FindAll func(ctx context.Context, db DB, keys ...K) ([]E, error)
}

// adding is of rows.
type adding[E any] struct {
	// Insert stores row and fills in what the database made of it. An empty
	// field takes the default of its column, where it has one; WithZeros stores
	// it as it is.
	Insert func(ctx context.Context, db DB, row E) error
	// InsertAll stores rows as Insert does, many with one statement, all or none.
	InsertAll InsertAllOf[E]
	// Import stores rows the fastest way there is, and reads nothing back: what
	// the database numbers or computes stays empty. No hooks run. It returns
	// how many rows were stored; all are, or none.
	Import func(ctx context.Context, db DB, rows iter.Seq[E]) (int64, error)
	// Validate checks a row against what the schema says about single columns.
	// It returns Faults, all at once, or nil.
	Validate func(row E) error
	// On runs do at a moment in the life of each row, in its transaction. Hooks
	// are registered at the start of a program.
	On func(at Event, do func(ctx context.Context, tx DB, row E) error)
}

// changing is of rows that have a key.
type changing[E, K any] struct {
	// Update stores the columns named of the row with row's key, all of them
	// when none is named, and fills row with what is stored then. It returns
	// ErrNotFound where there is no such row or it is marked as deleted, and
	// ErrStale where the table has a version and the row has another.
	Update func(ctx context.Context, db DB, row E, columns ...ColumnOf[E]) error
	// UpdateAll is Update for many rows, all or none.
	UpdateAll func(ctx context.Context, db DB, rows []E, columns ...ColumnOf[E]) error
	// UpdateChanged stores the columns of row that differ from before, which is
	// the row as it was read. Where none differs it does nothing.
	UpdateChanged func(ctx context.Context, db DB, before, row E) error
	// Upsert inserts row, or updates the row that has its key already: the
	// primary one, or one unique key that is named. Fields that an insert would leave to a default
	// stay as they are in a row that is there. Where row has a version, it must
	// be the one that is stored: else Upsert returns ErrStale.
	Upsert func(ctx context.Context, db DB, row E, key ...UniqueKey[E]) error
	// Delete removes the row of that key, or marks it where the table says so.
	// It returns ErrNotFound where there is none.
	Delete DeleteOf[K]
	// Purge removes the row of that key for good, also one that is only marked.
	Purge func(ctx context.Context, db DB, key K) error
	// Restore takes the mark of Delete from the row of that key. It returns
	// ErrNotFound where there is no such row that is marked.
	Restore func(ctx context.Context, db DB, key K) error
	// InsertWithRelated stores a row with all rows that hang on it and have no key
	// yet: those it refers to first, those that refer to it after it. Keys are
	// filled in. All are stored, or none.
	InsertWithRelated func(ctx context.Context, db DB, row E) error
}

// View is a view, or a table, whose rows are only read.
type View[E any] struct{ reading[E] }

// KeyedView is a view whose rows have a key of type K.
type KeyedView[E, K any] struct {
	reading[E]
	finding[E, K]
}

// Keyless is a table without a key: its rows can be read and added.
type Keyless[E any] struct {
	reading[E]
	adding[E]
}

// Table is a table whose rows have a key of type K.
type Table[E, K any] struct {
	reading[E]
	finding[E, K]
	adding[E]
	changing[E, K]
}

// Described is what has rows of E: a table, or what embeds one.
type Described[E any] interface{ described(E) *Info }

// Keyed is what has rows with a key.
type Keyed[E, K any] interface {
	Described[E]
	keyParts(key *K) []any
}

func (v *View[E]) described(E) *Info         { return v.info }
func (v *KeyedView[E, K]) described(E) *Info { return v.info }
func (t *Keyless[E]) described(E) *Info      { return t.info }
func (t *Table[E, K]) described(E) *Info     { return t.info }

func (v *KeyedView[E, K]) keyParts(key *K) []any { return v.parts(key) }
func (t *Table[E, K]) keyParts(key *K) []any     { return t.parts(key) }

// NewView returns the verbs of a described view.
//
//go:noinline
func NewView[E any](d *Def[E]) View[E] { return View[E]{newReading[E](d.info)} }

// NewKeyedView returns the verbs of a described view. parts gives pointers to
// the values in a key, in the order of the key's columns.
//
//go:noinline
func NewKeyedView[E, K any](d *Def[E], parts func(*K) []any) KeyedView[E, K] {
	return KeyedView[E, K]{newReading[E](d.info), newFinding[E](d.info, parts)}
}

// NewKeyless returns the verbs of a described table without a key.
//
//go:noinline
func NewKeyless[E any](d *Def[E]) Keyless[E] {
	return Keyless[E]{newReading[E](d.info), newAdding[E](d.info)}
}

// NewTable returns the verbs of a described table. parts gives pointers to the
// values in a key, in the order of the key's columns.
//
//go:noinline
func NewTable[E, K any](d *Def[E], parts func(*K) []any) Table[E, K] {
	return Table[E, K]{newReading[E](d.info), newFinding[E](d.info, parts), newAdding[E](d.info), newChanging[E](d.info, parts)}
}

func newReading[E any](t *Info) reading[E] {
	all := &Query[E]{query{info: t}}
	return reading[E]{
		info:    t,
		All:     all.All,
		Each:    all.Each,
		Count:   all.Count,
		Query:   func() *Query[E] { return all },
		Where:   all.Where,
		With:    all.With,
		OrderBy: all.OrderBy,
		OnLoad:  func(do func(ctx context.Context, db DB, row E) error) { addHook(t, AfterLoad, do) },
	}
}

func addHook[E any](t *Info, at Event, do func(ctx context.Context, tx DB, row E) error) {
	if t.hooks == nil {
		t.hooks = map[Event][]func(context.Context, DB, any) error{}
	}
	t.hooks[at] = append(t.hooks[at], func(ctx context.Context, tx DB, row any) error { return do(ctx, tx, row.(E)) })
}

func newFinding[E, K any](t *Info, parts func(*K) []any) finding[E, K] {
	return finding[E, K]{
		parts: parts,
		Find: func(ctx context.Context, db DB, key K) (E, error) {
			q := query{info: t, where: t.hasKey(parts(&key)), limit: 1}
			row, err := q.one(ctx, db)
			e, _ := row.(E)
			return e, err
		},
		FindAll: func(ctx context.Context, db DB, keys ...K) ([]E, error) {
			list := make([]E, 0, len(keys))
			for part := range slices.Chunk(keys, mostKeys) {
				all := make([][]any, len(part))
				for i := range part {
					all[i] = parts(&part[i])
				}
				q := &Query[E]{query{info: t, where: []expr{t.hasKeys(all)}}}
				rows, err := q.All(ctx, db)
				if err != nil {
					return nil, err
				}
				list = append(list, rows...)
			}
			return list, nil
		},
	}
}

// hasKey holds for the row of a key.
func (t *Info) hasKey(parts []any) []expr {
	conds := make([]expr, len(t.Keys))
	for i, p := range parts {
		conds[i] = comparison{columnRef{t, t.Keys[i]}, " = ", fieldOf(p).arg()}
	}
	return conds
}

// InsertAllOf is the InsertAll of a table, which stores a single row by a single
// statement.
type InsertAllOf[E any] func(ctx context.Context, db DB, rows []E) error

// DeleteOf is the Delete of a table, which is a single statement.
type DeleteOf[K any] func(ctx context.Context, db DB, key K) error

func newAdding[E any](t *Info) adding[E] {
	return adding[E]{
		Insert: func(ctx context.Context, db DB, row E) error { return t.insert(ctx, db, row) },
		InsertAll: func(ctx context.Context, db DB, rows []E) error {
			return t.insertAll(ctx, db, untyped(rows))
		},
		Import: func(ctx context.Context, db DB, rows iter.Seq[E]) (int64, error) {
			return t.bring(ctx, db, func(yield func(any) bool) {
				for row := range rows {
					if !yield(row) {
						return
					}
				}
			})
		},
		Validate: func(row E) error { return t.validate(row) },
		On:       func(at Event, do func(ctx context.Context, tx DB, row E) error) { addHook(t, at, do) },
	}
}

func newChanging[E, K any](t *Info, parts func(*K) []any) changing[E, K] {
	return changing[E, K]{
		Update: func(ctx context.Context, db DB, row E, columns ...ColumnOf[E]) error {
			return t.update(ctx, db, row, indexesOf(columns))
		},
		UpdateAll: func(ctx context.Context, db DB, rows []E, columns ...ColumnOf[E]) error {
			return t.updateAll(ctx, db, untyped(rows), indexesOf(columns))
		},
		UpdateChanged: func(ctx context.Context, db DB, before, row E) error {
			if err := t.usable("updating", before, row); err != nil {
				return err
			}
			only := t.differing(before, row)
			if len(only) == 0 {
				return nil
			}
			return t.update(ctx, db, row, only)
		},
		Upsert: func(ctx context.Context, db DB, row E, key ...UniqueKey[E]) error {
			if len(key) > 1 {
				return fmt.Errorf("upserting into %s: by %d keys; name one at most", t.Name, len(key))
			}
			if len(key) == 0 {
				return t.upsert(ctx, db, row, nil)
			}
			return t.upsert(ctx, db, row, key[0].columns)
		},
		Delete: func(ctx context.Context, db DB, key K) error {
			return t.remove(ctx, db, t.hasKey(parts(&key)), false)
		},
		Purge: func(ctx context.Context, db DB, key K) error {
			return t.remove(ctx, db, t.hasKey(parts(&key)), true)
		},
		Restore: func(ctx context.Context, db DB, key K) error {
			return t.restore(ctx, db, t.hasKey(parts(&key)))
		},
		InsertWithRelated: func(ctx context.Context, db DB, row E) error { return t.insertWithRelated(ctx, db, row) },
	}
}

// UniqueKey is a unique key of a table of E, by which Upsert finds rows.
type UniqueKey[E any] struct{ columns []int }

// NewUniqueKey returns the unique key of those columns.
//
//go:noinline
func NewUniqueKey[E any](d *Def[E], columns ...string) UniqueKey[E] {
	return UniqueKey[E]{d.info.indexes(columns)}
}

// WithKey holds for the row of that key.
func WithKey[E, K any](t Keyed[E, K], key K) Cond[E] {
	var e E
	return Cond[E]{group{" AND ", t.described(e).hasKey(t.keyParts(&key))}}
}

// SameKey holds for the row that has row's key.
func SameKey[E any](t *Info, row E) Cond[E] { return Cond[E]{t.sameKey(row)} }

// Insert stores a row whose type is not known, as the table's Insert does.
func (t *Info) Insert(ctx context.Context, db DB, row any) error { return t.insert(ctx, db, row) }

// Update stores columns of a row whose type is not known, as the table's Update
// does.
func (t *Info) Update(ctx context.Context, db DB, row any, columns []int) error {
	return t.update(ctx, db, row, columns)
}

// QueryOf is the query for all rows of a table or view.
func QueryOf[E any](t Described[E]) *Query[E] {
	var e E
	return &Query[E]{query{info: t.described(e)}}
}

// KeyParts returns pointers to the values in key, in the order of the key's
// columns.
func KeyParts[E, K any](t Keyed[E, K], key *K) []any { return t.keyParts(key) }

// ColumnAt returns column i of a table as one that Update can be told to store.
func ColumnAt[E any](t *Info, i int) ColumnOf[E] { return anyColumn[E]{columnRef{t, i}} }

type anyColumn[E any] struct{ ref columnRef }

func (c anyColumn[E]) columnOf(E) columnRef { return c.ref }
