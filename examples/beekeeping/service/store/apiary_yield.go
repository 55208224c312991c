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
var ApiaryYields = &apiaryYieldTable{
	view:       gate.NewView(apiaryYieldDef),
	ApiaryID:   gate.NewOrdered[int64](apiaryYieldDef, "apiary_id"),
	ApiaryName: gate.NewText(apiaryYieldDef, "apiary_name"),
	Harvests:   gate.NewOrdered[int64](apiaryYieldDef, "harvests"),
	WeightKg:   gate.NewOrdered[gate.Decimal](apiaryYieldDef, "weight_kg"),
}

type apiaryYieldTable struct {
	view[*ApiaryYield]
	ApiaryID   *gate.Ordered[*ApiaryYield, int64]
	ApiaryName *gate.Text[*ApiaryYield]
	Harvests   *gate.Ordered[*ApiaryYield, int64]
	WeightKg   *gate.Ordered[*ApiaryYield, gate.Decimal]
}

// apiaryYieldDef describes the view apiary_yield to the runtime.
var apiaryYieldDef = gate.Describe(gate.Spec[*ApiaryYield]{
	Name: "apiary_yield",
	Columns: []gate.Column{
		{Name: "apiary_id", Type: gate.TypeInt64, Flags: gate.Nullable},
		{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60},
		{Name: "harvests", Type: gate.TypeInt64, Flags: gate.Nullable},
		{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable},
	},
	New: func() *ApiaryYield { return new(ApiaryYield) },
	Fields: func(to []any, e *ApiaryYield) []any {
		return append(to,
			&e.ApiaryID,
			&e.ApiaryName,
			&e.Harvests,
			&e.WeightKg,
		)
	},
})
