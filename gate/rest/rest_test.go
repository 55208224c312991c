package rest_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
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

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type hive struct {
	ID     int64
	Name   string
	FromID gate.Maybe[int64]
	Seen   gate.Maybe[time.Time]
	Weight gate.Decimal
	Secret gate.Maybe[string]

	Splits []*hive
	From   *hive
}

var hiveDef = gate.Describe(gate.Spec[*hive]{
	New:  func() *hive { return new(hive) },
	Name: "hive",
	Fields: []gate.Field[*hive]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *hive) any { return &e.ID }},
		{Name: "name", Type: gate.TypeText, Max: 20, In: func(e *hive) any { return &e.Name }},
		{Name: "from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *hive) any { return &e.FromID }},
		{Name: "seen", Type: gate.TypeTimestampTZ, Flags: gate.Nullable, In: func(e *hive) any { return &e.Seen }},
		{Name: "weight", Type: gate.TypeNumeric, Default: "0", Flags: gate.HasDefault, In: func(e *hive) any { return &e.Weight }},
		{Name: "secret", Type: gate.TypeText, Flags: gate.Nullable | gate.Hidden, In: func(e *hive) any { return &e.Secret }},
	},
})

var (
	hives  = gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} })
	splits = gate.NewToMany(hiveDef, hiveDef, gate.On{{"id", "from_id"}}, func(e *hive) *[]*hive { return &e.Splits })
	from   = gate.NewToOne(hiveDef, hiveDef, gate.On{{"from_id", "id"}}, func(e *hive) **hive { return &e.From })
)

// newAPI serves two hives, of which the second was split from the first.
func newAPI(t testing.TB, config rest.Config) *rest.API {
	api, _ := newAPIOn(t, config)
	return api
}

func newAPIOn(t testing.TB, config rest.Config) (*rest.API, gate.DB) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	ctx := context.Background()
	db, err := sqlite.Open(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec(ctx, `CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT NOT NULL, from_id INTEGER REFERENCES hive (id), seen TIMESTAMP WITH TIME ZONE, weight DECIMAL NOT NULL DEFAULT 0, secret TEXT)`, nil)
	require.NoError(t, err)
	_, err = db.Exec(ctx, `CREATE TABLE request_key (id TEXT PRIMARY KEY, request TEXT NOT NULL, answer TEXT NOT NULL, made_at TIMESTAMP NOT NULL)`, nil)
	require.NoError(t, err)
	require.NoError(t, hives.Insert(ctx, db, &hive{ID: 1, Name: "one", Secret: gate.Just("hush")}))
	require.NoError(t, hives.Insert(ctx, db, &hive{ID: 2, Name: "a/b,c %", FromID: gate.Just[int64](1)}))
	shape := rest.NewShape("hives", &hives, rest.Relate("splits", splits), rest.Relate("from", from))
	if w, ok := config.DB.(*waiting); ok {
		w.DB = db
	} else {
		config.DB = db
	}
	config.Base = "/api"
	api, err := rest.New(config, rest.Mount(shape, []rest.Route{
		rest.On("GET /hives", func(w http.ResponseWriter, r *http.Request) error {
			list, err := rest.ReadList(r, shape)
			if err != nil {
				return err
			}
			return rest.SendList(w, r, shape, list)
		}),
		rest.On("GET /hives/{key}", func(w http.ResponseWriter, r *http.Request) error {
			key, err := rest.ReadKey(r, shape)
			if err != nil {
				return err
			}
			return rest.SendRow(w, r, shape, key)
		}),
		rest.On("POST /hives", rest.Create(shape)),
		rest.On("PUT /hives/{key}", rest.Replace(shape)),
		rest.On("PATCH /hives/{key}", rest.Change(shape)),
		rest.On("DELETE /hives/{key}", rest.Remove(shape)),
		rest.On("GET /hives/summary", rest.Summarize(shape)),
		rest.On("GET /hives/{key}/splits", rest.ListUnder(shape, splits.Of, shape)),
		rest.On("GET /boom", func(http.ResponseWriter, *http.Request) error { return errors.New("the password is hunter2") }),
		rest.On("GET /slow", func(http.ResponseWriter, *http.Request) error { return context.DeadlineExceeded }),
		rest.On("GET /away", func(http.ResponseWriter, *http.Request) error { return fmt.Errorf("dial: %w", gate.ErrUnavailable) }),
	}))
	require.NoError(t, err)
	return api, db
}

// serveAt serves an API until the test ends.
func serveAt(t *testing.T, api *rest.API) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	require.NoError(t, l.Close())
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- api.ListenAndServe(ctx, address) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-ended)
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	return address
}

func call(api http.Handler, method, target, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

func TestHiddenColumnsStayHidden(t *testing.T) {
	api := newAPI(t, rest.Config{})
	assert.NotContains(t, call(api, "GET", "/api/hives", "").Body.String(), "hush")
	assert.NotContains(t, call(api, "GET", "/api/hives/1?with=splits", "").Body.String(), "secret")
	for _, target := range []string{"/api/hives?secret=hush", "/api/hives?sortby=secret"} {
		w := call(api, "GET", target, "")
		assert.Equal(t, 400, w.Code)
		assert.NotContains(t, w.Body.String(), "name, from_id, seen, weight, secret")
	}
	w := call(api, "PATCH", "/api/hives/1", `{"secret":"known"}`)
	assert.Equal(t, 422, w.Code)
	assert.Equal(t, 422, call(api, "POST", "/api/hives", `{"name":"x","secret":"y"}`).Code)
}

func TestFaultsOfTheServiceStayInside(t *testing.T) {
	api := newAPI(t, rest.Config{})
	w := call(api, "GET", "/api/boom", "")
	assert.Equal(t, 500, w.Code)
	assert.NotContains(t, w.Body.String(), "hunter2")
	assert.Equal(t, 504, call(api, "GET", "/api/slow", "").Code)
	w = call(api, "GET", "/api/away", "")
	assert.Equal(t, 503, w.Code)
	assert.Equal(t, "2", w.Header().Get("Retry-After"))
}

func TestNumbersKeepTheirDigits(t *testing.T) {
	api := newAPI(t, rest.Config{})
	w := call(api, "POST", "/api/hives", `{"name":"heavy","weight":"12.50"}`)
	require.Equal(t, 201, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), `"weight":"12.5"`, "a number of any size is a string")
	assert.Equal(t, 422, call(api, "POST", "/api/hives", `{"name":"x","weight":1e400}`).Code)
}

func TestAddresses(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for address, want := range map[string]string{
		"127.0.0.1:0": "", "localhost:0": "", "[::1]:0": "", "0.0.0.0:0": "other machines", ":0": "other machines", "192.0.2.1:0": "other machines", "nonsense": "is no address to listen on",
	} {
		err := newAPI(t, rest.Config{}).ListenAndServe(ctx, address)
		if want == "" {
			assert.NoError(t, err, address)
			continue
		}
		assert.ErrorContains(t, err, want, address)
	}
	assert.NoError(t, newAPI(t, rest.Config{Open: true}).ListenAndServe(ctx, "0.0.0.0:0"))
}

func TestRoutesThatClashAreAnError(t *testing.T) {
	shape := rest.NewShape("hives", &hives)
	nothing := func(http.ResponseWriter, *http.Request) error { return nil }
	_, err := rest.New(rest.Config{}, rest.Mount(shape, []rest.Route{rest.On("GET /hives", nothing), rest.On("GET /hives", nothing)}))
	require.ErrorContains(t, err, `route "GET /hives"`)
	_, err = rest.New(rest.Config{}, rest.Mount(rest.NewShape("hives", &hives, rest.Relate("splits", gate.NewToMany(hiveDef, otherDef, gate.On{{"id", "id"}}, func(*hive) *[]*hive { return nil }))), nil))
	require.ErrorContains(t, err, "which is no resource")
}

var otherDef = gate.Describe(gate.Spec[*hive]{Name: "other", New: func() *hive { return new(hive) }})

// FuzzRequests sends anything and looks whether the answer is a proper one.
func FuzzRequests(f *testing.F) {
	api := newAPI(f, rest.Config{})
	for _, s := range [][4]string{
		{"GET", "/hives", "limit=1&after=eyJvIjoiK2lkIiwidiI6WyIyIl19", ""},
		{"GET", "/hives", "sortby=-name,+id&with=splits.from&count=true", ""},
		{"GET", "/hives", "from_id=&name=x&name=y&seen=2026-01-01T00:00:00Z", ""},
		{"GET", "/hives/1%2C2", "with=splits.splits", ""},
		{"POST", "/hives", "", `{"name":"x","weight":1.5,"from_id":99}`},
		{"PUT", "/hives/2", "", `{"name":"\u0000"}`},
		{"PATCH", "/hives/2", "", `{"name":null,"id":3,"x":[{"y":1e999}]}`},
		{"DELETE", "/hives/9223372036854775808", "", ""},
		{"GET", "/hives/1/splits", "after=cm93IDI", ""},
		{"GET", "/hives", "filter=id*2-1>=weight/3 AND (from.name LIKE 'o%25' OR NOT splits.id IN (1,2.5)) AND CASEI(name)=CASEI('ONE')", ""},
		{"GET", "/hives", "filter-lang=cql2-json&filter={\"op\":\"between\",\"args\":[{\"property\":\"weight\"},1,{\"op\":\"^\",\"args\":[2,900]}]}", ""},
		{"GET", "/hives", "properties=name,id&with=splits(limit:2;sortby:-name)&f=xml&offset=1&q=a b", ""},
		{"GET", "/hives", "limit=none&f=csv&sortby=-from.name", ""},
		{"GET", "/hives/summary", "by=from.name&measure=count,sum(weight),max(seen),avg(id)&having=count>0 AND sum_weight<5&sortby=-count", ""},
		{"POST", "/hives", "", `[{"name":"x","splits":[{"name":"y","splits":[]}],"from":{"name":"z"}},{"name":"x","id":1}]`},
		{"POST", "/batch", "", `{"calls":[{"method":"POST","path":"/hives","body":{"name":"q"}},{"method":"GET","path":"/hives?filter=id=3"}]}`},
	} {
		f.Add(s[0], s[1], s[2], s[3])
	}
	f.Fuzz(func(t *testing.T, method, path, query, body string) {
		u, err := url.Parse("/api" + path)
		if err != nil || strings.ContainsAny(method, " \t\r\n") || method == "" || strings.HasPrefix(path, "/boom") || strings.HasPrefix(path, "/slow") || strings.HasPrefix(path, "/away") {
			return
		}
		r := &http.Request{Method: method, URL: u, Header: http.Header{"Content-Type": {"application/json"}}, Host: "localhost"}
		r.URL.RawQuery = query
		r.Body = http.NoBody
		if body != "" {
			r.Body = httptest.NewRequest("POST", "/", strings.NewReader(body)).Body
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r.WithContext(t.Context()))
		require.Less(t, w.Code, 500, "%s %s?%s %s: %s", method, path, query, body, w.Body)
		if media := w.Header().Get("Content-Type"); w.Body.Len() > 0 && (media == "application/json" || media == "application/problem+json") {
			require.True(t, json.Valid(w.Body.Bytes()), w.Body)
		}
	})
}
