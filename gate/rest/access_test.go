package rest_test

import (
	"context"
	"fmt"
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

type keeper struct {
	ID    int64
	Email string
	Boxes []*box
}

type box struct {
	ID       int64
	Name     string
	KeeperID int64
	Keeper   *keeper
}

var (
	keeperDef = gate.Describe(gate.Spec[*keeper]{
		Name: "keeper", New: func() *keeper { return new(keeper) },
		Fields: []gate.Field[*keeper]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *keeper) any { return &e.ID }},
			{Name: "email", Type: gate.TypeText, In: func(e *keeper) any { return &e.Email }},
		},
	})
	boxDef = gate.Describe(gate.Spec[*box]{
		Name: "box", New: func() *box { return new(box) },
		Fields: []gate.Field[*box]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *box) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, In: func(e *box) any { return &e.Name }},
			{Name: "keeper_id", Type: gate.TypeInt64, In: func(e *box) any { return &e.KeeperID }},
		},
	})
	keepers = gate.NewTable(keeperDef, func(k *int64) []any { return []any{k} })
	boxes   = gate.NewTable(boxDef, func(k *int64) []any { return []any{k} })
	owns    = gate.NewToMany(keeperDef, boxDef, gate.On{{"id", "keeper_id"}}, func(e *keeper) *[]*box { return &e.Boxes })
	owner   = gate.NewToOne(boxDef, keeperDef, gate.On{{"keeper_id", "id"}}, func(e *box) **keeper { return &e.Keeper })
)

// newGuarded serves two tables to those who say in a header what they are.
func newGuarded(t *testing.T) *rest.API {
	t.Helper()
	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, s := range []string{
		"CREATE TABLE keeper (id INTEGER PRIMARY KEY, email TEXT NOT NULL)",
		"CREATE TABLE box (id INTEGER PRIMARY KEY, name TEXT NOT NULL, keeper_id INTEGER NOT NULL REFERENCES keeper (id))",
		"INSERT INTO keeper VALUES (1, 'hidden@example.org')", "INSERT INTO box VALUES (1, 'one', 1), (2, 'two', 1)",
	} {
		_, err := db.Exec(t.Context(), s, nil)
		require.NoError(t, err)
	}
	ks := rest.NewShape("keepers", &keepers, rest.Relate("boxes", owns))
	bs := rest.NewShape("boxes", &boxes, rest.Relate("keeper", owner))
	api, err := rest.New(rest.Config{
		Base: "/api", DB: db,
		Identify: func(r *http.Request) (*rest.Identity, error) {
			switch who := r.Header.Get("X-Who"); who {
			case "":
				return nil, nil
			case "bad":
				return nil, fmt.Errorf("%w: the token has expired", rest.ErrCredentials)
			default:
				return &rest.Identity{Subject: who, Roles: strings.Split(who, ",")}, nil
			}
		},
		Allow: map[string]rest.Allow{
			"":      {Read: []string{"auditor", "admin"}, Create: []string{"admin"}, Change: []string{"admin"}, Delete: []string{"admin"}},
			"boxes": {Read: []string{rest.Known}, Create: []string{"hand", "admin"}, Change: []string{"hand", "admin"}, Delete: []string{"admin"}},
		},
	}, rest.Mount(ks, routesOf("keepers", ks, rest.On("GET /keepers/{key}/boxes", rest.ListUnder(ks, owns.Of, bs)), rest.On("POST /keepers/{key}/boxes", rest.CreateUnder(ks, owns, bs)))),
		rest.Mount(bs, routesOf("boxes", bs, rest.On("GET /boxes/{key}/keeper", rest.GetUnder(bs, owner.Of, ks)))))
	require.NoError(t, err)
	return api
}

func routesOf[E any](path string, s *rest.Shape[E, int64], more ...rest.Route) []rest.Route {
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
		rest.On("POST /"+path, rest.Create(s)), rest.On("PUT /"+path+"/{key}", rest.Replace(s)),
		rest.On("PATCH /"+path+"/{key}", rest.Change(s)), rest.On("DELETE /"+path+"/{key}", rest.Remove(s)))
}

func as(api http.Handler, who, method, target, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	if who != "" {
		r.Header.Set("X-Who", who)
	}
	w := httptest.NewRecorder()
	api.ServeHTTP(w, r)
	return w
}

// TestWhoMayDoWhat tries every verb as everybody.
func TestWhoMayDoWhat(t *testing.T) {
	api := newGuarded(t)
	for _, c := range []struct {
		who, method, target, body string
		status                    int
	}{
		{"", "GET", "/api/boxes", "", 401}, {"", "GET", "/api/boxes/1", "", 401}, {"", "GET", "/api/boxes/summary", "", 401},
		{"", "POST", "/api/boxes", `{"name":"x","keeper_id":1}`, 401}, {"", "DELETE", "/api/boxes/1", "", 401}, {"", "PATCH", "/api/boxes/1", `{}`, 401}, {"", "PUT", "/api/boxes/1", `{}`, 401},
		{"bad", "GET", "/api/boxes", "", 401}, {"bad", "POST", "/api/boxes", `{}`, 401},
		{"guest", "GET", "/api/boxes", "", 200}, {"guest", "GET", "/api/boxes/1", "", 200}, {"guest", "GET", "/api/boxes/summary", "", 200},
		{"guest", "GET", "/api/keepers", "", 403}, {"guest", "GET", "/api/keepers/1", "", 403}, {"guest", "GET", "/api/keepers/summary?by=email", "", 403},
		{"guest", "GET", "/api/boxes/1/keeper", "", 403}, {"guest", "GET", "/api/keepers/1/boxes", "", 403},
		{"guest", "POST", "/api/boxes", `{"name":"x","keeper_id":1}`, 403}, {"guest", "PATCH", "/api/boxes/1", `{"name":"y"}`, 403},
		{"guest", "PUT", "/api/boxes/1", `{"name":"y","keeper_id":1}`, 403}, {"guest", "DELETE", "/api/boxes/1", "", 403},
		{"hand", "POST", "/api/boxes", `{"name":"x","keeper_id":1}`, 201}, {"hand", "PATCH", "/api/boxes/1", `{"name":"y"}`, 200},
		{"hand", "DELETE", "/api/boxes/1", "", 403}, {"hand", "POST", "/api/keepers/1/boxes", `{"name":"x"}`, 403},
		{"hand", "POST", "/api/keepers", `{"email":"x"}`, 403},
		{"auditor", "GET", "/api/keepers/1?with=boxes", "", 200}, {"auditor", "GET", "/api/boxes/1/keeper", "", 200},
		{"auditor", "POST", "/api/keepers", `{"email":"x","boxes":[{"name":"z"}]}`, 403},
		{"hand,auditor", "POST", "/api/keepers/1/boxes", `{"name":"x"}`, 201},
		{"admin", "POST", "/api/keepers", `{"email":"x","boxes":[{"name":"z"}]}`, 201}, {"admin", "DELETE", "/api/boxes/2", "", 204},
	} {
		w := as(api, c.who, c.method, c.target, c.body)
		assert.Equal(t, c.status, w.Code, "%s: %s %s: %s", c.who, c.method, c.target, w.Body)
		if w.Code == 401 {
			assert.Contains(t, w.Header().Get("WWW-Authenticate"), "Bearer")
		}
		if w.Code >= 400 {
			assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
		}
	}
	assert.Contains(t, as(api, "guest", "DELETE", "/api/boxes/1", "").Body.String(), "to delete boxes one needs the role admin")
	assert.Contains(t, as(api, "bad", "GET", "/api/boxes", "").Body.String(), "the token has expired")
}

// TestNoWayAround looks for the e-mail address that guests may not see through
// everything that they may use.
func TestNoWayAround(t *testing.T) {
	api := newGuarded(t)
	for _, query := range []string{
		"with=keeper", "filter=keeper.email='hidden@example.org'", "filter=keeper.email LIKE 'h%25'", "filter=NOT (keeper.id IS NULL)", "sortby=keeper.email",
		"filter-lang=cql2-json&filter=" + url.QueryEscape(`{"op":"=","args":[{"property":"keeper.email"},"hidden@example.org"]}`),
		"with=keeper(limit:1)", "properties=keeper", "properties=keeper.email", "keeper.email=x",
	} {
		w := as(api, "guest", "GET", "/api/boxes?"+strings.ReplaceAll(query, " ", "%20"), "")
		assert.Equal(t, 400, w.Code, "%s: %s", query, w.Body)
		assert.NotContains(t, w.Body.String(), "they have email", query)
		known := as(api, "guest", "GET", "/api/boxes?"+strings.ReplaceAll(strings.ReplaceAll(query, "keeper", "nobody"), " ", "%20"), "")
		assert.Equal(t, strings.ReplaceAll(known.Body.String(), "nobody", "keeper"), w.Body.String(), "what is there looks like what is not")
	}
	for _, query := range []string{"by=keeper.email", "by=name&measure=max(keeper.email)", "by=keeper_id&measure=count&having=keeper.email='x'"} {
		assert.Equal(t, 400, as(api, "guest", "GET", "/api/boxes/summary?"+query, "").Code, query)
	}
	w := as(api, "hand", "POST", "/api/boxes", `{"name":"x","keeper":{"email":"mine@example.org"}}`)
	assert.Equal(t, 422, w.Code, "related rows are stored by those only who may: %s", w.Body)
	w = as(api, "admin", "DELETE", "/api/keepers/1", "")
	assert.Contains(t, w.Body.String(), "boxes")
	_, err := rest.New(rest.Config{Allow: map[string]rest.Allow{"hivs": {}}})
	assert.ErrorContains(t, err, "hivs, which is no resource")
	assert.Nil(t, rest.IdentityOf(context.Background()))
}

// TestConditionsCreateNothing sends a PUT that may only create, to a path whose
// key is not the caller's to choose, as one who may not create at all.
func TestConditionsCreateNothing(t *testing.T) {
	api := newGuarded(t)
	for _, who := range []string{"hand", "admin"} {
		r := httptest.NewRequest("PUT", "/api/boxes/99", strings.NewReader(`{"name":"x","keeper_id":1}`))
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Who", who)
		r.Header.Set("If-None-Match", "*")
		w := httptest.NewRecorder()
		api.ServeHTTP(w, r)
		assert.Equal(t, 404, w.Code, "%s: %s", who, w.Body)
	}
}

// counting counts the transactions that are asked of a database.
type counting struct {
	gate.DB
	begun int
}

func (c *counting) InTx(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	c.begun++
	return c.DB.InTx(ctx, o, do)
}

// TestOwnFunctions gives handlers functions of their own: each runs in the
// transaction of its request. What the table does by one statement runs in none.
func TestOwnFunctions(t *testing.T) {
	for _, own := range []bool{false, true} {
		path := filepath.Join(t.TempDir(), "bees.db")
		require.NoError(t, os.WriteFile(path, nil, 0o644))
		opened, err := sqlite.Open(t.Context(), path)
		require.NoError(t, err)
		t.Cleanup(func() { opened.Close() })
		for _, s := range []string{"CREATE TABLE keeper (id INTEGER PRIMARY KEY, email TEXT NOT NULL)", "CREATE TABLE box (id INTEGER PRIMARY KEY, name TEXT NOT NULL, keeper_id INTEGER NOT NULL REFERENCES keeper (id))", "INSERT INTO keeper VALUES (1, 'mail')"} {
			_, err := opened.Exec(t.Context(), s, nil)
			require.NoError(t, err)
		}
		db := &counting{DB: opened}
		bs := rest.NewShape("boxes", &boxes)
		var called []string
		in := func(tx gate.DB, what string) { called = append(called, fmt.Sprint(what, " ", gate.IsTx(tx))) }
		create, change, replace, remove := rest.Create(bs), rest.Change(bs), rest.Replace(bs), rest.Remove(bs)
		if own {
			update := func(what string) rest.Update[*box] {
				return func(ctx context.Context, tx gate.DB, row *box, columns ...gate.ColumnOf[*box]) error {
					in(tx, what)
					return boxes.Update(ctx, tx, row, columns...)
				}
			}
			create = rest.Create(bs, func(ctx context.Context, tx gate.DB, rows []*box) error {
				in(tx, "create")
				return boxes.InsertAll(ctx, tx, rows)
			})
			change, replace = rest.Change(bs, update("change")), rest.Replace(bs, update("replace"))
			remove = rest.Remove(bs, func(ctx context.Context, tx gate.DB, key int64) error {
				in(tx, "remove")
				return boxes.Delete(ctx, tx, key)
			})
		}
		api, err := rest.New(rest.Config{Base: "/api", DB: db}, rest.Mount(bs, []rest.Route{
			rest.On("POST /boxes", create), rest.On("PATCH /boxes/{key}", change), rest.On("PUT /boxes/{key}", replace), rest.On("DELETE /boxes/{key}", remove),
		}))
		require.NoError(t, err)
		for _, step := range []struct {
			method, target, body string
			status, begun        int
		}{
			{"POST", "/api/boxes", `{"name":"one","keeper_id":1}`, 201, 0},
			{"PATCH", "/api/boxes/1", `{"name":"two"}`, 200, 1},
			{"PUT", "/api/boxes/1", `{"name":"three","keeper_id":1}`, 200, 1},
			{"DELETE", "/api/boxes/1", "", 204, 0},
		} {
			db.begun = 0
			w := as(api, "", step.method, step.target, step.body)
			assert.Equal(t, step.status, w.Code, "%s: %s", step.method, w.Body)
			if own {
				step.begun = 1
			}
			assert.Equal(t, step.begun, db.begun, "own %v: transactions of %s", own, step.method)
		}
		twice := func(ctx context.Context, tx gate.DB, key int64) error { return nil }
		other := rest.NewShape("boxes", &boxes)
		_, err = rest.New(rest.Config{Base: "/api", DB: db}, rest.Mount(other, []rest.Route{rest.On("DELETE /boxes/{key}", rest.Remove(other, twice, twice))}))
		assert.ErrorContains(t, err, "a route of boxes is given 2 functions of your own; give it one")
		if own {
			assert.Equal(t, []string{"create true", "change true", "replace true", "remove true"}, called)
		}
	}
}
