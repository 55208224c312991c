package gate

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// edge is a relation from rows of one table to rows of another, without their
// types.
type edge struct {
	link   link
	single bool  // there is at most one child
	child  query // which children
	// get returns the children that a parent has been given.
	get func(parent any) []any
	// put gives a parent its children.
	put func(parent any, children []any)
}

func (e *edge) parent() *Info { return e.link.parent }

// narrowed is the relation with another query for the children.
func (e *edge) narrowed(child query) *edge {
	next := *e
	next.child = child
	return &next
}

// has is the condition that a child meets the conditions.
func (e *edge) has(conds []expr) expr {
	return related{e.link, append(slices.Clip(e.child.conditions()), conds...)}
}

// of is the query for the children of one parent.
func (e *edge) of(parent any) query {
	c := childOf{link: e.link}
	q := e.child
	fields := e.parent().fieldsOf(parent)
	for _, i := range e.link.from {
		if i < 0 {
			c.values = append(c.values, nil)
			continue
		}
		c.values = append(c.values, fieldOf(fields[i]).arg())
	}
	q.where = append(slices.Clip(q.where), c)
	if err := e.check(); err != nil {
		q.where = append(q.where, failing{err})
	}
	return q
}

// failing is a condition that cannot be written.
type failing struct{ err error }

func (f failing) write(s *statement) { s.fail(f.err) }
func (f failing) info() *Column      { return nil }

func (e *edge) check() error {
	if slices.Contains(e.link.from, -1) || slices.Contains(e.link.to, -1) {
		return fmt.Errorf("a relation of %s to %s: %w", e.link.parent.Name, e.link.child.Name, errNoColumn)
	}
	return nil
}

var errNoColumn = errors.New("a column is named that the table is not described with")

// Relation tells of a relation without the types of its rows.
type Relation struct{ e *edge }

// RelationOf is a relation without the types of its rows.
func RelationOf[P any](r Related[P]) Relation {
	var p P
	return Relation{r.relation(p)}
}

// Target is the description of the related rows.
func (r Relation) Target() *Info { return r.e.link.child }

// Described reports whether the columns by which the relation goes are described.
func (r Relation) Described() bool { return r.e.check() == nil }

// Single says that there is at most one related row.
func (r Relation) Single() bool { return r.e.single }

// Holds are the columns that refer to the related row; there are none where
// the related rows do the referring.
func (r Relation) Holds() []string {
	if !r.e.link.up {
		return nil
	}
	return r.e.parent().names(r.e.link.from)
}

// Each calls do with each row that was loaded for parent.
func (r Relation) Each(parent any, do func(child any)) {
	for _, c := range r.e.get(parent) {
		do(c)
	}
}

// Refer makes row refer to other, a related row, without storing it.
func (r Relation) Refer(row, other any) error { return r.e.attachUp(row, other) }

// ReferredBy are the columns of the related rows that refer to the row; there
// are none where another table does.
func (r Relation) ReferredBy() []string {
	if r.e.link.up || r.e.link.join != nil {
		return nil
	}
	return r.e.link.child.names(r.e.link.to)
}

// Attach makes child refer to parent, without storing it.
func (r Relation) Attach(parent, child any) error { return r.e.attach(parent, child) }

// Add stores that children belong to parent.
func (r Relation) Add(ctx context.Context, db DB, parent any, children ...any) error {
	return r.e.add(ctx, db, parent, children)
}

// LoadRelations loads relations of rows.
func LoadRelations(ctx context.Context, db DB, rows []any, list ...Relation) error {
	edges := make([]*edge, len(list))
	for i, r := range list {
		edges[i] = r.e
	}
	return loadAll(ctx, db, rows, edges)
}

// Relations are those of the table's rows.
func (t *Info) Relations() []Relation {
	list := make([]Relation, len(t.edges))
	for i, e := range t.edges {
		list[i] = Relation{e}
	}
	return list
}

// With loads relations of the related rows too.
func (r Relation) With(list ...Relation) Relation {
	q := r.e.child
	q.with = slices.Clip(q.with)
	for _, nested := range list {
		q.with = append(q.with, nested.e)
	}
	return Relation{r.e.narrowed(q)}
}

// Dangles reports whether parent refers to a row that is not there.
func (r Relation) Dangles(ctx context.Context, db DB, parent any) (bool, error) {
	if !r.e.link.up || keyOf(nil, r.e.parent().fieldsOf(parent), r.e.link.from) == nil {
		return false, nil
	}
	q := r.e.of(parent)
	q.deleted = true
	found, err := q.exists(ctx, db)
	return !found && err == nil, err
}

// load reads the children of all parents, and gives each parent its own in the
// order of the query.
func (e *edge) load(ctx context.Context, db DB, parents []any) error {
	if err := e.check(); err != nil {
		return err
	}
	if from, ok := remoteOf(db); ok {
		return wrapReading(e.child.info, from.LoadRelation(ctx, Relation{e}, parents))
	}
	f := newFamily(e, parents)
	first := 0
	for part := range slices.Chunk(f.keys, mostKeys) {
		if err := f.loadChunk(ctx, db, part, first); err != nil {
			return err
		}
		first += len(part)
	}
	for i, p := range parents {
		var children []any
		if at := f.placeOf[i]; at >= 0 {
			children = f.children[at]
		}
		e.put(p, children)
	}
	if err := e.child.info.runAll(ctx, db, AfterLoad, f.all); err != nil {
		return err
	}
	return loadAll(ctx, db, f.all, e.child.with)
}

// family puts children to their parents.
type family struct {
	edge     *edge
	keys     [][]any        // the distinct linking values of the parents, nulls left out
	place    map[string]int // by the binary form of the values, their place in keys
	placeOf  []int          // of each parent; -1 where it has nulls
	children [][]any        // by place
	all      []any
	values   []any  // those of keys
	key      []byte // for the next parent
}

func newFamily(e *edge, parents []any) *family {
	f := &family{edge: e, place: make(map[string]int, len(parents)), placeOf: make([]int, 0, len(parents))}
	var fields []any
	for _, p := range parents {
		fields = e.parent().fields(fields[:0], p)
		f.add(fields, e.link.from)
	}
	f.children = make([][]any, len(f.keys))
	return f
}

// add takes a parent, whose linking values are in some of the fields.
func (f *family) add(fields []any, columns []int) {
	f.key = keyOf(f.key[:0], fields, columns)
	if f.key == nil {
		f.placeOf = append(f.placeOf, -1)
		return
	}
	at, known := f.place[string(f.key)]
	if !known {
		at = len(f.keys)
		f.place[string(f.key)] = at
		from := len(f.values)
		for _, c := range columns {
			f.values = append(f.values, fieldOf(fields[c]).arg())
		}
		f.keys = append(f.keys, f.values[from:len(f.values):len(f.values)])
	}
	f.placeOf = append(f.placeOf, at)
}

// keyOf makes the values of columns comparable as bytes, which it appends to
// b: each is its text after its length. It is nil where one of them is null.
func keyOf(b []byte, fields []any, columns []int) []byte {
	if b == nil {
		b = make([]byte, 0, 16*len(columns))
	}
	for _, c := range columns {
		if IsNull(fields[c]) {
			return nil
		}
		at := len(b)
		b = fieldOf(fields[c]).appendText(append(b, 0, 0, 0, 0))
		binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-4))
	}
	return b
}

// loadChunk reads the children of some parents by one statement. first is the
// place of the first of them.
func (f *family) loadChunk(ctx context.Context, db DB, keys [][]any, first int) error {
	e := f.edge
	rows, err := e.childStatement(db.Engine(), keys, nil).query(ctx, db)
	if err != nil {
		return wrapReading(e.child.info, err)
	}
	defer rows.Close()
	parent := f.parentOf(db.Engine(), first)
	reader := newRowReader(e.child.info, nil)
	for rows.Next() {
		child := e.child.info.create()
		if err := reader.scan(ctx, rows, parent.before, child); err != nil {
			return err
		}
		if at, ok := parent.place(reader.fields); ok {
			f.children[at] = append(f.children[at], child)
			f.all = append(f.all, child)
		}
	}
	if err := rows.Err(); err != nil {
		return wrapReading(e.child.info, err)
	}
	return rows.Close()
}

// childStatement reads the children of some parents: these columns; nil is all.
func (e *edge) childStatement(engine *Engine, keys [][]any, columns []int) *statement {
	q, perParent := e.child.orderByKey(), e.child.limit
	if e.single {
		perParent = 0
	}
	q.columns = columns
	return e.link.childStatement(engine, keys, q, perParent)
}

// Children reads rows related to some parents into fields of the caller's own, as
// ReadInto does, and tells which rows belong to which parent.
type Children struct {
	f     *family
	links []int
}

// Children begins to read the rows of a relation.
func (r Relation) Children() *Children {
	c := &Children{f: &family{edge: r.e, place: map[string]int{}}}
	for n := range r.e.link.from {
		c.links = append(c.links, n)
	}
	return c
}

// Links are the columns of a parent by which its related rows are found.
func (c *Children) Links() []int { return c.f.edge.link.from }

// Add takes the next parent: pointers to its values of Links.
func (c *Children) Add(links []any) { c.f.add(links, c.links) }

// Places is how many parents there are that have different rows.
func (c *Children) Places() int { return len(c.f.keys) }

// Place is the place of the rows of parent i, counted from 0 in the order of Add. It
// is -1 if the parent has no rows.
func (c *Children) Place(i int) int { return c.f.placeOf[i] }

// Read reads the rows of all parents: the columns, in the order given, go into the
// fields that next returns for a row; done is called behind each with the place
// that it belongs to, or -1. No hook runs.
func (c *Children) Read(ctx context.Context, db DB, columns []int, next func() []any, done func(place int)) error {
	e := c.f.edge
	if err := e.check(); err != nil {
		return err
	}
	first := 0
	for part := range slices.Chunk(c.f.keys, mostKeys) {
		if err := c.readChunk(ctx, db, part, first, columns, next, done); err != nil {
			return wrapReading(e.child.info, err)
		}
		first += len(part)
	}
	return nil
}

func (c *Children) readChunk(ctx context.Context, db DB, keys [][]any, first int, columns []int, next func() []any, done func(place int)) error {
	child := c.f.edge.link.child
	parent := c.f.parentOf(db.Engine(), first)
	own := child.fieldsOf(child.create()) // what tells the parent, where the row itself does
	columns = append(slices.Clip(columns), parent.columns...)
	rows, err := c.f.edge.childStatement(db.Engine(), keys, columns).query(ctx, db)
	if err != nil {
		return err
	}
	defer rows.Close()
	var fields []any
	for rows.Next() {
		fields = append(append(fields[:0], parent.before...), next()...)
		for _, i := range parent.columns {
			fields = append(fields, own[i])
		}
		if err := rows.Scan(fields); err != nil {
			return err
		}
		place, ok := parent.place(own)
		if !ok {
			place = -1
		}
		done(place)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return rows.Close()
}

// parentReading tells the parent of a row that is read.
type parentReading struct {
	before  []any                                // what is read before the child
	columns []int                                // of the child that tell it
	place   func(fields []any) (at int, ok bool) // of the fields of the row
}

func (f *family) parentOf(e *Engine, first int) parentReading {
	l := f.edge.link
	if !l.exact(e) {
		var place int64
		return parentReading{[]any{&place}, nil, func([]any) (int, bool) { return first + int(place) - 1, true }}
	}
	var key []byte
	if l.join == nil {
		return parentReading{nil, l.to, func(fields []any) (int, bool) {
			key = keyOf(key[:0], fields, l.to)
			at, ok := f.place[string(key)]
			return at, ok
		}}
	}
	before := []any{l.parent.fieldsOf(l.parent.create())[l.from[0]]}
	return parentReading{before, nil, func([]any) (int, bool) {
		key = keyOf(key[:0], before, []int{0})
		at, ok := f.place[string(key)]
		return at, ok
	}}
}

// attach makes child refer to parent, without storing it.
func (e *edge) attach(parent, child any) error {
	if err := e.check(); err != nil {
		return err
	}
	from, to := e.parent().fieldsOf(parent), e.link.child.fieldsOf(child)
	for i, c := range e.link.from {
		if err := fieldOf(to[e.link.to[i]]).set(fieldOf(from[c]).arg()); err != nil {
			return fmt.Errorf("referring from %s to %s: %w", e.link.child.Name, e.parent().Name, err)
		}
	}
	return nil
}

// attachUp makes parent refer to child, as attach does the other way.
func (e *edge) attachUp(parent, child any) error {
	from, to := e.parent().fieldsOf(parent), e.link.child.fieldsOf(child)
	for i, c := range e.link.from {
		if err := fieldOf(from[c]).set(fieldOf(to[e.link.to[i]]).arg()); err != nil {
			return fmt.Errorf("referring from %s to %s: %w", e.parent().Name, e.link.child.Name, err)
		}
	}
	return nil
}

// detach makes child refer to nothing, without storing it.
func (e *edge) detach(child any) error {
	fields := e.link.child.fieldsOf(child)
	for _, c := range e.link.to {
		column := &e.link.child.Columns[c]
		if !column.Is(Nullable) {
			return fmt.Errorf("taking a row of %s from its %s: %s cannot be null; delete the row, or give it to another",
				e.link.child.Name, e.parent().Name, column.Name)
		}
		if err := fieldOf(fields[c]).set(nil); err != nil {
			return err
		}
	}
	return nil
}

// usable reports what makes a call on rows impossible.
func (e *edge) usable(parent any, children []any) error {
	doing := "relating rows of"
	return errors.Join(e.parent().usable(doing, parent), e.link.child.usable(doing, children...))
}

// add stores that children belong to parent.
func (e *edge) add(ctx context.Context, db DB, parent any, children []any) error {
	if err := e.usable(parent, children); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		return e.addRemote(ctx, to, parent, children)
	}
	return together(ctx, db, func(tx DB) error {
		for _, c := range children {
			if err := e.addOne(ctx, tx, parent, c); err != nil {
				return err
			}
		}
		return nil
	})
}

func (e *edge) addOne(ctx context.Context, tx DB, parent, child any) error {
	if e.link.join != nil {
		return e.linkRows(ctx, tx, parent, child)
	}
	keep(tx, child)
	if err := e.attach(parent, child); err != nil {
		return err
	}
	return e.link.child.update(ctx, tx, child, e.link.to)
}

// remove stores that children do not belong to parent any more.
func (e *edge) remove(ctx context.Context, db DB, parent any, children []any) error {
	if err := e.usable(parent, children); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		return e.removeRemote(ctx, to, parent, children)
	}
	return together(ctx, db, func(tx DB) error {
		for _, c := range children {
			if err := e.removeOne(ctx, tx, parent, c); err != nil {
				return err
			}
		}
		return nil
	})
}

func (e *edge) removeOne(ctx context.Context, tx DB, parent, child any) error {
	if e.link.join != nil {
		return e.unlinkRows(ctx, tx, parent, child)
	}
	if belongs, err := e.belongs(ctx, tx, parent, child); err != nil || !belongs {
		return cmp.Or(err, fmt.Errorf("taking a row of %s from its %s: it belongs to another", e.link.child.Name, e.parent().Name))
	}
	keep(tx, child)
	if err := e.detach(child); err != nil {
		return err
	}
	return e.link.child.update(ctx, tx, child, e.link.to)
}

// belongs reports whether child refers to parent, as the entities say. Where
// their values differ, they may be the same for the database.
func (e *edge) belongs(ctx context.Context, tx DB, parent, child any) (bool, error) {
	from := keyOf(nil, e.parent().fieldsOf(parent), e.link.from)
	to := keyOf(nil, e.link.child.fieldsOf(child), e.link.to)
	if slices.Equal(from, to) || from == nil || to == nil || e.link.exact(tx.Engine()) {
		return from != nil && slices.Equal(from, to), nil
	}
	q := e.of(parent)
	q.where = append(slices.Clip(q.where), e.link.child.sameKey(child))
	return q.exists(ctx, tx)
}

// replace stores that children, and no others, belong to parent.
func (e *edge) replace(ctx context.Context, db DB, parent any, children []any) error {
	if err := e.usable(parent, children); err != nil {
		return err
	}
	if _, ok := remoteOf(db); ok {
		return notOffered("replacing all related rows in one step; add and remove them")
	}
	return together(ctx, db, func(tx DB) error {
		q := e.of(parent)
		q.order, q.limit, q.with = nil, 0, nil
		if len(children) > 0 {
			q.where = append(slices.Clip(q.where), negation{q.info.hasKeys(q.info.keysOf(children))})
		}
		leave, err := q.rows(ctx, tx)
		if err != nil {
			return err
		}
		for _, c := range leave {
			if err := e.removeOne(ctx, tx, parent, c); err != nil {
				return err
			}
		}
		return e.add(ctx, tx, parent, children)
	})
}

// keysOf are pointers to the values in the keys of rows.
func (t *Info) keysOf(rows []any) [][]any {
	keys := make([][]any, len(rows))
	for i, row := range rows {
		fields := t.fieldsOf(row)
		for _, k := range t.Keys {
			keys[i] = append(keys[i], fields[k])
		}
	}
	return keys
}

// keyBytes is the key of a row as bytes.
func (t *Info) keyBytes(row any) []byte { return keyOf(nil, t.fieldsOf(row), t.Keys) }

// insertUnder stores new children of parent.
func (e *edge) insertUnder(ctx context.Context, db DB, parent any, children []any) error {
	if err := e.usable(parent, children); err != nil {
		return err
	}
	if to, ok := remoteOf(db); ok {
		return e.insertUnderRemote(ctx, to, parent, children)
	}
	return together(ctx, db, func(tx DB) error {
		for _, c := range children {
			if e.link.join == nil {
				keep(tx, c)
				if err := e.attach(parent, c); err != nil {
					return err
				}
			}
			if err := e.link.child.insert(ctx, tx, c); err != nil {
				return err
			}
			if e.link.join != nil {
				if err := e.linkRows(ctx, tx, parent, c); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// linkRows relates two rows by the table between them; it is no error when
// they are related already.
func (e *edge) linkRows(ctx context.Context, db DB, parent, child any) error {
	pair, err := e.pair(parent, child)
	if err != nil {
		return err
	}
	s := newStatement(db.Engine())
	s.add("SELECT EXISTS (SELECT 1 FROM ", s.engine.table(pair.join.Schema, pair.join.Name))
	pair.where(s)
	s.add(")")
	var linked bool
	if err := queryRow(ctx, db, s, &linked); err != nil || linked {
		return err
	}
	s = newStatement(db.Engine())
	pair.insert(s)
	if _, err := s.exec(ctx, db); err != nil {
		return fmt.Errorf("linking by %s: %w", pair.join.Name, err)
	}
	return nil
}

// unlinkRows ends the relation of two rows; it is no error when there is none.
func (e *edge) unlinkRows(ctx context.Context, db DB, parent, child any) error {
	pair, err := e.pair(parent, child)
	if err != nil {
		return err
	}
	s := newStatement(db.Engine())
	s.add("DELETE FROM ", s.engine.table(pair.join.Schema, pair.join.Name))
	pair.where(s)
	if _, err := s.exec(ctx, db); err != nil {
		return fmt.Errorf("unlinking by %s: %w", pair.join.Name, err)
	}
	return nil
}

// pair returns the row of the table between for two rows.
func (e *edge) pair(parent, child any) (joinRow, error) {
	if err := e.check(); err != nil {
		return joinRow{}, err
	}
	row := joinRow{join: e.link.join}
	from, to := e.parent().fieldsOf(parent), e.link.child.fieldsOf(child)
	for i, pair := range e.link.join.Parent {
		row.names = append(row.names, pair[1])
		row.values = append(row.values, fieldOf(from[e.link.from[i]]).arg())
	}
	for i, pair := range e.link.join.Child {
		row.names = append(row.names, pair[0])
		row.values = append(row.values, fieldOf(to[e.link.to[i]]).arg())
	}
	return row, nil
}
