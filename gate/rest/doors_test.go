package rest_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
)

// TestPagesOfOtherSitesChangeNothing sends every verb as a page of another site
// would, by what browsers say of it.
func TestPagesOfOtherSitesChangeNothing(t *testing.T) {
	api := newAPI(t, rest.Config{Origins: []string{"https://bees.example"}})
	targets := map[string]string{"POST": "/api/hives", "PUT": "/api/hives/1", "PATCH": "/api/hives/1", "DELETE": "/api/hives/2"}
	for method, target := range targets {
		for _, c := range []struct {
			header, value string
			refused       bool
		}{
			{"Sec-Fetch-Site", "cross-site", true}, {"Sec-Fetch-Site", "same-site", true}, {"Origin", "https://evil.example", true}, {"Origin", "null", true},
			{"Sec-Fetch-Site", "same-origin", false}, {"Sec-Fetch-Site", "none", false}, {"Origin", "http://example.com", false}, {"Origin", "https://bees.example", false},
		} {
			for _, media := range []string{"application/json", "application/x-www-form-urlencoded", "text/plain", ""} {
				r := httptest.NewRequest(method, target, strings.NewReader(""))
				r.Header.Set(c.header, c.value)
				r.Header.Set("Content-Type", media)
				w := httptest.NewRecorder()
				api.ServeHTTP(w, r)
				assert.Equal(t, c.refused, w.Code == 403, "%s %s %s: %d %s", method, c.header, c.value, w.Code, w.Body)
			}
		}
	}
	r := httptest.NewRequest("GET", "/api/hives", nil)
	r.Header.Set("Sec-Fetch-Site", "cross-site")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	assert.Equal(t, 200, w.Code, "a link may lead here")
	_, err := rest.New(rest.Config{Origins: []string{"bees.example/path"}})
	assert.ErrorContains(t, err, "origins")
}

// TestHiddenLooksLikeMissing names a row of another owner, and one that is not
// there, in every place where a key can be named: nothing may tell them apart.
func TestHiddenLooksLikeMissing(t *testing.T) {
	for _, unreadable := range []bool{false, true} {
		for _, c := range []struct{ method, target, body string }{
			{"POST", "/api/frames", `{"label":"x","owner_id":%d}`}, {"POST", "/api/frames", `[{"label":"x","owner_id":1},{"label":"y","owner_id":%d}]`},
			{"POST", "/api/frames", `{"label":"x","owner_id":1,"from_id":%d}`}, {"POST", "/api/frames", `{"label":"x","owner_id":1,"kids":[{"label":"k","owner_id":%d}]}`},
			{"POST", "/api/frames", `{"label":"x","owner_id":1,"from":{"label":"k","owner_id":%d}}`}, {"POST", "/api/frames", `{"label":"x","owner_id":%[1]d,"from_id":%[1]d}`},
			{"POST", "/api/owners/1/frames", `{"label":"x","from_id":%d}`}, {"POST", "/api/owners/%d/frames", `{"label":"x"}`},
			{"PUT", "/api/frames/1", `{"label":"x","owner_id":%d}`}, {"PUT", "/api/frames/1", `{"label":"x","owner_id":1,"from_id":%d}`}, {"PUT", "/api/frames/%d", `{"label":"x","owner_id":1}`},
			{"PATCH", "/api/frames/1", `{"owner_id":%d}`}, {"PATCH", "/api/frames/1", `{"from_id":%d}`}, {"PATCH", "/api/frames/%d", `{}`}, {"PATCH", "/api/frames?id=1", `{"owner_id":%d}`}, {"PATCH", "/api/frames?id=1", `{"from_id":%d}`},
			{"DELETE", "/api/frames/%d", ""}, {"DELETE", "/api/frames?id=%d", ""}, {"GET", "/api/frames/%d", ""}, {"GET", "/api/frames/%d/kids", ""}, {"GET", "/api/owners/%d/patches", ""},
			{"PUT", "/api/owners/1/patches/%d", ""}, {"PUT", "/api/owners/%d/patches/1", ""}, {"DELETE", "/api/owners/1/patches/%d", ""},
			{"POST", "/api/batch", `{"calls":[{"method":"PATCH","path":"/frames/1","body":{"owner_id":%d}}]}`}, {"POST", "/api/batch", `{"calls":[{"method":"GET","path":"/frames/%d"}]}`},
			{"POST", "/api/batch", `{"calls":[{"method":"POST","path":"/frames","body":{"label":"x","owner_id":1,"from_id":%d}}]}`}, {"POST", "/api/batch", `{"calls":[{"method":"PUT","path":"/owners/1/patches/%d"}]}`},
			{"GET", "/api/frames?owner_id=%d&count=true", ""}, {"GET", "/api/frames/summary?by=label&measure=count&owner_id=%d", ""},
		} {
			answers := map[int]string{}
			for _, id := range []int{2, 99} { // both a hidden owner, frame and patch, and none
				api, _ := newRuled(t, true, ruledData)
				if unreadable {
					api, _ = newRuledWith(t, func(c *rest.Config) {
						c.Allow["owners"] = rest.Allow{Read: []string{"admin"}}
						c.Allow["frames"] = rest.Allow{Read: []string{"hand"}, Create: []string{"hand"}, Change: []string{"hand"}, Delete: []string{"hand"}, Rows: map[string]string{"hand": "owner_id = claim.sub"}}
					}, ruledData)
				}
				said := func(form string) string {
					if strings.Contains(form, "%") {
						return fmt.Sprintf(form, id)
					}
					return form
				}
				w := as(api, "hand:1", c.method, said(c.target), said(c.body))
				text := strings.ReplaceAll(w.Body.String(), said(c.target), c.target)
				answers[id] = fmt.Sprintln(w.Code, w.Header()["Location"], text)
			}
			assert.Equal(t, answers[99], answers[2], "%s %s %s (owners unreadable: %v)", c.method, c.target, c.body, unreadable)
		}
	}
}

// TestRepeatsAskForAccessAgain makes requests that were answered before, as one
// who may no longer see the answer, or not all of it.
func TestRepeatsAskForAccessAgain(t *testing.T) {
	keep := func(c *rest.Config) {
		c.Repeats = "request_key"
		frames := c.Allow["frames"]
		frames.Create = append(frames.Create, "helper")
		frames.Change = append(frames.Change, "helper")
		frames.Columns = map[string]rest.AllowColumn{"weight": {Read: []string{"hand"}}}
		c.Allow["frames"] = frames
	}
	const table = "; CREATE TABLE request_key (id TEXT PRIMARY KEY, request TEXT NOT NULL, answer TEXT NOT NULL, made_at TIMESTAMP NOT NULL)"
	send := func(api http.Handler, who, target, body string) *httptest.ResponseRecorder {
		return asWith(api, who, "POST", target, body, "Idempotency-Key", "one")
	}
	for _, c := range []struct{ target, body string }{
		{"/api/frames", `{"label":"x","owner_id":1,"weight":4711}`}, {"/api/frames", `[{"label":"x","owner_id":1,"weight":4711}]`},
		{"/api/owners/1/frames", `{"label":"x","weight":4711,"kids":[{"label":"k","owner_id":1,"weight":4711}]}`},
		{"/api/batch", `{"calls":[{"method":"POST","path":"/frames","body":{"label":"x","owner_id":1,"weight":4711}},{"method":"PATCH","path":"/frames/4","body":{"weight":4711}},{"method":"GET","path":"/frames/4"},{"method":"DELETE","path":"/frames/6"}]}`},
	} {
		api, db := newRuledWith(t, keep, ruledData+table)
		first := send(api, "hand:1", c.target, c.body)
		require.Less(t, first.Code, 300, first.Body)
		before := dump(t, db)
		again := send(api, "hand:1", c.target, c.body)
		assert.Equal(t, first.Code, again.Code)
		assert.Equal(t, first.Body.String(), again.Body.String())
		assert.Equal(t, first.Header(), again.Header())
		for _, who := range []string{"guest:1", "nobody:1"} {
			w := send(api, who, c.target, c.body)
			assert.Equal(t, 403, w.Code, "%s %s: %s", who, c.target, w.Body)
			assert.NotContains(t, w.Body.String(), "4711")
		}
		w := send(api, "helper:1", c.target, c.body)
		assert.NotContains(t, w.Body.String(), "4711", "%s: a column that the role does not see", c.target)
		assert.Equal(t, before, dump(t, db), "nothing is done again")
		_, err := db.Exec(t.Context(), "UPDATE frame SET owner_id = 2", nil)
		require.NoError(t, err)
		w = send(api, "hand:1", c.target, c.body)
		assert.Equal(t, 404, w.Code, "%s: the row belongs to another now: %s", c.target, w.Body)
		assert.NotContains(t, w.Body.String(), "4711")
	}
	api := newAPI(t, rest.Config{})
	for _, method := range []string{"POST", "PUT", "PATCH", "DELETE"} {
		r := httptest.NewRequest(method, map[bool]string{true: "/api/hives", false: "/api/hives/2"}[method == "POST"], strings.NewReader(`{"name":"x"}`))
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Idempotency-Key", "k")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		assert.Equal(t, 400, w.Code, "%s: a key that is not kept is refused: %s", method, w.Body)
	}
	assert.Contains(t, call(api, "GET", "/api/hives?count=true", "").Body.String(), `"matched":2`)
}

// slow sends the head of a request, and a part of its body.
func slow(t *testing.T, address, part string) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	_, err = fmt.Fprintf(conn, "POST /api/hives HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n%s", part)
	require.NoError(t, err)
	return conn
}

// late is a body whose reader gets no turn for a while, though all of it has arrived.
type late struct {
	io.ReadCloser
	once sync.Once
}

func (l *late) Read(b []byte) (int, error) {
	l.once.Do(func() { time.Sleep(1500 * time.Millisecond) })
	return l.ReadCloser.Read(b)
}

// TestLateReader has a server too busy to read a body that is there, while others
// send theirs by halves: it is no slow sender.
func TestLateReader(t *testing.T) {
	api := newAPI(t, rest.Config{Limits: rest.Limits{Requests: 8}})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Late") != "" {
			r.Body = &late{ReadCloser: r.Body}
		}
		api.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	address := server.Listener.Addr().String()
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	for _, part := range []string{"POST /api/hives HTTP/1.1\r\nHost: localhost\r\nLate: yes\r\nContent-Type: application/json\r\nContent-Length: 15\r\n\r\n", `{"name":"late"}`} {
		_, err = io.WriteString(conn, part)
		require.NoError(t, err)
		time.Sleep(100 * time.Millisecond)
	}
	time.Sleep(1200 * time.Millisecond)
	for range 80 {
		slow(t, address, `{"name":`)
	}
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, 201, answer.StatusCode, "%s", text)
}

// TestSlowSenders sends many bodies by halves; others must be answered meanwhile.
func TestSlowSenders(t *testing.T) {
	address := serveAt(t, newAPI(t, rest.Config{Limits: rest.Limits{Requests: 8}}))
	first := slow(t, address, "{")
	for range 200 {
		slow(t, address, `{"name":`)
	}
	for i := range 20 {
		start := time.Now()
		res, err := http.Post("http://"+address+"/api/hives", "application/json", strings.NewReader(fmt.Sprintf(`{"name":"h%d"}`, i)))
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 201, res.StatusCode)
		assert.Less(t, time.Since(start), 5*time.Second)
		res, err = http.Get("http://" + address + "/api/hives")
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 200, res.StatusCode)
	}
	require.NoError(t, first.SetReadDeadline(time.Now().Add(20*time.Second)))
	answer, err := http.ReadResponse(bufio.NewReader(first), nil)
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, 408, answer.StatusCode, "%s", text)
	assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
}
