package gate

import (
	"context"
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
	if t.fault != nil {
		return t.fault
	}
	if len(rows) == 0 {
		return nil
	}
	if len(rows) == 1 {
		return t.insert(ctx, db, rows[0], nil)
	}
	return inTx(ctx, db, func(tx DB) error {
		if err := t.runAll(ctx, tx, BeforeInsert, rows); err != nil {
			return err
		}
		if err := t.insertRuns(ctx, tx, rows, t.insertFilled); err != nil {
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

// insertRuns stores rows in parts: each a run of rows that bring values for
// the same columns.
func (t *Info) insertRuns(ctx context.Context, tx DB, rows []any, store func(ctx context.Context, tx DB, sent []int, rows []any, fields [][]any) error) error {
	most := rowsPerInsert
	if width := len(t.Columns); tx.Engine().MaxArgs > 0 {
		most = min(most, max(1, tx.Engine().MaxArgs/width))
	}
	fields := make([][]any, 0, min(len(rows), most))
	var sent, next []int
	start := 0
	flush := func(end int) error {
		for start < end {
			n := 1
			for n*2 <= min(most, end-start) {
				n *= 2
			}
			if len(sent) == 0 {
				n = 1 // an insert of nothing has no list of rows
			}
			if err := store(ctx, tx, sent, rows[start:start+n], fields[:n]); err != nil {
				return err
			}
			fields = slices.Delete(fields, 0, n)
			start += n
		}
		return nil
	}
	for i, row := range rows {
		if err := t.stampNew(row); err != nil {
			return err
		}
		f := t.fieldsOf(row)
		next = t.sent(next[:0], f)
		if i > start && (i-start == most || !slices.Equal(sent, next)) {
			if err := flush(i); err != nil {
				return err
			}
		}
		sent = append(sent[:0], next...)
		fields = append(fields, f)
	}
	return flush(len(rows))
}

// insertFilled stores rows by one statement and fills them.
func (t *Info) insertFilled(ctx context.Context, tx DB, sent []int, rows []any, fields [][]any) error {
	s := newStatement(tx.Engine())
	t.writeInsert(s, sent, fields)
	if s.engine.Returns {
		return t.fillAll(ctx, tx, s, rows, t.unknown(s.engine, sent))
	}
	result, err := s.exec(ctx, tx)
	if err != nil {
		return err
	}
	// One statement numbers its rows without a gap, from the number it tells on.
	for i, row := range rows {
		if err := t.setNumber(row, result.LastID+int64(i)); err != nil {
			return err
		}
	}
	return t.rereadAll(ctx, tx, rows)
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
	keys := make([][]any, len(rows))
	for i, row := range rows {
		place[string(t.keyBytes(row))] = row
		fields := t.fieldsOf(row)
		for _, k := range t.Keys {
			keys[i] = append(keys[i], fields[k])
		}
	}
	q := query{info: t, where: []expr{t.hasKeys(keys)}, deleted: true}
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

// bring stores rows without reading anything back.
func (t *Info) bring(ctx context.Context, db DB, rows iter.Seq[any]) (n int64, err error) {
	if t.fault != nil {
		return 0, t.fault
	}
	err = inTx(ctx, db, func(tx DB) error {
		n = 0
		importer, fast := find[Importer](tx)
		for part, err := range t.parts(rows) {
			if err != nil {
				return err
			}
			if fast && len(part.sent) > 0 && !t.castColumns(part.sent) {
				stored, err := importer.Import(ctx, t.Schema, t.Name, t.names(part.sent), part.values())
				if err != nil {
					return err
				}
				n += stored
				continue
			}
			if err := t.insertRuns(ctx, tx, part.rows, t.insertOnly); err != nil {
				return err
			}
			n += int64(len(part.rows))
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("importing into %s: %w", t.Name, t.nameColumns(err))
	}
	return n, nil
}

// castColumns reports whether a column is of a type whose name must stand in
// the statement, which an import has no place for.
func (t *Info) castColumns(columns []int) bool {
	return slices.ContainsFunc(columns, func(i int) bool { return t.Columns[i].Type == TypeOther })
}

// importPart is how many rows are gathered for one import.
const importPart = 4096

// part is a run of rows that bring values for the same columns.
type part struct {
	info *Info
	sent []int
	rows []any
}

// values are those of the rows, of which each is only valid until the next.
func (p part) values() iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		values := make([]any, len(p.sent))
		var fields []any
		for _, row := range p.rows {
			fields = p.info.fields(fields[:0], row)
			for n, i := range p.sent {
				values[n] = fieldOf(fields[i]).arg()
			}
			if !yield(values) {
				return
			}
		}
	}
}

// parts gathers rows.
func (t *Info) parts(rows iter.Seq[any]) iter.Seq2[part, error] {
	return func(yield func(part, error) bool) {
		p := part{info: t}
		var next []int
		for row := range rows {
			if err := t.stampNew(row); err != nil {
				yield(p, err)
				return
			}
			next = t.sent(next[:0], t.fieldsOf(row))
			if len(p.rows) > 0 && (len(p.rows) == importPart || !slices.Equal(p.sent, next)) {
				if !yield(p, nil) {
					return
				}
				p.rows = p.rows[:0]
			}
			p.sent = append(p.sent[:0], next...)
			p.rows = append(p.rows, row)
		}
		if len(p.rows) > 0 {
			yield(p, nil)
		}
	}
}

// insertOnly stores rows by one statement.
func (t *Info) insertOnly(ctx context.Context, tx DB, sent []int, _ []any, fields [][]any) error {
	s := newStatement(tx.Engine())
	t.writeInsert(s, sent, fields)
	_, err := s.exec(ctx, tx)
	return err
}
