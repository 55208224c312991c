// From table apiary. Edits here are kept when it is written again.

package store

import (
	"context"
	"log/slog"

	"example/store/gate"
)

// Apiary is a row of the table apiary.
type Apiary struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`

	// Related rows, present when asked for with With.
	Hives []*Hive `json:"hives,omitzero"`
}

// LogValue is what logs say of an apiary: its key, and nothing else of the row.
func (e *Apiary) LogValue() slog.Value {
	return slog.GroupValue(
		slog.Any("id", e.ID),
	)
}

// Apiaries is the table apiary: its columns, its relations and what can be done with it.
var Apiaries = newApiaryTable()

type apiaryTable struct {
	table[*Apiary, int64]
	ID   *gate.Ordered[*Apiary, int64]
	Name *gate.Text[*Apiary]

	Hives *gate.ToMany[*Apiary, *Hive]

	// Unique keys, for Upsert.
	ByName gate.UniqueKey[*Apiary]
}

func newApiaryTable() *apiaryTable {
	return &apiaryTable{
		table: gate.NewTable(apiaryDef, func(k *int64) []any { return []any{k} }),
		ID:    gate.NewOrdered[int64](apiaryDef, "id"),
		Name:  gate.NewText(apiaryDef, "name"),

		Hives: gate.NewToMany(apiaryDef, hiveDef, gate.On{{"id", "apiary_id"}}, func(e *Apiary) *[]*Hive { return &e.Hives }),

		ByName: gate.NewUniqueKey(apiaryDef, "name"),
	}
}

// FindByName returns an apiary by its name, or gate.ErrNotFound.
func (t *apiaryTable) FindByName(ctx context.Context, db gate.DB, name string) (*Apiary, error) {
	return t.Where(t.Name.Is(name)).One(ctx, db)
}

// apiaryDef describes the table apiary to the runtime.
var apiaryDef = newApiaryDef()

func newApiaryDef() *gate.Def[*Apiary] {
	return gate.Describe(gate.Spec[*Apiary]{
		Name: "apiary",
		Uniques: []gate.Unique{
			{Columns: []string{"name"}},
		},
		New: func() *Apiary { return new(Apiary) },
		Fields: []gate.Field[*Apiary]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Apiary) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Apiary) any { return &e.Name }},
		},
	})
}
