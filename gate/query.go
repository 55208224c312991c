package gate

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
)

// Query is a reading of rows of type E. Its methods return a new Query and
// leave the one they are called on as it was, so that one query can be the
// start of many.
type Query[E any] struct{ q query }

// query is a Query without the type of its rows.
type query struct {
	info    *Info
	sets    []query // in place of the table: rows of all of these
	joiner  string  // of the sets: UNION, INTERSECT or EXCEPT
	where   []expr
	order   []orderItem
	with    []*edge
	limit   int // 0 is none
	offset  int
	columns []int // nil is all
	brief   []int // of these binary columns only the beginning is read
	lock    Lock
	deleted bool // rows that are marked as deleted are read too
}

// Lock says whether and how the rows that are read are locked until the end of
// the transaction. SQLite, where a transaction has the whole database, takes
// any and does nothing.
type Lock string

// The locks of rows.
const (
	ForUpdate           Lock = "FOR UPDATE"
	ForUpdateNoWait     Lock = "FOR UPDATE NOWAIT"      // an error where another has a lock
	ForUpdateSkipLocked Lock = "FOR UPDATE SKIP LOCKED" // without the rows that another has locked
	ForShare            Lock = "FOR SHARE"
)

// ErrMany is returned where one row was asked for and there are more.
var ErrMany = errors.New("more than one row")

// Where narrows the query to rows for which all conditions hold.
//
//go:noinline
func (q *Query[E]) Where(conds ...Cond[E]) *Query[E] {
	next := q.q
	next.where = append(slices.Clip(q.q.where), exprs(conds)...)
	return &Query[E]{next}
}

// OrderBy appends steps to the order.
//
//go:noinline
func (q *Query[E]) OrderBy(steps ...Order[E]) *Query[E] {
	next := q.q
	next.order = slices.Clip(q.q.order)
	for _, s := range steps {
		next.order = append(next.order, s.item)
	}
	return &Query[E]{next}
}

// Limit bounds the number of rows; 0 takes the bound away.
//
//go:noinline
func (q *Query[E]) Limit(n int) *Query[E] {
	next := q.q
	next.limit = n
	return &Query[E]{next}
}

// Offset skips rows.
//
//go:noinline
func (q *Query[E]) Offset(n int) *Query[E] {
	next := q.q
	next.offset = n
	return &Query[E]{next}
}

// With loads related rows too, with a fixed number of statements for each
// relation whatever the number of rows.
//
//go:noinline
func (q *Query[E]) With(related ...Related[E]) *Query[E] {
	next := q.q
	next.with = slices.Clip(q.q.with)
	var e E
	for _, r := range related {
		next.with = append(next.with, r.relation(e))
	}
	return &Query[E]{next}
}

// Columns reads these columns and the key; the others stay empty.
//
//go:noinline
func (q *Query[E]) Columns(columns ...ColumnOf[E]) *Query[E] {
	next := q.q
	next.columns = slices.Clone(q.q.info.Keys)
	for _, i := range indexesOf(columns) {
		if !slices.Contains(next.columns, i) {
			next.columns = append(next.columns, i)
		}
	}
	return &Query[E]{next}
}

func indexesOf[E any](columns []ColumnOf[E]) []int {
	var e E
	var list []int
	for _, c := range columns {
		list = append(list, c.columnOf(e).index)
	}
	return list
}

// Lock locks the rows that are read, in a transaction.
//
//go:noinline
func (q *Query[E]) Lock(l Lock) *Query[E] {
	next := q.q
	next.lock = l
	return &Query[E]{next}
}

// WithDeleted reads rows too that are marked as deleted.
//
//go:noinline
func (q *Query[E]) WithDeleted() *Query[E] {
	next := q.q
	next.deleted = true
	return &Query[E]{next}
}

// All returns the rows; there are none where the slice is empty.
//
//go:noinline
func (q *Query[E]) All(ctx context.Context, db DB) ([]E, error) {
	list := make([]E, 0, min(q.q.limit, 1024))
	if from, ok := remoteOf(db); ok {
		err := q.q.readRemote(ctx, db, from, func(row any) bool {
			list = append(list, row.(E))
			return true
		})
		if err != nil {
			return nil, err
		}
		return list, nil
	}
	err := q.q.read(ctx, db, func() any {
		row := q.q.info.create()
		list = append(list, row.(E))
		return row
	})
	if err != nil {
		return nil, err
	}
	return list, q.q.complete(ctx, db, anyRows(list))
}

// anyRows are the rows without their type; complete asks for them only where
// there is something to do.
func anyRows[E any](list []E) func() []any {
	return func() []any {
		rows := make([]any, len(list))
		for i, e := range list {
			rows[i] = e
		}
		return rows
	}
}

// First returns the first row, or ErrNotFound.
//
//go:noinline
func (q *Query[E]) First(ctx context.Context, db DB) (E, error) {
	next := q.q
	next.limit = 1
	row, err := next.one(ctx, db)
	e, _ := row.(E)
	return e, err
}

// One returns the only row, ErrNotFound where there is none and ErrMany where
// there are more.
//
//go:noinline
func (q *Query[E]) One(ctx context.Context, db DB) (E, error) {
	next := q.q
	next.limit = 2
	row, err := next.one(ctx, db)
	e, _ := row.(E)
	return e, err
}

// Each goes through the rows one by one, without holding them all. Relations
// are loaded for some hundred rows at a time. In a loop the error comes last,
// with an empty row.
//
//go:noinline
func (q *Query[E]) Each(ctx context.Context, db DB) iter.Seq2[E, error] {
	return func(yield func(E, error) bool) {
		err := q.q.each(ctx, db, func(row any) bool { return yield(row.(E), nil) })
		if err != nil {
			var none E
			yield(none, err)
		}
	}
}

// Page returns a page of rows and the place where the next one begins, which
// is empty behind the last row. It begins behind the place after, or with the
// first row where that is empty. The order is made total by the key.
//
//go:noinline
func (q *Query[E]) Page(ctx context.Context, db DB, after string, size int) (rows []E, next string, err error) {
	if from, ok := remoteOf(db); ok {
		next, err = q.q.pageRemote(ctx, db, from, after, size, func(row any) { rows = append(rows, row.(E)) })
		return rows, next, err
	}
	ordered := Untyped(OrderByKey(q))
	page, from := ordered, Resumption{}
	if after != "" {
		if page, from, err = Resume(ctx, db, ordered, after); err != nil {
			return nil, "", err
		}
	}
	rows, err = Typed[E](page.Limit(size+1)).All(ctx, db)
	if err != nil || len(rows) <= size {
		return rows, "", err
	}
	rows = rows[:size]
	skip := 0
	if len(q.q.info.Keys) == 0 {
		same, bare, err := EqualAtEnd(ctx, db, ordered, untyped(rows))
		if err != nil {
			return nil, "", err
		}
		if skip = same; same == size && bare == from.Place {
			skip += from.Skip
		}
	}
	next, err = PlaceAmong(ctx, db, ordered, rows[size-1], false, skip)
	return rows, next, err
}

// Count returns the number of rows, whatever limit the query has.
//
//go:noinline
func (q *Query[E]) Count(ctx context.Context, db DB) (int64, error) { return q.q.count(ctx, db) }

// Exists reports whether there is a row.
//
//go:noinline
func (q *Query[E]) Exists(ctx context.Context, db DB) (bool, error) { return q.q.exists(ctx, db) }

// Update stores values in all rows of the query, and returns their number.
// There must be a condition; gate.And() stands for all rows. Where hooks are
// registered they run for each row.
//
//go:noinline
func (q *Query[E]) Update(ctx context.Context, db DB, values ...Assignment[E]) (int64, error) {
	list := make([]assignment, len(values))
	for i, v := range values {
		list[i] = v.set
	}
	return q.q.update(ctx, db, list)
}

// Delete removes all rows of the query, or marks them where the table says so,
// and returns their number. There must be a condition; gate.And() stands for
// all rows. Where hooks are registered they run for each row.
//
//go:noinline
func (q *Query[E]) Delete(ctx context.Context, db DB) (int64, error) { return q.q.delete(ctx, db) }

// Union has the rows that are in at least one of the queries, each once.
func Union[E any](first *Query[E], others ...*Query[E]) *Query[E] {
	return combine("UNION", first, others)
}

// Intersect has the rows that are in all of the queries.
func Intersect[E any](first *Query[E], others ...*Query[E]) *Query[E] {
	return combine("INTERSECT", first, others)
}

// Except has the rows of the first query that are in none of the others.
func Except[E any](first *Query[E], others ...*Query[E]) *Query[E] {
	return combine("EXCEPT", first, others)
}

func combine[E any](joiner string, first *Query[E], others []*Query[E]) *Query[E] {
	set := query{info: first.q.info, joiner: joiner, sets: []query{first.q}, deleted: true, with: first.q.with}
	for _, o := range others {
		set.sets = append(set.sets, o.q)
	}
	return &Query[E]{set}
}

// InfoOf returns what is known of the rows of a query.
func InfoOf[E any](q *Query[E]) *Info { return q.q.info }

// OrderByColumn appends a step by the name of a column in the database.
func OrderByColumn[E any](q *Query[E], name string, desc bool) *Query[E] {
	return q.OrderBy(Order[E]{orderItem{x: refer(q.q.info, name), desc: desc}})
}

// OrderByKey makes the order total by appending the primary key. Without one, all
// columns are appended; rows that are equal in all of them are the same.
func OrderByKey[E any](q *Query[E]) *Query[E] { return &Query[E]{q.q.orderByKey()} }

func (q query) orderByKey() query {
	q.order = slices.Clip(q.order)
	if len(q.info.Keys) == 0 {
		return q.orderByAll(false)
	}
	for _, k := range q.info.Keys {
		ref := columnRef{q.info, k}
		if !slices.ContainsFunc(q.order, func(o orderItem) bool { return o.x == operand(ref) }) {
			q.order = append(q.order, orderItem{x: ref})
		}
	}
	return q
}

// WithRelations is With for relations whose types are not known. They must be
// relations of E.
func WithRelations[E any](q *Query[E], list ...Relation) *Query[E] {
	next := q.q
	next.with = slices.Clip(q.q.with)
	for _, r := range list {
		next.with = append(next.with, r.e)
	}
	return &Query[E]{next}
}

// one reads the only row within the limit, and what belongs to it.
func (q query) one(ctx context.Context, db DB) (any, error) {
	if from, ok := remoteOf(db); ok {
		return q.onlyOne(q.rowsRemote(ctx, db, from))
	}
	row, err := q.bare(ctx, db)
	if err != nil {
		return nil, err
	}
	return row, q.complete(ctx, db, func() []any { return []any{row} })
}

// bare reads the only row within the limit.
func (q query) bare(ctx context.Context, db DB) (any, error) {
	return q.onlyOne(q.rows(ctx, db))
}

// onlyOne is the only one of some rows.
func (q query) onlyOne(rows []any, err error) (any, error) {
	switch {
	case err != nil:
		return nil, err
	case len(rows) == 0:
		return nil, ErrNotFound
	case len(rows) > 1:
		return nil, fmt.Errorf("reading one row of %s: %w", q.info.Name, ErrMany)
	}
	return rows[0], nil
}

// read runs the query and reads each row into what next returns.
func (q query) read(ctx context.Context, db DB, next func() any) error {
	return scan(ctx, db, q.info, q.columns, q.statement(db.Engine()), nil, next)
}

// rows reads the rows alone, without what belongs to them.
func (q query) rows(ctx context.Context, db DB) (list []any, err error) {
	err = q.read(ctx, db, func() any {
		list = append(list, q.info.create())
		return list[len(list)-1]
	})
	return list, err
}

// complete loads what belongs to rows that were read, and runs their hooks.
func (q query) complete(ctx context.Context, db DB, rows func() []any) error {
	if len(q.with) == 0 && len(q.info.hooks[AfterLoad]) == 0 {
		return nil
	}
	list := rows()
	if err := q.info.runAll(ctx, db, AfterLoad, list); err != nil {
		return err
	}
	return loadAll(ctx, db, list, q.with)
}

// eachChunk is for how many rows at a time Each loads relations.
const eachChunk = 256

// each reads row by row. Where there is more to read for each row, the rows
// are gathered first: many drivers take one statement at a time.
func (q query) each(ctx context.Context, db DB, yield func(row any) bool) error {
	if from, ok := remoteOf(db); ok {
		return q.readRemote(ctx, db, from, yield)
	}
	if len(q.with) > 0 || len(q.info.hooks[AfterLoad]) > 0 {
		return q.eachInChunks(ctx, db, yield)
	}
	s := q.statement(db.Engine())
	rows, err := s.query(ctx, db)
	if err != nil {
		return fmt.Errorf("reading %s: %w", q.info.Name, err)
	}
	defer rows.Close()
	reader := newRowReader(q.info, q.columns)
	for rows.Next() {
		row := q.info.create()
		if err := reader.scan(ctx, rows, nil, row); err != nil {
			return err
		}
		if !yield(row) {
			return nil
		}
	}
	return wrapReading(q.info, rows.Err())
}

// eachInChunks goes from page to page by the key, so that between two pages no
// statement is open.
func (q query) eachInChunks(ctx context.Context, db DB, yield func(row any) bool) error {
	page := q.orderByKey()
	if _, err := page.orderColumns(); err != nil || len(q.info.Keys) == 0 {
		return q.eachOfAll(ctx, db, yield) // pages need places
	}
	left := q.limit
	for {
		page.limit = eachChunk
		if q.limit > 0 {
			page.limit = min(eachChunk, left)
		}
		list, err := page.rows(ctx, db)
		if err != nil {
			return err
		}
		if err := page.complete(ctx, db, func() []any { return list }); err != nil {
			return err
		}
		for _, row := range list {
			if !yield(row) {
				return nil
			}
		}
		left -= len(list)
		if len(list) < page.limit || q.limit > 0 && left == 0 {
			return nil
		}
		if page, err = page.behind(q, list[len(list)-1], OddOf(ctx)); err != nil {
			return err
		}
	}
}

// eachOfAll reads all rows before the first is yielded.
func (q query) eachOfAll(ctx context.Context, db DB, yield func(row any) bool) error {
	all, err := q.rows(ctx, db)
	if err != nil {
		return err
	}
	for list := range slices.Chunk(all, eachChunk) {
		if err := q.complete(ctx, db, func() []any { return list }); err != nil {
			return err
		}
		for _, row := range list {
			if !yield(row) {
				return nil
			}
		}
	}
	return nil
}

func (q query) count(ctx context.Context, db DB) (int64, error) {
	if from, ok := remoteOf(db); ok {
		n, err := from.CountRows(ctx, &Query[any]{q})
		return n, wrapReading(q.info, err)
	}
	s := newStatement(db.Engine())
	s.add("SELECT count(*)")
	q.writeFrom(s)
	var n int64
	if err := queryRow(ctx, db, s, &n); err != nil {
		return 0, fmt.Errorf("counting %s: %w", q.info.Name, err)
	}
	return n, nil
}

func (q query) exists(ctx context.Context, db DB) (bool, error) {
	if _, ok := remoteOf(db); ok {
		n, err := q.count(ctx, db)
		return n > 0, err
	}
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1")
	q.writeFrom(s)
	s.add(")")
	var found bool
	if err := queryRow(ctx, db, s, &found); err != nil {
		return false, fmt.Errorf("looking into %s: %w", q.info.Name, err)
	}
	return found, nil
}

// queryRow reads the only value of the only row.
func queryRow(ctx context.Context, db DB, s *statement, to any) error {
	rows, err := s.query(ctx, db)
	if err != nil {
		return err
	}
	defer rows.Close()
	if !rows.Next() {
		return errors.Join(rows.Err(), ErrNotFound)
	}
	if err := rows.Scan([]any{to}); err != nil {
		return err
	}
	return rows.Close()
}

// conditions are those of the query and that rows are not marked as deleted.
func (q query) conditions() []expr {
	if at := q.info.stamps.deleted; at >= 0 && !q.deleted {
		return append(slices.Clip(q.where), nullTest{columnRef{q.info, at}, false})
	}
	return q.where
}

// writeFrom writes the table and the conditions.
func (q query) writeFrom(s *statement) {
	alias := s.newAlias()
	q.writeSource(s, alias)
	s.inAlias(alias, func() { s.where(q.conditions()) })
}

// writeSource writes FROM and what the rows come from.
func (q query) writeSource(s *statement, alias string) {
	s.add(" FROM ")
	if q.sets == nil {
		s.add(s.engine.table(q.info.Schema, q.info.Name), " AS ", alias)
		return
	}
	s.add("(")
	for i, set := range q.sets {
		if i > 0 {
			s.add(" ", q.joiner, " ")
		}
		inner := s.newAlias()
		if set.limit > 0 || set.offset > 0 { // which only a subquery can have here
			s.add("SELECT * FROM (")
		}
		s.inAlias(inner, func() {
			s.add("SELECT ")
			s.columnList(set.info, allColumns(set.info))
			set.writeSource(s, inner)
			s.where(set.conditions())
			if set.limit > 0 || set.offset > 0 {
				writeOrder(s, set.order)
				writeLimit(s, set.limit, set.offset)
				s.add(") AS ", s.newAlias())
			}
		})
	}
	s.add(") AS ", alias)
}

func allColumns(t *Info) []int {
	list := make([]int, len(t.Columns))
	for i := range list {
		list[i] = i
	}
	return list
}

// statement writes the query.
func (q query) statement(e *Engine) *statement {
	s := newStatement(e)
	if q.info.fault != nil {
		s.fail(q.info.fault)
	}
	alias := s.newAlias()
	s.inAlias(alias, func() {
		s.add("SELECT ")
		q.writeOutputs(s)
		q.writeSource(s, alias)
		s.where(q.conditions())
		writeOrder(s, q.order)
		writeLimit(s, q.limit, q.offset)
		if q.lock != "" && e.LocksRows {
			s.add(" ", string(q.lock))
		}
	})
	return s
}

func (q query) writeOutputs(s *statement) {
	if q.columns == nil && q.brief == nil {
		s.outputs(q.info)
		return
	}
	columns := q.columns
	if columns == nil {
		columns = allColumns(q.info)
	}
	for n, i := range columns {
		if n > 0 {
			s.add(", ")
		}
		if slices.Contains(q.brief, i) {
			s.add("substr(")
			s.column(q.info, i)
			s.add(", 1, ", strconv.Itoa(beginning), ")")
			continue
		}
		s.output(q.info, i)
	}
}

// beginning is how many bytes of a binary value are read where its beginning is
// enough.
const beginning = 16

func writeLimit(s *statement, limit, offset int) {
	if limit > 0 {
		s.add(" LIMIT ", strconv.Itoa(limit))
	} else if offset > 0 {
		s.add(" LIMIT 9223372036854775807")
	}
	if offset > 0 {
		s.add(" OFFSET ", strconv.Itoa(offset))
	}
}

// rowReader reads rows of a table, with one slice for the pointers of them all.
type rowReader struct {
	info    *Info
	columns []int // nil is all
	all     []any
	fields  []any
}

func newRowReader(t *Info, columns []int) *rowReader {
	return &rowReader{info: t, columns: columns, fields: make([]any, 0, len(t.Columns)+2)}
}

// scan reads the current row into before, then into the entity.
func (r *rowReader) scan(ctx context.Context, rows Rows, before []any, row any) error {
	r.fields = append(r.fields[:0], before...)
	if r.columns == nil {
		r.fields = r.info.fields(r.fields, row)
	} else {
		r.all = r.info.fields(r.all[:0], row)
		for _, i := range r.columns {
			r.fields = append(r.fields, r.all[i])
		}
	}
	err := rows.Scan(r.fields)
	if err != nil {
		err = scanOdd(ctx, rows, r.info, r.fields, func(n int) int { return r.columnAt(n - len(before)) }, err)
	}
	if err != nil {
		return fmt.Errorf("reading a row of %s: %w", r.info.Name, err)
	}
	return nil
}

// columnAt is the column of the field at a place; it is negative for what stands
// before the row.
func (r *rowReader) columnAt(n int) int {
	if n < 0 || r.columns == nil {
		return n
	}
	return r.columns[n]
}

func wrapReading(t *Info, err error) error {
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.Name, err)
	}
	return nil
}

// scan runs the statement and reads each row into before, then into the
// entity that next returns.
func scan(ctx context.Context, db DB, t *Info, columns []int, s *statement, before []any, next func() any) error {
	rows, err := s.query(ctx, db)
	if err != nil {
		return wrapReading(t, err)
	}
	defer rows.Close()
	reader := newRowReader(t, columns)
	for rows.Next() {
		if err := reader.scan(ctx, rows, before, next()); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return wrapReading(t, err)
	}
	return rows.Close()
}

// query runs the statement, unless it could not be written.
func (s *statement) query(ctx context.Context, db DB) (Rows, error) {
	if s.err != nil {
		return nil, s.err
	}
	return db.Query(ctx, s.String(), s.args)
}

// exec runs a statement that gives no rows, unless it could not be written.
func (s *statement) exec(ctx context.Context, db DB) (Result, error) {
	if s.err != nil {
		return Result{}, s.err
	}
	return db.Exec(ctx, s.String(), s.args)
}

func loadAll(ctx context.Context, db DB, list []any, with []*edge) error {
	if len(list) == 0 {
		return nil
	}
	for _, e := range with {
		if err := e.load(ctx, db, list); err != nil {
			return err
		}
	}
	return nil
}
