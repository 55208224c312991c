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
var BatchOrigins = newBatchOriginTable()

type batchOriginTable struct {
	view[*BatchOrigin]
	BatchCode  *gate.NullableText[*BatchOrigin]
	ApiaryName *gate.NullableText[*BatchOrigin]
	WeightKg   *gate.NullableOrdered[*BatchOrigin, gate.Decimal]
}

func newBatchOriginTable() *batchOriginTable {
	return &batchOriginTable{
		view:       gate.NewView(batchOriginDef),
		BatchCode:  gate.NewNullableText(batchOriginDef, "batch_code"),
		ApiaryName: gate.NewNullableText(batchOriginDef, "apiary_name"),
		WeightKg:   gate.NewNullableOrdered[gate.Decimal](batchOriginDef, "weight_kg"),
	}
}

// batchOriginDef describes the view batch_origin to the runtime.
var batchOriginDef = newBatchOriginDef()

func newBatchOriginDef() *gate.Def[*BatchOrigin] {
	return gate.Describe(gate.Spec[*BatchOrigin]{
		Name: "batch_origin",
		New:  func() *BatchOrigin { return new(BatchOrigin) },
		Fields: []gate.Field[*BatchOrigin]{
			{Name: "batch_code", Type: gate.TypeText, Flags: gate.Nullable, Max: 20, In: func(e *BatchOrigin) any { return &e.BatchCode }},
			{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60, In: func(e *BatchOrigin) any { return &e.ApiaryName }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable, In: func(e *BatchOrigin) any { return &e.WeightKg }},
		},
	})
}
