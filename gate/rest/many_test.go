package rest_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type photo struct {
	ID    int64
	Media string
	Data  gate.Maybe[[]byte]
	Notes string
}

var photoDef = gate.Describe(gate.Spec[*photo]{
	Name: "photo", New: func() *photo { return new(photo) },
	Fields: []gate.Field[*photo]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *photo) any { return &e.ID }},
		{Name: "media_type", Type: gate.TypeText, In: func(e *photo) any { return &e.Media }},
		{Name: "raw_data", Type: gate.TypeBytes, Flags: gate.Nullable, In: func(e *photo) any { return &e.Data }},
		{Name: "notes", Type: gate.TypeText, Max: 12, In: func(e *photo) any { return &e.Notes }},
	},
})

var photos = gate.NewTable(photoDef, func(k *int64) []any { return []any{k} })

// newPhotos serves 30 photos, of which at most 20 are changed at once.
func newPhotos(t testing.TB, config rest.Config) *rest.API {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec(context.Background(), "CREATE TABLE photo (id INTEGER PRIMARY KEY, media_type TEXT NOT NULL, raw_data BLOB, notes TEXT NOT NULL)", nil)
	require.NoError(t, err)
	for i := range 30 {
		require.NoError(t, photos.Insert(context.Background(), db, &photo{Media: "image/png", Notes: "n" + strconv.Itoa(i)}))
	}
	shape := rest.NewShape("photos", &photos)
	rest.Compute(shape, "shout", `{"type":"string"}`, func(ctx context.Context, p *photo) any {
		who := "nobody"
		if id := rest.IdentityOf(ctx); id != nil {
			who = id.Subject
		}
		return strings.ToUpper(p.Notes) + " for " + who
	})
	content := rest.Content{Column: "raw_data", Media: "image/*", MediaColumn: "media_type", Most: 64}
	config.DB, config.Base = db, "/api"
	api, err := rest.New(config, rest.Mount(shape, routesOf("photos", shape,
		rest.On("PATCH /photos", rest.ChangeMany(shape, 20)),
		rest.On("DELETE /photos", rest.RemoveMany(shape, 20)),
		rest.On("GET /photos/{key}/raw-data", rest.SendContent(shape, content)),
		rest.On("PUT /photos/{key}/raw-data", rest.StoreContent(shape, content)),
		rest.On("DELETE /photos/{key}/raw-data", rest.RemoveContent(shape, content)),
		rest.On("GET /photos/{key}/label", func(w http.ResponseWriter, r *http.Request) error { return rest.SendCount(w, 1) }).
			Described(`{"summary":"The label of a photo.","responses":{"200":{"description":"OK"}}}`),
	)))
	require.NoError(t, err)
	return api
}

func TestManyRowsAtOnce(t *testing.T) {
	api := newPhotos(t, rest.Config{})
	for _, c := range []struct {
		method, query, body string
		status              int
		says                string
	}{
		{"PATCH", "", `{"notes":"x"}`, 400, "say which rows are meant"},
		{"DELETE", "", "", 400, "say which rows are meant"},
		{"DELETE", "?filter-lang=cql2-text", "", 400, "say which rows are meant"},
		{"DELETE", "?filter=", "", 400, "filter is empty"},
		{"DELETE", "?limit=5&filter=id<3", "", 400, `no parameter \"limit\" here`},
		{"PATCH", "?filter=id<26", `{"notes":"x"}`, 400, "more than 20 rows are chosen"},
		{"DELETE", "?filter=id<26", "", 400, "more than 20 rows"},
		{"PATCH", "?filter=id<4", `{"notes":"much longer than that"}`, 422, "12"},
		{"PATCH", "?filter=id>1000", `{"nots":"x"}`, 422, "no such property"},
		{"PATCH", "?filter=id<4", `{"id":77}`, 422, "part of the key"},
		{"PATCH", "?filter=id<4", `{"notes":"x"}`, 200, `{"count":3}`},
		{"PATCH", "?notes=n7&notes=n8", `{"notes":"y"}`, 200, `{"count":2}`},
		{"DELETE", "?notes=y", "", 200, `{"count":2}`},
		{"DELETE", "?notes=y", "", 200, `{"count":0}`},
		{"DELETE", "?q=n2", "", 200, `{"count":10}`},
	} {
		w := call(api, c.method, "/api/photos"+strings.NewReplacer("<", "%3C", ">", "%3E").Replace(c.query), c.body)
		assert.Equal(t, c.status, w.Code, "%s %s: %s", c.method, c.query, w.Body)
		assert.Contains(t, w.Body.String(), c.says, "%s %s", c.method, c.query)
	}
	assert.Contains(t, call(api, "GET", "/api/photos?count=true&limit=1", "").Body.String(), `"matched":18`)
	assert.Contains(t, call(api, "GET", "/api/photos/summary?measure=count&notes=x", "").Body.String(), `"count":3`)
}

func send(api http.Handler, method, target, media string, body []byte, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, bytes.NewReader(body))
	if media != "" {
		r.Header.Set("Content-Type", media)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

func TestContents(t *testing.T) {
	api := newPhotos(t, rest.Config{})
	const at = "/api/photos/1/raw-data"
	picture := []byte("\x89PNG\r\n\x1a\n and the rest of a picture")
	assert.Equal(t, 404, send(api, "GET", at, "", nil).Code, "there is none yet")
	assert.Equal(t, 404, send(api, "PUT", "/api/photos/99/raw-data", "image/png", picture).Code)
	assert.Equal(t, 404, send(api, "GET", "/api/photos/x/raw-data", "", nil).Code)
	assert.Equal(t, 415, send(api, "PUT", at, "", picture).Code)
	assert.Equal(t, 415, send(api, "PUT", at, "text/html", picture).Code)
	assert.Equal(t, 415, send(api, "PUT", at, "image/png", picture, "Content-Encoding", "gzip").Code)
	assert.Equal(t, 413, send(api, "PUT", at, "image/png", make([]byte, 65)).Code)
	assert.Equal(t, 412, send(api, "PUT", at, "image/png", picture, "If-Match", `"x"`).Code)

	stored := send(api, "PUT", at, "image/jpeg", picture, "If-None-Match", "*")
	require.Equal(t, 204, stored.Code, stored.Body)
	got := send(api, "GET", at, "", nil)
	assert.Equal(t, picture, got.Body.Bytes())
	assert.Equal(t, "image/jpeg", got.Header().Get("Content-Type"), "as it was sent")
	assert.Equal(t, stored.Header().Get("ETag"), got.Header().Get("ETag"))
	assert.Contains(t, got.Header().Get("Content-Security-Policy"), "sandbox")
	assert.Equal(t, "nosniff", got.Header().Get("X-Content-Type-Options"))
	assert.Equal(t, 304, send(api, "GET", at, "", nil, "If-None-Match", got.Header().Get("ETag")).Code)
	assert.Equal(t, 412, send(api, "PUT", at, "image/png", picture, "If-None-Match", "*").Code)
	assert.Empty(t, send(api, "HEAD", at, "", nil).Body.Bytes())

	part := send(api, "GET", at, "", nil, "Range", "bytes=1-3")
	assert.Equal(t, 206, part.Code)
	assert.Equal(t, "PNG", part.Body.String())
	beyond := send(api, "GET", at, "", nil, "Range", "bytes=900-")
	assert.Equal(t, 416, beyond.Code)
	assert.Equal(t, "application/problem+json", beyond.Header().Get("Content-Type"))

	assert.Equal(t, 204, send(api, "PUT", at, "image/png", nil).Code, "an empty picture is one")
	assert.Equal(t, 200, send(api, "GET", at, "", nil).Code)
	svg := send(api, "PUT", at, "image/svg+xml", []byte("<svg onload='alert(1)'/>"))
	require.Equal(t, 204, svg.Code)
	assert.Equal(t, "attachment", send(api, "GET", at, "", nil).Header().Get("Content-Disposition"))
	assert.Equal(t, 204, send(api, "DELETE", at, "", nil, "If-Match", svg.Header().Get("ETag")).Code)
	assert.Equal(t, 404, send(api, "GET", at, "", nil).Code)
	require.Equal(t, 200, call(api, "PATCH", "/api/photos/1", `{"media_type":"text/html\r\nX-Evil: 1","raw_data":"PGI+"}`).Code)
	evil := send(api, "GET", at, "", nil)
	assert.Empty(t, evil.Header().Get("X-Evil"))
	assert.NotContains(t, evil.Header().Get("Content-Type"), "html", "what is no picture is not served as a page")

	strict := newPhotos(t, rest.Config{RequireIfMatch: true})
	assert.Equal(t, 428, send(strict, "PUT", at, "image/png", picture).Code)
}

// TestComputedProperties sends what is not stored along with rows.
func TestComputedProperties(t *testing.T) {
	document := `{"openapi":"3.1.0","paths":{"/api/photos":{"get":{"responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/Photo.list"}}}}}}}},
		"components":{"schemas":{"Photo":{"properties":{"id":{}}},"Photo.part":{"properties":{"id":{}}}}}}`
	api := newPhotos(t, rest.Config{OpenAPI: []byte(document), Identify: func(r *http.Request) (*rest.Identity, error) {
		return &rest.Identity{Subject: r.Header.Get("X-Who")}, nil
	}, Allow: map[string]rest.Allow{"": {Read: []string{rest.Known}, Change: []string{rest.Known}}}})
	assert.Contains(t, as(api, "ada", "GET", "/api/photos/1", "").Body.String(), `"shout":"N0 for ada"`)
	assert.Contains(t, as(api, "bo", "GET", "/api/photos?limit=2", "").Body.String(), `"shout":"N1 for bo"`)
	assert.Contains(t, as(api, "bo", "GET", "/api/photos?limit=none&f=ndjson", "").Body.String(), `"shout":"N29 for bo"`)
	assert.Contains(t, as(api, "bo", "GET", "/api/photos?limit=1&f=csv", "").Body.String(), "1,image/png,,n0,N0 for bo")
	assert.Contains(t, as(api, "bo", "GET", "/api/photos?limit=1&f=xml", "").Body.String(), "<shout>N0 for bo</shout>")
	assert.JSONEq(t, `{"id":1}`, as(api, "bo", "GET", "/api/photos/1?properties=id", "").Body.String())
	assert.JSONEq(t, `{"shout":"N0 for bo"}`, as(api, "bo", "GET", "/api/photos/1?properties=shout", "").Body.String())
	for _, query := range []string{"shout=x", "filter=shout='x'", "sortby=shout"} {
		assert.Equal(t, 400, as(api, "bo", "GET", "/api/photos?"+query, "").Code, query)
	}
	assert.Equal(t, 422, as(api, "bo", "PATCH", "/api/photos/1", `{"shout":"x"}`).Code)
	mine, theirs := as(api, "ada", "GET", "/api/photos/1", ""), as(api, "bo", "GET", "/api/photos/1", "")
	assert.Equal(t, mine.Header().Get("ETag"), theirs.Header().Get("ETag"), "a version is one of what is stored")
	assert.Equal(t, 200, send(api, "PATCH", "/api/photos/1", "application/json", []byte(`{"notes":"z"}`), "If-Match", mine.Header().Get("ETag")).Code)

	var doc map[string]any
	require.NoError(t, json.Unmarshal(call(api, "GET", "/openapi.json", "").Body.Bytes(), &doc))
	paths := doc["paths"].(map[string]any)
	assert.Equal(t, "The label of a photo.", paths["/api/photos/{key}/label"].(map[string]any)["get"].(map[string]any)["summary"])
	assert.Contains(t, paths["/api/photos/{key}/label"].(map[string]any)["get"], "parameters")
	properties := doc["components"].(map[string]any)["schemas"].(map[string]any)["Photo"].(map[string]any)["properties"].(map[string]any)
	assert.Equal(t, map[string]any{"type": "string", "readOnly": true}, properties["shout"])
	_, err := rest.New(rest.Config{}, rest.Mount(rest.NewShape("photos", &photos), []rest.Route{rest.On[rest.Handler]("GET /x", nil).Described("no JSON")}))
	assert.ErrorContains(t, err, "no JSON object")
}

// TestTablesWithoutFormulas keeps spreadsheets from running what somebody sent.
func TestTablesWithoutFormulas(t *testing.T) {
	api := newPhotos(t, rest.Config{})
	for i, notes := range []string{`=1+1`, `+1 555`, `-2`, `@sum`, "\tx", `-x`} {
		body, err := json.Marshal(map[string]string{"notes": notes})
		require.NoError(t, err)
		require.Equal(t, 200, call(api, "PATCH", "/api/photos/"+strconv.Itoa(i+1), string(body)).Code)
	}
	plain := call(api, "GET", "/api/photos?f=csv&properties=notes&limit=6", "").Body.String()
	assert.Equal(t, "notes\r\n=1+1\r\n+1 555\r\n-2\r\n@sum\r\n\"\tx\"\r\n-x\r\n", plain)
	safe := call(api, "GET", "/api/photos?f=csv-safe&properties=notes&limit=6", "").Body.String()
	assert.Equal(t, "notes\r\n'=1+1\r\n'+1 555\r\n-2\r\n'@sum\r\n'\tx\r\n'-x\r\n", safe)
	assert.Contains(t, call(api, "GET", "/api/photos/summary?by=notes&f=csv-safe", "").Body.String(), "'=1+1")
}

// TestPageLimits holds pages to what the configuration says.
func TestPageLimits(t *testing.T) {
	api := newPhotos(t, rest.Config{Limits: rest.Limits{Page: 4, Rows: 9}, Camel: true})
	var page struct{ Items []map[string]any }
	require.NoError(t, json.Unmarshal(call(api, "GET", "/api/photos", "").Body.Bytes(), &page))
	assert.Len(t, page.Items, 4)
	assert.Contains(t, page.Items[0], "mediaType", "in camel case")
	assert.NotContains(t, page.Items[0], "media_type")
	assert.Equal(t, 400, call(api, "GET", "/api/photos?limit=10", "").Code)
	assert.Equal(t, 200, call(api, "GET", "/api/photos?limit=9&sortby=-mediaType&filter="+url.QueryEscape("mediaType LIKE 'i%'"), "").Code)
	assert.Equal(t, 400, call(api, "GET", "/api/photos?media_type=x", "").Code)
	assert.Contains(t, call(api, "GET", "/api/photos/summary?by=mediaType&measure=count(rawData)", "").Body.String(), `"countRawData":0`)
	assert.Contains(t, call(api, "PATCH", "/api/photos/1", `{"mediaType":null}`).Body.String(), "#/mediaType")
	assert.Equal(t, 200, call(api, "PATCH", "/api/photos/1", `{"mediaType":"image/gif"}`).Code)
}

// TestReplicas reads from one database and writes to another.
func TestReplicas(t *testing.T) {
	path := filepath.Join(t.TempDir(), "copy.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	replica, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { replica.Close() })
	_, err = replica.Exec(t.Context(), "CREATE TABLE photo (id INTEGER PRIMARY KEY, media_type TEXT NOT NULL, raw_data BLOB, notes TEXT NOT NULL)", nil)
	require.NoError(t, err)
	require.NoError(t, photos.Insert(t.Context(), replica, &photo{ID: 1, Media: "image/png", Notes: "copy"}))
	api := newPhotos(t, rest.Config{Replica: replica})
	assert.Contains(t, call(api, "GET", "/api/photos/1", "").Body.String(), "copy")
	assert.Contains(t, call(api, "GET", "/api/photos?count=true", "").Body.String(), `"matched":1`)
	assert.Contains(t, call(api, "GET", "/api/photos/summary", "").Body.String(), `"count":1`)
	assert.Contains(t, call(api, "PATCH", "/api/photos/2", `{"notes":"new"}`).Body.String(), "new", "a write reads where it writes")
	assert.Equal(t, 404, call(api, "GET", "/api/photos/2", "").Code)
	assert.Contains(t, call(api, "POST", "/api/batch", `{"calls":[{"method":"GET","path":"/photos/2"}]}`).Body.String(), "new", "so does a batch")
	replica.Close()
	assert.Equal(t, 503, call(api, "GET", "/health/ready", "").Code)
}
