// From view batch_origin. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// BatchOrigin is a row of the view batch_origin.
type BatchOrigin struct {
	BatchCode  gate.Maybe[string]       `json:"batch_code"`
	ApiaryName gate.Maybe[string]       `json:"apiary_name"`
	WeightKg   gate.Maybe[gate.Decimal] `json:"weight_kg"`
}

// BatchOrigins is the view batch_origin: its columns and what can be done with it.
var BatchOrigins = &batchOriginTable{
	view:       gate.NewView(batchOriginDef),
	BatchCode:  gate.NewText(batchOriginDef, "batch_code"),
	ApiaryName: gate.NewText(batchOriginDef, "apiary_name"),
	WeightKg:   gate.NewOrdered[gate.Decimal](batchOriginDef, "weight_kg"),
}

type batchOriginTable struct {
	view[*BatchOrigin]
	BatchCode  *gate.Text[*BatchOrigin]
	ApiaryName *gate.Text[*BatchOrigin]
	WeightKg   *gate.Ordered[*BatchOrigin, gate.Decimal]
}

// batchOriginDef describes the view batch_origin to the runtime.
var batchOriginDef = gate.Describe(gate.Spec[*BatchOrigin]{
	Name: "batch_origin",
	Columns: []gate.Column{
		{Name: "batch_code", Type: gate.TypeText, Flags: gate.Nullable, Max: 20},
		{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60},
		{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable},
	},
	New: func() *BatchOrigin { return new(BatchOrigin) },
	Fields: func(to []any, e *BatchOrigin) []any {
		return append(to,
			&e.BatchCode,
			&e.ApiaryName,
			&e.WeightKg,
		)
	},
})
