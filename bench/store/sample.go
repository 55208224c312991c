// From table sample. Edits here are kept when it is written again.

package store

import (
	"time"

	"widegate/gate"
)

// Sample is a row of the table sample.
type Sample struct {
	ID         int64              `json:"id"`
	DeliveryID int64              `json:"delivery_id"`
	TakenAt    time.Time          `json:"taken_at"`
	Value      float64            `json:"value"`
	Note       gate.Maybe[string] `json:"note"`

	// Related rows, present when asked for with With.
	Delivery *Delivery `json:"delivery,omitzero"`
}

// Samples is the table sample: its columns, its relations and what can be done with it.
var Samples = &sampleTable{
	table:      gate.NewTable(sampleDef, func(k *int64) []any { return []any{k} }),
	ID:         gate.NewOrdered[int64](sampleDef, "id"),
	DeliveryID: gate.NewOrdered[int64](sampleDef, "delivery_id"),
	TakenAt:    gate.NewOrdered[time.Time](sampleDef, "taken_at"),
	Value:      gate.NewOrdered[float64](sampleDef, "value"),
	Note:       gate.NewText(sampleDef, "note"),

	Delivery: gate.NewToOne(sampleDef, deliveryDef, gate.On{{"delivery_id", "id"}}, func(e *Sample) **Delivery { return &e.Delivery }),
}

type sampleTable struct {
	table[*Sample, int64]
	ID         *gate.Ordered[*Sample, int64]
	DeliveryID *gate.Ordered[*Sample, int64]
	TakenAt    *gate.Ordered[*Sample, time.Time]
	Value      *gate.Ordered[*Sample, float64]
	Note       *gate.Text[*Sample]

	Delivery *gate.ToOne[*Sample, *Delivery]
}

// sampleDef describes the table sample to the runtime.
var sampleDef = gate.Describe(gate.Spec[*Sample]{
	Name: "sample",
	Columns: []gate.Column{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto},
		{Name: "delivery_id", Type: gate.TypeInt64},
		{Name: "taken_at", Type: gate.TypeTimestampTZ},
		{Name: "value", Type: gate.TypeFloat64},
		{Name: "note", Type: gate.TypeText, Flags: gate.Nullable},
	},
	New: func() *Sample { return new(Sample) },
	Fields: func(to []any, e *Sample) []any {
		return append(to,
			&e.ID,
			&e.DeliveryID,
			&e.TakenAt,
			&e.Value,
			&e.Note,
		)
	},
})
