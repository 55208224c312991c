package rest

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"

	"widegate/gate"
)

// The bounds of what is put together.
const (
	fewRequests  = 16 // at once are done each by itself, until there were more
	fewWaiting   = 4  // are put together for the last time
	maxGatherers = 2  // at work at once, for each resource and kind of request
	maxGathered  = 64 // requests in one statement
)

// gatherer puts requests of one kind together into one statement: those that come
// while many others are being answered. A few are answered each by itself.
type gatherer struct {
	do func(ctx context.Context, jobs []*job)

	active  atomic.Int32 // requests under way, put together or not
	many    atomic.Bool  // there were more than a few
	lock    sync.Mutex
	waiting []*job
	workers int
}

// enter counts a request in, and reports whether there are so many that it is to be
// put together with others. It leaves when it is done.
func (g *gatherer) enter() bool {
	if g.active.Add(1) > fewRequests {
		g.many.Store(true)
	}
	return g.many.Load()
}

func (g *gatherer) leave() { g.active.Add(-1) }

// job is a request that waits to be put together with others.
type job struct {
	ctx    context.Context
	res    *resource // as who sent it sees it
	key    string    // in reading
	arg    any       // the key as an argument
	text   []byte    // of the row that is read, if it is found
	tag    string    // its ETag
	row    any       // that is to be stored
	err    error
	alone  bool // the request must be answered by itself
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
		if n < fewWaiting && g.workers == 1 { // nobody else is at work on more
			g.many.Store(false)
		}
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
	if e := r.api.engine(); !r.api.config.Gather || e == nil || e.InProcess {
		return
	}
	if len(r.info.Keys) == 1 {
		r.finds = &gatherer{do: r.findAll}
	}
	r.adds = &gatherer{do: r.addAll}
}

// findAll reads the rows of several keys, as those who asked for them see them. A
// row that is not found here is looked for by its request: it may be the same in the
// eyes of the database only.
func (r *resource) findAll(ctx context.Context, jobs []*job) {
	for jobs := slices.Clone(jobs); len(jobs) > 0; {
		seen := jobs[0].res
		alike := func(j *job) bool { return j.res.plans == seen.plans }
		same := slices.DeleteFunc(slices.Clone(jobs), func(j *job) bool { return !alike(j) })
		jobs = slices.DeleteFunc(jobs, alike)
		if seen.findSame(ctx, same) != nil {
			for _, j := range same {
				j.text = nil
			}
		}
	}
}

// errOdd is returned where a value does not fit its column.
var errOdd = errors.New("a value does not fit its column")

// findSame reads rows by one statement, from the database into the texts of their
// answers.
func (r *resource) findSame(ctx context.Context, jobs []*job) error {
	p, _ := r.plans.Get().(*plan)
	if p == nil {
		p = r.newPlan()
	}
	key := r.info.Fields(nil, r.info.New())[r.info.Keys[0]]
	columns, fields := append(slices.Clone(p.columns), r.info.Keys[0]), append(slices.Clone(p.fields), key)
	asked := make(map[string][]*job, len(jobs))
	args := make([]any, 0, len(jobs))
	for _, j := range jobs {
		if asked[j.key] == nil {
			args = append(args, j.arg)
		}
		asked[j.key] = append(asked[j.key], j)
	}
	query := r.all.Where(r.info.Term(r.info.Keys[0]).In(args))
	err := gate.ReadInto(ctx, r.api.reads, query, columns, func() []any {
		p.text = p.text[:0]
		return fields
	}, func() error {
		if p.odd.Noted() {
			return errOdd
		}
		tag := p.finish()
		text := slices.Clone(p.text)
		for _, j := range asked[string(gate.AppendText(nil, key))] {
			j.text, j.tag = text, tag
		}
		return nil
	})
	if err == nil {
		p.keep(r)
	}
	return err
}

// findTogether answers with the row of a key, which is read together with others. It
// is not done where the request must be answered by itself.
func (r *resource) findTogether(w http.ResponseWriter, req *http.Request, key []any) (done bool, err error) {
	if len(r.rows) > 0 || inTransaction(req.Context()) {
		return false, nil
	}
	l, planned, err := r.planned(req)
	if !planned {
		return false, err
	}
	j := &job{ctx: req.Context(), res: r, engine: r.api.engine(), key: string(gate.AppendText(nil, key[0])), arg: gate.Argument(key[0])}
	if err := r.own.finds.add(j); err != nil || j.text == nil {
		return false, err
	}
	return true, l.sendText(w, req, http.StatusOK, j.tag, j.text)
}

// addAll stores the rows of several requests, all of them or none. Where one of them
// is refused, each is stored by its request.
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
	err := r.create(ctx, r.api.config.DB, rows)
	// Where a statement failed nothing is stored, and some row may be the cause that
	// others have nothing to do with. Where the database is away, or slow, it may have
	// been stored, or not: only who sent it can ask.
	unknown := errors.Is(err, gate.ErrUnavailable) || errors.Is(err, gate.ErrTimeout) || ctx.Err() != nil
	for _, j := range jobs {
		j.alone = err != nil && !unknown
		if !j.alone {
			j.err = err
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
