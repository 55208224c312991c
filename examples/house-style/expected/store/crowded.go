// From view crowded. Edits here are kept when it is written again.

package store

import (
	"example/store/gate"
)

// Crowded is a row of the view crowded.
type Crowded struct {
	ApiaryID gate.Maybe[int64] `json:"apiary_id"`
	Hives    gate.Maybe[int64] `json:"hives"`
}

// CrowdedRows is the view crowded: its columns and what can be done with it.
var CrowdedRows = newCrowdedTable()

type crowdedTable struct {
	view[*Crowded]
	ApiaryID *gate.NullableOrdered[*Crowded, int64]
	Hives    *gate.NullableOrdered[*Crowded, int64]
}

func newCrowdedTable() *crowdedTable {
	return &crowdedTable{
		view:     gate.NewView(crowdedDef),
		ApiaryID: gate.NewNullableOrdered[int64](crowdedDef, "apiary_id"),
		Hives:    gate.NewNullableOrdered[int64](crowdedDef, "hives"),
	}
}

// crowdedDef describes the view crowded to the runtime.
var crowdedDef = newCrowdedDef()

func newCrowdedDef() *gate.Def[*Crowded] {
	return gate.Describe(gate.Spec[*Crowded]{
		Name: "crowded",
		New:  func() *Crowded { return new(Crowded) },
		Fields: []gate.Field[*Crowded]{
			{Name: "apiary_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Crowded) any { return &e.ApiaryID }},
			{Name: "hives", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Crowded) any { return &e.Hives }},
		},
	})
}
