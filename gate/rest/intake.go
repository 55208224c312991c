package rest

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// The bounds on reading bodies, so that slow senders shut nobody out. A body
// that breaks one of them is given up with 408.
const (
	bodyGrace      = 10 * time.Second // before the rate counts
	leastRate      = 4 << 10          // bytes a second, from then on
	mostReading    = 64               // bodies of one client at once; above it the slowest gives way
	mostReadingAll = 4096             // bodies of all clients at once
	heldBodies     = 64               // bodies of full size that are held in memory at once
	bodyChunk      = 32 << 10
	moment         = time.Second // before a body can be called slow, and to take what has arrived of one that is
)

// intake reads the bodies of requests before these take a slot for work.
type intake struct {
	mu      sync.Mutex
	clients map[string][]*upload // those that are being read
	count   int
	held    int64 // bytes

	working atomic.Int64 // requests that have a slot
}

// upload is a body that is being read.
type upload struct {
	stop  func()
	since time.Time
	got   atomic.Int64 // bytes
	ended atomic.Bool  // it gives way, unless all of it has arrived
}

var errTooSlow = errors.New("the body came too slowly")

// begin notes that a body of a client is being read. Where there are too many,
// the slowest of that client gives way, or of the client that has most.
func (in *intake) begin(client string, u *upload) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.clients == nil {
		in.clients = map[string][]*upload{}
	}
	in.clients[client] = append(in.clients[client], u)
	in.count++
	switch {
	case len(in.clients[client]) > mostReading:
		in.giveWay(client)
	case in.count > mostReadingAll:
		in.giveWay(in.busiest())
	}
}

// busiest is the client of which most bodies are being read.
func (in *intake) busiest() (client string) {
	for c, list := range in.clients {
		if len(list) > len(in.clients[client]) {
			client = c
		}
	}
	return client
}

// giveWay gives up the slowest body of a client among those that have had a moment.
func (in *intake) giveWay(client string) {
	slowest, least := -1, 0.0
	for i, u := range in.clients[client] {
		age := time.Since(u.since)
		if rate := float64(u.got.Load()) / age.Seconds(); age > moment && (slowest < 0 || rate < least) {
			slowest, least = i, rate
		}
	}
	if slowest < 0 {
		return
	}
	u := in.clients[client][slowest]
	u.ended.Store(true)
	u.stop()
	in.drop(client, slowest)
}

func (in *intake) drop(client string, i int) {
	in.count--
	if in.clients[client] = slices.Delete(in.clients[client], i, i+1); len(in.clients[client]) == 0 {
		delete(in.clients, client)
	}
}

func (in *intake) end(client string, u *upload, held int64) {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.held -= held
	if i := slices.Index(in.clients[client], u); i >= 0 {
		in.drop(client, i)
	}
}

// hold reports whether so many more bytes can be held.
func (in *intake) hold(n, most int64) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.held += n
	return in.held <= most
}

// takeIn reads the body of a request that may store something, which has it in
// memory then. What is wrong with the body is told where it is used.
func (a *API) takeIn(w http.ResponseWriter, r *http.Request) error {
	switch {
	case r.Body == nil || r.Body == http.NoBody || inTransaction(r.Context()):
		return nil
	case r.Method != http.MethodPost && r.Method != http.MethodPut && r.Method != http.MethodPatch:
		return nil
	}
	control := http.NewResponseController(w)
	client := clientOf(r)
	u := &upload{since: time.Now(), stop: func() { _ = control.SetReadDeadline(time.Now().Add(moment)) }}
	a.intake.begin(client, u)
	var body bytes.Buffer
	err := a.readIn(control, r.Body, &body, u)
	a.intake.end(client, u, int64(body.Len()))
	var p *Problem
	switch {
	case err == nil:
		_ = control.SetReadDeadline(time.Time{})
		r.Body = io.NopCloser(&body)
		return nil
	case errors.As(err, &p):
		return p
	case errors.Is(err, os.ErrDeadlineExceeded):
		err = errTooSlow
	}
	w.Header().Set("Connection", "close")
	r.Body = io.NopCloser(io.MultiReader(&body, failingReader{err}))
	return nil
}

// readIn reads a body, no longer than the least rate allows.
func (a *API) readIn(control *http.ResponseController, from io.Reader, to *bytes.Buffer, u *upload) error {
	start, stopping := time.Now(), false
	most := heldBodies * a.config.Limits.Body
	for {
		allowed := bodyGrace + time.Duration(to.Len())*time.Second/leastRate
		if !u.ended.Load() {
			_ = control.SetReadDeadline(start.Add(allowed)) // where there is none, as in tests, the body is there already
		}
		if u.ended.Load() && !stopping { // perhaps between the two lines above
			stopping = true
			u.stop()
		}
		to.Grow(min(bodyChunk, max(bytes.MinRead, to.Len())))
		room := to.AvailableBuffer()
		n, err := from.Read(room[:cap(room)])
		to.Write(room[:n])
		u.got.Add(int64(n))
		if !a.intake.hold(int64(n), most) {
			return busyProblem("too many bodies are being read just now; try again soon")
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// patience is how long a client that does not read its answer holds a slot.
const patience = time.Minute

// writeInTime writes a part of an answer, for which a client has some time.
func writeInTime(w http.ResponseWriter, b []byte) error {
	if len(b) < flushAt {
		_, err := w.Write(b)
		return err
	}
	control := http.NewResponseController(w)
	_ = control.SetWriteDeadline(time.Now().Add(patience)) // where there is none, as in tests, nobody waits
	_, err := w.Write(b)
	_ = control.SetWriteDeadline(time.Time{})
	return err
}

// clientOf tells clients apart by their addresses; a network of IPv6 is one.
func clientOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	address, err := netip.ParseAddr(host)
	if err != nil || address.Is4() || address.Is4In6() {
		return host
	}
	network, err := address.Prefix(64)
	if err != nil {
		return host
	}
	return network.String()
}

// takeSlot takes one of the slots for work, which release gives back. A call of a
// batch has that of the batch.
func (a *API) takeSlot(r *http.Request) (release func(), err error) {
	if inTransaction(r.Context()) {
		return func() {}, nil
	}
	if a.intake.working.Add(1) > int64(a.config.Limits.Requests) {
		a.intake.working.Add(-1)
		a.metrics.refused.Add(1)
		return nil, busyProblem("too many requests are being answered just now; try again soon")
	}
	return func() { a.intake.working.Add(-1) }, nil
}

// busyProblem is the problem of a request that may succeed in a moment.
func busyProblem(text string) *Problem {
	p := NewProblem(http.StatusServiceUnavailable, "%s", text)
	p.retryAfter = "1"
	return p
}

// foreign is the problem of a request that a page of another site sent.
func (a *API) foreign(r *http.Request) *Problem {
	if a.origins.Check(r) == nil {
		return nil
	}
	return NewProblem(http.StatusForbidden, "a page of another site sent this request, and may not change anything; its origin would have to be listed in api.cors of widegate.yaml")
}

// protection refuses what pages of other origins send, apart from those listed.
func protection(origins []string) (*http.CrossOriginProtection, error) {
	p := http.NewCrossOriginProtection()
	for _, o := range origins {
		if err := p.AddTrustedOrigin(o); err != nil {
			return nil, err
		}
	}
	return p, nil
}
