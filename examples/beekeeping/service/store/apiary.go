// From table apiary. Edits here are kept when it is written again.

package store

import (
	"context"
	"time"

	"beekeeping/store/gate"
)

// Apiary is a place where hives stand.
type Apiary struct {
	ID           int64                    `json:"id"`
	KeeperID     int64                    `json:"keeper_id"` // Who answers for the place.
	DeputyID     gate.Maybe[int64]        `json:"deputy_id"` // Who steps in.
	Name         string                   `json:"name"`
	Latitude     gate.Maybe[gate.Decimal] `json:"latitude"`
	Longitude    gate.Maybe[gate.Decimal] `json:"longitude"`
	RegisteredOn gate.Date                `json:"registered_on"`
	Details      gate.Maybe[gate.JSON]    `json:"details"` // What the land owner wants known.
	CreatedAt    time.Time                `json:"created_at"`

	// Related rows, present when asked for with With.
	Keeper  *Keeper   `json:"keeper,omitzero"`
	Deputy  *Keeper   `json:"deputy,omitzero"`
	Hives   []*Hive   `json:"hives,omitzero"`
	Forages []*Forage `json:"forages,omitzero"`
}

// Apiaries is the table apiary: its columns, its relations and what can be done with it.
var Apiaries = newApiaryTable()

type apiaryTable struct {
	table[*Apiary, int64]
	ID           *gate.Ordered[*Apiary, int64]
	KeeperID     *gate.Ordered[*Apiary, int64]
	DeputyID     *gate.NullableOrdered[*Apiary, int64]
	Name         *gate.Text[*Apiary]
	Latitude     *gate.NullableOrdered[*Apiary, gate.Decimal]
	Longitude    *gate.NullableOrdered[*Apiary, gate.Decimal]
	RegisteredOn *gate.Ordered[*Apiary, gate.Date]
	Details      *gate.NullableDocument[*Apiary]
	CreatedAt    *gate.Ordered[*Apiary, time.Time]

	Keeper  *gate.ToOne[*Apiary, *Keeper]
	Deputy  *gate.ToOne[*Apiary, *Keeper]
	Hives   *gate.ToMany[*Apiary, *Hive]
	Forages *gate.ManyToMany[*Apiary, *Forage]

	// Unique keys, for Upsert.
	ByName gate.UniqueKey[*Apiary]
}

func newApiaryTable() *apiaryTable {
	return &apiaryTable{
		table:        gate.NewTable(apiaryDef, func(k *int64) []any { return []any{k} }),
		ID:           gate.NewOrdered[int64](apiaryDef, "id"),
		KeeperID:     gate.NewOrdered[int64](apiaryDef, "keeper_id"),
		DeputyID:     gate.NewNullableOrdered[int64](apiaryDef, "deputy_id"),
		Name:         gate.NewText(apiaryDef, "name"),
		Latitude:     gate.NewNullableOrdered[gate.Decimal](apiaryDef, "latitude"),
		Longitude:    gate.NewNullableOrdered[gate.Decimal](apiaryDef, "longitude"),
		RegisteredOn: gate.NewOrdered[gate.Date](apiaryDef, "registered_on"),
		Details:      gate.NewNullableDocument(apiaryDef, "details"),
		CreatedAt:    gate.NewOrdered[time.Time](apiaryDef, "created_at"),

		Keeper:  gate.NewToOne(apiaryDef, keeperDef, gate.On{{"keeper_id", "id"}}, func(e *Apiary) **Keeper { return &e.Keeper }),
		Deputy:  gate.NewToOne(apiaryDef, keeperDef, gate.On{{"deputy_id", "id"}}, func(e *Apiary) **Keeper { return &e.Deputy }),
		Hives:   gate.NewToMany(apiaryDef, hiveDef, gate.On{{"id", "apiary_id"}}, func(e *Apiary) *[]*Hive { return &e.Hives }),
		Forages: gate.NewManyToMany(apiaryDef, forageDef, gate.Join{Name: "apiary_forage", Parent: gate.On{{"id", "apiary_id"}}, Child: gate.On{{"forage_id", "id"}}}, func(e *Apiary) *[]*Forage { return &e.Forages }),

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
			{Name: "keeper_id", Type: gate.TypeInt64, In: func(e *Apiary) any { return &e.KeeperID }},
			{Name: "deputy_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Apiary) any { return &e.DeputyID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Apiary) any { return &e.Name }},
			{Name: "latitude", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 8, Scale: 5, Least: "-90", Most: "90", In: func(e *Apiary) any { return &e.Latitude }},
			{Name: "longitude", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 8, Scale: 5, Least: "-180", Most: "180", In: func(e *Apiary) any { return &e.Longitude }},
			{Name: "registered_on", Type: gate.TypeDate, In: func(e *Apiary) any { return &e.RegisteredOn }},
			{Name: "details", Type: gate.TypeJSON, Flags: gate.Nullable, In: func(e *Apiary) any { return &e.Details }},
			{Name: "created_at", Type: gate.TypeTimestampTZ, Flags: gate.HasDefault | gate.CreatedAt, In: func(e *Apiary) any { return &e.CreatedAt }},
		},
	})
}
