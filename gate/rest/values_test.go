package rest_test

import (
	"encoding/csv"
	"fmt"
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

type note struct {
	ID     int64
	Text   string
	At     gate.Maybe[time.Time]
	Zoned  gate.Maybe[time.Time]
	Day    gate.Maybe[gate.Date]
	Price  gate.Maybe[gate.Decimal]
	Exact  gate.Maybe[gate.Decimal]
	Facts  gate.Maybe[gate.JSON]
	Number int64
	Code   gate.Maybe[string]
}

var noteDef = gate.Describe(gate.Spec[*note]{
	Name: "note", New: func() *note { return new(note) },
	Uniques: []gate.Unique{{Name: "note_code", Columns: []string{"code", "number"}}},
	Fields: []gate.Field[*note]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *note) any { return &e.ID }},
		{Name: "text", Type: gate.TypeText, In: func(e *note) any { return &e.Text }},
		{Name: "at", Type: gate.TypeTimestamp, Flags: gate.Nullable, In: func(e *note) any { return &e.At }},
		{Name: "zoned", Type: gate.TypeTimestampTZ, Flags: gate.Nullable, In: func(e *note) any { return &e.Zoned }},
		{Name: "day", Type: gate.TypeDate, Flags: gate.Nullable, In: func(e *note) any { return &e.Day }},
		{Name: "price", Type: gate.TypeNumeric, Precision: 10, Scale: 2, Flags: gate.Nullable, In: func(e *note) any { return &e.Price }},
		{Name: "exact", Type: gate.TypeNumeric, Flags: gate.Nullable, In: func(e *note) any { return &e.Exact }},
		{Name: "facts", Type: gate.TypeJSON, Flags: gate.Nullable, In: func(e *note) any { return &e.Facts }},
		{Name: "number", Type: gate.TypeInt64, Default: "0", Flags: gate.HasDefault, In: func(e *note) any { return &e.Number }},
		{Name: "code", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *note) any { return &e.Code }},
	},
})

var notes = gate.NewTable(noteDef, func(k *int64) []any { return []any{k} })

func newNotes(t testing.TB) (*rest.API, gate.DB, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec(t.Context(), "CREATE TABLE note (id INTEGER PRIMARY KEY, text TEXT NOT NULL, at TIMESTAMP, zoned TIMESTAMP, day DATE, price DECIMAL(10,2), exact DECIMAL, facts JSON, number INTEGER NOT NULL DEFAULT 0, code TEXT, CONSTRAINT note_code UNIQUE (code, number))", nil)
	require.NoError(t, err)
	shape := rest.NewShape("notes", &notes)
	api, err := rest.New(rest.Config{Base: "/api", DB: db}, rest.Mount(shape, routesOf("notes", shape)))
	require.NoError(t, err)
	return api, db, path
}

// TestBodiesAreNotGuessed sends values that a column could only keep as others:
// each is refused with its place, and nothing is stored.
func TestBodiesAreNotGuessed(t *testing.T) {
	api, _, _ := newNotes(t)
	for _, c := range []struct {
		body, pointer string
		status        int
	}{
		{`{"text":"x","number":"5"}`, "#/number", 422}, {`{"text":"x","price":"5"}`, "#/price", 422}, {`{"text":"x","price":5.123}`, "#/price", 422}, {`{"text":5}`, "#/text", 422},
		{`{"text":"x","at":"2026-05-01T09:30:00+02:00"}`, "#/at", 422}, {`{"text":"x","at":"2026-05-01T09:30:00Z"}`, "#/at", 422}, {`{"text":"x","at":"2026-05-01T09:30:00.1234567"}`, "#/at", 422},
		{`{"text":"x","day":"0000-00-00"}`, "#/day", 422}, {`{"text":"x","day":"2026-05-00"}`, "#/day", 422}, {`{"text":"x","day":"2026-02-30"}`, "#/day", 422}, {`{"text":"x","zoned":"0000-00-00T00:00:00Z"}`, "#/zoned", 422},
		{`{"text":"x","text":"y"}`, "#/text", 422}, {`{"text":"x","facts":{"a":1,"a":2}}`, "#/facts", 422}, {`{"text":"x","facts":[{"b":{"a":1,"a":2}}]}`, "#/facts", 422},
		{`{"text":"\ud800"}`, "", 422}, {`{"text":"\udc00\ud800"}`, "", 422}, {`{"text":"x","facts":"\ud83dx"}`, "", 422}, {"{\"text\":\"\xff\"}", "", 400}, {`{"text":"\u0000"}`, "#/text", 422},
		{`{"text":"x","exact":"1.23456789012345678"}`, "#/exact", 422}, {`{"text":"x","exact":"NaN"}`, "#/exact", 422}, {`{"text":"x","exact":12345678901234567890}`, "#/exact", 422},
	} {
		w := call(api, "POST", "/api/notes", c.body)
		assert.Equal(t, c.status, w.Code, "%s: %s", c.body, w.Body)
		assert.Contains(t, w.Body.String(), c.pointer, c.body)
	}
	assert.Contains(t, call(api, "GET", "/api/notes?count=true", "").Body.String(), `"matched":0`)
	w := call(api, "POST", "/api/notes", `{"text":"\ud83d\ude00 \u00e9","at":"2026-05-01T09:30:00.123456","zoned":"2026-05-01T09:30:00+02:00","price":5.10,"exact":"5","facts":{"n":12345678901234567890}}`)
	require.Equal(t, 201, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), `"text":"😀 é","at":"2026-05-01T09:30:00.123456","zoned":"2026-05-01T07:30:00Z"`)
	assert.Contains(t, w.Body.String(), `12345678901234567890`)
}

// TestKeysOfTheBody sends a key that is not that of the path.
func TestKeysOfTheBody(t *testing.T) {
	api, _, _ := newNotes(t)
	require.Equal(t, 201, call(api, "POST", "/api/notes", `{"text":"one"}`).Code)
	for method, body := range map[string]string{"PUT": `{"id":2,"text":"x"}`, "PATCH": `{"id":2}`} {
		w := call(api, method, "/api/notes/1", body)
		assert.Equal(t, 422, w.Code, w.Body)
		assert.Contains(t, w.Body.String(), `"#/id"`)
	}
	assert.Equal(t, 200, call(api, "PUT", "/api/notes/1", `{"id":1,"text":"x"}`).Code)
	hives := newAPI(t, rest.Config{})
	w := call(hives, "POST", "/api/hives", `{"name":"p","splits":[{"name":"c","from_id":1}]}`)
	assert.Equal(t, 422, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), "#/splits/0/from_id")
}

// TestPatchesReachIntoJSON applies the cases of RFC 7396, and patches with null.
func TestPatchesReachIntoJSON(t *testing.T) {
	api, _, _ := newNotes(t)
	require.Equal(t, 201, call(api, "POST", "/api/notes", `{"text":"one"}`).Code)
	for _, c := range [][3]string{ // of the appendix of RFC 7396
		{`{"a":"b"}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"b"}`, `{"b":"c"}`, `{"a":"b","b":"c"}`}, {`{"a":"b"}`, `{"a":null}`, `{}`}, {`{"a":"b","b":"c"}`, `{"a":null}`, `{"b":"c"}`},
		{`{"a":["b"]}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"c"}`, `{"a":["b"]}`, `{"a":["b"]}`}, {`{"a":{"b":"c"}}`, `{"a":{"b":"d","c":null}}`, `{"a":{"b":"d"}}`},
		{`{"a":[{"b":"c"}]}`, `{"a":[1]}`, `{"a":[1]}`}, {`["a","b"]`, `["c","d"]`, `["c","d"]`}, {`{"a":"b"}`, `["c"]`, `["c"]`}, {`{"e":null}`, `{"a":1}`, `{"e":null,"a":1}`}, {`[1,2]`, `{"a":"b","c":null}`, `{"a":"b"}`}, {`{}`, `{"a":{"bb":{"ccc":null}}}`, `{"a":{"bb":{}}}`},
		{`{"n":12345678901234567890}`, `{"m":1.0}`, `{"n":12345678901234567890,"m":1.0}`}, {`{"a":1}`, `null`, `null`},
	} {
		require.Equal(t, 200, call(api, "PUT", "/api/notes/1", `{"text":"one","facts":`+c[0]+`}`).Code)
		w := call(api, "PATCH", "/api/notes/1", `{"facts":`+c[1]+`}`)
		require.Equal(t, 200, w.Code, w.Body)
		assert.Contains(t, w.Body.String(), `"facts":`+c[2]+`,`, "%v", c)
	}
	steps := func(text string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("PATCH", "/api/notes/1", strings.NewReader(text))
		r.Header.Set("Content-Type", "application/json-patch+json")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		return w
	}
	require.Equal(t, 200, call(api, "PATCH", "/api/notes/1", `{"facts":{"a":1},"code":"c"}`).Code)
	w := steps(`[{"op":"test","path":"/facts/a","value":1.0},{"op":"replace","path":"/facts/a","value":null},{"op":"add","path":"/facts/b","value":null},{"op":"test","path":"/facts/b","value":null},{"op":"replace","path":"/code","value":null}]`)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), `"facts":{"a":null,"b":null}`)
	assert.Contains(t, w.Body.String(), `"code":null`)
	assert.Equal(t, 422, steps(`[{"op":"replace","path":"/code"}]`).Code, "a value is missing")
	assert.Equal(t, 422, steps(`[{"op":"test","path":"/facts/a","value":false}]`).Code)
}

// TestTablesKeepEveryCharacter sends texts through CSV and back.
func TestTablesKeepEveryCharacter(t *testing.T) {
	api, db, _ := newNotes(t)
	texts := []string{"a\rb", "a\nb", "a\r\nb", "\r", "\n", `"`, `""`, ",", " x ", "a\"b\"c", "ü\t", "\ufeff", "x\r\r\n\n"}
	var table strings.Builder
	table.WriteString("text,code\r\n")
	for i, s := range texts {
		fmt.Fprintf(&table, "\"%s\",%d\r\n", strings.ReplaceAll(s, `"`, `""`), i)
	}
	r := httptest.NewRequest("POST", "/api/notes", strings.NewReader(table.String()))
	r.Header.Set("Content-Type", "text/csv")
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	require.Equal(t, 201, w.Code, w.Body)
	for i, s := range texts {
		found, err := notes.Find(t.Context(), db, int64(i+1))
		require.NoError(t, err)
		assert.Equal(t, s, found.Text)
	}
	out := call(api, "GET", "/api/notes?f=csv&limit=none&properties=text,code", "").Body.String()
	again := strings.Replace(out, "text,code", "text,number", 1)
	r = httptest.NewRequest("POST", "/api/notes", strings.NewReader(again))
	r.Header.Set("Content-Type", "text/csv")
	w = httptest.NewRecorder()
	api.ServeHTTP(w, r)
	require.Equal(t, 201, w.Code, w.Body)
	rows := call(api, "GET", "/api/notes?properties=text&f=ndjson&limit=none", "").Body.String()
	lines := strings.Split(strings.TrimSpace(rows), "\n")
	require.Len(t, lines, 2*len(texts))
	assert.Equal(t, lines[:len(texts)], lines[len(texts):])
	for table, status := range map[string]int{"text,text\r\na,b\r\n": 422, "text,code\r\na\r\n": 400, "text\r\n\"a\r\n": 400, "text\r\na\"b\r\n": 400, "text\r\n\"a\"b\r\n": 400, "text\r\n\xff\r\n": 400} {
		r := httptest.NewRequest("POST", "/api/notes", strings.NewReader(table))
		r.Header.Set("Content-Type", "text/csv")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		assert.Equal(t, status, w.Code, "%q: %s", table, w.Body)
	}
}

// FuzzTables compares the reader of tables with that of the standard library, for
// tables without carriage returns, which the latter changes.
func FuzzTables(f *testing.F) {
	for _, s := range []string{"a,b\nc,d\n", "\"a\"\"b\",\"\n\"\n", "a\n\n,\n", "\"", "a\"b\n", ",\n\n\n,", "\"a\" \n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if strings.Contains(s, "\r") {
			return
		}
		reader := csv.NewReader(strings.NewReader(s))
		want, wrong := reader.ReadAll()
		got, err := rest.ReadTable([]byte(s))
		assert.Equal(t, wrong == nil, err == nil, "%q: %v, %v", s, wrong, err)
		if err == nil && len(want) > 0 {
			assert.Equal(t, want, got, "%q", s)
		}
	})
}

// TestStatusesOfFaults looks at what a caller is told where the file is locked, a
// text is very long, or a value is taken.
func TestStatusesOfFaults(t *testing.T) {
	api, db, path := newNotes(t)
	require.Equal(t, 201, call(api, "POST", "/api/notes", `{"text":"one","code":"c","number":3}`).Code)
	w := call(api, "POST", "/api/notes", `{"text":"two","code":"c","number":3}`)
	assert.Equal(t, 409, w.Code)
	assert.Contains(t, w.Body.String(), "code, number")
	long := strings.Repeat("x", 51_000)
	for _, query := range []string{"q=" + long, "filter=" + url.QueryEscape("text LIKE '"+long+"'"), "filter=" + url.QueryEscape("id IN ()"), "filter-lang=cql2-json&filter=" + url.QueryEscape(`{"op":"in","args":[{"property":"id"},[]]}`), "text=%ff", "text=%00", "day=0000-00-00", "number=x"} {
		assert.Equal(t, 400, call(api, "GET", "/api/notes?"+query, "").Code, query[:min(40, len(query))])
	}
	for accept, want := range map[string]int{
		"application/json;q=0, text/csv": 200, "application/json;q=0": 406, "*/*;q=0": 406, "text/*;q=0, */*": 200, "application/json;q=0, */*;q=0": 406, "application/xml;q=0.5, text/csv;q=0": 200,
	} {
		r := httptest.NewRequest("GET", "/api/notes", nil)
		r.Header.Set("Accept", accept)
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		assert.Equal(t, want, w.Code, accept)
		assert.Contains(t, w.Header().Values("Vary"), "Accept", accept)
		if accept == "application/json;q=0, text/csv" {
			assert.Contains(t, w.Header().Get("Content-Type"), "text/csv")
		}
	}
	rows, err := db.Query(t.Context(), "PRAGMA max_page_count = 6", nil)
	require.NoError(t, err)
	require.NoError(t, rows.Close())
	away := func(w *httptest.ResponseRecorder) {
		t.Helper()
		assert.Equal(t, 503, w.Code, w.Body)
		assert.NotEmpty(t, w.Header().Get("Retry-After"))
		assert.NotContains(t, strings.ToLower(w.Body.String()), "sqlite")
	}
	away(call(api, "POST", "/api/notes", `{"text":"`+strings.Repeat("x", 100_000)+`"}`)) // the disk is full
	other, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, gate.InTx(t.Context(), other, func(gate.DB) error {
		away(call(api, "POST", "/api/notes", `{"text":"locked"}`))
		return nil
	}))
	assert.Equal(t, 200, call(api, "PATCH", "/api/notes/1", `{"text":"free"}`).Code)
	require.NoError(t, db.Close())
	w = call(api, "GET", "/api/notes", "")
	assert.GreaterOrEqual(t, w.Code, 500)
}

// TestTriggersThatRefuse stores what a trigger has something against.
func TestTriggersThatRefuse(t *testing.T) {
	api, db, _ := newNotes(t)
	_, err := db.Exec(t.Context(), "CREATE TRIGGER refuse BEFORE INSERT ON note WHEN new.text = 'no' BEGIN SELECT RAISE(ABORT, 'the trigger''s own words'); END", nil)
	require.NoError(t, err)
	w := call(api, "POST", "/api/notes", `{"text":"no"}`)
	assert.Equal(t, 422, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), "breaks a rule of the database")
	assert.NotContains(t, w.Body.String(), "own words")
}

// TestCursorsBelongToTheirRequest takes a place from one list to others.
func TestCursorsBelongToTheirRequest(t *testing.T) {
	api, _, _ := newNotes(t)
	for i := range 6 {
		require.Equal(t, 201, call(api, "POST", "/api/notes", fmt.Sprintf(`{"text":"t","number":%d}`, i)).Code)
	}
	w := call(api, "GET", "/api/notes?limit=2&sortby=number&text=t", "")
	next := nextOf(t, w)
	assert.Equal(t, 200, call(api, "GET", "/api/notes?limit=3&sortby=number&text=t&properties=id&after="+next, "").Code)
	for _, query := range []string{"limit=2&sortby=-number&text=t", "limit=2&text=t", "limit=2&sortby=number", "limit=2&sortby=number&text=u", "limit=2&sortby=number&text=t&q=t", "limit=2&sortby=number&filter=id%3E0"} {
		assert.Equal(t, 400, call(api, "GET", "/api/notes?"+query+"&after="+next, "").Code, query)
	}
	for _, broken := range []string{"x", ".", next[:len(next)-1], next + "x", strings.Replace(next, ".", "", 1), "bnVsbA." + next[strings.IndexByte(next, '.')+1:]} {
		assert.Equal(t, 400, call(api, "GET", "/api/notes?limit=2&sortby=number&text=t&after="+broken, "").Code, broken)
	}
	links := strings.Join(w.Header().Values("Link"), "\n")
	assert.Contains(t, links, `rel="last"`)
	assert.Contains(t, links, `rel="next"`)
}

func nextOf(t *testing.T, w *httptest.ResponseRecorder) string {
	t.Helper()
	_, after, ok := strings.Cut(w.Body.String(), `"next":"`)
	require.True(t, ok, w.Body)
	next, _, _ := strings.Cut(after, `"`)
	return next
}
