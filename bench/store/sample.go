// From table sample. Edits here are kept when it is written again.

package store

import (
	"encoding/json"
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

// MarshalJSON writes the row as JSON, and texts such as "NaN" where that has no number.
func (e Sample) MarshalJSON() ([]byte, error) {
	type plain Sample
	return json.Marshal(struct {
		plain
		Value gate.Float `json:"value"`
	}{plain(e), gate.Float(e.Value)})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Sample) UnmarshalJSON(text []byte) error {
	type plain Sample
	row := struct {
		*plain
		Value gate.Float `json:"value"`
	}{(*plain)(e), gate.Float(e.Value)}
	if err := json.Unmarshal(text, &row); err != nil {
		return err
	}
	e.Value = float64(row.Value)
	return nil
}

// Samples is the table sample: its columns, its relations and what can be done with it.
var Samples = newSampleTable()

type sampleTable struct {
	table[*Sample, int64]
	ID         *gate.Ordered[*Sample, int64]
	DeliveryID *gate.Ordered[*Sample, int64]
	TakenAt    *gate.Ordered[*Sample, time.Time]
	Value      *gate.Ordered[*Sample, float64]
	Note       *gate.NullableText[*Sample]

	Delivery *gate.ToOne[*Sample, *Delivery]
}

func newSampleTable() *sampleTable {
	return &sampleTable{
		table:      gate.NewTable(sampleDef, func(k *int64) []any { return []any{k} }),
		ID:         gate.NewOrdered[int64](sampleDef, "id"),
		DeliveryID: gate.NewOrdered[int64](sampleDef, "delivery_id"),
		TakenAt:    gate.NewOrdered[time.Time](sampleDef, "taken_at"),
		Value:      gate.NewOrdered[float64](sampleDef, "value"),
		Note:       gate.NewNullableText(sampleDef, "note"),

		Delivery: gate.NewToOne(sampleDef, deliveryDef, gate.On{{"delivery_id", "id"}}, func(e *Sample) **Delivery { return &e.Delivery }),
	}
}

// sampleDef describes the table sample to the runtime.
var sampleDef = newSampleDef()

func newSampleDef() *gate.Def[*Sample] {
	return gate.Describe(gate.Spec[*Sample]{
		Name: "sample",
		New:  func() *Sample { return new(Sample) },
		Fields: []gate.Field[*Sample]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Sample) any { return &e.ID }},
			{Name: "delivery_id", Type: gate.TypeInt64, In: func(e *Sample) any { return &e.DeliveryID }},
			{Name: "taken_at", Type: gate.TypeTimestampTZ, In: func(e *Sample) any { return &e.TakenAt }},
			{Name: "value", Type: gate.TypeFloat64, In: func(e *Sample) any { return &e.Value }},
			{Name: "note", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *Sample) any { return &e.Note }},
		},
	})
}
