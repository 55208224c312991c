package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
)

// View is a view, or a table, whose rows are only read. It has the beginnings
// of a Query.
type View[E any] struct{ def *Def[E] }

// view is embedded, so that what embeds it shows the verbs alone.
type view[E any] = View[E]

// NewView returns the verbs of a described view.
func NewView[E any](d *Def[E]) View[E] { return View[E]{d} }

// Def returns the description of the rows.
//
//go:noinline
func (v *View[E]) Def() *Def[E] { return v.def }

// Query is the query for all rows.
//
//go:noinline
func (v *View[E]) Query() *Query[E] { return &Query[E]{def: v.def} }

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

// All returns all rows.
//
//go:noinline
func (v *View[E]) All(ctx context.Context, db DB) ([]E, error) { return v.Query().All(ctx, db) }

// Count returns the number of rows.
//
//go:noinline
func (v *View[E]) Count(ctx context.Context, db DB) (int64, error) { return v.Query().Count(ctx, db) }

// Keyless is a table without a key: its rows can be read and added.
type Keyless[E any] struct{ view[E] }

// NewKeyless returns the verbs of a described table without a key.
func NewKeyless[E any](d *Def[E]) Keyless[E] { return Keyless[E]{View[E]{d}} }

// Insert stores row and fills in what the database made of it. An empty field
// is left to the database where that numbers rows or computes a default; other
// fields are stored as they are.
//
//go:noinline
func (t *Keyless[E]) Insert(ctx context.Context, db DB, row E) error {
	return insert(ctx, db, t.def, row, nil)
}

// Keyed is what has rows with a key.
type Keyed[E, K any] interface {
	Def() *Def[E]
	// KeyParts returns pointers to the values in key, in the order of the
	// key's columns.
	KeyParts(key *K) []any
}

// WithKey holds for the row of that key.
func WithKey[E, K any](t Keyed[E, K], key K) Cond[E] {
	d := t.Def()
	conds := make([]expr, len(d.Keys))
	for i, p := range t.KeyParts(&key) {
		conds[i] = comparison{columnRef{&d.Info, d.Keys[i]}, " = ", fieldOf(p).arg()}
	}
	return Cond[E]{group{" AND ", conds}}
}

func find[E, K any](ctx context.Context, db DB, t Keyed[E, K], key K) (E, error) {
	q := Query[E]{def: t.Def()}
	return q.Where(WithKey(t, key)).First(ctx, db)
}

// KeyedView is a view whose rows have a key of type K.
type KeyedView[E, K any] struct {
	view[E]
	parts func(*K) []any
}

// NewKeyedView returns the verbs of a described view. parts gives pointers to
// the values in a key, in the order of the key's columns.
func NewKeyedView[E, K any](d *Def[E], parts func(*K) []any) KeyedView[E, K] {
	return KeyedView[E, K]{View[E]{d}, parts}
}

// KeyParts implements Keyed.
//
//go:noinline
func (v *KeyedView[E, K]) KeyParts(key *K) []any { return v.parts(key) }

// Find returns the row of that key, or ErrNotFound.
//
//go:noinline
func (v *KeyedView[E, K]) Find(ctx context.Context, db DB, key K) (E, error) {
	return find(ctx, db, v, key)
}

// Table is a table whose rows have a key of type K.
type Table[E, K any] struct {
	view[E]
	parts func(*K) []any
}

// NewTable returns the verbs of a described table. parts gives pointers to the
// values in a key, in the order of the key's columns.
func NewTable[E, K any](d *Def[E], parts func(*K) []any) Table[E, K] {
	return Table[E, K]{View[E]{d}, parts}
}

// KeyParts implements Keyed.
//
//go:noinline
func (t *Table[E, K]) KeyParts(key *K) []any { return t.parts(key) }

// Find returns the row of that key, or ErrNotFound.
//
//go:noinline
func (t *Table[E, K]) Find(ctx context.Context, db DB, key K) (E, error) {
	return find(ctx, db, t, key)
}

// Insert stores row and fills in what the database made of it. An empty field
// is left to the database where that numbers rows or computes a default; other
// fields are stored as they are.
//
//go:noinline
func (t *Table[E, K]) Insert(ctx context.Context, db DB, row E) error {
	return insert(ctx, db, t.def, row, nil)
}

// Update stores the columns named of the row with row's key, all of them when
// none is named, and fills row with what is stored then. It returns
// ErrNotFound where there is no such row.
//
//go:noinline
func (t *Table[E, K]) Update(ctx context.Context, db DB, row E, columns ...ColumnOf[E]) error {
	var none E
	var only []int
	for _, c := range columns {
		only = append(only, c.of(none).index)
	}
	return update(ctx, db, t.def, row, only)
}

// Upsert inserts row, or updates the row that has its key already.
//
//go:noinline
func (t *Table[E, K]) Upsert(ctx context.Context, db DB, row E) error {
	return insert(ctx, db, t.def, row, writeUpsert)
}

// Delete removes the row of that key, or returns ErrNotFound.
//
//go:noinline
func (t *Table[E, K]) Delete(ctx context.Context, db DB, key K) error {
	n, err := t.DeleteWhere(ctx, db, WithKey(t, key))
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// DeleteWhere removes the rows for which all conditions hold, of which there
// must be at least one, and returns their number.
//
//go:noinline
func (t *Table[E, K]) DeleteWhere(ctx context.Context, db DB, conds ...Cond[E]) (int64, error) {
	if len(conds) == 0 {
		return 0, fmt.Errorf("deleting from %s: no condition; gate.And() stands for all rows", t.def.Name)
	}
	s := newStatement(db.Engine())
	s.add("DELETE FROM ", s.engine.table(t.def.Schema, t.def.Name))
	s.inAlias(s.engine.quote(t.def.Name), func() { s.where(exprs(conds)) })
	if s.err != nil {
		return 0, s.err
	}
	result, err := db.Exec(ctx, s.String(), s.args)
	if err != nil {
		return 0, fmt.Errorf("deleting from %s: %w", t.def.Name, err)
	}
	return result.Rows, nil
}

// insert stores row; tail writes what follows the values.
func insert[E any](ctx context.Context, db DB, d *Def[E], row E, tail func(*statement, *Info, []int)) error {
	s := newStatement(db.Engine())
	var sent []int
	for i := range d.Columns {
		if !d.Columns[i].leftToDatabase(fieldOf(d.Field(row, i))) {
			sent = append(sent, i)
		}
	}
	writeInsert(s, d, row, sent)
	if tail != nil {
		tail(s, &d.Info, sent)
	}
	if err := fill(ctx, db, d, row, s); err != nil {
		return fmt.Errorf("inserting into %s: %w", d.Name, d.nameColumns(err))
	}
	return nil
}

func writeInsert[E any](s *statement, d *Def[E], row E, sent []int) {
	s.add("INSERT INTO ", s.engine.table(d.Schema, d.Name))
	if len(sent) == 0 {
		if s.engine.DuplicateKey {
			s.add(" () VALUES ()")
		} else {
			s.add(" DEFAULT VALUES")
		}
		return
	}
	s.add(" (")
	s.columnList(&d.Info, sent)
	s.add(") VALUES (")
	for n, i := range sent {
		if n > 0 {
			s.add(", ")
		}
		s.bindAs(&d.Columns[i], fieldOf(d.Field(row, i)).arg())
	}
	s.add(")")
}

// columnList writes the names of columns, separated by commas.
func (s *statement) columnList(t *Info, columns []int) {
	for n, i := range columns {
		if n > 0 {
			s.add(", ")
		}
		s.column(t, i)
	}
}

// writeUpsert turns an insert into an update of the row with the same key.
func writeUpsert(s *statement, t *Info, sent []int) {
	if s.engine.DuplicateKey {
		s.add(" ON DUPLICATE KEY UPDATE ")
	} else {
		s.add(" ON CONFLICT (")
		s.columnList(t, t.Keys)
		s.add(") DO UPDATE SET ")
	}
	changed := slices.DeleteFunc(slices.Clone(sent), func(i int) bool { return slices.Contains(t.Keys, i) })
	if len(changed) == 0 {
		changed = t.Keys
	}
	for n, i := range changed {
		if n > 0 {
			s.add(", ")
		}
		name := s.engine.quote(t.Columns[i].Name)
		if s.engine.DuplicateKey {
			s.add(name, " = VALUES(", name, ")")
		} else {
			s.add(name, " = excluded.", name)
		}
	}
}

// fill runs an insert or update and reads the stored row back into row. An
// engine that cannot return it from the statement is asked for it by its key.
func fill[E any](ctx context.Context, db DB, d *Def[E], row E, s *statement) error {
	if s.err != nil {
		return s.err
	}
	if s.engine.Returning {
		s.add(" RETURNING ")
		s.outputs(&d.Info)
		n := 0
		err := scan(ctx, db, d, s, nil, func() E { n++; return row })
		if err == nil && n == 0 {
			return ErrNotFound
		}
		return err
	}
	result, err := db.Exec(ctx, s.String(), s.args)
	if err != nil {
		return err
	}
	if result.Rows == 0 {
		return ErrNotFound
	}
	for _, k := range d.Keys {
		if f := fieldOf(d.Field(row, k)); d.Columns[k].Is(Auto) && f.zero() {
			if err := f.set(result.LastID); err != nil {
				return err
			}
		}
	}
	return reread(ctx, db, d, row)
}

// reread fills row by its key, where it has one.
func reread[E any](ctx context.Context, db DB, d *Def[E], row E) error {
	if len(d.Keys) == 0 {
		return nil
	}
	q := Query[E]{def: d}
	stored, err := q.Where(Cond[E]{sameKey(d, row)}).First(ctx, db)
	if err != nil {
		return err
	}
	for i := range d.Columns {
		if err := fieldOf(d.Field(row, i)).set(fieldOf(d.Field(stored, i)).arg()); err != nil {
			return err
		}
	}
	return nil
}

// sameKey holds for the row that has row's key.
func sameKey[E any](d *Def[E], row E) expr {
	conds := make([]expr, len(d.Keys))
	for i, k := range d.Keys {
		conds[i] = comparison{columnRef{&d.Info, k}, " = ", fieldOf(d.Field(row, k)).arg()}
	}
	return group{" AND ", conds}
}

var errNoColumn = errors.New("a column is named that the table is not described with")

// update stores columns of row, all that can be when none is named.
func update[E any](ctx context.Context, db DB, d *Def[E], row E, only []int) error {
	if slices.Contains(only, -1) {
		return fmt.Errorf("updating %s: %w", d.Name, errNoColumn)
	}
	set := settable(d, row, only)
	if len(set) == 0 {
		return reread(ctx, db, d, row)
	}
	s := newStatement(db.Engine())
	s.add("UPDATE ", s.engine.table(d.Schema, d.Name), " SET ")
	for n, i := range set {
		if n > 0 {
			s.add(", ")
		}
		s.column(&d.Info, i)
		s.add(" = ")
		s.bindAs(&d.Columns[i], fieldOf(d.Field(row, i)).arg())
	}
	s.where([]expr{sameKey(d, row)})
	if err := fill(ctx, db, d, row, s); err != nil {
		return fmt.Errorf("updating %s: %w", d.Name, d.nameColumns(err))
	}
	return nil
}

// settable returns the columns that an update of row stores: those asked for
// that are neither computed nor of the key, and when all are asked for, not
// those about which the row says nothing.
func settable[E any](d *Def[E], row E, only []int) []int {
	var set []int
	for i := range d.Columns {
		c := &d.Columns[i]
		switch {
		case c.Is(Generated), slices.Contains(d.Keys, i):
		case only != nil && !slices.Contains(only, i):
		case only == nil && c.Is(HasDefault) && c.leftToDatabase(fieldOf(d.Field(row, i))):
		default:
			set = append(set, i)
		}
	}
	return set
}
