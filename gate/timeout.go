package gate

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"
)

// WithStatementTimeout returns db as a database each of whose statements may
// take so long; reading the rows of one counts.
func WithStatementTimeout(db DB, timeout time.Duration) DB {
	return &timed{db, &clock{timeout: timeout}}
}

type timed struct {
	DB
	clock *clock
}

func (t *timed) inner() any { return t.DB }

func (t *timed) Query(ctx context.Context, text string, args []any) (Rows, error) {
	inTime, run := t.clock.start(ctx)
	rows, err := t.DB.Query(inTime, text, args)
	if err != nil {
		defer t.clock.stop(run)
		return nil, run.explain(t.clock.timeout, err)
	}
	return &timedRows{Rows: rows, clock: t.clock, run: run}, nil
}

func (t *timed) Exec(ctx context.Context, text string, args []any) (Result, error) {
	inTime, run := t.clock.start(ctx)
	defer t.clock.stop(run)
	result, err := t.DB.Exec(inTime, text, args)
	return result, run.explain(t.clock.timeout, err)
}

func (t *timed) InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error {
	return t.DB.InTx(ctx, o, func(tx DB) error { return do(&timed{tx, t.clock}) })
}

// timedRows ends the time of a statement when its rows are closed.
type timedRows struct {
	Rows
	clock *clock
	run   *run
}

func (r *timedRows) Err() error { return r.run.explain(r.clock.timeout, r.Rows.Err()) }

func (r *timedRows) Close() error {
	err := r.Rows.Close()
	r.clock.stop(r.run)
	return r.run.explain(r.clock.timeout, err)
}

// clock ends statements that take too long. All have the same time, so that the
// one that began first is the next to end: one timer is enough for them all, and
// hardly any statement lives to see it.
type clock struct {
	timeout time.Duration

	lock        sync.Mutex
	first, last *run // in the order in which they began
	timer       *time.Timer
	waits       bool // the timer is set
}

// run is a statement that is under way.
type run struct {
	ctx        context.Context // without that end
	end        time.Time
	cancel     context.CancelFunc
	prev, next *run
	late       atomic.Bool // it took too long
	off        bool        // it is in no list any more
}

// start begins the time of a statement, for which the context is.
func (c *clock) start(ctx context.Context) (context.Context, *run) {
	inTime, cancel := context.WithCancel(ctx)
	r := &run{ctx: ctx, end: time.Now().Add(c.timeout), cancel: cancel}
	c.lock.Lock()
	defer c.lock.Unlock()
	if r.prev = c.last; r.prev == nil {
		c.first = r
	} else {
		r.prev.next = r
	}
	c.last = r
	if !c.waits {
		c.wait(c.timeout)
	}
	return inTime, r
}

// wait sets the timer, under the lock.
func (c *clock) wait(long time.Duration) {
	c.waits = true
	if c.timer == nil {
		c.timer = time.AfterFunc(long, c.ring)
		return
	}
	c.timer.Reset(long)
}

// ring ends the statements whose time is over.
func (c *clock) ring() {
	c.lock.Lock()
	defer c.lock.Unlock()
	c.waits = false
	for c.first != nil {
		if left := time.Until(c.first.end); left > 0 {
			c.wait(left)
			return
		}
		r := c.first
		r.late.Store(true)
		c.drop(r)
		r.cancel()
	}
}

// stop ends the time of a statement, at once or not at all.
func (c *clock) stop(r *run) {
	c.lock.Lock()
	c.drop(r)
	c.lock.Unlock()
	r.cancel()
}

// drop takes a statement out of the list, under the lock.
func (c *clock) drop(r *run) {
	if r.off {
		return
	}
	r.off = true
	if r.prev == nil {
		c.first = r.next
	} else {
		r.prev.next = r.next
	}
	if r.next == nil {
		c.last = r.prev
	} else {
		r.next.prev = r.prev
	}
	r.prev, r.next = nil, nil
}

// explain tells the end of a statement's time from that of its context.
func (r *run) explain(timeout time.Duration, err error) error {
	if err != nil && r.late.Load() && r.ctx.Err() == nil && errors.Is(err, context.Canceled) {
		return fmt.Errorf("%w: it took longer than %v: %w", ErrTimeout, timeout, context.DeadlineExceeded)
	}
	return err
}
