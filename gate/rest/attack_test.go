package rest_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
)

// TestHostileTexts puts texts that mean something to a database, a header or a
// path into every input there is: nothing breaks, and nothing is changed.
func TestHostileTexts(t *testing.T) {
	api := newAPI(t, rest.Config{Repeats: "request_key"})
	before := call(api, "GET", "/api/hives?limit=100&with=splits", "").Body.String()
	var texts []string
	list, err := os.ReadFile(filepath.Join("testdata", "hostile.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(list, &texts))
	texts = append(texts, "\xff\xfe")
	for _, text := range texts {
		q := url.QueryEscape(text)
		quoted, err := json.Marshal(text)
		require.NoError(t, err)
		for _, c := range []struct{ method, target, body string }{
			{"GET", "/api/hives/" + url.PathEscape(text), ""}, {"GET", "/api/hives/" + url.PathEscape(text) + "/splits", ""}, {"DELETE", "/api/hives/" + url.PathEscape(text) + ",1", ""},
			{"GET", "/api/hives?filter=" + q, ""}, {"GET", "/api/hives?filter=" + url.QueryEscape("name = '"+strings.ReplaceAll(text, "'", "''")+"'"), ""}, {"GET", "/api/hives?filter=" + url.QueryEscape("name LIKE '"+text), ""},
			{"GET", "/api/hives?filter-lang=cql2-json&filter=" + url.QueryEscape(`{"op":"=","args":[{"property":`+string(quoted)+`},1]}`), ""}, {"GET", "/api/hives?filter-lang=" + q, ""},
			{"GET", "/api/hives?sortby=" + q, ""}, {"GET", "/api/hives?properties=" + q, ""}, {"GET", "/api/hives?with=" + q, ""}, {"GET", "/api/hives?with=splits(sortby:" + q + ")", ""}, {"GET", "/api/hives?with=splits(" + q, ""},
			{"GET", "/api/hives?after=" + q, ""}, {"GET", "/api/hives?limit=" + q, ""}, {"GET", "/api/hives?offset=" + q, ""}, {"GET", "/api/hives?f=" + q, ""}, {"GET", "/api/hives?count=" + q, ""}, {"GET", "/api/hives?q=" + q, ""},
			{"GET", "/api/hives?" + q + "=1", ""}, {"GET", "/api/hives?id=" + q, ""}, {"GET", "/api/hives?name=" + q, ""}, {"GET", "/api/hives/summary?by=" + q, ""}, {"GET", "/api/hives/summary?measure=" + q, ""}, {"GET", "/api/hives/summary?measure=count&having=" + q, ""},
			{"PATCH", "/api/hives/1", `{"` + strings.NewReplacer(`"`, "", `\`, "").Replace(text) + `":1}`}, {"PATCH", "/api/hives/1", `{"id":` + string(quoted) + `}`}, {"POST", "/api/hives", `{"id":1,"name":` + string(quoted) + `}`},
			{"POST", "/api/hives", text}, {"PUT", "/api/hives/99", text}, {"POST", "/api/batch", `{"calls":[{"method":"DELETE","path":` + string(quoted) + `}]}`}, {"POST", "/api/batch", `{"calls":[{"method":` + string(quoted) + `,"path":"/hives"}]}`},
		} {
			r := httptest.NewRequest(c.method, "/", strings.NewReader(c.body))
			path, query, _ := strings.Cut(c.target, "?")
			u, err := url.Parse(path)
			require.NoError(t, err)
			r.URL.Path, r.URL.RawPath, r.URL.RawQuery = u.Path, u.EscapedPath(), query
			r.Header.Set("Content-Type", "application/json")
			for _, name := range []string{"If-Match", "If-None-Match", "Prefer", "Traceparent", "Idempotency-Key", "Origin", "Accept"} {
				if c.method == "PATCH" {
					r.Header.Set(name, text)
				}
			}
			w := httptest.NewRecorder()
			api.ServeHTTP(w, r)
			assert.Less(t, w.Code, 500, "%s %s: %s", c.method, c.target, w.Body)
			assert.Empty(t, w.Header().Get("X-Evil"))
			assert.NotContains(t, w.Body.String(), "hush", "%s %s", c.method, c.target)
			for name, values := range w.Header() {
				assert.NotContains(t, strings.Join(values, ""), "\n", name)
			}
		}
	}
	assert.Equal(t, before, call(api, "GET", "/api/hives?limit=100&with=splits", "").Body.String(), "nothing has changed")
}

// TestMassAssignment gives values to what callers have no say in.
func TestMassAssignment(t *testing.T) {
	api, db := newAPIOn(t, rest.Config{})
	for _, c := range []struct{ method, target, media, body string }{
		{"PATCH", "/api/hives/1", "application/json", `{"secret":"mine"}`}, {"PATCH", "/api/hives/1", "application/json", `{"Secret":"mine"}`},
		{"PATCH", "/api/hives/1", "application/json-patch+json", `[{"op":"add","path":"/secret","value":"mine"}]`}, {"PATCH", "/api/hives/1", "application/json-patch+json", `[{"op":"copy","from":"/secret","path":"/name"}]`},
		{"PATCH", "/api/hives/1", "application/json-patch+json", `[{"op":"test","path":"/secret","value":"hush"}]`},
		{"PUT", "/api/hives/1", "application/json", `{"name":"x","secret":"mine"}`}, {"POST", "/api/hives", "application/json", `{"name":"x","secret":"mine"}`},
		{"POST", "/api/hives", "application/json", `[{"name":"x"},{"name":"y","secret":"mine"}]`}, {"POST", "/api/hives", "text/csv", "name,secret\nx,mine\n"}, {"POST", "/api/hives", "text/csv", "name,secret\nx,\n"},
		{"POST", "/api/hives", "application/x-ndjson", `{"name":"x","secret":"mine"}` + "\n"}, {"POST", "/api/hives", "application/json", `{"name":"x","splits":[{"name":"z","secret":"mine"}]}`},
		{"PATCH", "/api/hives/1", "application/json", `{"id":2}`}, {"PATCH", "/api/hives/1", "application/json", `{"__proto__":{"secret":"mine"}}`},
		{"POST", "/api/batch", "application/json", `{"calls":[{"method":"PATCH","path":"/hives/1","body":{"secret":"mine"}}]}`},
	} {
		w := send(api, c.method, c.target, c.media, []byte(c.body))
		assert.Equal(t, 422, w.Code, "%s %s %s: %s", c.method, c.target, c.body, w.Body)
		assert.NotContains(t, w.Body.String(), "hush")
	}
	require.Equal(t, 200, call(api, "PUT", "/api/hives/1", `{"name":"one"}`).Code)
	row, err := hives.Find(t.Context(), db, 1)
	require.NoError(t, err)
	assert.Equal(t, "hush", row.Secret.Or(""), "what callers do not see stays as it is")
	assert.Contains(t, call(api, "GET", "/api/hives?count=true", "").Body.String(), `"matched":2`)
}

// TestCostlyRequests sends what would cost much if it were done.
func TestCostlyRequests(t *testing.T) {
	api := newAPI(t, rest.Config{Limits: rest.Limits{Body: 1 << 20}})
	deep := strings.Repeat(`{"a":`, 100_000) + "1" + strings.Repeat("}", 100_000)
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	_, err := z.Write(make([]byte, 10<<20))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	var calls []string
	for range 101 {
		calls = append(calls, `{"method":"GET","path":"/hives"}`)
	}
	for _, c := range []struct {
		method, target, body string
		status               int
		headers              []string
	}{
		{"POST", "/api/hives", deep, 400, nil}, {"POST", "/api/hives", strings.Repeat("[", 500_000), 400, nil}, {"PATCH", "/api/hives/1", `{"name":` + deep + `}`, 400, nil},
		{"POST", "/api/hives", `{"name":"` + strings.Repeat("x", 2<<20) + `"}`, 413, nil}, {"POST", "/api/hives", bomb.String(), 415, []string{"Content-Encoding", "gzip"}},
		{"POST", "/api/hives", `{"name":"x","weight":` + strings.Repeat("9", 100_000) + `}`, 422, nil}, {"POST", "/api/hives", `{"name":"x","weight":1e999999999}`, 422, nil}, {"POST", "/api/hives", `{"name":"x","id":1e400}`, 422, nil},
		{"POST", "/api/hives", `{"name":"x","id":99999999999999999999}`, 422, nil}, {"GET", "/api/hives?id=99999999999999999999", "", 400, nil}, {"GET", "/api/hives/99999999999999999999", "", 404, nil},
		{"GET", "/api/hives?filter=" + url.QueryEscape(strings.Repeat("(", 50_000)), "", 400, nil}, {"GET", "/api/hives?filter=" + url.QueryEscape(strings.Repeat("NOT ", 50_000)+"id=1"), "", 400, nil},
		{"GET", "/api/hives?filter=" + url.QueryEscape("id IN ("+strings.Repeat("1,", 20_000)+"1)"), "", 400, nil}, {"GET", "/api/hives?filter=" + url.QueryEscape(strings.TrimSuffix(strings.Repeat("id=1 OR ", 5_000), " OR ")), "", 400, nil},
		{"GET", "/api/hives?filter=" + url.QueryEscape("weight = 1e999999999"), "", 400, nil},
		{"GET", "/api/hives?with=splits.splits.splits.splits.splits", "", 400, nil}, {"GET", "/api/hives?with=" + strings.TrimSuffix(strings.Repeat("splits,", 30), ","), "", 400, nil},
		{"GET", "/api/hives?limit=1000000", "", 400, nil}, {"GET", "/api/hives?offset=100000000", "", 400, nil}, {"POST", "/api/batch", `{"calls":[` + strings.Join(calls, ",") + `]}`, 422, nil},
		{"GET", "/api/hives?sortby=from.from.from.from.from.name", "", 400, nil}, {"PATCH", "/api/hives/1", "[" + strings.TrimSuffix(strings.Repeat(`{"op":"test","path":"/id","value":1},`, 2000), ",") + "]", 422, []string{"Content-Type", "application/json-patch+json"}},
	} {
		start := time.Now()
		w := send(api, c.method, c.target, "application/json", []byte(c.body), c.headers...)
		assert.Equal(t, c.status, w.Code, "%s %.80s %.80s: %.300s", c.method, c.target, c.body, w.Body)
		assert.Less(t, time.Since(start), 5*time.Second, "%.80s", c.target)
		assert.Less(t, w.Body.Len(), 32<<10, "what is told of it stays short: %.80s", c.target)
	}
}

// TestPathTricks asks for rows by paths that are spelled oddly.
func TestPathTricks(t *testing.T) {
	server := httptest.NewServer(newAPI(t, rest.Config{}))
	defer server.Close()
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for path, want := range map[string][]int{
		"/api/hives/1%2F..%2F2": {404}, "/api/hives/%2e%2e/openapi.json": {404, 301, 307}, "/api/hives/../../openapi.json": {301, 307, 200}, "/api//hives": {301, 307, 404}, "/api/hives/1%00": {404}, "/api/hives/%31": {200},
		"/API/hives": {404}, "/api/hives/": {404}, "/api/hives/1/": {404}, "/api/hives/01": {200, 404}, "/api/hives/+1": {200, 404}, "/api/hives/1;x=1": {404}, "/api/hives/1,1": {404}, "/api/hives/%ff": {404}, "/api/hives/1%0d%0aX-Evil:1": {404},
	} {
		res, err := client.Get(server.URL + path)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		assert.Contains(t, want, res.StatusCode, "%s: %s", path, text)
		assert.Empty(t, res.Header.Get("X-Evil"))
		if res.StatusCode >= 400 {
			assert.Equal(t, "application/problem+json", res.Header.Get("Content-Type"), path)
		}
	}
	res, err := client.Get(server.URL + "/api/hives?filter=" + strings.Repeat("x", 70<<10))
	require.NoError(t, err)
	res.Body.Close()
	assert.GreaterOrEqual(t, res.StatusCode, 400)
	assert.Less(t, res.StatusCode, 500)
}

// TestSlowClients has a client begin a request and never end it: it loses its
// connection, and others are answered meanwhile.
func TestSlowClients(t *testing.T) {
	t.Parallel()
	address := serveAt(t, newAPI(t, rest.Config{}))
	slow, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer slow.Close()
	_, err = fmt.Fprint(slow, "GET /api/hives HTTP/1.1\r\nHost: localhost\r\nX-Slow: ")
	require.NoError(t, err)
	res, err := http.Get("http://" + address + "/api/hives")
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 200, res.StatusCode)
	require.NoError(t, slow.SetReadDeadline(time.Now().Add(20*time.Second)))
	_, err = bufio.NewReader(slow).ReadString(0)
	assert.ErrorIs(t, err, io.EOF, "the service ends the connection")
}
