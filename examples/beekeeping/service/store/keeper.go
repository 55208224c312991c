// From table keeper. Edits here are kept when it is written again.

package store

import (
	"context"

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
var Keepers = newKeeperTable()

type keeperTable struct {
	table[*Keeper, int64]
	ID       *gate.Ordered[*Keeper, int64]
	MemberNo *gate.Text[*Keeper]
	Name     *gate.Text[*Keeper]
	Email    *gate.NullableText[*Keeper]
	Phone    *gate.NullableText[*Keeper]
	JoinedOn *gate.Ordered[*Keeper, gate.Date]
	IsActive *gate.Value[*Keeper, bool]

	Apiaries       *gate.ToMany[*Keeper, *Apiary]
	DeputyApiaries *gate.ToMany[*Keeper, *Apiary]
	Inspections    *gate.ToMany[*Keeper, *Inspection]

	// Unique keys, for Upsert.
	ByEmail    gate.UniqueKey[*Keeper]
	ByMemberNo gate.UniqueKey[*Keeper]
}

func newKeeperTable() *keeperTable {
	return &keeperTable{
		table:    gate.NewTable(keeperDef, func(k *int64) []any { return []any{k} }),
		ID:       gate.NewOrdered[int64](keeperDef, "id"),
		MemberNo: gate.NewText(keeperDef, "member_no"),
		Name:     gate.NewText(keeperDef, "name"),
		Email:    gate.NewNullableText(keeperDef, "email"),
		Phone:    gate.NewNullableText(keeperDef, "phone"),
		JoinedOn: gate.NewOrdered[gate.Date](keeperDef, "joined_on"),
		IsActive: gate.NewValue[bool](keeperDef, "is_active"),

		Apiaries:       gate.NewToMany(keeperDef, apiaryDef, gate.On{{"id", "keeper_id"}}, func(e *Keeper) *[]*Apiary { return &e.Apiaries }),
		DeputyApiaries: gate.NewToMany(keeperDef, apiaryDef, gate.On{{"id", "deputy_id"}}, func(e *Keeper) *[]*Apiary { return &e.DeputyApiaries }),
		Inspections:    gate.NewToMany(keeperDef, inspectionDef, gate.On{{"id", "keeper_id"}}, func(e *Keeper) *[]*Inspection { return &e.Inspections }),

		ByEmail:    gate.NewUniqueKey(keeperDef, "email"),
		ByMemberNo: gate.NewUniqueKey(keeperDef, "member_no"),
	}
}

// FindByEmail returns a keeper by its email, or gate.ErrNotFound.
func (t *keeperTable) FindByEmail(ctx context.Context, db gate.DB, email string) (*Keeper, error) {
	return t.Where(t.Email.Is(email)).One(ctx, db)
}

// FindByMemberNo returns a keeper by its member_no, or gate.ErrNotFound.
func (t *keeperTable) FindByMemberNo(ctx context.Context, db gate.DB, memberNo string) (*Keeper, error) {
	return t.Where(t.MemberNo.Is(memberNo)).One(ctx, db)
}

// keeperDef describes the table keeper to the runtime.
var keeperDef = newKeeperDef()

func newKeeperDef() *gate.Def[*Keeper] {
	return gate.Describe(gate.Spec[*Keeper]{
		Name: "keeper",
		Uniques: []gate.Unique{
			{Columns: []string{"email"}},
			{Columns: []string{"member_no"}},
		},
		New: func() *Keeper { return new(Keeper) },
		Fields: []gate.Field[*Keeper]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Keeper) any { return &e.ID }},
			{Name: "member_no", Type: gate.TypeText, Max: 12, In: func(e *Keeper) any { return &e.MemberNo }},
			{Name: "name", Type: gate.TypeText, Max: 80, In: func(e *Keeper) any { return &e.Name }},
			{Name: "email", Type: gate.TypeText, Flags: gate.Nullable, Max: 120, In: func(e *Keeper) any { return &e.Email }},
			{Name: "phone", Type: gate.TypeText, Flags: gate.Nullable, Max: 30, In: func(e *Keeper) any { return &e.Phone }},
			{Name: "joined_on", Type: gate.TypeDate, In: func(e *Keeper) any { return &e.JoinedOn }},
			{Name: "is_active", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "true", In: func(e *Keeper) any { return &e.IsActive }},
		},
	})
}
