package rest_test

import (
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
)

// TestGatheredReads asks for single rows, many at once, of a service that puts
// them together and of one that does not.
func TestGatheredReads(t *testing.T) {
	plain, together := newPhotos(t, rest.Config{}), newPhotos(t, rest.Config{Gather: true})
	var wait sync.WaitGroup
	for worker := range 16 {
		wait.Go(func() {
			for i := range 60 {
				target := fmt.Sprintf("/api/photos/%d%s", (worker*7+i)%35, []string{"", "?properties=notes,id", "?f=xml"}[i%3])
				want, got := call(plain, "GET", target, ""), call(together, "GET", target, "")
				assert.Equal(t, want.Code, got.Code, target)
				assert.Equal(t, want.Body.String(), got.Body.String(), target)
				assert.Equal(t, want.Header(), got.Header(), target)
			}
		})
	}
	wait.Wait()
}

// TestGatheredWrites stores single rows, many at once, some of which cannot be.
func TestGatheredWrites(t *testing.T) {
	api := newPhotos(t, rest.Config{Gather: true})
	var wait sync.WaitGroup
	var stored, taken atomic.Int64
	for worker := range 16 {
		wait.Go(func() {
			for i := range 20 {
				body := fmt.Sprintf(`{"media_type":"w","notes":"%d-%d"}`, worker, i)
				if i%5 == 4 {
					body = fmt.Sprintf(`{"id":%d,"media_type":"w","notes":"%d-%d"}`, -1000-worker/2*100-i, worker, i)
				}
				w := call(api, "POST", "/api/photos", body)
				switch w.Code {
				case 201:
					stored.Add(1)
					var row struct{ Notes string }
					require.NoError(t, json.Unmarshal(w.Body.Bytes(), &row))
					assert.Equal(t, fmt.Sprintf("%d-%d", worker, i), row.Notes, "everybody has their own row back")
					assert.Equal(t, w.Body.String(), call(api, "GET", w.Header().Get("Location"), "").Body.String())
				case 409:
					taken.Add(1)
				default:
					assert.Fail(t, w.Body.String())
				}
			}
		})
	}
	wait.Wait()
	assert.EqualValues(t, 16*20, stored.Load()+taken.Load())
	assert.EqualValues(t, 8*4, taken.Load(), "of each two with the same key, one is stored")
	assert.Contains(t, call(api, "GET", "/api/photos?media_type=w&count=true&limit=1", "").Body.String(), fmt.Sprintf(`"matched":%d`, stored.Load()))
}

// TestBatchesAreNotGathered keeps what a batch does within its transaction.
func TestBatchesAreNotGathered(t *testing.T) {
	api := newPhotos(t, rest.Config{Gather: true})
	w := httptest.NewRecorder()
	r := httptest.NewRequest("POST", "/api/batch", strings.NewReader(`{"calls":[{"method":"POST","path":"/photos","body":{"media_type":"b","notes":"in a batch"}},{"method":"GET","path":"/photos/31"},{"method":"DELETE","path":"/photos/99"}]}`))
	r.Header.Set("Content-Type", "application/json")
	api.ServeHTTP(w, r)
	assert.Equal(t, 404, w.Code, "the batch is one transaction, which nothing leaves: %s", w.Body)
	assert.Equal(t, 404, call(api, "GET", "/api/photos/31", "").Code)
}
