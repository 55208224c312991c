package rest_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type holder struct {
	ID    int64
	Name  string
	Phone gate.Maybe[string]

	Frames  []*frame
	Patches []*patch
}

type frame struct {
	ID      int64
	Label   string
	Weight  gate.Maybe[int64]
	OwnerID int64
	FromID  gate.Maybe[int64]

	Owner *holder
	From  *frame
	Kids  []*frame
}

type patch struct {
	ID      int64
	Kind    string
	OwnerID int64

	Owners []*holder
}

var (
	holderDef = gate.Describe(gate.Spec[*holder]{
		Name: "owner", New: func() *holder { return new(holder) },
		Fields: []gate.Field[*holder]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *holder) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, In: func(e *holder) any { return &e.Name }},
			{Name: "phone", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *holder) any { return &e.Phone }},
		},
	})
	frameDef = gate.Describe(gate.Spec[*frame]{
		Name: "frame", New: func() *frame { return new(frame) },
		Fields: []gate.Field[*frame]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *frame) any { return &e.ID }},
			{Name: "label", Type: gate.TypeText, In: func(e *frame) any { return &e.Label }},
			{Name: "weight", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *frame) any { return &e.Weight }},
			{Name: "owner_id", Type: gate.TypeInt64, In: func(e *frame) any { return &e.OwnerID }},
			{Name: "from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *frame) any { return &e.FromID }},
		},
	})
	patchDef = gate.Describe(gate.Spec[*patch]{
		Name: "patch", New: func() *patch { return new(patch) },
		Fields: []gate.Field[*patch]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *patch) any { return &e.ID }},
			{Name: "kind", Type: gate.TypeText, In: func(e *patch) any { return &e.Kind }},
			{Name: "owner_id", Type: gate.TypeInt64, In: func(e *patch) any { return &e.OwnerID }},
		},
	})
	holders  = gate.NewTable(holderDef, func(k *int64) []any { return []any{k} })
	frames   = gate.NewTable(frameDef, func(k *int64) []any { return []any{k} })
	patches  = gate.NewTable(patchDef, func(k *int64) []any { return []any{k} })
	framesOf = gate.NewToMany(holderDef, frameDef, gate.On{{"id", "owner_id"}}, func(e *holder) *[]*frame { return &e.Frames })
	ownerOf  = gate.NewToOne(frameDef, holderDef, gate.On{{"owner_id", "id"}}, func(e *frame) **holder { return &e.Owner })
	fromOf   = gate.NewToOne(frameDef, frameDef, gate.On{{"from_id", "id"}}, func(e *frame) **frame { return &e.From })
	kidsOf   = gate.NewToMany(frameDef, frameDef, gate.On{{"id", "from_id"}}, func(e *frame) *[]*frame { return &e.Kids })
	seesOf   = gate.NewManyToMany(holderDef, patchDef, gate.Join{Name: "sees", Parent: gate.On{{"id", "owner_id"}}, Child: gate.On{{"patch_id", "id"}}}, func(e *holder) *[]*patch { return &e.Patches })
	seenBy   = gate.NewManyToMany(patchDef, holderDef, gate.Join{Name: "sees", Parent: gate.On{{"id", "patch_id"}}, Child: gate.On{{"owner_id", "id"}}}, func(e *patch) *[]*holder { return &e.Owners })
)

// ruledData are rows of the owners 1 and 2, of whom the first should know
// nothing about the second. Those of the second say secret, or 777.
const ruledData = `
CREATE TABLE owner (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, phone TEXT);
CREATE TABLE frame (id INTEGER PRIMARY KEY, label TEXT NOT NULL, weight INTEGER, owner_id INTEGER NOT NULL REFERENCES owner (id), from_id INTEGER REFERENCES frame (id));
CREATE TABLE patch (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, owner_id INTEGER NOT NULL REFERENCES owner (id));
CREATE TABLE sees (owner_id INTEGER NOT NULL REFERENCES owner (id), patch_id INTEGER NOT NULL REFERENCES patch (id), PRIMARY KEY (owner_id, patch_id));
INSERT INTO owner VALUES (1, 'mine', '555'), (2, 'secret two', '777');
INSERT INTO frame VALUES (1, 'a', 5, 1, NULL), (2, 'secret b', 777, 2, 1), (3, 'c', NULL, 1, 1), (4, 'd', 9, 1, NULL), (5, 'secret e', 7, 2, 2), (6, 'f', 5, 1, 3);
INSERT INTO patch VALUES (1, 'clover', 1), (2, 'secret field', 2), (3, 'lime', 1);
INSERT INTO sees VALUES (1, 1), (2, 1), (2, 2), (1, 3), (1, 2);`

// onlyMine takes away what the first owner should not know of.
const onlyMine = `
UPDATE frame SET from_id = NULL WHERE owner_id = 1 AND from_id IN (SELECT id FROM frame WHERE owner_id = 2);
DELETE FROM frame WHERE owner_id = 2; DELETE FROM sees WHERE owner_id = 2 OR patch_id = 2;
DELETE FROM patch WHERE owner_id = 2; DELETE FROM owner WHERE id = 2;`

// newRuled serves the rows under rules, or openly.
func newRuled(t *testing.T, ruled bool, scripts ...string) (*rest.API, gate.DB) {
	t.Helper()
	if ruled {
		return newRuledWith(t, func(*rest.Config) {}, scripts...)
	}
	return newRuledWith(t, func(c *rest.Config) { c.Identify, c.Allow = nil, nil }, scripts...)
}

// newRuledWith serves the rows under rules that adjust changes.
func newRuledWith(t *testing.T, adjust func(*rest.Config), scripts ...string) (*rest.API, gate.DB) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, script := range scripts {
		for _, s := range strings.Split(strings.TrimSpace(script), ";") {
			if s = strings.TrimSpace(s); s != "" {
				_, err := db.Exec(t.Context(), s, nil)
				require.NoError(t, err, s)
			}
		}
	}
	os := rest.NewShape("owners", &holders, rest.Relate("frames", framesOf), rest.Relate("patches", seesOf))
	fs := rest.NewShape("frames", &frames, rest.Relate("owner", ownerOf), rest.Relate("from", fromOf), rest.Relate("kids", kidsOf))
	ps := rest.NewShape("patches", &patches, rest.Relate("owners", seenBy))
	config := rest.Config{Base: "/api", DB: db, Gather: true}
	config.Identify = func(r *http.Request) (*rest.Identity, error) {
		who := r.Header.Get("X-Who")
		if who == "" {
			return nil, nil
		}
		role, subject, _ := strings.Cut(who, ":")
		return &rest.Identity{Subject: subject, Roles: []string{role}, Claims: map[string]any{"mine": []any{"1", json.Number("1")}, "org": map[string]any{"owner": 1.0}}}, nil
	}
	all := []string{"hand", "admin"}
	rule := func(text string) rest.Allow {
		return rest.Allow{Read: all, Create: all, Change: all, Delete: all, Rows: map[string]string{"hand": text}}
	}
	config.Allow = map[string]rest.Allow{
		"owners": rule("id = claim.sub"), "frames": rule("owner.id = claim.sub"), "patches": rule("owner_id = claim.sub AND owner_id IN (claim.mine) AND owner_id = claim.org.owner"),
	}
	adjust(&config)
	api, err := rest.New(config,
		rest.Mount(os, routesOf("owners", os,
			rest.On("GET /owners/{key}/frames", rest.ListUnder(os, framesOf.Of, fs)), rest.On("POST /owners/{key}/frames", rest.CreateUnder(os, framesOf, fs)),
			rest.On("GET /owners/{key}/patches", rest.ListUnder(os, seesOf.Of, ps)), rest.On("PUT /owners/{key}/patches/{other}", rest.Link(os, seesOf, ps)), rest.On("DELETE /owners/{key}/patches/{other}", rest.Unlink(os, seesOf, ps)))),
		rest.Mount(fs, routesOf("frames", fs,
			rest.On("GET /frames/{key}/owner", rest.GetUnder(fs, ownerOf.Of, os)), rest.On("GET /frames/{key}/from", rest.GetUnder(fs, fromOf.Of, fs)), rest.On("GET /frames/{key}/kids", rest.ListUnder(fs, kidsOf.Of, fs)),
			rest.On("PATCH /frames", rest.ChangeMany(fs, 100)), rest.On("DELETE /frames", rest.RemoveMany(fs, 100)))),
		rest.Mount(ps, routesOf("patches", ps, rest.On("GET /patches/{key}/owners", rest.ListUnder(ps, seenBy.Of, os)))))
	require.NoError(t, err)
	return api, db
}

// TestRulesHideRows asks for the same things of a service whose rules hide the
// rows of others, and of one that has no such rows: nothing may differ.
func TestRulesHideRows(t *testing.T) {
	ruled, _ := newRuled(t, true, ruledData)
	open, _ := newRuled(t, false, ruledData, onlyMine)
	r := rand.New(rand.NewPCG(11, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	filters := func() string {
		return pick("owner.name = 'secret two'", "owner.phone = '777'", "from.label LIKE '%secret%'", "NOT (from.owner.phone = '777')", "kids.weight > 5", "kids.owner.id = 2",
			"weight = 777", "NOT (weight = 777)", "kids.id IS NULL", "from.id IS NULL", "NOT (kids.label = 'secret b')", "from.weight + 1 > owner.id", "kids.kids.weight = 7", "CASEI(label) LIKE 's%'", "owner_id <> 1", "owner.frames.weight = 777",
			"owner.patches.kind = 'secret field'", "owner.patches.owners.name = 'secret two'", "from.label <> 'x' OR weight < 10")
	}
	orders := func() string {
		return pick("label", "-weight", "owner.name", "-from.label", "from.weight,label", "-from.owner.phone", "from.from.label")
	}
	with := func() string {
		return pick("owner", "from", "kids", "owner.frames", "kids.kids", "from.kids(limit:1;sortby:-label)", "owner.patches.owners", "kids(sortby:weight)", "kids(filter:weight > 2)", "kids(filter:owner.phone = '777' OR from.label LIKE '%secret%')", "kids.kids(limit:2;filter:label LIKE '%a%' AND (owner.name <> 'x;,.)' OR weight IS NULL))", "from.owner")
	}
	targets := func() string {
		q := url.Values{}
		at := pick("/api/frames", "/api/frames", "/api/frames", "/api/owners/1/frames", "/api/owners/2/frames", "/api/frames/1/kids", "/api/frames/2/kids", "/api/frames/3/kids")
		if r.IntN(2) == 0 {
			q.Set("filter", filters())
		}
		if r.IntN(4) == 0 {
			q.Set("q", pick("secret", "a", "c"))
		}
		switch r.IntN(6) {
		case 0:
			return fmt.Sprintf("/api/%s/%d?with=%s", "frames", 1+r.IntN(7), url.QueryEscape(with()))
		case 1:
			return fmt.Sprintf("/api/frames/%d/%s", 1+r.IntN(7), pick("owner", "from", "kids"))
		case 2:
			q.Set("by", pick("owner_id", "owner.name", "from.label", "weight"))
			q.Set("measure", pick("count", "sum(weight),count", "max(weight)", "max(from.weight)", "count(from.label)"))
			return "/api/frames/summary?" + q.Encode()
		case 3:
			return pick("/api/patches", "/api/patches/1/owners", "/api/patches/2/owners", "/api/patches/2", "/api/owners", "/api/owners/2", "/api/owners/1/patches", "/api/owners/summary", "/api/patches?with=owners.frames", "/api/owners?with=patches.owners,frames.kids", "/api/patches/summary?by=kind",
				"/api/owners?filter="+url.QueryEscape("frames.weight=777"), "/api/patches?filter="+url.QueryEscape("owners.name='secret two'"), "/api/frames?owner_id=2", "/api/frames?weight=777&weight=5", "/api/frames?limit=none&f=csv", "/api/frames?limit=none&f=ndjson&with=kids")
		}
		q.Set("sortby", orders())
		q.Set("count", "true")
		q.Set("limit", pick("1", "2", "50"))
		if r.IntN(2) == 0 {
			q.Set("with", with())
		}
		return at + "?" + q.Encode()
	}
	for range 3000 {
		target := targets()
		for range 5 { // and the pages behind it
			got, want := as(ruled, "hand:1", "GET", target, ""), as(open, "", "GET", target, "")
			require.Equal(t, want.Code, got.Code, "%s: %s", target, got.Body)
			require.Equal(t, want.Body.String(), got.Body.String(), target)
			require.Equal(t, want.Header(), got.Header(), target)
			var page struct{ Next string }
			if json.Unmarshal(got.Body.Bytes(), &page) != nil || page.Next == "" {
				break
			}
			at, _ := url.Parse(target)
			q := at.Query()
			q.Set("after", page.Next)
			target = at.Path + "?" + q.Encode()
		}
	}
	assert.Equal(t, 200, as(ruled, "admin:9", "GET", "/api/frames/2", "").Code, "those without a rule see all")
	assert.Equal(t, `{"items":[]}`, strings.TrimSpace(as(ruled, "hand:", "GET", "/api/frames", "").Body.String()), "a claim that is missing leaves nothing")
	assert.Equal(t, `{"items":[]}`, strings.TrimSpace(as(ruled, "hand:x", "GET", "/api/owners", "").Body.String()), "nor does one of another kind")
	assert.Equal(t, `{"items":[]}`, strings.TrimSpace(as(ruled, "hand:1 OR 1=1", "GET", "/api/owners", "").Body.String()))
}

// TestRulesBindWrites writes as the first owner to what is the second's, and
// gives away or takes what should stay where it is.
func TestRulesBindWrites(t *testing.T) {
	api, db := newRuled(t, true, ruledData)
	for _, c := range []struct {
		method, target, body string
		status               int
	}{
		{"PATCH", "/api/frames/2", `{"label":"x"}`, 404}, {"PUT", "/api/frames/2", `{"label":"x","owner_id":1}`, 404}, {"DELETE", "/api/frames/2", "", 404},
		{"PATCH", "/api/frames/1", `{"owner_id":2}`, 422}, {"PUT", "/api/frames/1", `{"label":"x","owner_id":2}`, 422},
		{"POST", "/api/frames", `{"label":"x","owner_id":2}`, 422}, {"POST", "/api/frames", `[{"label":"x","owner_id":1},{"label":"x","owner_id":2}]`, 422},
		{"POST", "/api/frames", `{"label":"x","owner_id":1,"from_id":2}`, 422}, {"PATCH", "/api/frames/1", `{"from_id":2}`, 422}, {"POST", "/api/frames", `{"label":"x","owner_id":1,"from_id":99}`, 422},
		{"POST", "/api/frames", `{"label":"x","owner_id":1,"kids":[{"label":"y","owner_id":2}]}`, 422},
		{"POST", "/api/owners/2/frames", `{"label":"x"}`, 404}, {"POST", "/api/owners", `{"name":"new"}`, 409}, {"PATCH", "/api/owners/1", `{"id":2}`, 422},
		{"POST", "/api/batch", `{"calls":[{"method":"PATCH","path":"/frames/1","body":{"label":"in a batch"}},{"method":"DELETE","path":"/frames/5"}]}`, 404},
		{"PATCH", "/api/frames?weight=777", `{"label":"x"}`, 200}, {"DELETE", "/api/frames?owner_id=2", "", 200}, {"DELETE", "/api/frames?filter=owner.name='secret%20two'", "", 200}, {"PATCH", "/api/frames?owner_id=1", `{"owner_id":2}`, 422},
		{"PATCH", "/api/frames?owner_id=1", `{"from_id":2}`, 422}, {"PATCH", "/api/frames?filter=from.weight=777", `{"label":"x"}`, 200},
		{"PUT", "/api/owners/2/patches/1", "", 404}, {"PUT", "/api/owners/1/patches/2", "", 404}, {"DELETE", "/api/owners/1/patches/2", "", 404}, {"DELETE", "/api/owners/2/patches/2", "", 404},
	} {
		before := dump(t, db)
		w := as(api, "hand:1", c.method, c.target, c.body)
		assert.Equal(t, c.status, w.Code, "%s %s %s: %s", c.method, c.target, c.body, w.Body)
		assert.NotContains(t, w.Body.String(), "secret", c.target)
		assert.Equal(t, before, dump(t, db), "%s %s %s changed something", c.method, c.target, c.body)
	}
	unknown := as(api, "hand:1", "POST", "/api/frames", `{"label":"x","owner_id":1,"from_id":99}`).Body.String()
	assert.Equal(t, unknown, as(api, "hand:1", "POST", "/api/frames", `{"label":"x","owner_id":1,"from_id":2}`).Body.String(), "a row that is hidden looks like none")
	for _, header := range []string{"If-Match", "If-None-Match"} {
		hidden := asWith(api, "hand:1", "PATCH", "/api/frames/2", `{}`, header, `"x"`)
		none := asWith(api, "hand:1", "PATCH", "/api/frames/99", `{}`, header, `"x"`)
		assert.Equal(t, none.Code, hidden.Code, header)
		assert.Equal(t, none.Header(), hidden.Header(), header)
	}
	for _, c := range []struct{ method, target, body string }{
		{"PATCH", "/api/frames/1", `{"label":"mine"}`}, {"PUT", "/api/frames/3", `{"label":"c","owner_id":1,"from_id":1}`}, {"POST", "/api/frames", `[{"label":"x","owner_id":1,"from_id":1},{"label":"y","owner_id":1}]`},
		{"POST", "/api/owners/1/frames", `{"label":"z"}`}, {"DELETE", "/api/frames/4", ""}, {"PUT", "/api/owners/1/patches/1", ""}, {"PATCH", "/api/frames/6", `{"from_id":1}`},
		{"PATCH", "/api/frames?filter=id%3E0", `{"weight":3}`}, {"POST", "/api/patches", `{"kind":"phacelia"}`}, {"POST", "/api/frames", `{"label":"p","owner_id":1,"kids":[{"label":"k","owner_id":1}]}`},
	} {
		w := as(api, "hand:1", c.method, c.target, c.body)
		assert.Less(t, w.Code, 300, "%s %s: %s", c.method, c.target, w.Body)
	}
	theirs, err := frames.Find(t.Context(), db, 2)
	require.NoError(t, err)
	assert.EqualValues(t, 777, theirs.Weight.Or(0), "of all frames, those of others stay as they are")
	assert.Contains(t, as(api, "hand:1", "GET", "/api/patches?kind=phacelia", "").Body.String(), `"owner_id":1`, "a column that equals a claim is filled in")
}

func asWith(api http.Handler, who, method, target, body, header, value string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("X-Who", who)
	r.Header.Set(header, value)
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

// dump is all that is in the database.
func dump(t *testing.T, db gate.DB) string {
	t.Helper()
	var b bytes.Buffer
	all := func(rows any, err error) {
		require.NoError(t, err)
		require.NoError(t, json.NewEncoder(&b).Encode(rows))
	}
	all(holders.With(seesOf).All(t.Context(), db))
	all(frames.All(t.Context(), db))
	all(patches.All(t.Context(), db))
	return b.String()
}

// TestBadRules refuses rules that mean nothing when the service starts.
func TestBadRules(t *testing.T) {
	s := rest.NewShape("boxes", &boxes)
	for text, fault := range map[string]string{
		"keeper_id = ": "expected", "keper_id = claim.sub": `no property "keper_id"`, "keeper.id = claim.sub": "no property and no relation",
	} {
		_, err := rest.New(rest.Config{Identify: func(*http.Request) (*rest.Identity, error) { return nil, nil }, Allow: map[string]rest.Allow{"boxes": {Rows: map[string]string{"hand": text}}}}, rest.Mount(s, nil))
		assert.ErrorContains(t, err, fault, text)
	}
	_, err := rest.New(rest.Config{Allow: map[string]rest.Allow{"boxes": {Columns: map[string]rest.AllowColumn{"wight": {}}}}}, rest.Mount(s, nil))
	assert.ErrorContains(t, err, "the column wight of boxes")
}
