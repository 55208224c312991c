package rest_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type rack struct {
	ID    int64
	Combs []*comb
}

type comb struct {
	ID     int64
	RackID int64
	Mood   string
}

// TestRelatedRowsThatDoNotFit asks for a list with related rows by a column that is
// not described, and with one that has a value which is none of its column: the one
// is an error, the other is shown as it is stored.
func TestRelatedRowsThatDoNotFit(t *testing.T) {
	rackDef := gate.Describe(gate.Spec[*rack]{Name: "rack", New: func() *rack { return new(rack) }, Fields: []gate.Field[*rack]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *rack) any { return &e.ID }},
	}})
	combDef := gate.Describe(gate.Spec[*comb]{Name: "comb", New: func() *comb { return new(comb) }, Fields: []gate.Field[*comb]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *comb) any { return &e.ID }},
		{Name: "rack_id", Type: gate.TypeInt64, In: func(e *comb) any { return &e.RackID }},
		{Name: "mood", Type: gate.TypeEnum, Labels: []string{"calm", "fierce"}, In: func(e *comb) any { return &e.Mood }},
	}})
	racks, combs := gate.NewTable(rackDef, func(k *int64) []any { return []any{k} }), gate.NewTable(combDef, func(k *int64) []any { return []any{k} })
	slot := func(e *rack) *[]*comb { return &e.Combs }
	rs := rest.NewShape("racks", &racks,
		rest.Relate("combs", gate.NewToMany(rackDef, combDef, gate.On{{"id", "rack_id"}}, slot)),
		rest.Relate("lost", gate.NewToMany(rackDef, combDef, gate.On{{"code", "rack_id"}}, slot)))
	cs := rest.NewShape("combs", &combs)

	path := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, text := range []string{
		"CREATE TABLE rack (id INTEGER PRIMARY KEY)", "CREATE TABLE comb (id INTEGER PRIMARY KEY, rack_id BIGINT NOT NULL, mood TEXT)",
		"INSERT INTO rack VALUES (1), (2), (3)", "INSERT INTO comb VALUES (1, 1, 'calm'), (2, 3, 'odd'), (3, 3, NULL)",
	} {
		_, err := db.Exec(t.Context(), text, nil)
		require.NoError(t, err)
	}
	api, err := rest.New(rest.Config{Base: "/api", DB: db}, rest.Mount(rs, routesOf("racks", rs)), rest.Mount(cs, routesOf("combs", cs)))
	require.NoError(t, err)

	assert.Equal(t, 500, as(api, "", "GET", "/api/racks?with=lost", "").Code)
	w := as(api, "", "GET", "/api/racks?with=combs", "")
	assert.Equal(t, 200, w.Code)
	assert.JSONEq(t, `{"items":[{"id":1,"combs":[{"id":1,"rack_id":1,"mood":"calm"}]},{"id":2,"combs":[]},
		{"id":3,"combs":[{"id":2,"rack_id":3,"mood":"odd"},{"id":3,"rack_id":3,"mood":null}]}]}`, w.Body.String())
	assert.NotEmpty(t, w.Header())
	w = as(api, "", "GET", "/api/combs/2", "")
	assert.Equal(t, `{"id":2,"rack_id":3,"mood":"odd"}`+"\n", w.Body.String())
}
