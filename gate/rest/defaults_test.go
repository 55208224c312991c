package rest_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type shed struct {
	ID        int64
	Capacity  int64
	Open      bool
	Note      string
	DeletedAt gate.Maybe[gate.Date]
	Version   int64
}

var shedDef = gate.Describe(gate.Spec[*shed]{
	Name: "shed", New: func() *shed { return new(shed) },
	Fields: []gate.Field[*shed]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *shed) any { return &e.ID }},
		{Name: "capacity", Type: gate.TypeInt64, Flags: gate.HasDefault, Default: "100", In: func(e *shed) any { return &e.Capacity }},
		{Name: "open", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "true", In: func(e *shed) any { return &e.Open }},
		{Name: "note", Type: gate.TypeText, Flags: gate.HasDefault, In: func(e *shed) any { return &e.Note }},
		{Name: "deleted_at", Type: gate.TypeDate, Flags: gate.Nullable | gate.DeletedAt, In: func(e *shed) any { return &e.DeletedAt }},
		{Name: "version", Type: gate.TypeInt64, Flags: gate.HasDefault | gate.Version, Default: "1", In: func(e *shed) any { return &e.Version }},
	},
})

// TestWhatIsSaidIsStored tells what a body leaves out from zeros that it says.
func TestWhatIsSaidIsStored(t *testing.T) {
	for name, gather := range map[string]bool{"one by one": false, "together": true} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "bees.db")
			require.NoError(t, os.WriteFile(path, nil, 0o644))
			db, err := sqlite.Open(context.Background(), path)
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			_, err = db.Exec(context.Background(), "CREATE TABLE shed (id INTEGER PRIMARY KEY, capacity INTEGER NOT NULL DEFAULT 100, open BOOLEAN NOT NULL DEFAULT TRUE, note TEXT NOT NULL DEFAULT ('n' || 'ew'), deleted_at DATE, version INTEGER NOT NULL DEFAULT 1)", nil)
			require.NoError(t, err)
			sheds := gate.NewTable(shedDef, func(k *int64) []any { return []any{k} })
			shape := rest.NewShape("sheds", &sheds)
			api, err := rest.New(rest.Config{DB: db, Base: "/api", Gather: gather}, rest.Mount(shape, routesOf("sheds", shape)))
			require.NoError(t, err)
			for _, c := range []struct {
				method, target, body string
				status               int
				want                 string
			}{
				{"POST", "/api/sheds", `{}`, 201, `{"id":1,"capacity":100,"open":true,"note":"new","deleted_at":null,"version":1}`},
				{"POST", "/api/sheds", `{"capacity":0,"open":false,"note":""}`, 201, `{"id":2,"capacity":0,"open":false,"note":"","deleted_at":null,"version":1}`},
				{"POST", "/api/sheds", `[{"capacity":0},{"open":false},{}]`, 201, `{"items":[{"id":3,"capacity":0,"open":true,"note":"new","deleted_at":null,"version":1},{"id":4,"capacity":100,"open":false,"note":"new","deleted_at":null,"version":1},{"id":5,"capacity":100,"open":true,"note":"new","deleted_at":null,"version":1}]}`},
				{"PUT", "/api/sheds/1", `{"capacity":0,"version":1}`, 200, `{"id":1,"capacity":0,"open":true,"note":"","deleted_at":null,"version":2}`},
				{"PUT", "/api/sheds/1", `{"capacity":5,"version":0}`, 409, ""},
				{"PUT", "/api/sheds/1", `{"capacity":5,"version":1}`, 409, ""},
				{"PUT", "/api/sheds/1", `{"capacity":6,"deleted_at":null}`, 200, `{"id":1,"capacity":6,"open":true,"note":"","deleted_at":null,"version":3}`},
				{"PATCH", "/api/sheds/1", `{"capacity":0}`, 200, `{"id":1,"capacity":0,"open":true,"note":"","deleted_at":null,"version":4}`},
				{"PATCH", "/api/sheds/1", `{"version":0,"capacity":7}`, 409, ""},
				{"PATCH", "/api/sheds/1", `{"deleted_at":"2026-05-01"}`, 422, ""},
				{"POST", "/api/sheds", `{"deleted_at":"2026-05-01"}`, 422, ""},
				{"DELETE", "/api/sheds/1", "", 204, ""},
				{"PUT", "/api/sheds/1", `{"capacity":6}`, 404, ""},
				{"PATCH", "/api/sheds/1", `{"deleted_at":null}`, 404, ""},
			} {
				w := call(api, c.method, c.target, c.body)
				assert.Equal(t, c.status, w.Code, "%s %s %s: %s", c.method, c.target, c.body, w.Body)
				if c.want != "" {
					assert.JSONEq(t, c.want, w.Body.String(), "%s %s %s", c.method, c.target, c.body)
				}
				assert.NotEqual(t, http.StatusInternalServerError, w.Code)
			}
		})
	}
}
