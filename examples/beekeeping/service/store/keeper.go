// From table keeper. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// Keeper is a member of the cooperative who looks after bees.
type Keeper struct {
	ID       int64              `json:"id"`
	MemberNo string             `json:"member_no"` // The number on the membership card.
	Name     string             `json:"name"`
	Email    gate.Maybe[string] `json:"email"`
	Phone    gate.Maybe[string] `json:"phone"`
	JoinedOn gate.Date          `json:"joined_on"`
	IsActive bool               `json:"is_active"` // Whether the member still keeps bees.

	// Related rows, present when asked for with With.
	Apiaries       []*Apiary     `json:"apiaries,omitzero"`
	DeputyApiaries []*Apiary     `json:"deputy_apiaries,omitzero"`
	Inspections    []*Inspection `json:"inspections,omitzero"`
}

// Keepers is the table keeper: its columns, its relations and what can be done with it.
var Keepers = &keeperTable{
	Table:    gate.NewTable(keeperDef, func(k *int64) []any { return []any{k} }),
	ID:       gate.NewOrdered[int64](keeperDef, "id"),
	MemberNo: gate.NewText(keeperDef, "member_no"),
	Name:     gate.NewText(keeperDef, "name"),
	Email:    gate.NewText(keeperDef, "email"),
	Phone:    gate.NewText(keeperDef, "phone"),
	JoinedOn: gate.NewOrdered[gate.Date](keeperDef, "joined_on"),
	IsActive: gate.NewValue[bool](keeperDef, "is_active"),

	Apiaries:       gate.NewToMany(keeperDef, apiaryDef, gate.On{{"id", "keeper_id"}}, func(e *Keeper) *[]*Apiary { return &e.Apiaries }),
	DeputyApiaries: gate.NewToMany(keeperDef, apiaryDef, gate.On{{"id", "deputy_id"}}, func(e *Keeper) *[]*Apiary { return &e.DeputyApiaries }),
	Inspections:    gate.NewToMany(keeperDef, inspectionDef, gate.On{{"id", "keeper_id"}}, func(e *Keeper) *[]*Inspection { return &e.Inspections }),
}

type keeperTable struct {
	gate.Table[*Keeper, int64]
	ID       gate.Ordered[*Keeper, int64]
	MemberNo gate.Text[*Keeper]
	Name     gate.Text[*Keeper]
	Email    gate.Text[*Keeper]
	Phone    gate.Text[*Keeper]
	JoinedOn gate.Ordered[*Keeper, gate.Date]
	IsActive gate.Value[*Keeper, bool]

	Apiaries       gate.ToMany[*Keeper, *Apiary]
	DeputyApiaries gate.ToMany[*Keeper, *Apiary]
	Inspections    gate.ToMany[*Keeper, *Inspection]
}

// keeperDef describes the table keeper to the runtime.
var keeperDef = gate.Describe(gate.Spec[*Keeper]{
	New:  func() *Keeper { return new(Keeper) },
	Name: "keeper",
	Columns: []gate.Column[*Keeper]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, Field: func(e *Keeper) any { return &e.ID }},
		{Name: "member_no", Type: gate.TypeText, Max: 12, Field: func(e *Keeper) any { return &e.MemberNo }},
		{Name: "name", Type: gate.TypeText, Max: 80, Field: func(e *Keeper) any { return &e.Name }},
		{Name: "email", Type: gate.TypeText, Flags: gate.Nullable, Max: 120, Field: func(e *Keeper) any { return &e.Email }},
		{Name: "phone", Type: gate.TypeText, Flags: gate.Nullable, Max: 30, Field: func(e *Keeper) any { return &e.Phone }},
		{Name: "joined_on", Type: gate.TypeDate, Field: func(e *Keeper) any { return &e.JoinedOn }},
		{Name: "is_active", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "true", Field: func(e *Keeper) any { return &e.IsActive }},
	},
	Uniques: []gate.Unique{
		{Columns: []string{"email"}},
		{Columns: []string{"member_no"}},
	},
})
