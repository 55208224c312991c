package gate

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
)

// rowsPerInsert is how many rows one statement stores at most. What is left
// over goes in smaller powers of two, so that there are few statement texts.
const rowsPerInsert = 256

// Importer is a DB that stores rows faster than by inserts.
type Importer interface {
	// Import stores rows in columns of a table. Each row is given by its
	// values, as Argument returns them.
	Import(ctx context.Context, schema, table string, columns []string, rows iter.Seq[[]any]) (int64, error)
}

// insertAll stores rows, and fills in what the database made of them.
func (t *Info) insertAll(ctx context.Context, db DB, rows []any) error {
	if err := t.usable("inserting into", rows...); err != nil {
		return err
	}
	if len(rows) == 0 {
		return nil
	}
	if to, ok := remoteOf(db); ok {
		return t.insertRemote(ctx, db, to, rows)
	}
	if len(rows) == 1 {
		return t.insert(ctx, db, rows[0])
	}
	if done, err := t.insertGroup(ctx, db, rows); done {
		return err
	}
	return together(ctx, db, func(tx DB) error {
		for _, row := range rows {
			keep(tx, row)
		}
		if err := t.runAll(ctx, tx, BeforeInsert, rows); err != nil {
			return err
		}
		for _, row := range rows {
			if err := t.stampNew(row); err != nil {
				return err
			}
		}
		if err := t.insertBatches(ctx, tx, rows, t.insertFilled); err != nil {
			return fmt.Errorf("inserting into %s: %w", t.Name, t.nameColumns(err))
		}
		for _, row := range rows {
			if err := t.tell(ctx, tx, Inserted, nil, row); err != nil {
				return err
			}
		}
		return t.runAll(ctx, tx, AfterInsert, rows)
	})
}

// rowsPerGroup is how many rows are stored by one statement of their own length.
const rowsPerGroup = 64

// insertGroup stores a few rows by one statement, which needs no transaction around
// it. It is not done where that takes several.
func (t *Info) insertGroup(ctx context.Context, db DB, rows []any) (done bool, err error) {
	e := db.Engine()
	if !e.Returns || len(rows) > rowsPerGroup || e.MaxArgs > 0 && len(rows)*len(t.Columns) > e.MaxArgs ||
		IsTx(db) || watching(db) || t.hooked(BeforeInsert, AfterInsert) {
		return false, nil
	}
	backs := make([]func(), len(rows))
	restore := func() {
		for _, back := range backs {
			if back != nil {
				back()
			}
		}
	}
	b := &batch{}
	for i, row := range rows {
		backs[i] = keep(db, row)
		if err := t.stampNew(row); err != nil {
			restore()
			return true, err
		}
		fields := t.fieldsOf(row)
		b.add(row, fields, t.sent(nil, fields, t.zeroed(db, row)))
	}
	if len(b.sent) == 0 || b.given != nil && (!e.TakesDefault || t.refersToItself()) {
		restore()
		return false, nil
	}
	if err = t.insertFilled(ctx, db, b); err == nil {
		return true, nil
	}
	restore()
	var broken *ConstraintError
	if errors.As(err, &broken) || errors.Is(err, ErrUnavailable) || errors.Is(err, ErrTimeout) || ctx.Err() != nil {
		return true, fmt.Errorf("inserting into %s: %w", t.Name, t.nameColumns(err))
	}
	return false, nil // nothing is stored; a transaction tries again what may come right
}

// batch is rows that one statement stores.
type batch struct {
	sent   []int   // the columns that at least one of them sends
	given  [][]int // the columns that each sends; nil where they are the same
	rows   []any
	fields [][]any
}

// add adds a row that sends some columns.
func (b *batch) add(row any, fields []any, sent []int) {
	switch {
	case len(b.rows) == 0:
		b.sent = sent
	case b.given == nil && !slices.Equal(b.sent, sent):
		for range b.rows {
			b.given = append(b.given, b.sent)
		}
	}
	if b.given != nil {
		b.given = append(b.given, sent)
		for _, i := range sent {
			if at, there := slices.BinarySearch(b.sent, i); !there {
				b.sent = slices.Insert(slices.Clone(b.sent), at, i)
			}
		}
	}
	b.rows, b.fields = append(b.rows, row), append(b.fields, fields)
}

// cut returns the first n rows of a batch, and the rest.
func (b *batch) cut(n int) (first, rest *batch) {
	first, rest = &batch{sent: b.sent}, &batch{}
	for i, row := range b.rows {
		sent := b.sent
		if b.given != nil {
			sent = b.given[i]
		}
		if i < n {
			first.add(row, b.fields[i], sent)
		} else {
			rest.add(row, b.fields[i], sent)
		}
	}
	return first, rest
}

// insertBatches stores rows, which have their stamps, many at a time, by as few
// statements as the engine allows.
func (t *Info) insertBatches(ctx context.Context, tx DB, rows []any, store func(ctx context.Context, tx DB, b *batch) error) error {
	most := rowsPerInsert
	if width := len(t.Columns); tx.Engine().MaxArgs > 0 {
		most = min(most, max(1, tx.Engine().MaxArgs/width))
	}
	flush := func(b *batch) error {
		for len(b.rows) > 0 {
			n := 1
			for n*2 <= min(most, len(b.rows)) {
				n *= 2
			}
			if len(b.sent) == 0 {
				n = 1 // an insert of nothing has no list of rows
			}
			now := b
			if n < len(b.rows) {
				now, b = b.cut(n)
			} else {
				b = &batch{}
			}
			if err := store(ctx, tx, now); err != nil {
				return err
			}
		}
		return nil
	}
	waiting := map[string]*batch{}
	var order []string
	for _, row := range rows {
		fields := t.fieldsOf(row)
		sent := t.sent(nil, fields, t.zeroed(tx, row))
		group := t.batchOf(tx.Engine(), sent)
		if waiting[group] == nil {
			if t.refersToItself() { // a row may refer to one before it
				for _, name := range order {
					if err := flush(waiting[name]); err != nil {
						return err
					}
				}
				clear(waiting)
				order = nil
			}
			waiting[group] = &batch{}
			order = append(order, group)
		}
		b := waiting[group]
		b.add(row, fields, sent)
		if len(b.rows) == most {
			if err := flush(b); err != nil {
				return err
			}
			waiting[group] = &batch{}
		}
	}
	for _, name := range order {
		if err := flush(waiting[name]); err != nil {
			return err
		}
	}
	return nil
}

// batchOf names the batch of rows that send some columns: all rows go together
// where the engine has a word for the default of a column.
func (t *Info) batchOf(e *Engine, sent []int) string {
	switch {
	case len(sent) == 0 || !e.TakesDefault:
		return fmt.Sprint(sent)
	case e.Returns:
		return ""
	}
	// Where the engine tells the first number only, all rows must get theirs
	// from it, or none.
	return fmt.Sprint(slices.ContainsFunc(t.Keys, func(k int) bool { return t.Columns[k].Is(Auto) && slices.Contains(sent, k) }))
}

// refersToItself reports whether rows of the table refer to others of it.
func (t *Info) refersToItself() bool {
	return slices.ContainsFunc(t.edges, func(e *edge) bool { return e.link.up && e.link.child.Name == t.Name && e.link.child.Schema == t.Schema })
}

// insertFilled stores rows by one statement and fills them.
func (t *Info) insertFilled(ctx context.Context, tx DB, b *batch) error {
	s := newStatement(tx.Engine())
	t.writeInsertAnew(s, b.sent, b.fields, b.given)
	if s.engine.Returns {
		return t.fillAll(ctx, tx, s, b.rows, t.unknown(s.engine, b.sent))
	}
	result, err := s.exec(ctx, tx)
	if err != nil {
		return err
	}
	// One statement numbers its rows without a gap, from the number it tells on.
	for i, row := range b.rows {
		if err := t.setNumber(row, result.LastID+int64(i)); err != nil {
			return err
		}
	}
	return t.rereadAll(ctx, tx, b.rows)
}

// fillAll runs a statement that returns the rows it stored, in their order.
func (t *Info) fillAll(ctx context.Context, tx DB, s *statement, rows []any, columns []int) error {
	s.add(" RETURNING ")
	query{info: t, columns: columns}.writeOutputs(s)
	n := 0
	err := scan(ctx, tx, t, columns, s, nil, func() any {
		n++
		if n > len(rows) {
			return t.create()
		}
		return rows[n-1]
	})
	if err == nil && n != len(rows) {
		err = fmt.Errorf("%d of %d rows came back", n, len(rows))
	}
	for i := 0; i < len(rows) && err == nil; i++ {
		err = t.settleAll(rows[i], columns)
	}
	return err
}

// rereadAll fills rows by their keys.
func (t *Info) rereadAll(ctx context.Context, tx DB, rows []any) error {
	if len(t.Keys) == 0 {
		return nil
	}
	place := make(map[string]any, len(rows))
	for _, row := range rows {
		place[string(t.keyBytes(row))] = row
	}
	q := query{info: t, where: []expr{t.hasKeys(t.keysOf(rows))}, deleted: true}
	stored, err := q.rows(ctx, tx)
	if err != nil {
		return err
	}
	for _, from := range stored {
		if row, ok := place[string(t.keyBytes(from))]; ok {
			if err := t.setFields(row, from); err != nil {
				return err
			}
		}
	}
	return nil
}

// bring stores rows without reading anything back, and leaves them as they are.
func (t *Info) bring(ctx context.Context, db DB, rows iter.Seq[any]) (n int64, err error) {
	if t.fault != nil {
		return 0, t.fault
	}
	if to, ok := remoteOf(db); ok {
		return t.bringRemote(ctx, db, to, rows)
	}
	// Rows that come one by one come once: nothing is tried again.
	err = togetherWith(ctx, db, TxOptions{Tries: 1}, func(tx DB) error {
		n = 0
		part := make([]any, 0, importPart)
		flush := func() error {
			stored, err := t.importPart(ctx, tx, part)
			n += stored
			part = part[:0]
			return err
		}
		for row := range rows {
			if t.isNil(row) {
				return fmt.Errorf("row %d is nil", n+int64(len(part))+1)
			}
			if part = append(part, row); len(part) == importPart {
				if err := flush(); err != nil {
					return err
				}
			}
		}
		return flush()
	})
	if err != nil {
		return 0, fmt.Errorf("importing into %s: %w", t.Name, t.nameColumns(err))
	}
	return n, nil
}

const (
	importPart = 4096 // how many rows are gathered for one import
	importRuns = 16   // of rows that send the same columns, in a part that is imported
)

// importPart stores some of the rows of an import.
func (t *Info) importPart(ctx context.Context, tx DB, rows []any) (int64, error) {
	if t.stamps != noStamps {
		for _, row := range rows {
			defer copyOf(row)() // what the runtime fills in is not read back either
			if err := t.stampNew(row); err != nil {
				return 0, err
			}
		}
	}
	runs := t.importedRuns(tx, rows)
	importer, fast := find[Importer](tx)
	if !fast || runs == nil {
		return int64(len(rows)), t.insertBatches(ctx, tx, rows, t.insertOnly)
	}
	n := int64(0)
	for _, run := range runs {
		stored, err := importer.Import(ctx, t.Schema, t.Name, t.names(run.sent), t.values(run))
		if err != nil {
			return n, err
		}
		n += stored
	}
	return n, nil
}

// importedRuns are runs of rows that send the same columns, or nil where an
// import of each would not do or not pay.
func (t *Info) importedRuns(tx DB, rows []any) []*batch {
	var runs []*batch
	var fields []any
	for _, row := range rows {
		fields = t.fields(fields[:0], row)
		sent := t.sent(nil, fields, t.zeroed(tx, row))
		if n := len(runs); n == 0 || !slices.Equal(runs[n-1].sent, sent) {
			// The name of a cast has no place in an import.
			if n == importRuns || len(sent) == 0 || slices.ContainsFunc(sent, func(i int) bool { return t.Columns[i].Type == TypeOther }) {
				return nil
			}
			runs = append(runs, &batch{sent: sent})
		}
		run := runs[len(runs)-1]
		run.rows = append(run.rows, row)
	}
	return runs
}

// values goes through the values of the rows. The slice is used again for the
// next row.
func (t *Info) values(run *batch) iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		values := make([]any, len(run.sent))
		var fields []any
		for _, row := range run.rows {
			fields = t.fields(fields[:0], row)
			for n, i := range run.sent {
				values[n] = fieldOf(fields[i]).arg()
			}
			if !yield(values) {
				return
			}
		}
	}
}

// insertOnly stores rows by one statement.
func (t *Info) insertOnly(ctx context.Context, tx DB, b *batch) error {
	s := newStatement(tx.Engine())
	t.writeInsertAnew(s, b.sent, b.fields, b.given)
	_, err := s.exec(ctx, tx)
	return err
}
