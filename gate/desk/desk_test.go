package desk_test

import (
	"bytes"
	"context"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/desk"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type apiary struct {
	ID    int64
	Name  string
	Hives []*hive
}

type hive struct {
	ID       int64
	ApiaryID int64
	Name     string
	Temper   string
	WeightKg gate.Maybe[gate.Decimal]
	Seen     gate.Maybe[time.Time]
	Notes    gate.Maybe[string]
	Photo    gate.Maybe[[]byte]
	Apiary   *apiary
}

var (
	apiaryDef = gate.Describe(gate.Spec[*apiary]{
		Name: "apiary", New: func() *apiary { return new(apiary) },
		Fields: []gate.Field[*apiary]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *apiary) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *apiary) any { return &e.Name }},
		},
	})
	hiveDef = gate.Describe(gate.Spec[*hive]{
		Name: "hive", New: func() *hive { return new(hive) },
		Fields: []gate.Field[*hive]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *hive) any { return &e.ID }},
			{Name: "apiary_id", Type: gate.TypeInt64, In: func(e *hive) any { return &e.ApiaryID }},
			{Name: "name", Type: gate.TypeText, Max: 20, In: func(e *hive) any { return &e.Name }},
			{Name: "temper", Type: gate.TypeEnum, Labels: []string{"calm", "fierce"}, Default: "calm", Flags: gate.HasDefault, In: func(e *hive) any { return gate.Label(&e.Temper) }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Precision: 6, Scale: 2, Flags: gate.Nullable, In: func(e *hive) any { return &e.WeightKg }},
			{Name: "seen", Type: gate.TypeTimestampTZ, Flags: gate.Nullable, In: func(e *hive) any { return &e.Seen }},
			{Name: "notes", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *hive) any { return &e.Notes }},
			{Name: "photo", Type: gate.TypeBytes, Flags: gate.Nullable, In: func(e *hive) any { return &e.Photo }},
		},
	})
	apiaries = gate.NewTable(apiaryDef, func(k *int64) []any { return []any{k} })
	hives    = gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} })
	hivesOf  = gate.NewToMany(apiaryDef, hiveDef, gate.On{{"id", "apiary_id"}}, func(e *apiary) *[]*hive { return &e.Hives })
	apiaryOf = gate.NewToOne(hiveDef, apiaryDef, gate.On{{"apiary_id", "id"}}, func(e *hive) **apiary { return &e.Apiary })
)

func routes[E any](path string, s *rest.Shape[E, int64], more ...rest.Route) []rest.Route {
	return append(more,
		rest.On("GET /"+path, func(w http.ResponseWriter, r *http.Request) error {
			list, err := rest.ReadList(r, s)
			if err != nil {
				return err
			}
			return rest.SendList(w, r, s, list)
		}),
		rest.On("GET /"+path+"/summary", rest.Summarize(s)),
		rest.On("GET /"+path+"/{key}", func(w http.ResponseWriter, r *http.Request) error {
			key, err := rest.ReadKey(r, s)
			if err != nil {
				return err
			}
			return rest.SendRow(w, r, s, key)
		}),
		rest.On("POST /"+path, rest.Create(s)), rest.On("PATCH /"+path+"/{key}", rest.Change(s)), rest.On("DELETE /"+path+"/{key}", rest.Remove(s)),
		rest.On("PATCH /"+path, rest.ChangeMany(s, 100)), rest.On("DELETE /"+path, rest.RemoveMany(s, 100)))
}

// hostile is a text that would do harm if a page took it for its own.
const hostile = `<script>alert(1)</script>"'><img src=x onerror=alert(2)>`

func newDesk(t *testing.T, config desk.Config, api rest.Config, trace ...func(context.Context, gate.Statement)) *desk.Desk {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	ctx := context.Background()
	db, err := sqlite.Open(ctx, path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, s := range []string{
		"CREATE TABLE apiary (id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
		"CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary (id), name TEXT NOT NULL UNIQUE, temper TEXT NOT NULL DEFAULT 'calm', weight_kg DECIMAL(6,2), seen TIMESTAMP WITH TIME ZONE, notes TEXT, photo BLOB)",
		"INSERT INTO apiary VALUES (1, 'North Field'), (2, 'Old Mill')",
	} {
		_, err := db.Exec(ctx, s, nil)
		require.NoError(t, err)
	}
	for i := range 30 {
		require.NoError(t, hives.Insert(ctx, db, &hive{ApiaryID: int64(1 + i%2), Name: "Hive " + string(rune('A'+i)), Temper: "calm", WeightKg: gate.Just(gate.DecimalOf(int64(20 + i)))}))
	}
	require.NoError(t, hives.Insert(ctx, db, &hive{ApiaryID: 1, Name: "Odd", Temper: "fierce", Notes: gate.Just(hostile)}))
	as, hs := rest.NewShape("apiaries", &apiaries, rest.Relate("hives", hivesOf)), rest.NewShape("hives", &hives, rest.Relate("apiary", apiaryOf))
	api.Base, api.DB = "/api", db
	for _, tell := range trace {
		api.DB = gate.Traced(db, tell)
	}
	service, err := rest.New(api,
		rest.Mount(as, routes("apiaries", as, rest.On("GET /apiaries/{key}/hives", rest.ListUnder(as, hivesOf.Of, hs)), rest.On("POST /apiaries/{key}/hives", rest.CreateUnder(as, hivesOf, hs)))),
		rest.Mount(hs, routes("hives", hs, rest.On("GET /hives/{key}/apiary", rest.GetUnder(hs, apiaryOf.Of, as)))))
	require.NoError(t, err)
	config.Root = "/desk"
	config.Title = "Bees"
	d, err := desk.New(service, service, config)
	require.NoError(t, err)
	return d
}

func get(d http.Handler, target string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	d.ServeHTTP(w, httptest.NewRequest("GET", target, nil))
	return w
}

// post sends a form as a browser does.
func post(t *testing.T, d http.Handler, target string, fields map[string]string, headers ...string) *httptest.ResponseRecorder {
	t.Helper()
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	for name, value := range fields {
		require.NoError(t, form.WriteField(name, value))
	}
	require.NoError(t, form.Close())
	r := httptest.NewRequest("POST", target, &body)
	r.Header.Set("Content-Type", form.FormDataContentType())
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	d.ServeHTTP(w, r)
	return w
}

func TestTables(t *testing.T) {
	d := newDesk(t, desk.Config{Looks: map[string]desk.Look{"hives": {Help: "Boxes of bees.", Columns: map[string]desk.ColumnLook{"weight_kg": {Format: "currency EUR"}, "notes": {Aside: true}}, Order: []string{"name"}, Rows: 31}}}, rest.Config{})
	home := get(d, "/desk/").Body.String()
	assert.Contains(t, home, "Boxes of bees.")
	assert.Contains(t, home, `title="about so many rows">31<`)

	page := get(d, "/desk/rows/hives?limit=10&sortby=-weight_kg")
	require.Equal(t, 200, page.Code)
	text := page.Body.String()
	assert.Contains(t, text, `<a href="/desk/row/apiaries/2" data-beside title="2">Old Mill</a>`, "what a row refers to is shown by what tells it")
	assert.Contains(t, text, "49 EUR")
	assert.Contains(t, text, `aria-sort="descending"`)
	assert.NotContains(t, text, ">Notes</a>")
	assert.Contains(t, text, `<code id="api">/api/hives?limit=10&amp;sortby=-weight_kg</code>`)
	assert.Contains(t, text, "/api/hives?f=csv-safe&amp;limit=none&amp;sortby=-weight_kg")
	assert.Less(t, strings.Index(text, ">Name<"), strings.Index(text, ">ID<"), "in the order that was asked for")
	assert.Contains(t, page.Header().Get("Content-Security-Policy"), "script-src 'self'")
	assert.NotContains(t, text, "rows</span>", "nothing is counted unasked")
	assert.Contains(t, get(d, "/desk/rows/hives?count=true").Body.String(), "31 rows")

	next := regexp.MustCompile(`href="([^"]+)" rel="next"`).FindStringSubmatch(text)
	require.NotNil(t, next)
	second := get(d, strings.ReplaceAll(next[1], "&amp;", "&")).Body.String()
	assert.Contains(t, second, `rel="prev"`)
	assert.Contains(t, second, `rel="first"`)
	last := get(d, "/desk/rows/hives?limit=10&_last=1").Header().Get("Location")
	assert.Contains(t, last, "offset=30")
	assert.Contains(t, get(d, last).Body.String(), "31 rows", "which were counted on the way")

	wrong := get(d, "/desk/rows/hives?filter=weight_kg+%3E")
	assert.Equal(t, 400, wrong.Code)
	assert.Contains(t, wrong.Body.String(), "expected a property, a value")
	assert.Contains(t, wrong.Body.String(), `value="weight_kg &gt;"`, "to be mended where it stands")
	assert.Contains(t, get(d, "/desk/rows/hives?filter=id%3C0").Body.String(), "No row matches.")
	assert.Equal(t, 404, get(d, "/desk/rows/nothing").Code)
	assert.Equal(t, 404, get(d, "/desk/row/hives/99").Code)

	chosen := get(d, "/desk/rows/hives?properties=name,notes&filter=temper%3D'fierce'").Body.String()
	assert.NotContains(t, chosen, "<script>alert", "what rows hold is text")
	assert.Contains(t, chosen, "&lt;script&gt;alert(1)")
	assert.Contains(t, get(d, "/desk/rows/hives?_also=notes&properties=name").Header().Get("Location"), "properties=name%2Cnotes")
}

// TestCosts counts the statements behind a table: nothing is counted unasked, and
// what rows refer to is read by one statement, however many there are.
func TestCosts(t *testing.T) {
	var lock sync.Mutex
	var statements []string
	d := newDesk(t, desk.Config{}, rest.Config{}, func(_ context.Context, s gate.Statement) {
		lock.Lock()
		defer lock.Unlock()
		statements = append(statements, s.Text)
	})
	ran := func(target string) []string {
		statements = nil
		require.Equal(t, 200, get(d, target).Code, target)
		return statements
	}
	for _, target := range []string{"/desk/rows/hives", "/desk/rows/hives?limit=5&sortby=name", "/desk/rows/hives?limit=5&offset=20"} {
		list := ran(target)
		assert.Len(t, list, 2, "the rows, and the apiaries of all of them")
		assert.NotContains(t, strings.ToLower(strings.Join(list, " ")), "count(")
	}
	assert.Len(t, ran("/desk/rows/hives?count=true"), 3)
	assert.Empty(t, ran("/desk/"))
}

// TestConditions adds conditions by the form, and reads the filter that becomes
// of them.
func TestConditions(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	for _, c := range []struct{ property, operator, value, want string }{
		{"weight_kg", ">=", "30", "weight_kg >= 30"}, {"name", "=", "Queen's", "name = 'Queen''s'"}, {"name", "contains", "50%", `CASEI(name) LIKE CASEI('%50\%%')`}, {"name", "=", `it\''\`, `name = 'it\\''''\\'`}, {"name", "begins", "a_", `CASEI(name) LIKE CASEI('a\_%')`},
		{"seen", "<", "2026-05-01T08:00", "seen < TIMESTAMP('2026-05-01T08:00:00Z')"}, {"notes", "null", "", "notes IS NULL"}, {"notes", "not null", "", "notes IS NOT NULL"}, {"temper", "; DROP", "calm", "temper = 'calm'"},
	} {
		w := get(d, "/desk/rows/hives?"+url.Values{"_property": {c.property}, "_operator": {c.operator}, "_value": {c.value}, "after": {"x"}}.Encode())
		require.Equal(t, 303, w.Code)
		to, err := url.Parse(w.Header().Get("Location"))
		require.NoError(t, err)
		assert.Equal(t, c.want, to.Query().Get("filter"))
		assert.False(t, to.Query().Has("after"))
		assert.Equal(t, 200, get(d, to.String()).Code, c.want)
	}
	w := get(d, "/desk/rows/hives?"+url.Values{"_property": {"id"}, "_operator": {"="}, "_value": {"1"}, "filter": {"id = 2 OR id = 3"}}.Encode())
	assert.Contains(t, w.Header().Get("Location"), url.QueryEscape("(id = 2 OR id = 3) AND id = 1"))
	assert.Equal(t, 400, get(d, "/desk/rows/hives?_property=nothing").Code)
}

func TestRowsAndTrails(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	row := get(d, "/desk/row/apiaries/1").Body.String()
	assert.Contains(t, row, "<h1>North Field</h1>")
	assert.Contains(t, row, `href="/desk/under/apiaries/1/hives"`)
	assert.Contains(t, row, `/desk/new/hives?_under=apiaries%2F1%2Fhives`)
	assert.Equal(t, 5, strings.Count(row, "<tr data-href"))
	below := get(d, "/desk/under/apiaries/1/hives?limit=3").Body.String()
	assert.Contains(t, below, "<h1>Hives of North Field</h1>")
	assert.Contains(t, below, `<a href="/desk/row/apiaries/1">North Field</a></li><li><a href="/desk/under/apiaries/1/hives">Hives</a>`)
	assert.Equal(t, 404, get(d, "/desk/under/apiaries/1/nothing").Code)
	assert.Contains(t, get(d, "/desk/row/hives/1?_trail=apiaries/1").Body.String(), `<li><a href="/desk/row/apiaries/1">North Field</a></li>`)
	odd := get(d, "/desk/row/hives/31").Body.String()
	assert.NotContains(t, odd, "<script>alert")
	found := get(d, "/desk/pick/apiaries?property=id&q=mill")
	assert.JSONEq(t, `[{"Value":"2","Text":"Old Mill"}]`, found.Body.String())
}

func TestForms(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	form := get(d, "/desk/new/hives").Body.String()
	assert.Contains(t, form, `name="v.temper"`)
	assert.NotContains(t, form, `name="v.id"`, "what the database numbers is not asked for")

	wrong := post(t, d, "/desk/new/hives", map[string]string{"v.apiary_id": "1", "v.name": "a name that is much too long", "v.weight_kg": "heavy", "v.temper": "calm"})
	assert.Equal(t, 422, wrong.Code)
	assert.Contains(t, wrong.Body.String(), `id="x-name">`)
	assert.Contains(t, wrong.Body.String(), `id="x-weight_kg">`)
	assert.Contains(t, wrong.Body.String(), `value="a name that is much too long"`, "what was entered stays")
	assert.Contains(t, wrong.Body.String(), `aria-invalid="true"`)

	empty := post(t, d, "/desk/new/hives", map[string]string{"v.apiary_id": "1", "v.name": "", "v.temper": "calm"})
	assert.Equal(t, 422, empty.Code)
	assert.Contains(t, empty.Body.String(), "is missing", "what must have a value is not stored as an empty text")

	made := post(t, d, "/desk/new/hives", map[string]string{"v.apiary_id": "1", "v.name": "Skep", "v.weight_kg": "12.5", "v.temper": "fierce", "v.seen": "2026-05-01T08:30", "v.notes": "two\r\nlines"})
	require.Equal(t, 303, made.Code, made.Body)
	assert.Equal(t, "/desk/row/hives/32?_done=created", made.Header().Get("Location"))
	row := get(d, made.Header().Get("Location")).Body.String()
	for _, part := range []string{"Saved.", "12.50", "fierce", "2026-05-01 08:30", "two\nlines"} {
		assert.Contains(t, row, part)
	}
	below := post(t, d, "/desk/new/hives?_under=apiaries/2/hives", map[string]string{"v.name": "Below"})
	require.Equal(t, 303, below.Code, below.Body)
	assert.Contains(t, get(d, below.Header().Get("Location")).Body.String(), "Old Mill")

	edit := get(d, "/desk/edit/hives/32").Body.String()
	version := regexp.MustCompile(`name="_version" value="([^"]+)"`).FindStringSubmatch(edit)
	require.NotNil(t, version)
	tag := strings.ReplaceAll(version[1], "&#34;", `"`)
	values := map[string]string{"_version": tag, "v.apiary_id": "2", "v.name": "Skep", "v.weight_kg": "", "v.temper": "calm", "v.seen": "", "v.notes": ""}
	changed := post(t, d, "/desk/edit/hives/32", values)
	require.Equal(t, 303, changed.Code, changed.Body)
	values["v.name"] = ""
	emptied := post(t, d, "/desk/edit/hives/32", values)
	assert.Contains(t, []int{412, 422}, emptied.Code, "nor is it emptied")
	values["v.name"] = "Mine"
	stale := post(t, d, "/desk/edit/hives/32", values)
	assert.Equal(t, 412, stale.Code)
	assert.Contains(t, stale.Body.String(), "Somebody else has changed this row")
	assert.Contains(t, stale.Body.String(), `value="Mine"`)
	fresh := regexp.MustCompile(`name="_version" value="([^"]+)"`).FindStringSubmatch(stale.Body.String())
	values["_version"] = strings.ReplaceAll(fresh[1], "&#34;", `"`)
	assert.Equal(t, 303, post(t, d, "/desk/edit/hives/32", values).Code, "theirs was seen, and mine is meant")

	refused := post(t, d, "/desk/remove/apiaries/1", nil)
	assert.Equal(t, 409, refused.Code)
	assert.Contains(t, refused.Body.String(), "still referred to")
	assert.Contains(t, get(d, "/desk/remove/hives/32").Body.String(), "Delete the hive <strong>Mine</strong>?")
	assert.Equal(t, 303, post(t, d, "/desk/remove/hives/32", nil).Code)
	assert.Equal(t, 404, get(d, "/desk/row/hives/32").Code)
}

func TestManyAtOnce(t *testing.T) {
	d := newDesk(t, desk.Config{}, rest.Config{})
	const target = "/desk/many/hives?filter=weight_kg%3E40"
	assert.Contains(t, get(d, target).Body.String(), "9 rows of Hives are chosen")
	done := post(t, d, target, map[string]string{"do": "change", "property": "temper", "value": "fierce"})
	assert.Contains(t, done.Body.String(), "9 rows changed.")
	wrong := post(t, d, target, map[string]string{"do": "change", "property": "temper", "value": "angry"})
	assert.Equal(t, 422, wrong.Code)
	assert.Contains(t, wrong.Body.String(), "calm, fierce")
	assert.Contains(t, post(t, d, target, map[string]string{"do": "remove"}).Body.String(), "9 rows removed.")
	assert.Equal(t, 400, post(t, d, "/desk/many/hives", map[string]string{"do": "remove"}).Code, "all rows are never meant")
}

// TestWhoMaySeeWhat shows and stores nothing that the one who asks could not see
// or store through the API, and nothing for other sites.
func TestWhoMaySeeWhat(t *testing.T) {
	identify := func(r *http.Request) (*rest.Identity, error) {
		if who := r.Header.Get("Authorization"); who != "" {
			return &rest.Identity{Subject: who, Roles: []string{who}}, nil
		}
		return nil, nil
	}
	d := newDesk(t, desk.Config{}, rest.Config{Identify: identify, Allow: map[string]rest.Allow{"": {Read: []string{"guest"}}, "apiaries": {Read: []string{rest.Known}, Change: []string{"admin"}}}})
	assert.NotContains(t, get(d, "/desk/").Body.String(), "Apiaries")
	ask := func(who, target string) string {
		r := httptest.NewRequest("GET", target, nil)
		r.Header.Set("Authorization", who)
		w := httptest.NewRecorder()
		d.ServeHTTP(w, r)
		return w.Body.String()
	}
	assert.Contains(t, ask("guest", "/desk/"), "Hives")
	assert.NotContains(t, ask("guest", "/desk/row/hives/1"), ">Edit<")
	admin := ask("admin", "/desk/row/apiaries/1")
	assert.Contains(t, admin, ">Edit<")
	assert.NotContains(t, admin, "Hives", "nor what relations lead to")

	open := newDesk(t, desk.Config{}, rest.Config{})
	cross := post(t, open, "/desk/remove/hives/1", nil, "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, cross.Code)
	assert.Equal(t, 403, post(t, open, "/desk/remove/hives/1", nil, "Origin", "https://evil.example").Code)
	assert.Equal(t, 200, get(open, "/desk/row/hives/1").Code)

	reading := newDesk(t, desk.Config{ReadOnly: true}, rest.Config{})
	assert.NotContains(t, get(reading, "/desk/rows/hives").Body.String(), "New hive")
	assert.Equal(t, 403, post(t, reading, "/desk/remove/hives/1", nil).Code)
}
