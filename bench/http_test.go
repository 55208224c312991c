package bench

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/bench/api"
	"widegate/gate/rest"
)

// servers are the generated service and the one by hand, on one database.
type servers struct {
	ours     *httptest.Server
	gathered *httptest.Server // ours with requests put together
	theirs   *httptest.Server
}

func serve(t testing.TB, s sides) servers {
	service, err := api.New(s.db)
	require.NoError(t, err)
	gathering, err := api.New(s.db, func(c *rest.Config) { c.Gather = true })
	require.NoError(t, err)
	list := servers{httptest.NewServer(service), httptest.NewServer(gathering), httptest.NewServer(s.store.Handler())}
	t.Cleanup(list.ours.Close)
	t.Cleanup(list.gathered.Close)
	t.Cleanup(list.theirs.Close)
	return list
}

// request is a request as it goes over the wire, so that the client costs
// little beside the servers.
func request(method, path, body string) []byte {
	text := fmt.Sprintf("%s %s HTTP/1.1\r\nHost: localhost\r\n", method, path)
	if body != "" {
		text += fmt.Sprintf("Content-Type: application/json\r\nContent-Length: %d\r\n", len(body))
	}
	return []byte(text + "\r\n" + body)
}

// client sends requests over one connection, one after another.
type client struct {
	conn net.Conn
	in   *bufio.Reader
}

func dial(b testing.TB, server *httptest.Server) *client {
	conn, err := net.Dial("tcp", strings.TrimPrefix(server.URL, "http://"))
	require.NoError(b, err)
	b.Cleanup(func() { conn.Close() })
	return &client{conn, bufio.NewReaderSize(conn, 64<<10)}
}

func (c *client) do(text []byte) error {
	if _, err := c.conn.Write(text); err != nil {
		return err
	}
	res, err := http.ReadResponse(c.in, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body := io.Reader(res.Body)
	if res.StatusCode >= 300 {
		said, _ := io.ReadAll(body)
		return fmt.Errorf("%s: %s", res.Status, said)
	}
	_, err = io.Copy(io.Discard, body)
	return err
}

// load sends n requests over some connections at once.
func load(clients []*client, n int, make func(i int) []byte) error {
	var next atomic.Int64
	var failed atomic.Pointer[error]
	var wait sync.WaitGroup
	for _, c := range clients {
		wait.Go(func() {
			for i := next.Add(1); int(i) <= n; i = next.Add(1) {
				if err := c.do(make(int(i))); err != nil {
					failed.Store(&err)
					return
				}
			}
		})
	}
	wait.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	return nil
}

// exchange is one request to each of the servers.
type exchange struct {
	name         string
	ours, theirs func(i int) []byte
	connections  int
	aim          map[string]string
	gathered     bool
}

func exchanges() []exchange {
	at := func(i int) int { return 1 + i*7919%(rows-1100) }
	get := func(format string) func(i int) []byte {
		return func(i int) []byte { return request("GET", fmt.Sprintf(format, at(i)), "") }
	}
	post := func(path string) func(i int) []byte {
		return func(i int) []byte { return request("POST", path, bodyOf(i)) }
	}
	var list []string
	for i := range 1000 {
		list = append(list, bodyOf(i))
	}
	thousand := "[" + strings.Join(list, ",") + "]"
	return []exchange{
		{"GET one by key", get("/api/deliveries/%d"), get("/deliveries/%d"), 8, map[string]string{"postgres": "1.2", "mysql": "1.3", "sqlite": "1.6"}, false},
		{"GET one, 32, together", get("/api/deliveries/%d"), get("/deliveries/%d"), 32, map[string]string{"postgres": "2.0", "mysql": "2.0", "sqlite": "–"}, true},
		{"GET list of 100", get("/api/deliveries?limit=100&filter=id>=%d"), get("/deliveries?limit=100&from=%d"), 8, map[string]string{"postgres": "2.4", "mysql": "2.0", "sqlite": "4.5"}, false},
		{"GET list of 1,000", get("/api/deliveries?limit=1000&filter=id>=%d"), get("/deliveries?limit=1000&from=%d"), 8, map[string]string{"postgres": "3.0", "mysql": "2.3", "sqlite": "5.0"}, false},
		{"GET 100 with 8 children", func(i int) []byte {
			return request("GET", fmt.Sprintf("/api/deliveries?limit=100&with=samples&filter=id>=%d", at(i)%1800), "")
		}, func(i int) []byte {
			return request("GET", fmt.Sprintf("/deliveries?limit=100&with=samples&from=%d", at(i)%1800), "")
		}, 8, map[string]string{"postgres": "2.0", "mysql": "1.6", "sqlite": "4.0"}, false},
		{"POST one, 8 connections", post("/api/deliveries"), post("/deliveries"), 8, map[string]string{"postgres": "1.0", "mysql": "1.0", "sqlite": "1.3"}, false},
		{"POST one, 8, together", post("/api/deliveries"), post("/deliveries"), 8, map[string]string{"postgres": "1.0", "mysql": "1.0", "sqlite": "1.3"}, true},
		{"POST one, 64, together", post("/api/deliveries"), post("/deliveries"), 64, map[string]string{"postgres": "2.0", "mysql": "1.7", "sqlite": "2.0"}, true},
		{"POST 1,000 in one body", func(int) []byte { return request("POST", "/api/deliveries", thousand) },
			func(int) []byte { return request("POST", "/deliveries", thousand) }, 1, map[string]string{"postgres": "6", "mysql": "3.5", "sqlite": "2.2"}, false},
		{"export as NDJSON", func(int) []byte { return request("GET", "/api/deliveries?limit=none&f=ndjson", "") },
			func(int) []byte { return request("GET", "/deliveries/export", "") }, 1, map[string]string{"postgres": "3.0", "mysql": "2.5", "sqlite": "5.0"}, false},
	}
}

// bodyOf is the i-th delivery as it is sent.
func bodyOf(i int) string {
	d := byHand(delivery(i))
	text, err := json.Marshal(map[string]any{
		"code": d.Code, "keeper": d.Keeper, "remark": d.Remark, "weight_kg": json.Number(d.WeightKg), "is_accepted": d.IsAccepted,
		"delivered_on": d.DeliveredOn.Format(time.DateOnly), "recorded_at": d.RecordedAt, "tag": d.Tag, "facts": json.RawMessage(d.Facts),
		"moisture": d.Moisture, "region": d.Region, "grade": d.Grade,
	})
	if err != nil {
		panic(err)
	}
	return string(text)
}

// TestBothServicesGiveTheSame keeps the comparison honest.
func TestBothServicesGiveTheSame(t *testing.T) {
	for _, engine := range engines {
		t.Run(engine, func(t *testing.T) {
			s := open(t, engine)
			fill(t, &s, 120)
			both := serve(t, s)
			for ours, theirs := range map[string]string{
				"/api/deliveries/7":                                          "/deliveries/7",
				"/api/deliveries?limit=100&filter=id>=3":                     "/deliveries?limit=100&from=3",
				"/api/deliveries?limit=5&with=samples&filter=id>=100":        "/deliveries?limit=5&with=samples&from=100",
				"/api/deliveries?limit=none&f=ndjson":                        "/deliveries/export",
				"/api/deliveries?limit=2&filter=id>=3&sortby=id&count=false": "/deliveries?limit=2&from=3",
			} {
				want, got := read(t, both.theirs.URL+theirs), read(t, both.ours.URL+ours)
				together := read(t, both.gathered.URL+ours)
				for i := range together {
					delete(together[i].(map[string]any), "next")
				}
				assert.Len(t, got, len(want), ours)
				for i := range want {
					delete(got[i].(map[string]any), "next")
					assert.Equal(t, want[i], got[i], ours)
					assert.Equal(t, want[i], together[i], ours)
				}
			}
			for _, server := range []struct{ url, path string }{{both.ours.URL, "/api/deliveries"}, {both.theirs.URL, "/deliveries"}} {
				res, err := http.Post(server.url+server.path, "application/json", strings.NewReader(bodyOf(1)))
				require.NoError(t, err)
				assert.Equal(t, 201, res.StatusCode)
				res.Body.Close()
			}
		})
	}
}

// read is the documents of an answer, one a line, with the same times in UTC.
func read(t *testing.T, url string) []any {
	res, err := http.Get(url)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Equal(t, 200, res.StatusCode, "%s", text)
	var list []any
	dec := json.NewDecoder(bytes.NewReader(text))
	for dec.More() {
		var v any
		require.NoError(t, dec.Decode(&v))
		list = append(list, settled(v))
	}
	return list
}

func settled(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k, m := range v {
			v[k] = settled(m)
		}
	case []any:
		for i, m := range v {
			v[i] = settled(m)
		}
	case string:
		if at, err := time.Parse(time.RFC3339Nano, v); err == nil {
			return at.UTC().Format(time.RFC3339Nano)
		}
	}
	return v
}

// BenchmarkService prints for each exchange how many times more requests the
// generated service answers, and its share of the processor's time a request.
func BenchmarkService(b *testing.B) {
	for _, engine := range engines {
		b.Run(engine, func(b *testing.B) {
			s := open(b, engine)
			fill(b, &s, rows)
			both := serve(b, s)
			for _, e := range exchanges() {
				if *only != "" && !strings.Contains(e.name, *only) {
					continue
				}
				speed, cpu := compareLoads(b, e, both)
				fmt.Printf("%-9s %-26s %5.2f ×  (aim %-3s)  CPU %3.0f %%\n", engine, e.name, speed, e.aim[engine], 100*cpu)
			}
			s.limit(b, both)
		})
	}
}

func compareLoads(b *testing.B, e exchange, both servers) (speed, cpu float64) {
	b.Helper()
	var ours, theirs []*client
	for range e.connections {
		server := both.ours
		if e.gathered {
			server = both.gathered
		}
		ours, theirs = append(ours, dial(b, server)), append(theirs, dial(b, both.theirs))
	}
	run := func(clients []*client, make func(i int) []byte) func(n int) error {
		return func(n int) error { return load(clients, n, make) }
	}
	return compareRuns(b, run(ours, e.ours), run(theirs, e.theirs))
}

// limit prints how near the list of 100 comes to what could be at best: the same
// query, whose rows are thrown away, and an answer of the same length.
func (s sides) limit(b *testing.B, both servers) {
	b.Helper()
	if *only != "" && !strings.Contains("GET list of 100", *only) {
		return
	}
	res, err := http.Get(both.ours.URL + "/api/deliveries?limit=100")
	require.NoError(b, err)
	text, err := io.ReadAll(res.Body)
	require.NoError(b, err)
	res.Body.Close()
	empty := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rows, err := s.db.Query(r.Context(), limitQuery[s.engine], []any{int64(len(r.URL.RawQuery))})
		if err != nil {
			panic(err)
		}
		defer rows.Close()
		for rows.Next() {
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(text)))
		w.Write(text)
	}))
	defer empty.Close()
	var ours, best []*client
	for range 8 {
		ours, best = append(ours, dial(b, both.ours)), append(best, dial(b, empty))
	}
	all := exchanges()
	list := all[slices.IndexFunc(all, func(e exchange) bool { return e.name == "GET list of 100" })].ours
	speed, cpu := compareRuns(b, func(n int) error { return load(ours, n, list) }, func(n int) error { return load(best, n, list) })
	fmt.Printf("%-9s %-26s %5.2f ×  (limit  1)  CPU %3.0f %%\n", s.engine, "GET list of 100 ÷ limit", speed, 100*cpu)
}

const allColumns = `id, code, keeper, remark, weight_kg, is_accepted, delivered_on, recorded_at, previous_id, tag, facts, moisture, region, grade`

var limitQuery = map[string]string{
	"postgres": "SELECT " + allColumns + " FROM delivery WHERE id >= $1 ORDER BY id LIMIT 101",
	"mysql":    "SELECT " + allColumns + " FROM delivery WHERE id >= ? ORDER BY id LIMIT 101",
	"sqlite":   "SELECT " + allColumns + " FROM delivery WHERE id >= ? ORDER BY id LIMIT 101",
}
