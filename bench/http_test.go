package bench

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// servers are the generated service and the one by hand, on one database, each in
// a process of its own.
type servers struct {
	ours   *server
	apart  *server // ours without putting requests together
	theirs *server
}

func serve(t testing.TB, s sides) servers {
	return servers{start(t, "ours", s.engine, s.url), start(t, "apart", s.engine, s.url), start(t, "byhand", s.engine, s.urlByHand)}
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

func dial(b testing.TB, s *server) *client {
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
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

// exchange is one request to each of the servers.
type exchange struct {
	name         string
	ours, theirs func(i int) []byte
	connections  int
	apart        bool
	aim          map[string]aim
}

// aim is what is asked: how many times more requests, with what share of the
// processor's time.
type aim struct{ times, cpu string }

func aims(postgres, mysql, sqlite aim) map[string]aim {
	return map[string]aim{"postgres": postgres, "mysql": mysql, "sqlite": sqlite}
}

func exchanges() []exchange {
	at := func(i int) int { return 1 + i*7919%(rows-1100) }
	get := func(format string) func(i int) []byte {
		return func(i int) []byte { return request("GET", fmt.Sprintf(format, at(i)), "") }
	}
	parents := func(format string) func(i int) []byte {
		return func(i int) []byte { return request("GET", fmt.Sprintf(format, at(i)%1800), "") }
	}
	post := func(path string) func(i int) []byte {
		return func(i int) []byte { return request("POST", path, bodyOf(i)) }
	}
	always := func(method, path, body string) func(int) []byte {
		text := request(method, path, body)
		return func(int) []byte { return text }
	}
	var list []string
	for i := range 1000 {
		list = append(list, bodyOf(i))
	}
	thousand := "[" + strings.Join(list, ",") + "]"
	return []exchange{
		{"GET one, 8", get("/api/deliveries/%d"), get("/deliveries/%d"), 8, false, aims(aim{"1.2", "75"}, aim{"1.15", "80"}, aim{"1.6", "60"})},
		{"GET one, 64", get("/api/deliveries/%d"), get("/deliveries/%d"), 64, false, aims(aim{"1.5", "65"}, aim{"1.45", "70"}, aim{"1.5", "65"})},
		{"list of 100", get("/api/deliveries?limit=100&filter=id>=%d"), get("/deliveries?limit=100&from=%d"), 8, false, aims(aim{"3.0", "30"}, aim{"1.9", "45"}, aim{"4.0", "28"})},
		{"list of 1,000", get("/api/deliveries?limit=1000&filter=id>=%d"), get("/deliveries?limit=1000&from=%d"), 8, false, aims(aim{"4.0", "24"}, aim{"2.3", "40"}, aim{"5.0", "24"})},
		{"100 parents, 8 children", parents("/api/deliveries?limit=100&with=samples&filter=id>=%d"), parents("/deliveries?limit=100&with=samples&from=%d"), 8, false,
			aims(aim{"2.5", "32"}, aim{"1.7", "50"}, aim{"3.5", "35"})},
		{"POST one, 8", post("/api/deliveries"), post("/deliveries"), 8, false, aims(aim{"1.2", "90"}, aim{"1.0", "95"}, aim{"1.6", "75"})},
		{"POST one, 8, not read back", post("/api/deliveries"), post("/deliveries/unread"), 8, false, aims(aim{}, aim{}, aim{})},
		{"POST one, 64", post("/api/deliveries"), post("/deliveries"), 64, false, aims(aim{"1.8", "75"}, aim{"1.5", "85"}, aim{"2.0", "70"})},
		{"GET one, 64, each apart", get("/api/deliveries/%d"), get("/deliveries/%d"), 64, true, aims(aim{}, aim{}, aim{})},
		{"POST one, 64, each apart", post("/api/deliveries"), post("/deliveries"), 64, true, aims(aim{}, aim{}, aim{})},
		{"POST 1,000 in one body", always("POST", "/api/deliveries", thousand), always("POST", "/deliveries", thousand), 1, false,
			aims(aim{"5", "40"}, aim{"3", "45"}, aim{"2.5", "50"})},
		{"export as NDJSON", always("GET", "/api/deliveries?limit=none&f=ndjson", ""), always("GET", "/deliveries/export", ""), 1, false,
			aims(aim{"3.5", "25"}, aim{"2.5", "33"}, aim{"5.0", "20"})},
	}
}

// ofLimit is how near the list of 100 comes to what could be at best.
var ofLimit = exchange{"list of 100 ÷ limit", func(i int) []byte {
	return request("GET", fmt.Sprintf("/api/deliveries?limit=100&filter=id>=%d", 1+i*7919%(rows-1100)), "")
}, func(i int) []byte {
	return request("GET", fmt.Sprintf("/?from=%d", 1+i*7919%(rows-1100)), "")
}, 8, false, nil}

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
				together := read(t, both.apart.URL+ours)
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
			for _, server := range []struct{ url, path string }{{both.ours.URL, "/api/deliveries"}, {both.theirs.URL, "/deliveries"}, {both.theirs.URL, "/deliveries/unread"}} {
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
