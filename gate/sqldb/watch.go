package sqldb

import (
	"context"
	"sync"
	"time"
)

// stopWithin is how long the server may take to stop a statement; the connection is
// given up then.
const stopWithin = 5 * time.Second

// watch waits for the caller of a statement to leave, and has the server stop the
// statement then: a driver of database/sql would close the connection, and leave the
// statement running. It is the context that the statement runs under, which ends when
// its connection hangs, and not with its caller.
type watch struct {
	context.Context // the caller's

	session *session
	config  *Config
	release func() bool
	stopped sync.WaitGroup // done when the server has been told
	late    *time.Timer    // set then
}

// watch returns the context that a statement runs under, which ends only where the
// server does not stop it, and w, which watches over it; nil where nobody can leave.
func (s *session) watch(ctx context.Context, config *Config, w *watch) (context.Context, *watch) {
	if ctx.Done() == nil {
		return ctx, nil
	}
	w.Context, w.session, w.config = ctx, s, config
	w.stopped.Add(1)
	w.release = context.AfterFunc(ctx, w.stop)
	return w, w
}

func (w *watch) stop() {
	defer w.stopped.Done()
	if w.config.Stop(w.session.id, false) != nil {
		w.giveUp()
		return
	}
	w.late = time.AfterFunc(stopWithin, w.giveUp)
}

// giveUp ends the connection, on both sides.
func (w *watch) giveUp() {
	w.session.once.Do(func() { close(w.session.hung) })
	_ = w.config.Stop(w.session.id, true) // which may be unreachable
}

// end is called when the statement has ended, with its error. Where it ended by
// itself while the server was told to stop it, the next one might be stopped in its
// place, so that the connection is given up.
func (w *watch) end(err error) {
	if w == nil || w.release() {
		return
	}
	w.stopped.Wait()
	if w.late != nil && !w.late.Stop() || !w.config.Stopped(err) {
		w.session.spent = true
	}
}

// Deadline is none: the caller's is kept by having the statement stopped.
func (w *watch) Deadline() (time.Time, bool) { return time.Time{}, false }

// Done is closed when the connection hangs.
func (w *watch) Done() <-chan struct{} { return w.session.hung }

// Err is an error when the connection hangs.
func (w *watch) Err() error {
	select {
	case <-w.session.hung:
		return context.Canceled
	default:
		return nil
	}
}
