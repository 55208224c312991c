package gate

import (
	"context"
	"fmt"
	"time"
)

// Event is a moment in the life of a row.
type Event uint8

// The moments at which hooks run. The ones before can change the row, or
// refuse it by an error; the ones after see it as it is stored.
const (
	BeforeInsert Event = iota
	AfterInsert
	BeforeUpdate
	AfterUpdate
	BeforeDelete // also where the row is only marked
	AfterDelete
	AfterLoad
)

// hooked reports whether anything runs at one of the events.
func (t *Info) hooked(events ...Event) bool {
	for _, e := range events {
		if len(t.hooks[e]) > 0 {
			return true
		}
	}
	return false
}

// run runs the hooks of an event, in the order in which they were registered.
func (t *Info) run(ctx context.Context, tx DB, e Event, row any) error {
	tx = apart(tx)
	for _, do := range t.hooks[e] {
		if err := do(ctx, tx, row); err != nil {
			return err
		}
	}
	return nil
}

func (t *Info) runAll(ctx context.Context, tx DB, e Event, rows []any) error {
	if len(t.hooks[e]) == 0 {
		return nil
	}
	for _, row := range rows {
		if err := t.run(ctx, tx, e, row); err != nil {
			return err
		}
	}
	return nil
}

// Action is what was done to a row.
type Action string

// The things that are done to rows.
const (
	Inserted Action = "insert"
	Updated  Action = "update"
	Deleted  Action = "delete"
)

// Change says what was done to one row. The rows are pointers to entities and
// must not be changed.
type Change struct {
	At      time.Time
	Table   *Info
	Action  Action
	Before  any      // nil for an insert
	After   any      // nil for a delete
	Columns []string // those whose values differ
}

// Watched returns db as a database that tells watch of each change, in the
// transaction of the change: an error of watch takes the change back. Who made
// it is for ctx to say. Rows are read before they are changed, which costs a
// statement each.
//
// Statements that name no rows, such as those of named queries, are not seen.
func Watched(db DB, watch func(ctx context.Context, tx DB, c Change) error) DB {
	return &watched{DB: db, watch: watch}
}

type watched struct {
	DB
	watch func(ctx context.Context, tx DB, c Change) error
}

func (w *watched) InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error {
	return w.DB.InTx(ctx, o, func(tx DB) error { return do(&watched{tx, w.watch}) })
}

func (w *watched) inner() any { return w.DB }

// Traced returns db as a database that tells trace of each statement when it
// has run; of one that gives rows, when they begin.
func Traced(db DB, trace func(ctx context.Context, s Statement)) DB {
	return &traced{DB: db, trace: trace}
}

// Statement is one that has run.
type Statement struct {
	Text string
	Args []any
	Took time.Duration
	Err  error
}

type traced struct {
	DB
	trace func(ctx context.Context, s Statement)
}

func (t *traced) inner() any { return t.DB }

func (t *traced) Query(ctx context.Context, text string, args []any) (Rows, error) {
	start := time.Now()
	rows, err := t.DB.Query(ctx, text, args)
	t.trace(ctx, Statement{text, args, time.Since(start), err})
	return rows, err
}

func (t *traced) Exec(ctx context.Context, text string, args []any) (Result, error) {
	start := time.Now()
	result, err := t.DB.Exec(ctx, text, args)
	t.trace(ctx, Statement{text, args, time.Since(start), err})
	return result, err
}

func (t *traced) InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error {
	return t.DB.InTx(ctx, o, func(tx DB) error { return do(&traced{tx, t.trace}) })
}

// find looks through what has been put around a database for a T.
func find[T any](db DB) (T, bool) {
	var layer any = db
	for {
		if t, ok := layer.(T); ok {
			return t, true
		}
		outer, ok := layer.(interface{ inner() any })
		if !ok {
			var none T
			return none, false
		}
		layer = outer.inner()
	}
}

// tell tells who watches db of a change.
func (t *Info) tell(ctx context.Context, db DB, action Action, before, after any) error {
	w, ok := find[*watched](db)
	if !ok {
		return nil
	}
	c := Change{At: time.Now(), Table: t, Action: action, Before: before, After: after}
	switch action {
	case Updated:
		c.Columns = t.names(t.differing(before, after))
		if len(c.Columns) == 0 {
			return nil
		}
	default:
		c.Columns = t.names(allColumns(t))
	}
	return w.watch(ctx, apart(db), c)
}

// differing are the columns whose values differ between two rows.
func (t *Info) differing(a, b any) []int {
	var list []int
	x, y := t.fieldsOf(a), t.fieldsOf(b)
	for i := range t.Columns {
		if !sameValue(fieldOf(x[i]), fieldOf(y[i])) {
			list = append(list, i)
		}
	}
	return list
}

// sameValue compares values by their text, in which each value has one form.
func sameValue(x, y field) bool {
	xNull, yNull := x.arg() == nil, y.arg() == nil
	if xNull || yNull {
		return xNull == yNull
	}
	return string(x.appendText(nil)) == string(y.appendText(nil))
}

// watching reports whether changes must be told.
func watching(db DB) bool {
	_, ok := find[*watched](db)
	return ok
}

// setFields gives row the values of another.
func (t *Info) setFields(row, from any) error {
	to := t.fieldsOf(row)
	for i, p := range t.fieldsOf(from) {
		if err := fieldOf(to[i]).set(fieldOf(p).arg()); err != nil {
			return fmt.Errorf("column %s: %w", t.Columns[i].Name, err)
		}
	}
	return nil
}
