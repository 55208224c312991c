package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
)

// upsert inserts row, or updates the one that has the same values in the
// columns of a key, the primary one when there are none. Any other key that
// another row has already is an error, as it is for an insert.
func (t *Info) upsert(ctx context.Context, db DB, row any, key []int) error {
	if err := t.usable("upserting into", row); err != nil {
		return err
	}
	if len(key) == 0 {
		key = t.Keys
	}
	if !t.isKey(key) {
		return fmt.Errorf("upserting into %s: %v are no unique key", t.Name, t.names(key))
	}
	if _, ok := remoteOf(db); ok {
		return fmt.Errorf("upserting into %s: %w", t.Name, ErrNotOffered)
	}
	u := &upsert{info: t, key: key, row: row}
	var err error
	if t.hooked(BeforeInsert, AfterInsert, BeforeUpdate, AfterUpdate) || watching(db) || !u.atOnce(db) {
		err = together(ctx, db, func(tx DB) error { return u.look(ctx, tx) })
	} else {
		err = u.run(ctx, db)
	}
	if err != nil {
		return fmt.Errorf("upserting into %s: %w", t.Name, t.nameColumns(err))
	}
	return nil
}

// upsert is one call of Upsert.
type upsert struct {
	info *Info
	key  []int // columns of the key by which rows are the same
	row  any
}

// errMarked is why a key is taken by a row that no query finds.
var errMarked = errors.New("the row of this key is marked as deleted; restore it or purge it first")

// namesKeys reports whether an upsert names the key that it is for.
func (e *Engine) namesKeys() bool {
	_, _, _, _, keyed := e.Dialect.Upsert()
	return keyed
}

// atOnce reports whether a single statement of the engine does what is asked
// for. That of MySQL has no place for the key that is meant, nor for a
// condition: any unique key that matches makes it an update.
func (u *upsert) atOnce(db DB) bool {
	t := u.info
	if db.Engine().namesKeys() {
		return true
	}
	if t.stamps.deleted >= 0 || u.version() != nil {
		return false
	}
	if !slices.Equal(u.key, t.Keys) && slices.ContainsFunc(t.Keys, func(k int) bool { return !t.Columns[k].leftToDatabase(fieldOf(t.fieldsOf(u.row)[k])) }) {
		return false
	}
	return !slices.ContainsFunc(t.Uniques, func(other Unique) bool { return !sameColumns(t.indexes(other.Columns), u.key) })
}

// version is the version that the row was read with; nil where it has none.
func (u *upsert) version() any {
	v := u.info.stamps.version
	if v < 0 {
		return nil
	}
	f := fieldOf(u.info.fieldsOf(u.row)[v])
	if f.zero() {
		return nil
	}
	return f.arg()
}

// run stores the row by one statement.
func (u *upsert) run(ctx context.Context, db DB) (err error) {
	t := u.info
	back := keep(db, u.row)
	defer func() {
		if err != nil {
			back()
		}
	}()
	version := u.version()
	if err := t.stampNew(u.row); err != nil {
		return err
	}
	fields := t.fieldsOf(u.row)
	sent := t.sent(nil, fields, t.zeroed(db, u.row))
	s := newStatement(db.Engine())
	t.writeInsertAnew(s, sent, [][]any{fields}, nil)
	u.writeConflict(s, sent, version)
	err = t.fillInserted(ctx, db, s, u.row, nil)
	if errors.Is(err, ErrNotFound) {
		back()
		return u.whyNot(ctx, db)
	}
	return err
}

// whyNot says why neither an insert nor an update took place: the conditions of
// the update do not hold.
func (u *upsert) whyNot(ctx context.Context, db DB) error {
	stored, err := u.find(ctx, db, "")
	if err != nil {
		return err
	}
	if u.marked(stored) {
		return u.taken()
	}
	return ErrStale
}

func (u *upsert) taken() error {
	return &ConstraintError{Kind: UniqueBroken, Table: u.info.Name, Columns: u.info.names(u.key), Err: errMarked}
}

// marked reports whether a stored row is marked as deleted.
func (u *upsert) marked(stored any) bool {
	d := u.info.stamps.deleted
	return d >= 0 && fieldOf(u.info.fieldsOf(stored)[d]).arg() != nil
}

// find reads the row that has the key.
func (u *upsert) find(ctx context.Context, db DB, lock Lock) (any, error) {
	q := query{info: u.info, deleted: true, limit: 1, lock: lock}
	fields := u.info.fieldsOf(u.row)
	for _, i := range u.key {
		q.where = append(q.where, comparison{columnRef{u.info, i}, " = ", fieldOf(fields[i]).arg()})
	}
	return q.bare(ctx, db)
}

// changed are the columns of those that are sent which an update stores.
func (u *upsert) changed(sent []int) []int {
	t := u.info
	return slices.DeleteFunc(slices.Clone(sent), func(i int) bool {
		return slices.Contains(u.key, i) || slices.Contains(t.Keys, i) || i == t.stamps.created || i == t.stamps.version || i == t.stamps.deleted
	})
}

// writeConflict turns an insert into an update of the row with the same key.
func (u *upsert) writeConflict(s *statement, sent []int, version any) {
	t := u.info
	before, after, sentBefore, sentAfter, keyed := s.engine.Dialect.Upsert()
	s.add(before)
	if keyed {
		s.columnList(t, u.key)
	}
	s.add(after)
	changed := u.changed(sent)
	if len(changed) == 0 {
		changed = u.key
	}
	for n, i := range changed {
		if n > 0 {
			s.add(", ")
		}
		name := s.engine.quote(t.Columns[i].Name)
		s.add(name, " = ", sentBefore, name, sentAfter)
	}
	if v := t.stamps.version; v >= 0 {
		s.add(", ")
		s.column(t, v)
		s.add(" = ")
		u.writeStored(s, v)
		s.add(" + 1")
	}
	u.writeConditions(s, version)
}

// writeStored writes a column as the row that is there has it.
func (u *upsert) writeStored(s *statement, i int) {
	if s.engine.namesKeys() {
		s.add(s.engine.quote(u.info.Name), ".")
	}
	s.column(u.info, i)
}

// writeConditions writes which row may be updated: one that is not marked as
// deleted, and has the version that the caller knows.
func (u *upsert) writeConditions(s *statement, version any) {
	if !s.engine.namesKeys() {
		return // see atOnce
	}
	joiner := " WHERE "
	if d := u.info.stamps.deleted; d >= 0 {
		s.add(joiner)
		u.writeStored(s, d)
		s.add(" IS NULL")
		joiner = " AND "
	}
	if version != nil {
		s.add(joiner)
		u.writeStored(s, u.info.stamps.version)
		s.add(" = ")
		s.bindAs(&u.info.Columns[u.info.stamps.version], version)
	}
}

// looks is how often another may come between the look and the insert.
const looks = 3

// look stores the row in a transaction, after a look at which row is there.
func (u *upsert) look(ctx context.Context, tx DB) error {
	for try := 1; ; try++ {
		stored, err := u.find(ctx, tx, ForUpdate)
		if err == nil {
			return u.updateStored(ctx, tx, stored)
		}
		if !errors.Is(err, ErrNotFound) {
			return err
		}
		err = tx.InTx(ctx, TxOptions{}, func(inner DB) error { return u.info.insert(ctx, inner, u.row) })
		var broken *ConstraintError
		if err == nil || try == looks || !errors.As(err, &broken) || broken.Kind != UniqueBroken {
			return err
		}
		if _, gone := u.find(ctx, tx, ""); gone != nil {
			return err // another key is taken
		}
	}
}

// updateStored updates the row that is there by those values that an insert
// would send.
func (u *upsert) updateStored(ctx context.Context, tx DB, stored any) error {
	t := u.info
	if u.marked(stored) {
		return u.taken()
	}
	keep(tx, u.row)
	fields, there := t.fieldsOf(u.row), t.fieldsOf(stored)
	sent := t.sent(nil, fields, t.zeroed(tx, u.row))
	same := slices.Clone(t.Keys)
	if t.stamps.version >= 0 && u.version() == nil {
		same = append(same, t.stamps.version)
	}
	for _, i := range same {
		if err := fieldOf(fields[i]).set(fieldOf(there[i]).arg()); err != nil {
			return err
		}
	}
	only := slices.DeleteFunc(u.changed(sent), func(i int) bool { return i == t.stamps.updated })
	if len(only) == 0 {
		only = u.key
	}
	return t.update(ctx, tx, u.row, only)
}

// isKey reports whether columns are those of the primary or of a unique key.
func (t *Info) isKey(columns []int) bool {
	return len(columns) > 0 && (sameColumns(t.Keys, columns) ||
		slices.ContainsFunc(t.Uniques, func(u Unique) bool { return sameColumns(t.indexes(u.Columns), columns) }))
}

func sameColumns(a, b []int) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(i int) bool { return !slices.Contains(b, i) })
}
