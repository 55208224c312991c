package gate

import (
	"context"
	"fmt"
	"iter"
	"slices"
)

// The verbs of a table are methods of pointers, so that nobody overwrites one, and
// so that a developer's own interface can stand in front of a table. Table has its
// own of each: for each method that is promoted the compiler makes a function more
// for each table, which for a few hundred tables is much of what a build takes. For
// the same reason none is inlined.

// View is a view, or a table, whose rows are only read.
type View[E any] struct{ info *Info }

// All returns all rows.
//
//go:noinline
func (v *View[E]) All(ctx context.Context, db DB) ([]E, error) { return v.Query().All(ctx, db) }

// Each goes through all rows, one by one and without holding them all.
//
//go:noinline
func (v *View[E]) Each(ctx context.Context, db DB) iter.Seq2[E, error] {
	return v.Query().Each(ctx, db)
}

// Count returns the number of rows.
//
//go:noinline
func (v *View[E]) Count(ctx context.Context, db DB) (int64, error) { return v.Query().Count(ctx, db) }

// Query is the query for all rows.
//
//go:noinline
func (v *View[E]) Query() *Query[E] { return &Query[E]{query{info: v.info}} }

// Where is the query for the rows for which all conditions hold.
//
//go:noinline
func (v *View[E]) Where(conds ...Cond[E]) *Query[E] { return v.Query().Where(conds...) }

// With is the query for all rows, together with rows related to them.
//
//go:noinline
func (v *View[E]) With(related ...Related[E]) *Query[E] { return v.Query().With(related...) }

// OrderBy is the query for all rows in an order.
//
//go:noinline
func (v *View[E]) OrderBy(steps ...Order[E]) *Query[E] { return v.Query().OrderBy(steps...) }

// OnLoad runs do on each row that is read, before its relations are. Hooks are
// registered at the start of a program.
//
//go:noinline
func (v *View[E]) OnLoad(do func(ctx context.Context, db DB, row E) error) {
	addHook(v.info, AfterLoad, do)
}

// KeyedView is a view whose rows have a key of type K.
type KeyedView[E, K any] struct {
	View[E]
	parts func(*K) []any
}

// Find returns the row of that key, or ErrNotFound.
//
//go:noinline
func (v *KeyedView[E, K]) Find(ctx context.Context, db DB, key K) (E, error) {
	row, err := v.info.find(ctx, db, v.parts(&key))
	e, _ := row.(E)
	return e, err
}

// FindAll returns the rows of those keys that are there, in no order.
//
//go:noinline
func (v *KeyedView[E, K]) FindAll(ctx context.Context, db DB, keys ...K) ([]E, error) {
	return findAll[E](ctx, db, v.info, v.parts, keys)
}

// Keyless is a table without a key: its rows can be read and added.
type Keyless[E any] struct{ View[E] }

// Insert stores row and fills in what the database made of it. An empty field
// takes the default of its column, where it has one; WithZeros stores it as it is.
//
//go:noinline
func (t *Keyless[E]) Insert(ctx context.Context, db DB, row E) error {
	return t.info.insert(ctx, db, row)
}

// InsertAll stores rows as Insert does, many with one statement, all or none.
//
//go:noinline
func (t *Keyless[E]) InsertAll(ctx context.Context, db DB, rows []E) error {
	return t.info.insertAll(ctx, db, untyped(rows))
}

// Import stores rows the fastest way there is, and reads nothing back: what the
// database numbers or computes stays empty. No hooks run. It returns how many rows
// were stored; all are, or none.
//
//go:noinline
func (t *Keyless[E]) Import(ctx context.Context, db DB, rows iter.Seq[E]) (int64, error) {
	return t.info.bring(ctx, db, anyOf(rows))
}

// Validate checks a row against what the schema says about single columns. It
// returns Faults, all at once, or nil.
//
//go:noinline
func (t *Keyless[E]) Validate(row E) error { return t.info.validate(row) }

// On runs do at a moment in the life of each row, in its transaction. Hooks are
// registered at the start of a program.
//
//go:noinline
func (t *Keyless[E]) On(at Event, do func(ctx context.Context, tx DB, row E) error) {
	addHook(t.info, at, do)
}

// Table is a table whose rows have a key of type K.
type Table[E, K any] struct {
	info  *Info
	parts func(*K) []any
}

// All returns all rows.
//
//go:noinline
func (t *Table[E, K]) All(ctx context.Context, db DB) ([]E, error) { return t.Query().All(ctx, db) }

// Each goes through all rows, one by one and without holding them all.
//
//go:noinline
func (t *Table[E, K]) Each(ctx context.Context, db DB) iter.Seq2[E, error] {
	return t.Query().Each(ctx, db)
}

// Count returns the number of rows.
//
//go:noinline
func (t *Table[E, K]) Count(ctx context.Context, db DB) (int64, error) {
	return t.Query().Count(ctx, db)
}

// Query is the query for all rows.
//
//go:noinline
func (t *Table[E, K]) Query() *Query[E] { return &Query[E]{query{info: t.info}} }

// Where is the query for the rows for which all conditions hold.
//
//go:noinline
func (t *Table[E, K]) Where(conds ...Cond[E]) *Query[E] { return t.Query().Where(conds...) }

// With is the query for all rows, together with rows related to them.
//
//go:noinline
func (t *Table[E, K]) With(related ...Related[E]) *Query[E] { return t.Query().With(related...) }

// OrderBy is the query for all rows in an order.
//
//go:noinline
func (t *Table[E, K]) OrderBy(steps ...Order[E]) *Query[E] { return t.Query().OrderBy(steps...) }

// OnLoad runs do on each row that is read, before its relations are. Hooks are
// registered at the start of a program.
//
//go:noinline
func (t *Table[E, K]) OnLoad(do func(ctx context.Context, db DB, row E) error) {
	addHook(t.info, AfterLoad, do)
}

// Find returns the row of that key, or ErrNotFound.
//
//go:noinline
func (t *Table[E, K]) Find(ctx context.Context, db DB, key K) (E, error) {
	row, err := t.info.find(ctx, db, t.parts(&key))
	e, _ := row.(E)
	return e, err
}

// FindAll returns the rows of those keys that are there, in no order.
//
//go:noinline
func (t *Table[E, K]) FindAll(ctx context.Context, db DB, keys ...K) ([]E, error) {
	return findAll[E](ctx, db, t.info, t.parts, keys)
}

// Insert stores row and fills in what the database made of it. An empty field
// takes the default of its column, where it has one; WithZeros stores it as it is.
//
//go:noinline
func (t *Table[E, K]) Insert(ctx context.Context, db DB, row E) error {
	return t.info.insert(ctx, db, row)
}

// InsertAll stores rows as Insert does, many with one statement, all or none.
//
//go:noinline
func (t *Table[E, K]) InsertAll(ctx context.Context, db DB, rows []E) error {
	return t.info.insertAll(ctx, db, untyped(rows))
}

// Import stores rows the fastest way there is, and reads nothing back: what the
// database numbers or computes stays empty. No hooks run. It returns how many rows
// were stored; all are, or none.
//
//go:noinline
func (t *Table[E, K]) Import(ctx context.Context, db DB, rows iter.Seq[E]) (int64, error) {
	return t.info.bring(ctx, db, anyOf(rows))
}

// Validate checks a row against what the schema says about single columns. It
// returns Faults, all at once, or nil.
//
//go:noinline
func (t *Table[E, K]) Validate(row E) error { return t.info.validate(row) }

// On runs do at a moment in the life of each row, in its transaction. Hooks are
// registered at the start of a program.
//
//go:noinline
func (t *Table[E, K]) On(at Event, do func(ctx context.Context, tx DB, row E) error) {
	addHook(t.info, at, do)
}

// Update stores the columns named of the row with row's key, all of them when none
// is named, and fills row with what is stored then. It returns ErrNotFound where
// there is no such row or it is marked as deleted, and ErrStale where the table
// has a version and the row has another.
//
//go:noinline
func (t *Table[E, K]) Update(ctx context.Context, db DB, row E, columns ...ColumnOf[E]) error {
	return t.info.update(ctx, db, row, indexesOf(columns))
}

// UpdateAll is Update for many rows, all or none.
//
//go:noinline
func (t *Table[E, K]) UpdateAll(ctx context.Context, db DB, rows []E, columns ...ColumnOf[E]) error {
	return t.info.updateAll(ctx, db, untyped(rows), indexesOf(columns))
}

// UpdateChanged stores the columns of row that differ from before, which is the
// row as it was read. Where none differs it does nothing.
//
//go:noinline
func (t *Table[E, K]) UpdateChanged(ctx context.Context, db DB, before, row E) error {
	if err := t.info.usable("updating", before, row); err != nil {
		return err
	}
	only := t.info.differing(before, row)
	if len(only) == 0 {
		return nil
	}
	return t.info.update(ctx, db, row, only)
}

// Upsert inserts row, or updates the row that has its key already: the primary
// one, or one unique key that is named. Fields that an insert would leave to a
// default stay as they are in a row that is there. Where row has a version, it
// must be the one that is stored: else Upsert returns ErrStale.
//
//go:noinline
func (t *Table[E, K]) Upsert(ctx context.Context, db DB, row E, key ...UniqueKey[E]) error {
	if len(key) > 1 {
		return fmt.Errorf("upserting into %s: by %d keys; name one at most", t.info.Name, len(key))
	}
	if len(key) == 0 {
		return t.info.upsert(ctx, db, row, nil)
	}
	return t.info.upsert(ctx, db, row, key[0].columns)
}

// Delete removes the row of that key, or marks it where the table says so. It
// returns ErrNotFound where there is none.
//
//go:noinline
func (t *Table[E, K]) Delete(ctx context.Context, db DB, key K) error {
	return t.info.remove(ctx, db, t.parts(&key), false)
}

// Purge removes the row of that key for good, also one that is only marked.
//
//go:noinline
func (t *Table[E, K]) Purge(ctx context.Context, db DB, key K) error {
	return t.info.remove(ctx, db, t.parts(&key), true)
}

// Restore takes the mark of Delete from the row of that key. It returns
// ErrNotFound where there is no such row that is marked.
//
//go:noinline
func (t *Table[E, K]) Restore(ctx context.Context, db DB, key K) error {
	return t.info.restore(ctx, db, t.info.hasKey(t.parts(&key)))
}

// InsertWithRelated stores a row with all rows that hang on it and have no key
// yet: those it refers to first, those that refer to it after it. Keys are filled
// in. All are stored, or none.
//
//go:noinline
func (t *Table[E, K]) InsertWithRelated(ctx context.Context, db DB, row E) error {
	return t.info.insertWithRelated(ctx, db, row)
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
func NewView[E any](d *Def[E]) View[E] { return View[E]{d.info} }

// NewKeyedView returns the verbs of a described view. parts gives pointers to
// the values in a key, in the order of the key's columns.
//
//go:noinline
func NewKeyedView[E, K any](d *Def[E], parts func(*K) []any) KeyedView[E, K] {
	return KeyedView[E, K]{View[E]{d.info}, parts}
}

// NewKeyless returns the verbs of a described table without a key.
//
//go:noinline
func NewKeyless[E any](d *Def[E]) Keyless[E] {
	return Keyless[E]{View[E]{d.info}}
}

// NewTable returns the verbs of a described table. parts gives pointers to the
// values in a key, in the order of the key's columns.
//
//go:noinline
func NewTable[E, K any](d *Def[E], parts func(*K) []any) Table[E, K] {
	return Table[E, K]{d.info, parts}
}

func addHook[E any](t *Info, at Event, do func(ctx context.Context, tx DB, row E) error) {
	if t.hooks == nil {
		t.hooks = map[Event][]func(context.Context, DB, any) error{}
	}
	t.hooks[at] = append(t.hooks[at], func(ctx context.Context, tx DB, row any) error { return do(ctx, tx, row.(E)) })
}

// find reads the row of a key.
func (t *Info) find(ctx context.Context, db DB, parts []any) (any, error) {
	if from, ok := remoteOf(db); ok {
		return t.findRemote(ctx, db, from, parts)
	}
	q := query{info: t, where: t.hasKey(parts), limit: 1}
	return q.one(ctx, db)
}

// findAll reads the rows of keys, so many by one statement as it takes.
func findAll[E, K any](ctx context.Context, db DB, t *Info, parts func(*K) []any, keys []K) ([]E, error) {
	list := make([]E, 0, len(keys))
	most := mostKeys
	if _, ok := remoteOf(db); ok {
		most = mostRemoteKeys
	}
	for part := range slices.Chunk(keys, most) {
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
}

// anyOf are rows without their type.
func anyOf[E any](rows iter.Seq[E]) iter.Seq[any] {
	return func(yield func(any) bool) {
		for row := range rows {
			if !yield(row) {
				return
			}
		}
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

// InsertAll stores rows whose type is not known, as the table's InsertAll does.
func (t *Info) InsertAll(ctx context.Context, db DB, rows []any) error {
	return t.insertAll(ctx, db, rows)
}

// Update stores columns of a row whose type is not known, as the table's Update
// does.
func (t *Info) Update(ctx context.Context, db DB, row any, columns []int) error {
	return t.update(ctx, db, row, columns)
}

// Delete removes the row of a key, as the table's Delete does. Parts are pointers to
// the values of the key.
func (t *Info) Delete(ctx context.Context, db DB, parts []any) error {
	return t.remove(ctx, db, parts, false)
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
