package preview

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/read"
)

// Live serves a database, and goes with its schema: when that changes, it is read
// again. It is an http.Handler.
type Live struct {
	open  func(ctx context.Context) (*Service, error)
	files []string

	lock    sync.RWMutex
	service *Service
	seen    string
}

// NewLive opens a service that open makes, again whenever it must.
func NewLive(ctx context.Context, open func(ctx context.Context) (*Service, error)) (*Live, error) {
	l := &Live{open: open}
	var err error
	if l.service, err = open(ctx); err != nil {
		return nil, err
	}
	l.seen, err = l.look(ctx)
	return l, err
}

// Watch reads all again when a file, or one of a folder or pattern, changes too.
func (l *Live) Watch(file string) {
	l.files = append(l.files, file)
	l.seen, _ = l.look(context.Background())
}

// Current is the service as it is now.
func (l *Live) Current() *Service {
	l.lock.RLock()
	defer l.lock.RUnlock()
	return l.service
}

// Close gives the connections back.
func (l *Live) Close() error {
	l.lock.Lock()
	defer l.lock.Unlock()
	return l.service.Close()
}

// ServeHTTP implements http.Handler. A page of another origin must not reach the
// preview under a name that leads here.
func (l *Live) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host := r.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if ip := net.ParseIP(strings.Trim(host, "[]")); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		rest.NewProblem(http.StatusMisdirectedRequest, "the preview answers only as localhost").ServeHTTP(w, r)
		return
	}
	l.lock.RLock()
	defer l.lock.RUnlock()
	l.service.ServeHTTP(w, r)
}

// DryRun answers a request, and takes back what it stored.
func (l *Live) DryRun(w http.ResponseWriter, r *http.Request) {
	l.lock.RLock()
	defer l.lock.RUnlock()
	if l.service.dryRun == nil {
		l.service.ServeHTTP(w, r) // which stores nothing
		return
	}
	l.service.dryRun(w, r)
}

// lookEvery is how often the schema is looked at.
const lookEvery = time.Second

// Follow looks at the schema from time to time, until ctx ends, and tells of its
// changes, or of why it cannot be served.
func (l *Live) Follow(ctx context.Context, tell func(changes []string, err error)) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		seen, err := l.look(ctx)
		if err != nil || seen == l.seen {
			continue // a database that is away is told of by its requests
		}
		l.seen = seen
		changes, err := l.reopen(ctx)
		if ctx.Err() == nil {
			tell(changes, err)
		}
	}
}

// reopen takes a new service in place of the one there is. The old connections
// are given back first: a file of SQLite is not opened twice in one process.
func (l *Live) reopen(ctx context.Context) ([]string, error) {
	l.lock.Lock()
	defer l.lock.Unlock()
	before := l.service
	if err := before.Close(); err != nil {
		return nil, err
	}
	next, err := l.open(ctx)
	if err != nil {
		l.service = &Service{Handler: unavailable(err), Catalog: before.Catalog, Model: before.Model, db: closed{before.db}}
		return nil, err
	}
	l.service = next
	var changes []string
	for _, c := range catalog.Compare(before.Catalog, next.Catalog) {
		changes = append(changes, c.String())
	}
	if len(changes) == 0 {
		changes = []string{"the project file has changed"}
	}
	return changes, nil
}

// closed is a database whose connections are given back.
type closed struct{ gate.DB }

func (closed) Close() error { return nil }

func unavailable(err error) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rest.NewProblem(http.StatusServiceUnavailable, "the schema cannot be served as it is now: %v", err).ServeHTTP(w, r)
	})
}

// look is a fingerprint of the schema and of the files that are watched.
func (l *Live) look(ctx context.Context) (string, error) {
	var marks []string
	for _, file := range l.files {
		marks = append(marks, read.FileMark(file))
	}
	service := l.Current()
	if _, away := service.db.(closed); away {
		return strings.Join(append(marks, time.Now().Truncate(5*time.Second).String()), " "), nil
	}
	e, err := registry.Of(service.Catalog.Engine.Name)
	if err != nil {
		return "", err
	}
	rows, err := service.db.Query(ctx, e.MarkQuery(), nil)
	if err != nil {
		return "", fmt.Errorf("looking at the schema: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var mark string
		if err := rows.Scan([]any{&mark}); err != nil {
			return "", fmt.Errorf("looking at the schema: %w", err)
		}
		marks = append(marks, mark)
	}
	return strings.Join(slices.Compact(marks), " "), rows.Err()
}
