package rest_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

// held is a database whose statements wait while it is closed.
type held struct {
	gate.DB
	open       chan struct{}
	statements atomic.Int64
}

// Engine is one that is elsewhere, where statements cost more than they do here.
func (h *held) Engine() *gate.Engine {
	e := *sqlite.Engine
	e.InProcess = false
	return &e
}

func (h *held) wait() {
	h.statements.Add(1)
	<-h.open
}

func (h *held) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	h.wait()
	return h.DB.Query(ctx, text, args)
}

func (h *held) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	h.wait()
	return h.DB.Exec(ctx, text, args)
}

// newHeld serves 30 photos from a database whose statements wait, with requests put
// together or not.
func newHeld(t *testing.T, together bool) (*rest.API, *rest.Shape[*photo, int64], *held) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec(t.Context(), "CREATE TABLE photo (id INTEGER PRIMARY KEY, media_type TEXT NOT NULL, raw_data BLOB, notes TEXT NOT NULL)", nil)
	require.NoError(t, err)
	for i := range 30 {
		require.NoError(t, photos.Insert(t.Context(), db, &photo{Media: "image/png", Notes: fmt.Sprint("n", i)}))
	}
	h := &held{DB: db, open: make(chan struct{})}
	shape := rest.NewShape("photos", &photos)
	api, err := rest.New(rest.Config{DB: h, Base: "/api", Gather: together}, rest.Mount(shape, routesOf("photos", shape)))
	require.NoError(t, err)
	return api, shape, h
}

// atOnce sends requests, all of which are under way before the first statement is run.
func atOnce(t *testing.T, shape rest.Shaped, h *held, n int, send func(i int)) {
	t.Helper()
	var wait sync.WaitGroup
	for i := range n {
		wait.Go(func() { send(i) })
	}
	require.Eventually(t, func() bool { return rest.Active(shape) == n }, time.Minute, time.Millisecond)
	close(h.open)
	wait.Wait()
}

// TestGatheredReads asks for single rows, many at once, of a service that puts
// them together and of one that does not.
func TestGatheredReads(t *testing.T) {
	plain, _, apart := newHeld(t, false)
	close(apart.open)
	together, shape, h := newHeld(t, true)
	const n = 120
	atOnce(t, shape, h, n, func(i int) {
		target := fmt.Sprintf("/api/photos/%d", i*7%35)
		want, got := call(plain, "GET", target, ""), call(together, "GET", target, "")
		assert.Equal(t, want.Code, got.Code, target)
		assert.Equal(t, want.Body.String(), got.Body.String(), target)
		assert.Equal(t, want.Header(), got.Header(), target)
	})
	assert.Less(t, h.statements.Load(), int64(n)/2, "one statement reads many rows")
}

// TestFewRequestsAreNotGathered sends requests of which each has a statement of its own.
func TestFewRequestsAreNotGathered(t *testing.T) {
	api, shape, h := newHeld(t, true)
	atOnce(t, shape, h, 16, func(i int) { assert.Equal(t, 200, call(api, "GET", fmt.Sprintf("/api/photos/%d", i+1), "").Code) })
	assert.EqualValues(t, 16, h.statements.Load())
}

// TestGatheredWrites stores single rows, many at once, some of which cannot be.
func TestGatheredWrites(t *testing.T) {
	api, shape, h := newHeld(t, true)
	const n = 120
	var stored, taken atomic.Int64
	var lock sync.Mutex
	rows := map[string]string{} // as they were answered, by where they are
	atOnce(t, shape, h, n, func(i int) {
		body := fmt.Sprintf(`{"media_type":"w","notes":"%d"}`, i)
		if i%10 == 9 {
			body = fmt.Sprintf(`{"id":%d,"media_type":"w","notes":"%d"}`, -1000-i/20, i)
		}
		w := call(api, "POST", "/api/photos", body)
		switch w.Code {
		case 201:
			stored.Add(1)
			var row struct{ Notes string }
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &row))
			assert.Equal(t, fmt.Sprint(i), row.Notes, "everybody has their own row back")
			lock.Lock()
			rows[w.Header().Get("Location")] = w.Body.String()
			lock.Unlock()
		case 409:
			taken.Add(1)
		default:
			assert.Fail(t, w.Body.String())
		}
	})
	assert.EqualValues(t, n, stored.Load()+taken.Load())
	assert.EqualValues(t, n/20, taken.Load(), "of each two with the same key, one is stored")
	require.Len(t, rows, int(stored.Load()))
	for at, row := range rows {
		assert.Equal(t, row, call(api, "GET", at, "").Body.String())
	}
	assert.Contains(t, call(api, "GET", "/api/photos?media_type=w&count=true&limit=1", "").Body.String(), fmt.Sprintf(`"matched":%d`, stored.Load()))
}

// TestGatheredStatements stores rows many at once, all of which can be.
func TestGatheredStatements(t *testing.T) {
	api, shape, h := newHeld(t, true)
	const n = 120
	atOnce(t, shape, h, n, func(i int) {
		assert.Equal(t, 201, call(api, "POST", "/api/photos", fmt.Sprintf(`{"media_type":"w","notes":"%d"}`, i)).Code)
	})
	assert.Less(t, h.statements.Load(), int64(n)/2, "one statement stores many rows")
}

// TestBatchesAreNotGathered keeps what a batch does within its transaction.
func TestBatchesAreNotGathered(t *testing.T) {
	api, _, h := newHeld(t, true)
	close(h.open)
	w := httptest.NewRecorder()
	r := httptest.NewRequest("POST", "/api/batch", strings.NewReader(`{"calls":[{"method":"POST","path":"/photos","body":{"media_type":"b","notes":"in a batch"}},{"method":"GET","path":"/photos/31"},{"method":"DELETE","path":"/photos/99"}]}`))
	r.Header.Set("Content-Type", "application/json")
	api.ServeHTTP(w, r)
	assert.Equal(t, 404, w.Code, "the batch is one transaction, which nothing leaves: %s", w.Body)
	assert.Equal(t, 404, call(api, "GET", "/api/photos/31", "").Code)
}
