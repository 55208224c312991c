package rest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"beekeeping/store/gate"
)

// The bounds of what is put together.
const (
	maxGatherers = 2  // at work at once, for each resource and kind of request
	maxGathered  = 64 // requests in one statement
)

// gatherer puts requests of one kind together into one statement: those that
// come while others are being answered. Where nothing waits nothing is delayed.
type gatherer struct {
	do func(ctx context.Context, jobs []*job)

	lock    sync.Mutex
	waiting []*job
	workers int
}

// job is a request that waits to be put together with others.
type job struct {
	ctx    context.Context
	key    string // in reading
	arg    any    // the key as an argument
	row    any    // that is read, if it is found, or to be stored
	err    error
	alone  bool // a row must be stored by its request
	done   chan struct{}
	engine *gate.Engine
	odd    *gate.Odd // what was read that does not fit
}

// add has a job done, and waits until it is.
func (g *gatherer) add(j *job) error {
	j.done = make(chan struct{})
	g.lock.Lock()
	g.waiting = append(g.waiting, j)
	start := g.workers < maxGatherers
	if start {
		g.workers++
	}
	g.lock.Unlock()
	if start {
		go g.work()
	}
	select {
	case <-j.done:
		gate.OddOf(j.ctx).Take(j.odd)
		return j.err
	case <-j.ctx.Done():
		return j.ctx.Err()
	}
}

// work does what waits until nothing does.
func (g *gatherer) work() {
	for {
		g.lock.Lock()
		n := min(len(g.waiting), maxGathered)
		if n == 0 {
			g.workers--
			g.lock.Unlock()
			return
		}
		jobs := slices.Clone(g.waiting[:n])
		g.waiting = slices.Delete(g.waiting, 0, n)
		g.lock.Unlock()
		g.doAll(slices.DeleteFunc(jobs, func(j *job) bool { return j.ctx.Err() != nil }))
	}
}

func (g *gatherer) doAll(jobs []*job) {
	defer func() {
		fault := recover()
		for _, j := range jobs {
			if fault != nil {
				j.err = fmt.Errorf("answering several requests together: %v", fault)
			}
			close(j.done)
		}
	}()
	if len(jobs) > 0 {
		ctx := jobs[0].ctx
		if len(jobs) > 1 {
			ctx = context.WithoutCancel(ctx)
		}
		ctx, odd := gate.WithOdd(ctx, jobs[0].engine)
		for _, j := range jobs {
			j.odd = odd
		}
		g.do(ctx, jobs)
	}
}

// gather prepares a resource for having requests put together.
func (r *resource) gather() {
	if !r.api.config.Gather {
		return
	}
	if len(r.info.Keys) == 1 {
		r.finds = &gatherer{do: r.findAll}
	}
	r.adds = &gatherer{do: r.addAll}
}

// findAll reads the rows of several keys. One that is not found here is looked
// for by its request: it may be the same in the eyes of the database only.
func (r *resource) findAll(ctx context.Context, jobs []*job) {
	term := r.info.Term(r.info.Keys[0])
	if len(jobs) == 1 {
		j := jobs[0]
		j.row, j.err = r.all.Where(term.Compare("=", j.arg)).First(ctx, r.api.reads)
		return
	}
	args := make([]any, len(jobs))
	for i, j := range jobs {
		args[i] = j.arg
	}
	rows, err := r.all.Where(term.In(args)).All(ctx, r.api.reads)
	if err != nil {
		rows = nil
	}
	found := make(map[string]any, len(rows))
	for _, row := range rows {
		found[string(gate.AppendText(nil, r.info.Fields(nil, row)[r.info.Keys[0]]))] = row
	}
	for _, j := range jobs {
		j.row = found[j.key]
	}
}

// findTogether reads the row of a key together with others; there is none where
// the request must be answered by itself.
func (r *resource) findTogether(ctx context.Context, part any) (row any, err error) {
	j := &job{ctx: ctx, engine: r.api.engine(), key: string(gate.AppendText(nil, part)), arg: gate.Argument(part)}
	if err := r.own.finds.add(j); err != nil {
		return nil, err
	}
	return j.row, nil
}

// findsTogether reports whether a row can be read together with others: where
// that cannot change the answer.
func (r *resource) findsTogether(ctx context.Context, l *listing) bool {
	return r.own.finds != nil && len(r.rows) == 0 && len(l.nodes) == 0 && !r.info.Hooked() && !inTransaction(ctx)
}

// addAll stores the rows of several requests in one transaction. Where one of
// them is refused, each is stored by its request.
func (r *resource) addAll(ctx context.Context, jobs []*job) {
	if len(jobs) == 1 {
		j := jobs[0]
		j.err = r.create(ctx, r.api.config.DB, []any{j.row})
		return
	}
	rows := make([]any, len(jobs))
	for i, j := range jobs {
		rows[i] = j.row
	}
	err := gate.InTx(ctx, r.api.config.DB, func(tx gate.DB) error {
		return r.create(ctx, tx, rows)
	})
	var broken *gate.ConstraintError
	for _, j := range jobs {
		j.alone = errors.As(err, &broken)
		if !j.alone {
			j.err = err // it may have been stored, or not: only who sent it can ask
		}
	}
}

// addTogether stores a row together with others. Where it is not stored then, its
// request must store it by itself.
func (r *resource) addTogether(ctx context.Context, row any) (stored bool, err error) {
	j := &job{ctx: ctx, engine: r.api.engine(), row: row}
	if err := r.own.adds.add(j); err != nil {
		return false, err
	}
	return !j.alone, nil
}

// addsTogether reports whether a row can be stored together with others: where
// nothing but its columns decides what is stored.
func (r *resource) addsTogether(ctx context.Context) bool {
	return r.own.adds != nil && !r.info.HookedInsert() && !inTransaction(ctx) && !gate.IsWatched(r.api.config.DB)
}

func inTransaction(ctx context.Context) bool { return ctx.Value(txKey{}) != nil }
