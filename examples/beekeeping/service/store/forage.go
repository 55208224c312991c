// From table forage. Edits here are kept when it is written again.

package store

import (
	"context"

	"beekeeping/store/gate"
)

// Forage is a plant that bees visit.
type Forage struct {
	ID         int64              `json:"id"`
	Name       string             `json:"name"`
	LatinName  gate.Maybe[string] `json:"latin_name"`
	BloomsFrom int64              `json:"blooms_from"` // Month, 1 to 12.
	BloomsTo   int64              `json:"blooms_to"`   // Month, 1 to 12.

	// Related rows, present when asked for with With.
	Apiaries []*Apiary `json:"apiaries,omitzero"`
}

// Forages is the table forage: its columns, its relations and what can be done with it.
var Forages = newForageTable()

type forageTable struct {
	table[*Forage, int64]
	ID         *gate.Ordered[*Forage, int64]
	Name       *gate.Text[*Forage]
	LatinName  *gate.NullableText[*Forage]
	BloomsFrom *gate.Ordered[*Forage, int64]
	BloomsTo   *gate.Ordered[*Forage, int64]

	Apiaries *gate.ManyToMany[*Forage, *Apiary]

	// Unique keys, for Upsert.
	ByName gate.UniqueKey[*Forage]
}

func newForageTable() *forageTable {
	return &forageTable{
		table:      gate.NewTable(forageDef, func(k *int64) []any { return []any{k} }),
		ID:         gate.NewOrdered[int64](forageDef, "id"),
		Name:       gate.NewText(forageDef, "name"),
		LatinName:  gate.NewNullableText(forageDef, "latin_name"),
		BloomsFrom: gate.NewOrdered[int64](forageDef, "blooms_from"),
		BloomsTo:   gate.NewOrdered[int64](forageDef, "blooms_to"),

		Apiaries: gate.NewManyToMany(forageDef, apiaryDef, gate.Join{Name: "apiary_forage", Parent: gate.On{{"id", "forage_id"}}, Child: gate.On{{"apiary_id", "id"}}}, func(e *Forage) *[]*Apiary { return &e.Apiaries }),

		ByName: gate.NewUniqueKey(forageDef, "name"),
	}
}

// FindByName returns a forage by its name, or gate.ErrNotFound.
func (t *forageTable) FindByName(ctx context.Context, db gate.DB, name string) (*Forage, error) {
	return t.Where(t.Name.Is(name)).One(ctx, db)
}

// forageDef describes the table forage to the runtime.
var forageDef = newForageDef()

func newForageDef() *gate.Def[*Forage] {
	return gate.Describe(gate.Spec[*Forage]{
		Name: "forage",
		Uniques: []gate.Unique{
			{Columns: []string{"name"}},
		},
		New: func() *Forage { return new(Forage) },
		Fields: []gate.Field[*Forage]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Forage) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Forage) any { return &e.Name }},
			{Name: "latin_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 80, In: func(e *Forage) any { return &e.LatinName }},
			{Name: "blooms_from", Type: gate.TypeInt64, Least: "1", Most: "12", In: func(e *Forage) any { return &e.BloomsFrom }},
			{Name: "blooms_to", Type: gate.TypeInt64, Least: "1", Most: "12", In: func(e *Forage) any { return &e.BloomsTo }},
		},
	})
}
