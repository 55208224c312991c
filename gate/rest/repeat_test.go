package rest_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
)

func repeat(api http.Handler, key, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest("POST", "/api/hives", strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Idempotency-Key", key)
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

func TestRepeatedRequests(t *testing.T) {
	api := newAPI(t, rest.Config{Repeats: "request_key"})
	first := repeat(api, "a", `{"name":"three"}`)
	require.Equal(t, 201, first.Code, first.Body)
	again := repeat(api, "a", `{"name":"three"}`)
	assert.Equal(t, first.Code, again.Code)
	assert.Equal(t, first.Body.String(), again.Body.String())
	assert.Equal(t, first.Header(), again.Header())
	w := repeat(api, "a", `{"name":"four"}`)
	assert.Equal(t, 422, w.Code)
	assert.Contains(t, w.Body.String(), "another request")
	assert.Equal(t, 201, repeat(api, "b", `{"name":"three"}`).Code, "another key is another request")
	assert.Equal(t, 422, repeat(api, "c", `{"name":5}`).Code)
	assert.Equal(t, 201, repeat(api, "c", `{"name":"five"}`).Code, "what failed can be mended and sent again")
	assert.Equal(t, 400, repeat(api, strings.Repeat("k", 300), `{"name":"x"}`).Code)
	w = call(api, "GET", "/api/hives?count=true", "")
	assert.Contains(t, w.Body.String(), `"matched":5`)
}

// TestRepeatsAtOnce sends the same request many times at once.
func TestRepeatsAtOnce(t *testing.T) {
	api := newAPI(t, rest.Config{Repeats: "request_key"})
	var wait sync.WaitGroup
	answers := make([]*httptest.ResponseRecorder, 20)
	for i := range answers {
		wait.Go(func() { answers[i] = repeat(api, "same", `{"name":"once"}`) })
	}
	wait.Wait()
	for _, a := range answers {
		assert.Equal(t, 201, a.Code, a.Body)
		assert.Equal(t, answers[0].Body.String(), a.Body.String())
	}
	assert.Contains(t, call(api, "GET", "/api/hives?name=once&count=true", "").Body.String(), `"matched":1`)
}
