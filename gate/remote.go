package gate

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
)

// Remote is a DB that is a service in front of a database. It takes no statements:
// the verbs of this package hand themselves over to it as a whole. The package
// gate/remote has one.
type Remote interface {
	DB
	// FindRow returns the row of a key, or ErrNotFound; parts are pointers to the
	// values of the key.
	FindRow(ctx context.Context, t *Info, parts []any) (any, error)
	// ReadRows gives the rows of a query, with what belongs to them, to each, until
	// that returns false.
	ReadRows(ctx context.Context, q *Query[any], each func(row any) bool) error
	// ReadPage gives the rows of a page of a query to each, and returns where the next
	// page begins; see Query.Page.
	ReadPage(ctx context.Context, q *Query[any], after string, size int, each func(row any) bool) (next string, err error)
	// CountRows returns how many rows a query has, whatever its limit.
	CountRows(ctx context.Context, q *Query[any]) (int64, error)
	// ReadValues gives values of the rows of a query, or of groups of them, to fields
	// that next returns, and calls done behind each.
	ReadValues(ctx context.Context, q *Query[any], picks []Term, distinct bool, having Cond[any], next func() []any, done func() bool) error
	// InsertRows stores rows, all or none, and fills in what the database made of
	// them. Empty columns of which zeroed returns the index are stored as they are.
	InsertRows(ctx context.Context, t *Info, rows []any, zeroed func(row any) []int) error
	// InsertGraph stores a row and the new rows that hang on it.
	InsertGraph(ctx context.Context, t *Info, row any) error
	// UpdateRows stores columns of rows, all that an update stores for nil, and fills
	// the rows with what is stored then.
	UpdateRows(ctx context.Context, t *Info, rows []any, columns []int) error
	// DeleteRow removes the row of a key, or returns ErrNotFound.
	DeleteRow(ctx context.Context, t *Info, parts []any) error
	// UpdateChosen stores the columns as row has them in all rows of a query, and
	// returns how many there were.
	UpdateChosen(ctx context.Context, q *Query[any], row any, columns []int) (int64, error)
	// DeleteChosen removes all rows of a query, and returns how many there were.
	DeleteChosen(ctx context.Context, q *Query[any]) (int64, error)
	// LoadRelation gives parents the rows of a relation.
	LoadRelation(ctx context.Context, r Relation, parents []any) error
	// InsertUnder stores new rows of a relation of parent.
	InsertUnder(ctx context.Context, r Relation, parent any, children []any) error
	// LinkRows relates rows of a many-to-many relation, or ends that they are.
	LinkRows(ctx context.Context, r Relation, parent any, children []any, linked bool) error
}

// ErrNotOffered is returned for what a database does and a service does not.
var ErrNotOffered = errors.New("a service does not offer this")

// notOffered says what is not.
func notOffered(what string) error { return fmt.Errorf("%s: %w", what, ErrNotOffered) }

// remoteOf is the service that db is, if it is one.
func remoteOf(db DB) (Remote, bool) { return find[Remote](db) }

// mostRemoteKeys is how many keys are asked for at once: they stand in an address.
const mostRemoteKeys = 50

// readRemote reads the rows of a query from a service.
func (q query) readRemote(ctx context.Context, db DB, from Remote, each func(row any) bool) error {
	if q.lock != "" {
		return notOffered("locking rows")
	}
	var failed error
	err := from.ReadRows(ctx, &Query[any]{q}, func(row any) bool {
		failed = q.info.runAll(ctx, db, AfterLoad, []any{row})
		return failed == nil && each(row)
	})
	if err == nil {
		err = failed
	}
	return wrapReading(q.info, err)
}

// rowsRemote are the rows of a query.
func (q query) rowsRemote(ctx context.Context, db DB, from Remote) (list []any, err error) {
	err = q.readRemote(ctx, db, from, func(row any) bool {
		list = append(list, row)
		return true
	})
	return list, err
}

// pageRemote reads a page of rows from a service.
func (q query) pageRemote(ctx context.Context, db DB, from Remote, after string, size int, add func(row any)) (next string, err error) {
	if q.lock != "" {
		return "", notOffered("locking rows")
	}
	var rows []any
	next, err = from.ReadPage(ctx, &Query[any]{q}, after, size, func(row any) bool {
		rows = append(rows, row)
		return true
	})
	if err == nil {
		err = q.info.runAll(ctx, db, AfterLoad, rows)
	}
	if err != nil {
		return "", wrapReading(q.info, err)
	}
	for _, row := range rows {
		add(row)
	}
	return next, nil
}

// findRemote reads the row of a key from a service.
func (t *Info) findRemote(ctx context.Context, db DB, from Remote, parts []any) (any, error) {
	row, err := from.FindRow(ctx, t, parts)
	if err == nil {
		err = t.runAll(ctx, db, AfterLoad, []any{row})
	}
	if err != nil {
		return nil, wrapReading(t, err)
	}
	return row, nil
}

// removeRemote removes the row of a key by a service.
func (t *Info) removeRemote(ctx context.Context, to Remote, parts []any, purge bool) error {
	if purge && t.stamps.deleted >= 0 {
		return fmt.Errorf("deleting from %s for good: %w", t.Name, ErrNotOffered)
	}
	if err := t.noHooks(BeforeDelete, AfterDelete); err != nil {
		return err
	}
	return wrapStoring("deleting from", t, to.DeleteRow(ctx, t, parts))
}

// deleteChosenRemote removes the rows of a query by a service.
func (q query) deleteChosenRemote(ctx context.Context, to Remote) (int64, error) {
	if err := q.info.noHooks(BeforeDelete, AfterDelete); err != nil {
		return 0, err
	}
	n, err := to.DeleteChosen(ctx, &Query[any]{q})
	return n, wrapStoring("deleting from", q.info, err)
}

// bringRemote stores rows by a service, and leaves them as they are.
func (t *Info) bringRemote(ctx context.Context, db DB, to Remote, rows iter.Seq[any]) (int64, error) {
	var list []any
	for row := range rows {
		if t.isNil(row) {
			return 0, fmt.Errorf("importing into %s: row %d is nil", t.Name, len(list)+1)
		}
		own := t.create()
		if err := t.setFields(own, row); err != nil {
			return 0, err
		}
		list = append(list, own)
	}
	if len(list) == 0 {
		return 0, nil
	}
	if err := t.insertRemote(ctx, db, to, list); err != nil {
		return 0, err
	}
	return int64(len(list)), nil
}

// addRemote stores by a service that children belong to parent.
func (e *edge) addRemote(ctx context.Context, to Remote, parent any, children []any) error {
	if e.link.join != nil {
		return to.LinkRows(ctx, Relation{e.link.root}, parent, children, true)
	}
	return e.referRemote(ctx, to, children, func(c any) error { return e.attach(parent, c) })
}

// removeRemote stores by a service that children do not belong to parent any more.
func (e *edge) removeRemote(ctx context.Context, to Remote, parent any, children []any) error {
	if e.link.join != nil {
		return to.LinkRows(ctx, Relation{e.link.root}, parent, children, false)
	}
	from := keyOf(nil, e.parent().fieldsOf(parent), e.link.from)
	return e.referRemote(ctx, to, children, func(c any) error {
		if own := keyOf(nil, e.link.child.fieldsOf(c), e.link.to); from == nil || !slices.Equal(from, own) {
			return fmt.Errorf("taking a row of %s from its %s: it belongs to another", e.link.child.Name, e.parent().Name)
		}
		return e.detach(c)
	})
}

// referRemote stores references of rows by a service. If one cannot be stored, all
// rows have those that they had.
func (e *edge) referRemote(ctx context.Context, to Remote, children []any, change func(child any) error) (err error) {
	child := e.link.child
	var backs []func()
	defer func() {
		if err != nil {
			for _, back := range backs {
				back()
			}
		}
	}()
	for _, c := range children {
		backs = append(backs, copyOf(c))
		if err = change(c); err != nil {
			return err
		}
	}
	return child.updateRemote(ctx, to, children, e.link.to)
}

// insertUnderRemote stores new children of parent by a service.
func (e *edge) insertUnderRemote(ctx context.Context, to Remote, parent any, children []any) (err error) {
	if err := e.link.child.noHooks(BeforeInsert, AfterInsert); err != nil {
		return err
	}
	return wrapStoring("inserting into", e.link.child, to.InsertUnder(ctx, Relation{e.link.root}, parent, children))
}

// insertRemote stores rows by a service.
func (t *Info) insertRemote(ctx context.Context, db DB, to Remote, rows []any) error {
	if err := t.noHooks(BeforeInsert, AfterInsert); err != nil {
		return err
	}
	err := to.InsertRows(ctx, t, rows, func(row any) []int { return t.zeroed(db, row) })
	return wrapStoring("inserting into", t, err)
}

// updateRemote stores columns of rows by a service.
func (t *Info) updateRemote(ctx context.Context, to Remote, rows []any, only []int) error {
	if err := t.noHooks(BeforeUpdate, AfterUpdate); err != nil {
		return err
	}
	for _, row := range rows {
		if set := t.settable(t.fieldsOf(row), only); len(set) == 0 {
			return fmt.Errorf("updating %s: no column to store", t.Name)
		}
	}
	return wrapStoring("updating", t, to.UpdateRows(ctx, t, rows, only))
}

// Settable are the columns that an update of a row stores: of those named, or for nil
// of all.
func (t *Info) Settable(row any, only []int) []int { return t.settable(t.fieldsOf(row), only) }

// Sent are the columns to which a new row gives a value, those in zeroed also where
// they are empty. While they are empty, times and versions that the runtime sets are
// left out, and what says nothing, such as a date.
func (t *Info) Sent(row any, zeroed []int) []int {
	fields := t.fieldsOf(row)
	return slices.DeleteFunc(t.sent(nil, fields, zeroed), func(i int) bool {
		empty := fieldOf(fields[i]).zero() && !slices.Contains(zeroed, i)
		return empty && (t.stamped(i) || i == t.stamps.deleted || t.Columns[i].emptyIsNone())
	})
}

// IsEmpty reports whether nothing was put into column i of a row.
func (t *Info) IsEmpty(row any, i int) bool { return fieldOf(t.fieldsOf(row)[i]).zero() }

// updateChosenRemote stores values in the rows of a query by a service.
func (q query) updateChosenRemote(ctx context.Context, to Remote, values []assignment) (int64, error) {
	if err := q.info.noHooks(BeforeUpdate, AfterUpdate); err != nil {
		return 0, err
	}
	row := q.info.create()
	fields := q.info.fieldsOf(row)
	var columns []int
	for _, v := range values {
		if v.expr != nil {
			return 0, fmt.Errorf("updating %s: %w", q.info.Name, notOffered("a value that the database computes"))
		}
		if err := fieldOf(fields[v.column.index]).set(v.value); err != nil {
			return 0, fmt.Errorf("updating %s: %w", q.info.Name, err)
		}
		columns = append(columns, v.column.index)
	}
	n, err := to.UpdateChosen(ctx, &Query[any]{q}, row, columns)
	return n, wrapStoring("updating", q.info, err)
}

// noHooks refuses what hooks of this program would have to be run for: a service runs
// its own, and there is no transaction for them here.
func (t *Info) noHooks(events ...Event) error {
	if t.hooked(events...) {
		return fmt.Errorf("storing rows of %s: %w", t.Name, notOffered("running hooks of its callers"))
	}
	return nil
}

func wrapStoring(doing string, t *Info, err error) error {
	if err != nil {
		return fmt.Errorf("%s %s: %w", doing, t.Name, err)
	}
	return nil
}

// eachRemote reads values from a service.
func (s *Selection[E, T]) eachRemote(ctx context.Context, from Remote) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		var v T
		picks := make([]Term, len(s.picks))
		for i, p := range s.picks {
			picks[i] = Term{p}
		}
		var having Cond[any]
		if len(s.having) > 0 {
			having = Cond[any]{group{" AND ", s.having}}
		}
		next := func() []any {
			v = *new(T)
			return s.into(&v)
		}
		err := from.ReadValues(ctx, &Query[any]{s.q}, picks, s.distinct, having, next, func() bool { return yield(v, nil) })
		if err != nil {
			yield(*new(T), wrapReading(s.q.info, err))
		}
	}
}

// Naming has the names by which a service knows columns and relations. An error says
// that it does not show one.
type Naming interface {
	ColumnName(t *Info, i int) (string, error)
	RelationName(r Relation) (string, error)
	// MeasureName is the name of an aggregate in a summary.
	MeasureName(t *Info, x Term) (string, error)
	// Word writes the name of a property in a condition, and Quote a text.
	Word(name string) string
	Quote(text string) string
}

// Asked is what a query asks for, in words of a service.
type Asked struct {
	Filter        string // in CQL2 text (OGC 21-065); empty for none
	Order         string // such as -frames,name; empty for none
	With          []Relation
	Limit, Offset int   // 0 is none
	Columns       []int // nil is all
	Deleted       bool  // rows that are marked as deleted are asked for too
	// Of is the relation of the one row whose related rows are asked for, and Parent
	// the values by which that is found, in the order of ParentColumns. It is the zero
	// Relation for all rows.
	Of     Relation
	Parent []any
}

// Ask says what a query asks for.
func Ask(q *Query[any], n Naming) (Asked, error) {
	if q.q.sets != nil {
		return Asked{}, notOffered("putting queries together")
	}
	if q.q.info.fault != nil {
		return Asked{}, q.q.info.fault
	}
	a := Asked{Limit: q.q.limit, Offset: q.q.offset, Columns: q.q.columns, Deleted: q.q.deleted && q.q.info.stamps.deleted >= 0}
	for _, e := range q.q.with {
		a.With = append(a.With, Relation{e})
	}
	w := wording{names: n, info: q.q.info}
	where := q.q.where
	for i, c := range where {
		if of, ok := c.(childOf); ok && of.link.join != nil {
			a.Of, a.Parent = Relation{of.link.root}, of.values
			where = slices.Delete(slices.Clone(where), i, i+1)
			break
		}
	}
	if len(where) > 0 {
		a.Filter = w.joined(" AND ", where)
	}
	var steps []string
	for _, o := range q.q.order {
		if o.nulls != nullsAsTheEngineDoes {
			w.fail(notOffered("placing nulls in an order"))
		}
		step := w.path(o.x)
		if o.desc {
			step = "-" + step
		}
		steps = append(steps, step)
	}
	a.Order = strings.Join(steps, ",")
	return a, w.err
}

// AskCondition is a condition in CQL2 text, and a Term as it stands there.
func AskCondition(t *Info, c Cond[any], n Naming) (string, error) {
	w := wording{names: n, info: t}
	text := w.condition(c.expr)
	return text, w.err
}

// Measure says what a value of a summary is made of: the name of an aggregate, which is
// empty for a column, whether only different values count, and the column, which is
// -1 for rows. It reports whether a service has such a value.
func (t Term) Measure() (name string, distinct bool, column int, ok bool) {
	x := t.x
	if a, is := x.(aggregate); is {
		name, distinct = a.name, a.distinct
		if a.x == nil {
			return name, distinct, -1, true
		}
		x = a.x
	}
	ref, is := columnOf(x)
	return name, distinct, ref.index, is && ref.index >= 0
}

// LinkColumns are the columns of both sides by which rows of a relation belong
// together; with a table between, those to which its columns refer.
func (r Relation) LinkColumns() (parent, child []int) { return r.e.link.from, r.e.link.to }

// Root is the relation as it was described, without what narrows it.
func (r Relation) Root() Relation { return Relation{r.e.link.root} }

// Parent is the description of the rows that have the relation.
func (r Relation) Parent() *Info { return r.e.link.parent }

// Through reports whether a table between holds the relation.
func (r Relation) Through() bool { return r.e.link.join != nil }

// Put gives parent its related rows.
func (r Relation) Put(parent any, children []any) { r.e.put(parent, children) }

// wording writes conditions in CQL2 text.
type wording struct {
	names  Naming
	info   *Info
	prefix string // the way to the rows that conditions are on, such as apiary.
	many   bool   // that leads to several rows
	err    error
}

func (w *wording) fail(err error) {
	if w.err == nil {
		w.err = err
	}
}

func (w *wording) joined(joiner string, conds []expr) string {
	if len(conds) == 0 {
		if joiner == " OR " {
			return "FALSE"
		}
		return "TRUE"
	}
	parts := make([]string, len(conds))
	for i, c := range conds {
		parts[i] = w.condition(c)
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return "(" + strings.Join(parts, joiner) + ")"
}

// condition writes a condition.
func (w *wording) condition(e expr) string {
	switch e := e.(type) {
	case nil:
		return "TRUE"
	case group:
		if w.many && len(e.conds) > 1 {
			w.fail(errSeveral)
		}
		return w.joined(e.joiner, e.conds)
	case negation:
		if w.many {
			w.fail(errSeveral)
		}
		return "NOT (" + w.condition(e.cond) + ")"
	case comparison:
		return w.operand(e.x) + e.op + w.literal(e.x, e.value)
	case nullTest:
		return w.nullTest(e)
	case inList:
		return w.inList(e)
	case likePattern:
		return w.operand(e.x) + " LIKE " + w.names.Quote(translateEscape(e.pattern))
	case matching:
		return w.like(e.x, e.pattern, e.fold)
	case partOf:
		return w.like(e.x, e.pattern(cqlEscaper, "%"), e.fold)
	case equalFold:
		return "CASEI(" + w.operand(e.x) + ") = CASEI(" + w.names.Quote(e.value) + ")"
	case infix:
		return w.operand(e.a) + e.op + w.operand(e.b)
	case related:
		return w.related(e)
	case keysIn:
		return w.keysIn(e)
	case childOf:
		return w.childOf(e)
	case failing:
		w.fail(e.err)
		return ""
	}
	w.fail(notOffered("a condition in SQL, or on parts of a document, a list or a range"))
	return ""
}

var errSeveral = notOffered("more than one condition on the same row of several related ones")

func (w *wording) nullTest(n nullTest) string {
	if !n.not {
		return w.operand(n.x) + " IS NULL"
	}
	if w.many { // a negation would ask whether no row has null
		x := w.operand(n.x)
		return x + " = " + x
	}
	return w.operand(n.x) + " IS NOT NULL"
}

func (w *wording) inList(l inList) string {
	if len(l.values) == 0 {
		return "FALSE"
	}
	parts := make([]string, len(l.values))
	for i, v := range l.values {
		parts[i] = w.literal(l.x, v)
	}
	return w.operand(l.x) + " IN (" + strings.Join(parts, ", ") + ")"
}

// keysIn writes that a row has one of some keys of several columns.
func (w *wording) keysIn(k keysIn) string {
	rows := make([]expr, len(k.keys))
	for i, key := range k.keys {
		row := group{joiner: " AND "}
		for n, c := range k.columns {
			row.conds = append(row.conds, comparison{columnRef{k.like, c}, " = ", key[n]})
		}
		rows[i] = row
	}
	return w.joined(" OR ", rows)
}

func (w *wording) like(x operand, pattern string, fold bool) string {
	if fold {
		return "CASEI(" + w.operand(x) + ") LIKE CASEI(" + w.names.Quote(pattern) + ")"
	}
	return w.operand(x) + " LIKE " + w.names.Quote(pattern)
}

// cqlEscaper takes their meaning from the signs of patterns of CQL2.
var cqlEscaper = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// translateEscape writes a pattern in which ! takes the meaning from the next
// character as one in which \ does.
func translateEscape(pattern string) string {
	var b strings.Builder
	escaped := false
	for _, r := range pattern {
		switch {
		case escaped:
			if r == '%' || r == '_' || r == '\\' {
				b.WriteByte('\\')
			}
			b.WriteRune(r)
			escaped = false
		case r == '!':
			escaped = true
		case r == '\\':
			b.WriteString(`\\`)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// related writes that a related row meets conditions.
func (w *wording) related(r related) string {
	name, err := w.names.RelationName(Relation{r.link.root})
	if err != nil {
		w.fail(err)
		return ""
	}
	inner := &wording{names: w.names, info: r.link.child, prefix: w.prefix + name + ".", many: w.many || !r.link.root.single}
	conds := slices.DeleteFunc(slices.Clone(r.conds), func(e expr) bool { return isDeletedTest(r.link.child, e) })
	if inner.many && len(conds) > 1 {
		w.fail(errSeveral)
	}
	if len(conds) == 0 {
		if len(r.link.child.Keys) == 0 {
			w.fail(notOffered("asking for any row of a view"))
			return ""
		}
		conds = []expr{nullTest{columnRef{r.link.child, r.link.child.Keys[0]}, true}}
	}
	if !inner.many && slices.ContainsFunc(conds, mayHoldOfNone) && len(r.link.child.Keys) > 0 {
		conds = append([]expr{nullTest{columnRef{r.link.child, r.link.child.Keys[0]}, true}}, conds...)
	}
	text := inner.joined(" AND ", conds)
	if inner.err != nil {
		w.fail(inner.err)
	}
	return text
}

// mayHoldOfNone reports whether a condition on a related row might be read as one that
// holds where there is no such row.
func mayHoldOfNone(e expr) bool {
	switch e := e.(type) {
	case comparison, inList, likePattern, matching, partOf, equalFold, infix:
		return false
	case nullTest:
		return !e.not
	}
	return true
}

// isDeletedTest reports whether a condition is that a row is not marked as deleted,
// which a service adds itself.
func isDeletedTest(t *Info, e expr) bool {
	n, ok := e.(nullTest)
	return ok && t.stamps.deleted >= 0 && !n.not && n.x == operand(columnRef{t, t.stamps.deleted})
}

// childOf writes that a row is related to a parent, by the columns that say so.
func (w *wording) childOf(c childOf) string {
	if c.link.join != nil {
		w.fail(notOffered("the related rows of several rows at once"))
		return ""
	}
	if slices.Contains(c.values, nil) {
		return "FALSE"
	}
	parts := make([]string, len(c.values))
	for i, v := range c.values {
		x := columnRef{c.link.child, c.link.to[i]}
		parts[i] = w.operand(x) + " = " + w.literal(x, v)
	}
	return strings.Join(parts, " AND ")
}

// path is the name of a column, perhaps behind relations, or of a measure.
func (w *wording) path(x operand) string {
	plain := *w
	plain.names = unquoted{w.names}
	switch x.(type) {
	case through, aggregate:
	default:
		if _, ok := columnOf(x); !ok {
			w.fail(notOffered("ordering by what is computed"))
			return ""
		}
	}
	text := plain.operand(x)
	w.err = plain.err
	return text
}

// unquoted writes names as they are.
type unquoted struct{ Naming }

func (unquoted) Word(name string) string { return name }

// operand writes a value of a row.
func (w *wording) operand(x operand) string {
	switch x := x.(type) {
	case columnRef:
		return w.column(x)
	case through:
		name, err := w.names.RelationName(Relation{x.link.root})
		if err != nil {
			w.fail(err)
			return ""
		}
		if len(slices.DeleteFunc(slices.Clone(x.conds), func(e expr) bool { return isDeletedTest(x.link.child, e) })) > 0 {
			w.fail(notOffered("a value of a related row that is narrowed"))
		}
		inner := &wording{names: w.names, info: x.link.child, prefix: w.prefix + name + "."}
		text := inner.operand(x.x)
		if inner.err != nil {
			w.fail(inner.err)
		}
		return text
	case function:
		if x.name == "lower" {
			return "CASEI(" + w.operand(x.x) + ")"
		}
	case aggregate:
		name, err := w.names.MeasureName(w.info, Term{x})
		if err != nil {
			w.fail(err)
			return ""
		}
		return w.names.Word(name)
	case constant:
		return w.constant(x.value)
	case infix:
		if x.op == wholeQuotient || strings.Contains("+-*/", strings.TrimSpace(x.op)) {
			return "(" + w.operand(x.a) + strings.ToLower(x.op) + w.operand(x.b) + ")"
		}
	}
	if ref, ok := columnOf(x); ok {
		return w.column(ref)
	}
	w.fail(notOffered("comparing what the database computes"))
	return ""
}

func (w *wording) column(ref columnRef) string {
	if ref.index < 0 {
		w.fail(errNoColumn)
		return ""
	}
	name, err := w.names.ColumnName(ref.table, ref.index)
	if err != nil {
		w.fail(err)
		return ""
	}
	return w.names.Word(w.prefix + name)
}

// literal writes what a value is compared with.
func (w *wording) literal(x operand, v any) string {
	c := x.info()
	if c == nil {
		return w.constant(v)
	}
	ref, ok := columnOf(x)
	if !ok {
		return w.constant(v)
	}
	p := ref.table.fieldsOf(ref.table.create())[ref.index]
	if v == nil {
		w.fail(fmt.Errorf("comparing %s with null; ask by IsNull", c.Name))
		return ""
	}
	if err := fieldOf(p).set(v); err != nil {
		w.fail(fmt.Errorf("comparing %s: %w", c.Name, err))
		return ""
	}
	text := string(c.AppendJSON(nil, p))
	switch c.Type {
	case TypeInt16, TypeInt32, TypeInt64, TypeUint64, TypeFloat32, TypeFloat64, TypeNumeric:
		if unquoted := strings.Trim(text, `"`); !NonFinite(unquoted) {
			return unquoted
		}
	case TypeBool:
		return strings.ToUpper(text)
	case TypeJSON, TypeBytes, TypeList, TypeRange, TypeRecord:
		w.fail(notOffered("comparing " + c.Name))
		return ""
	}
	if strings.HasPrefix(text, `"`) {
		var s string
		s, _ = jsonText([]byte(text))
		return w.names.Quote(s)
	}
	return w.names.Quote(text)
}

// constant writes a value that no column gives a form.
func (w *wording) constant(v any) string {
	switch v := v.(type) {
	case string:
		return w.names.Quote(v)
	case bool:
		return strings.ToUpper(fmt.Sprint(v))
	}
	return fmt.Sprint(v)
}
