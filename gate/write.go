package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
)

// insert stores row and fills in what the database made of it.
func (t *Info) insert(ctx context.Context, db DB, row any) error {
	if err := t.usable("inserting into", row); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		return t.insertRemote(ctx, db, to, []any{row})
	}
	if t.hooked(BeforeInsert, AfterInsert) || watching(db) {
		return together(ctx, db, func(tx DB) error { return t.insertHooked(ctx, tx, row) })
	}
	return t.insertRow(ctx, db, row)
}

// usable reports what makes a call on rows impossible.
func (t *Info) usable(doing string, rows ...any) error {
	if t.fault != nil {
		return t.fault
	}
	for i, row := range rows {
		if t.isNil(row) {
			return fmt.Errorf("%s %s: row %d of %d is nil", doing, t.Name, i+1, len(rows))
		}
	}
	return nil
}

func (t *Info) insertHooked(ctx context.Context, tx DB, row any) error {
	keep(tx, row)
	if err := t.run(ctx, tx, BeforeInsert, row); err != nil {
		return err
	}
	if err := t.insertRow(ctx, tx, row); err != nil {
		return err
	}
	if err := t.tell(ctx, tx, Inserted, nil, row); err != nil {
		return err
	}
	return t.run(ctx, tx, AfterInsert, row)
}

// insertRow stores row by one statement. A row that is not stored stays as it
// was.
func (t *Info) insertRow(ctx context.Context, db DB, row any) (err error) {
	if IsTx(db) || t.stamps != noStamps {
		back := keep(db, row)
		defer func() {
			if err != nil {
				back()
			}
		}()
	}
	if err := t.stampNew(row); err != nil {
		return err
	}
	fields := t.fieldsOf(row)
	sent := t.sent(nil, fields, t.zeroed(db, row))
	s := newStatement(db.Engine())
	t.writeInsert(s, sent, fields)
	if err := t.fillInserted(ctx, db, s, row, t.unknown(s.engine, sent)); err != nil {
		return fmt.Errorf("inserting into %s: %w", t.Name, t.nameColumns(err))
	}
	return nil
}

// now is the time as every engine keeps it.
func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// stamped reports whether the runtime itself gives the column its value.
func (t *Info) stamped(i int) bool {
	return i == t.stamps.created || i == t.stamps.updated || i == t.stamps.version
}

// stampNew gives a new row its times and its version, where the database does
// not.
func (t *Info) stampNew(row any) error {
	if t.stamps == noStamps {
		return nil
	}
	fields := t.fieldsOf(row)
	set := func(i int, value any) error {
		if i < 0 || !fieldOf(fields[i]).zero() || t.Columns[i].Is(HasDefault) {
			return nil
		}
		return fieldOf(fields[i]).set(value)
	}
	at := now()
	return errors.Join(set(t.stamps.created, at), set(t.stamps.updated, at), set(t.stamps.version, int64(1)))
}

// writeInsert writes the insert of a row, given by its fields.
func (t *Info) writeInsert(s *statement, sent []int, fields []any) {
	if len(t.Columns) > 64 {
		t.writeInsertAnew(s, sent, [][]any{fields}, nil)
		return
	}
	key := textKey{engine: s.engine, alias: "INSERT"}
	for _, i := range sent {
		key.sent |= 1 << i
	}
	if !s.again(t, key) {
		start := s.Len()
		t.writeInsertAnew(s, sent, [][]any{fields}, nil)
		s.remember(t, key, start)
		return
	}
	for _, i := range sent {
		s.argumentStored(&t.Columns[i], fieldOf(fields[i]).arg())
	}
}

// writeInsertAnew writes an insert of rows, each given by its fields. Where a
// row does not send all of the columns, given says which it does.
func (t *Info) writeInsertAnew(s *statement, sent []int, rows [][]any, given [][]int) {
	s.add("INSERT INTO ", s.engine.table(t.Schema, t.Name))
	if len(sent) == 0 {
		s.add(s.engine.Dialect.Defaults())
		return
	}
	s.add(" (")
	s.columnList(t, sent)
	s.add(") VALUES ")
	for n, fields := range rows {
		if n > 0 {
			s.add(", ")
		}
		s.add("(")
		for k, i := range sent {
			if k > 0 {
				s.add(", ")
			}
			if given != nil && !slices.Contains(given[n], i) {
				s.add("DEFAULT")
				continue
			}
			s.bindStored(&t.Columns[i], fieldOf(fields[i]).arg())
		}
		s.add(")")
	}
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

// fillInserted runs an insert and reads the stored row back into row. An
// engine that cannot return it from the statement is asked for it by its key.
func (t *Info) fillInserted(ctx context.Context, db DB, s *statement, row any, columns []int) error {
	if s.engine.Returns {
		return t.fillReturned(ctx, db, s, row, columns)
	}
	result, err := s.exec(ctx, db)
	if err != nil {
		return err
	}
	if result.Rows == 0 {
		return ErrNotFound
	}
	if err := t.setNumber(row, result.LastID); err != nil {
		return err
	}
	return t.reread(ctx, db, row, nil)
}

// setNumber gives row the number that the database gave it.
func (t *Info) setNumber(row any, number int64) error {
	fields := t.fieldsOf(row)
	for _, k := range t.Keys {
		if f := fieldOf(fields[k]); t.Columns[k].Is(Auto) && f.zero() {
			if err := f.set(number); err != nil {
				return err
			}
		}
	}
	return nil
}

// unknown are the columns of a row that was stored of which only the database
// knows the values, when it was sent some of them; nil is all.
func (t *Info) unknown(e *Engine, sent []int) []int {
	if !e.KeepsSent {
		return nil
	}
	list := make([]int, 0, len(t.Columns))
	for i := range t.Columns {
		if !t.Columns[i].keepsSent() || !slices.Contains(sent, i) {
			list = append(list, i)
		}
	}
	if len(list) == 0 {
		list = append(list, 0) // that there is a row must be told
	}
	return list
}

// settleAll gives the values of a row that were stored as they were sent the
// form in which they are read.
func (t *Info) settleAll(row any, unknown []int) error {
	if unknown == nil {
		return nil
	}
	for i, p := range t.fieldsOf(row) {
		if slices.Contains(unknown, i) {
			continue
		}
		if err := settle(p); err != nil {
			return fmt.Errorf("column %s: %w", t.Columns[i].Name, err)
		}
	}
	return nil
}

// fillReturned runs a statement that returns columns of the row it stored, all
// of them for nil.
func (t *Info) fillReturned(ctx context.Context, db DB, s *statement, row any, columns []int) error {
	s.add(" RETURNING ")
	query{info: t, columns: columns}.writeOutputs(s)
	n := 0
	rows, err := s.query(ctx, db)
	if err != nil {
		return err
	}
	defer rows.Close()
	reader := newRowReader(t, columns)
	for ; rows.Next(); n++ {
		if err := reader.scan(ctx, rows, nil, row); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if n == 0 {
		return ErrNotFound
	}
	if err := t.settleAll(row, columns); err != nil {
		return err
	}
	return rows.Close()
}

// reread fills row by the row that conditions choose, which for nil is that of
// its key, where it has one.
func (t *Info) reread(ctx context.Context, db DB, row any, where []expr) error {
	if len(t.Keys) == 0 {
		return nil
	}
	q := query{info: t, where: where, limit: 1}
	if where == nil {
		q.where, q.deleted = []expr{t.sameKey(row)}, true
	}
	stored, err := q.bare(ctx, db)
	if err != nil {
		return err
	}
	return t.setFields(row, stored)
}

// stored is the row of the database that has row's key, with deleted also one
// that is marked as deleted.
func (t *Info) stored(ctx context.Context, db DB, row any, lock Lock, deleted bool) (any, error) {
	q := query{info: t, where: []expr{t.sameKey(row)}, deleted: deleted, limit: 1, lock: lock}
	return q.bare(ctx, db)
}

// TakeVersion gives a row the version that is stored, so that an update by it
// overwrites whatever came between. A row that is not there is left as it is.
func (t *Info) TakeVersion(ctx context.Context, db DB, row any) error {
	v := t.stamps.version
	if v < 0 {
		return nil
	}
	stored, err := t.stored(ctx, db, row, ForUpdate, false)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return fieldOf(t.fieldsOf(row)[v]).set(fieldOf(t.fieldsOf(stored)[v]).arg())
}

// sameKey holds for the row that has row's key.
func (t *Info) sameKey(row any) expr {
	fields := t.fieldsOf(row)
	conds := make([]expr, len(t.Keys))
	for i, k := range t.Keys {
		conds[i] = comparison{columnRef{t, k}, " = ", fieldOf(fields[k]).arg()}
	}
	return group{" AND ", conds}
}

// update stores columns of row, all that can be when only is nil, and fills row
// with what is stored then.
func (t *Info) update(ctx context.Context, db DB, row any, only []int) error {
	if err := t.usable("updating", row); err != nil {
		return err
	}
	if err := t.canUpdate(only); err != nil {
		return fmt.Errorf("updating %s: %w", t.Name, err)
	}
	if to, ok := remoteOf(db); ok {
		return t.updateRemote(ctx, to, []any{row}, only)
	}
	if !t.hooked(BeforeUpdate, AfterUpdate) && !watching(db) {
		return t.updateRow(ctx, db, row, only)
	}
	return together(ctx, db, func(tx DB) error { return t.updateHooked(ctx, tx, row, only) })
}

// canUpdate reports a column that an update cannot store.
func (t *Info) canUpdate(columns []int) error {
	for _, i := range columns {
		switch {
		case i < 0:
			return errNoColumn
		case i == t.stamps.deleted:
			return fmt.Errorf("%s is set by Delete and cleared by Restore only", t.Columns[i].Name)
		case t.Columns[i].Is(Generated):
			return fmt.Errorf("%s is computed by the database", t.Columns[i].Name)
		}
	}
	return nil
}

func (t *Info) updateHooked(ctx context.Context, tx DB, row any, only []int) (err error) {
	keep(tx, row)
	var before any
	if watching(tx) {
		if before, err = t.stored(ctx, tx, row, ForUpdate, false); err != nil {
			return fmt.Errorf("updating %s: %w", t.Name, err)
		}
	}
	if err := t.run(ctx, tx, BeforeUpdate, row); err != nil {
		return err
	}
	if err := t.updateRow(ctx, tx, row, only); err != nil {
		return err
	}
	if err := t.tell(ctx, tx, Updated, before, row); err != nil {
		return err
	}
	return t.run(ctx, tx, AfterUpdate, row)
}

func (t *Info) updateRow(ctx context.Context, db DB, row any, only []int) (err error) {
	if IsTx(db) {
		back := keep(db, row)
		defer func() {
			if err != nil {
				back()
			}
		}()
	}
	fields := t.fieldsOf(row)
	where := []expr{t.sameKey(row)}
	if v := t.stamps.version; v >= 0 {
		where = append(where, comparison{columnRef{t, v}, " = ", fieldOf(fields[v]).arg()})
	}
	if set := t.settable(fields, only); len(set) > 0 {
		s := newStatement(db.Engine())
		t.writeUpdate(s, t.stampUpdate(t.assign(fields, set)))
		s.where(query{info: t, where: where}.conditions())
		err = t.fillUpdated(ctx, db, s, row)
	} else {
		err = t.reread(ctx, db, row, where)
	}
	if errors.Is(err, ErrNotFound) && t.stamps.version >= 0 {
		if _, missing := t.stored(ctx, db, row, "", false); missing == nil {
			err = ErrStale
		}
	}
	if err != nil {
		return fmt.Errorf("updating %s: %w", t.Name, t.nameColumns(err))
	}
	return nil
}

// assign are the values of columns in a row.
func (t *Info) assign(fields []any, columns []int) []assignment {
	values := make([]assignment, 0, len(columns)+2)
	for _, i := range columns {
		values = append(values, assignment{column: columnRef{t, i}, value: fieldOf(fields[i]).arg()})
	}
	return values
}

// stampUpdate adds the time of the update, unless it is stored anyway, and the
// next version.
func (t *Info) stampUpdate(values []assignment) []assignment {
	named := func(i int) bool {
		return slices.ContainsFunc(values, func(a assignment) bool { return a.column.index == i })
	}
	if u := t.stamps.updated; u >= 0 && !named(u) {
		values = append(values, assignment{column: columnRef{t, u}, value: now()})
	}
	if v := t.stamps.version; v >= 0 && !named(v) {
		ref := columnRef{t, v}
		values = append(values, assignment{column: ref, expr: infix{ref, " + ", constant{int64(1)}}})
	}
	return values
}

func (t *Info) writeUpdate(s *statement, values []assignment) {
	s.add("UPDATE ", s.engine.table(t.Schema, t.Name), " SET ")
	for n, a := range values {
		if n > 0 {
			s.add(", ")
		}
		a.write(s)
	}
}

// fillUpdated runs an update and reads the stored row back into row.
func (t *Info) fillUpdated(ctx context.Context, db DB, s *statement, row any) error {
	if s.engine.Returning {
		return t.fillReturned(ctx, db, s, row, nil)
	}
	result, err := s.exec(ctx, db)
	if err != nil {
		return err
	}
	if result.Rows == 0 {
		return ErrNotFound
	}
	return t.reread(ctx, db, row, nil)
}

// settable returns the columns that an update of row stores: those asked for
// that are neither computed nor of the key, and when all are asked for, not
// those about which the row says nothing, nor what the runtime sees to.
func (t *Info) settable(fields []any, only []int) []int {
	var set []int
	for i := range t.Columns {
		c := &t.Columns[i]
		switch {
		case c.Is(Generated), slices.Contains(t.Keys, i), i == t.stamps.version, i == t.stamps.deleted:
		case only != nil && !slices.Contains(only, i):
		case only == nil && t.stamped(i):
		case only == nil && c.Is(Auto|HasDefault) && fieldOf(fields[i]).zero() && c.emptyIsNone():
		default:
			set = append(set, i)
		}
	}
	return set
}

// remove removes the row of a key, or marks it. purge removes it where it would be
// marked.
func (t *Info) remove(ctx context.Context, db DB, parts []any, purge bool) error {
	if to, ok := remoteOf(db); ok {
		return t.removeRemote(ctx, to, parts, purge)
	}
	q := query{info: t, where: t.hasKey(parts), deleted: purge}
	remove := q.deleteRows
	if t.hooked(BeforeDelete, AfterDelete) || watching(db) {
		remove = q.deleteEach
	}
	n, err := remove(ctx, db, purge)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// restore takes the mark of deletion from the row of a key.
func (t *Info) restore(ctx context.Context, db DB, key []expr) error {
	d := t.stamps.deleted
	if d < 0 {
		return fmt.Errorf("restoring a row of %s: the table does not mark deleted rows", t.Name)
	}
	if t.fault != nil {
		return t.fault
	}
	if _, ok := remoteOf(db); ok {
		return fmt.Errorf("restoring a row of %s: %w", t.Name, ErrNotOffered)
	}
	marked := query{info: t, where: append(slices.Clip(key), nullTest{columnRef{t, d}, true}), deleted: true}
	if !t.hooked(BeforeUpdate, AfterUpdate) && !watching(db) {
		return marked.unmark(ctx, db)
	}
	return together(ctx, db, func(tx DB) error {
		marked.lock, marked.limit = ForUpdate, 1
		before, err := marked.bare(ctx, tx)
		if err != nil {
			return err
		}
		row := t.create()
		if err := t.setFields(row, before); err != nil {
			return err
		}
		if err := t.run(ctx, tx, BeforeUpdate, row); err != nil {
			return err
		}
		marked.lock, marked.limit = "", 0
		if err := marked.unmark(ctx, tx); err != nil {
			return err
		}
		if err := t.reread(ctx, tx, row, nil); err != nil {
			return err
		}
		if err := t.tell(ctx, tx, Updated, before, row); err != nil {
			return err
		}
		return t.run(ctx, tx, AfterUpdate, row)
	})
}

func (q query) unmark(ctx context.Context, db DB) error {
	s := newStatement(db.Engine())
	q.info.writeUpdate(s, q.info.stampUpdate([]assignment{{column: columnRef{q.info, q.info.stamps.deleted}}}))
	q.writeChosen(s)
	result, err := s.exec(ctx, db)
	if err != nil {
		return fmt.Errorf("restoring a row of %s: %w", q.info.Name, q.info.nameColumns(err))
	}
	if result.Rows == 0 {
		return ErrNotFound
	}
	return nil
}

// updateAll updates rows, all or none.
func (t *Info) updateAll(ctx context.Context, db DB, rows []any, only []int) error {
	if err := t.usable("updating", rows...); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		return t.updateRemote(ctx, to, rows, only)
	}
	return together(ctx, db, func(tx DB) error {
		for _, row := range rows {
			if err := t.update(ctx, tx, row, only); err != nil {
				return err
			}
		}
		return nil
	})
}

// delete removes or marks the rows of the query.
func (q query) delete(ctx context.Context, db DB) (int64, error) {
	if len(q.where) == 0 {
		return 0, fmt.Errorf("deleting from %s: no condition; gate.And() stands for all rows", q.info.Name)
	}
	if to, ok := remoteOf(db); ok {
		return q.deleteChosenRemote(ctx, to)
	}
	if q.info.hooked(BeforeDelete, AfterDelete) || watching(db) {
		return q.deleteEach(ctx, db, false)
	}
	return q.deleteRows(ctx, db, false)
}

func (q query) deleteRows(ctx context.Context, db DB, purge bool) (int64, error) {
	s := newStatement(db.Engine())
	if d := q.info.stamps.deleted; d >= 0 && !purge {
		values := q.info.stampUpdate([]assignment{{column: columnRef{q.info, d}, value: now()}})
		q.info.writeUpdate(s, values)
	} else {
		s.add("DELETE FROM ", s.engine.table(q.info.Schema, q.info.Name))
	}
	q.writeChosen(s)
	result, err := s.exec(ctx, db)
	if err != nil {
		return 0, fmt.Errorf("deleting from %s: %w", q.info.Name, err)
	}
	return result.Rows, nil
}

// deleteEach removes row by row, with the hooks of each.
func (q query) deleteEach(ctx context.Context, db DB, purge bool) (n int64, err error) {
	err = together(ctx, db, func(tx DB) error {
		rows, err := q.lockedRows(ctx, tx)
		n = int64(len(rows))
		for _, row := range rows {
			if err := q.info.deleteHooked(ctx, tx, row, purge); err != nil {
				return err
			}
		}
		return err
	})
	return n, err
}

// lockedRows reads the rows of the query to change them one by one.
func (q query) lockedRows(ctx context.Context, tx DB) ([]any, error) {
	if len(q.info.Keys) == 0 {
		return nil, fmt.Errorf("table %s: rows without a key cannot be changed one by one, as its hooks need it", q.info.Name)
	}
	q.lock, q.with, q.columns = ForUpdate, nil, nil
	return q.rows(ctx, tx)
}

func (t *Info) deleteHooked(ctx context.Context, tx DB, row any, purge bool) error {
	if err := t.run(ctx, tx, BeforeDelete, row); err != nil {
		return err
	}
	one := query{info: t, where: []expr{t.sameKey(row)}, deleted: true}
	if _, err := one.deleteRows(ctx, tx, purge); err != nil {
		return err
	}
	if err := t.tell(ctx, tx, Deleted, row, nil); err != nil {
		return err
	}
	return t.run(ctx, tx, AfterDelete, row)
}

// update stores values in the rows of the query.
func (q query) update(ctx context.Context, db DB, values []assignment) (int64, error) {
	t := q.info
	switch {
	case t.fault != nil:
		return 0, t.fault
	case len(q.where) == 0:
		return 0, fmt.Errorf("updating %s: no condition; gate.And() stands for all rows", t.Name)
	case len(values) == 0:
		return 0, fmt.Errorf("updating %s: no values", t.Name)
	}
	for _, v := range values {
		if err := t.canUpdate([]int{v.column.index}); err != nil {
			return 0, fmt.Errorf("updating %s: %w", t.Name, err)
		}
	}
	if to, ok := remoteOf(db); ok {
		return q.updateChosenRemote(ctx, to, values)
	}
	if t.hooked(BeforeUpdate, AfterUpdate) || watching(db) {
		return q.updateEach(ctx, db, values)
	}
	s := newStatement(db.Engine())
	t.writeUpdate(s, t.stampUpdate(values))
	q.writeChosen(s)
	result, err := s.exec(ctx, db)
	if err != nil {
		return 0, fmt.Errorf("updating %s: %w", t.Name, t.nameColumns(err))
	}
	return result.Rows, nil
}

// updateEach stores values row by row, with the hooks of each.
func (q query) updateEach(ctx context.Context, db DB, values []assignment) (n int64, err error) {
	var only []int
	for _, v := range values {
		if v.expr != nil {
			return 0, fmt.Errorf("updating %s: its hooks run on rows; set values, or update row by row", q.info.Name)
		}
		only = append(only, v.column.index)
	}
	err = together(ctx, db, func(tx DB) error {
		rows, err := q.lockedRows(ctx, tx)
		if err != nil {
			return err
		}
		n = int64(len(rows))
		for _, row := range rows {
			fields := q.info.fieldsOf(row)
			for _, v := range values {
				if err := fieldOf(fields[v.column.index]).set(v.value); err != nil {
					return fmt.Errorf("updating %s: %w", q.info.Name, err)
				}
			}
			if err := q.info.update(ctx, tx, row, only); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

// writeChosen writes which rows are changed. Where more than conditions on the
// row itself says so, they are chosen by their keys: not every engine takes an
// order or the table itself there.
func (q query) writeChosen(s *statement) {
	if s.err == nil && q.info.fault != nil {
		s.fail(q.info.fault)
	}
	if !q.chosenByKey() {
		s.inAlias(s.engine.quote(q.info.Name), func() { s.where(q.conditions()) })
		return
	}
	if len(q.info.Keys) == 0 {
		s.fail(fmt.Errorf("table %s: rows without a key cannot be chosen by order, number or relation to be changed", q.info.Name))
		return
	}
	inner := q
	inner.columns = q.info.Keys
	s.add(" WHERE (")
	s.columnList(q.info, q.info.Keys)
	s.add(") IN (SELECT * FROM (SELECT ")
	alias := s.newAlias()
	s.inAlias(alias, func() {
		s.columnList(q.info, q.info.Keys)
		inner.writeSource(s, alias)
		s.where(inner.conditions())
		writeOrder(s, inner.order)
		writeLimit(s, inner.limit, inner.offset)
	})
	s.add(") AS chosen)")
}

func (q query) chosenByKey() bool {
	return q.sets != nil || q.limit > 0 || q.offset > 0 || slices.ContainsFunc(q.where, looksElsewhere)
}

// looksElsewhere reports whether a condition is about other rows too.
func looksElsewhere(e expr) bool {
	switch e := e.(type) {
	case group:
		return slices.ContainsFunc(e.conds, looksElsewhere)
	case negation:
		return looksElsewhere(e.cond)
	case comparison:
		return operandElsewhere(e.x)
	case nullTest:
		return operandElsewhere(e.x)
	case inList:
		return operandElsewhere(e.x)
	case infix:
		return operandElsewhere(e)
	case related, childOf, failing:
		return true
	}
	return false
}

func operandElsewhere(x operand) bool {
	switch x := x.(type) {
	case countOf, through:
		return true
	case infix:
		return operandElsewhere(x.a) || operandElsewhere(x.b)
	case coalesce:
		return operandElsewhere(x.a) || operandElsewhere(x.b)
	case function:
		return operandElsewhere(x.x)
	}
	return false
}
