package rest_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
)

func TestBatches(t *testing.T) {
	api := newAPI(t, rest.Config{})
	w := call(api, "POST", "/api/batch", `{"calls":[
		{"method":"POST","path":"/hives","body":{"name":"three"}},
		{"method":"PATCH","path":"/hives/3","body":{"name":"drei"}},
		{"method":"GET","path":"/hives?name=drei&properties=id"},
		{"method":"DELETE","path":"/hives/2"}]}`)
	require.Equal(t, 200, w.Code, w.Body)
	var answer struct {
		Answers []struct {
			Status  int
			Headers map[string]string
			Body    map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &answer))
	require.Len(t, answer.Answers, 4)
	assert.Equal(t, 201, answer.Answers[0].Status)
	assert.Equal(t, "/api/hives/3", answer.Answers[0].Headers["Location"])
	assert.Equal(t, "drei", answer.Answers[1].Body["name"])
	assert.Equal(t, []any{map[string]any{"id": 3.0}}, answer.Answers[2].Body["items"], "calls see what those before them did")
	assert.Equal(t, 204, answer.Answers[3].Status)
	assert.Equal(t, 404, call(api, "GET", "/api/hives/2", "").Code)
}

func TestBatchesAreAllOrNothing(t *testing.T) {
	api := newAPI(t, rest.Config{})
	before := call(api, "GET", "/api/hives", "").Body.String()
	good := `{"method":"POST","path":"/hives","body":{"name":"gone again"}},{"method":"DELETE","path":"/hives/2"}`
	for bad, want := range map[string]string{
		`{"method":"POST","path":"/hives","body":{"name":5}}`:                                       `"pointer":"#/calls/2/body/name"`,
		`{"method":"GET","path":"/hives/99"}`:                                                       "call 2, and so none of the batch: there is no such row",
		`{"method":"PATCH","path":"/hives/1","headers":{"If-Match":"\"old\""},"body":{"name":"x"}}`: `"status":412`,
		`{"method":"POST","path":"/hives","body":{"name":"x","from_id":99}}`:                        `"pointer":"#/calls/2/body/from_id"`,
		`{"method":"GET","path":"/nothing"}`:                                                        `"status":404`,
		`{"method":"PATCH","path":"/hives"}`:                                                        `"status":405`,
		`{"method":"BREW","path":"/hives"}`:                                                         "the method is one of",
		`{"method":"GET","path":"hives"}`:                                                           "the path is one below /api",
		`{"method":"GET","path":"//evil.example/hives"}`:                                            "call 2",
		`{"method":"GET","path":"/../openapi.json"}`:                                                "call 2",
		`{"method":"POST","path":"/batch","body":{}}`:                                               "the path is one below /api",
		`{"method":"GET","path":"/hives?f=csv"}`:                                                    "answers in a batch are JSON",
		`{"method":"GET","path":"/hives","headers":{"Authorization":"x"}}`:                          "a call has no header Authorization",
		`{"method":"GET","path":"/boom"}`:                                                           `"status":500`,
	} {
		w := call(api, "POST", "/api/batch", `{"calls":[`+good+","+bad+`]}`)
		assert.GreaterOrEqual(t, w.Code, 400, bad)
		assert.Contains(t, w.Body.String(), want, bad)
		assert.Equal(t, before, call(api, "GET", "/api/hives", "").Body.String(), bad)
	}
	for body, want := range map[string]string{
		`[]`: "a batch looks like", `{"calls":[]}`: "1 to 100 calls; got 0", `{"call":[]}`: "a batch looks like", `{`: "not JSON",
		`{"calls":[` + strings.Repeat(good+",", 60) + good + `]}`: "1 to 100 calls; got 122",
	} {
		assert.Contains(t, call(api, "POST", "/api/batch", body).Body.String(), want, body[:min(len(body), 40)])
	}
	guarded := newGuarded(t)
	w := as(guarded, "hand", "POST", "/api/batch", `{"calls":[{"method":"DELETE","path":"/boxes/1"}]}`)
	assert.Equal(t, 403, w.Code, "calls are made as whoever sent the batch: %s", w.Body)
	assert.Equal(t, 401, as(guarded, "", "POST", "/api/batch", `{"calls":[{"method":"DELETE","path":"/boxes/1"}]}`).Code)
	assert.Equal(t, 200, as(guarded, "admin", "POST", "/api/batch", `{"calls":[{"method":"DELETE","path":"/boxes/1"}]}`).Code)
}
