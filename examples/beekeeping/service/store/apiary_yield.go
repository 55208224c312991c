// From view apiary_yield. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// ApiaryYield is a row of the view apiary_yield.
type ApiaryYield struct {
	ApiaryID   gate.Maybe[int64]        `json:"apiary_id"`
	ApiaryName gate.Maybe[string]       `json:"apiary_name"`
	Harvests   gate.Maybe[int64]        `json:"harvests"`
	WeightKg   gate.Maybe[gate.Decimal] `json:"weight_kg"`
}

// ApiaryYields is the view apiary_yield: its columns and what can be done with it.
var ApiaryYields = newApiaryYieldTable()

type apiaryYieldTable struct {
	view[*ApiaryYield]
	ApiaryID   *gate.NullableOrdered[*ApiaryYield, int64]
	ApiaryName *gate.NullableText[*ApiaryYield]
	Harvests   *gate.NullableOrdered[*ApiaryYield, int64]
	WeightKg   *gate.NullableOrdered[*ApiaryYield, gate.Decimal]
}

func newApiaryYieldTable() *apiaryYieldTable {
	return &apiaryYieldTable{
		view:       gate.NewView(apiaryYieldDef),
		ApiaryID:   gate.NewNullableOrdered[int64](apiaryYieldDef, "apiary_id"),
		ApiaryName: gate.NewNullableText(apiaryYieldDef, "apiary_name"),
		Harvests:   gate.NewNullableOrdered[int64](apiaryYieldDef, "harvests"),
		WeightKg:   gate.NewNullableOrdered[gate.Decimal](apiaryYieldDef, "weight_kg"),
	}
}

// apiaryYieldDef describes the view apiary_yield to the runtime.
var apiaryYieldDef = newApiaryYieldDef()

func newApiaryYieldDef() *gate.Def[*ApiaryYield] {
	return gate.Describe(gate.Spec[*ApiaryYield]{
		Name: "apiary_yield",
		New:  func() *ApiaryYield { return new(ApiaryYield) },
		Fields: []gate.Field[*ApiaryYield]{
			{Name: "apiary_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *ApiaryYield) any { return &e.ApiaryID }},
			{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60, In: func(e *ApiaryYield) any { return &e.ApiaryName }},
			{Name: "harvests", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *ApiaryYield) any { return &e.Harvests }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable, In: func(e *ApiaryYield) any { return &e.WeightKg }},
		},
	})
}
