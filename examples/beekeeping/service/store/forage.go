// From table forage. Edits here are kept when it is written again.

package store

import (
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
var Forages = &forageTable{
	Table:      gate.NewTable(forageDef, func(k *int64) []any { return []any{k} }),
	ID:         gate.NewOrdered[int64](forageDef, "id"),
	Name:       gate.NewText(forageDef, "name"),
	LatinName:  gate.NewText(forageDef, "latin_name"),
	BloomsFrom: gate.NewOrdered[int64](forageDef, "blooms_from"),
	BloomsTo:   gate.NewOrdered[int64](forageDef, "blooms_to"),

	Apiaries: gate.NewManyToMany(forageDef, apiaryDef, gate.Join{Name: "apiary_forage", Parent: gate.On{{"id", "forage_id"}}, Child: gate.On{{"apiary_id", "id"}}}, func(e *Forage) *[]*Apiary { return &e.Apiaries }),
}

type forageTable struct {
	gate.Table[*Forage, int64]
	ID         gate.Ordered[*Forage, int64]
	Name       gate.Text[*Forage]
	LatinName  gate.Text[*Forage]
	BloomsFrom gate.Ordered[*Forage, int64]
	BloomsTo   gate.Ordered[*Forage, int64]

	Apiaries gate.ManyToMany[*Forage, *Apiary]
}

// forageDef describes the table forage to the runtime.
var forageDef = gate.Describe(gate.Spec[*Forage]{
	New:  func() *Forage { return new(Forage) },
	Name: "forage",
	Columns: []gate.Column[*Forage]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, Field: func(e *Forage) any { return &e.ID }},
		{Name: "name", Type: gate.TypeText, Max: 60, Field: func(e *Forage) any { return &e.Name }},
		{Name: "latin_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 80, Field: func(e *Forage) any { return &e.LatinName }},
		{Name: "blooms_from", Type: gate.TypeInt64, Least: "1", Most: "12", Field: func(e *Forage) any { return &e.BloomsFrom }},
		{Name: "blooms_to", Type: gate.TypeInt64, Least: "1", Most: "12", Field: func(e *Forage) any { return &e.BloomsTo }},
	},
	Uniques: []gate.Unique{
		{Columns: []string{"name"}},
	},
})
