package sqldb

import (
	"context"
	"time"
)

// stopWithin is how long the server may take to stop a statement; the connection is
// given up then.
const stopWithin = 5 * time.Second

// watch waits for the caller of a statement to leave, and has the server stop the
// statement then: a driver of database/sql would close the connection, and leave the
// statement running.
type watch struct {
	session *session
	config  *Config
	release func() bool
	stopped chan struct{} // closed when the server has been told
	late    *time.Timer   // set then
}

// watch returns the context that a statement runs under, which ends only where the
// server does not stop it, and what watches over it; nil where nobody can leave.
func (s *session) watch(ctx context.Context, config *Config) (context.Context, *watch) {
	if ctx.Done() == nil {
		return ctx, nil
	}
	w := &watch{session: s, config: config, stopped: make(chan struct{})}
	w.release = context.AfterFunc(ctx, w.stop)
	return staying{ctx, s.hung}, w
}

func (w *watch) stop() {
	defer close(w.stopped)
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
	<-w.stopped
	if w.late != nil && !w.late.Stop() || !w.config.Stopped(err) {
		w.session.spent = true
	}
}

// staying is a context that ends when its connection hangs, and not with its caller.
type staying struct {
	context.Context
	hung chan struct{}
}

func (s staying) Deadline() (time.Time, bool) { return time.Time{}, false }

func (s staying) Done() <-chan struct{} { return s.hung }

func (s staying) Err() error {
	select {
	case <-s.hung:
		return context.Canceled
	default:
		return nil
	}
}
