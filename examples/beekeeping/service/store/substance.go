// From table substance. Edits here are kept when it is written again.

package store

import (
	"context"

	"beekeeping/store/gate"
)

// Substance is a row of the table substance. Something that hives are treated with.
type Substance struct {
	ID             int64  `json:"id"`
	Name           string `json:"name"`
	Unit           string `json:"unit"`
	WithdrawalDays int64  `json:"withdrawal_days"` // Days until honey may be taken again.

	// Related rows, present when asked for with With.
	Treatments []*Treatment `json:"treatments,omitzero"`
}

// Substances is the table substance: its columns, its relations and what can be done with it.
var Substances = newSubstanceTable()

type substanceTable struct {
	table[*Substance, int64]
	ID             *gate.Ordered[*Substance, int64]
	Name           *gate.Text[*Substance]
	Unit           *gate.Text[*Substance]
	WithdrawalDays *gate.Ordered[*Substance, int64]

	Treatments *gate.ToMany[*Substance, *Treatment]

	// Unique keys, for Upsert.
	ByName gate.UniqueKey[*Substance]
}

func newSubstanceTable() *substanceTable {
	return &substanceTable{
		table:          gate.NewTable(substanceDef, func(k *int64) []any { return []any{k} }),
		ID:             gate.NewOrdered[int64](substanceDef, "id"),
		Name:           gate.NewText(substanceDef, "name"),
		Unit:           gate.NewText(substanceDef, "unit"),
		WithdrawalDays: gate.NewOrdered[int64](substanceDef, "withdrawal_days"),

		Treatments: gate.NewToMany(substanceDef, treatmentDef, gate.On{{"id", "substance_id"}}, func(e *Substance) *[]*Treatment { return &e.Treatments }),

		ByName: gate.NewUniqueKey(substanceDef, "name"),
	}
}

// FindByName returns a substance by its name, or gate.ErrNotFound.
func (t *substanceTable) FindByName(ctx context.Context, db gate.DB, name string) (*Substance, error) {
	return t.Where(t.Name.Is(name)).One(ctx, db)
}

// substanceDef describes the table substance to the runtime.
var substanceDef = newSubstanceDef()

func newSubstanceDef() *gate.Def[*Substance] {
	return gate.Describe(gate.Spec[*Substance]{
		Name: "substance",
		Uniques: []gate.Unique{
			{Columns: []string{"name"}},
		},
		New: func() *Substance { return new(Substance) },
		Fields: []gate.Field[*Substance]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Substance) any { return &e.ID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Substance) any { return &e.Name }},
			{Name: "unit", Type: gate.TypeText, Max: 12, In: func(e *Substance) any { return &e.Unit }},
			{Name: "withdrawal_days", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: "0", Most: "365", Default: "0", In: func(e *Substance) any { return &e.WithdrawalDays }},
		},
	})
}
