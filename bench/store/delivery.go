// From table delivery. Edits here are kept when it is written again.

package store

import (
	"encoding/json"
	"time"

	"widegate/gate"
)

// Delivery is a row of the table delivery.
type Delivery struct {
	ID          int64              `json:"id"`
	Code        string             `json:"code"`
	Keeper      string             `json:"keeper"`
	Remark      gate.Maybe[string] `json:"remark"`
	WeightKg    gate.Decimal       `json:"weight_kg"`
	IsAccepted  bool               `json:"is_accepted"`
	DeliveredOn gate.Date          `json:"delivered_on"`
	RecordedAt  time.Time          `json:"recorded_at"`
	PreviousID  gate.Maybe[int64]  `json:"previous_id"`
	Tag         string             `json:"tag"`
	Facts       gate.JSON          `json:"facts"`
	Moisture    float64            `json:"moisture"`
	Region      string             `json:"region"`
	Grade       string             `json:"grade"`

	// Related rows, present when asked for with With.
	Previous       *Delivery   `json:"previous,omitzero"`
	NextDeliveries []*Delivery `json:"next_deliveries,omitzero"`
	Samples        []*Sample   `json:"samples,omitzero"`
}

// MarshalJSON writes the row as JSON, and texts such as "NaN" where that has no number.
func (e Delivery) MarshalJSON() ([]byte, error) {
	type plain Delivery
	return json.Marshal(struct {
		plain
		Moisture gate.Float `json:"moisture"`
	}{plain(e), gate.Float(e.Moisture)})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Delivery) UnmarshalJSON(text []byte) error {
	type plain Delivery
	row := struct {
		*plain
		Moisture gate.Float `json:"moisture"`
	}{(*plain)(e), gate.Float(e.Moisture)}
	if err := json.Unmarshal(text, &row); err != nil {
		return err
	}
	e.Moisture = float64(row.Moisture)
	return nil
}

// Deliveries is the table delivery: its columns, its relations and what can be done with it.
var Deliveries = newDeliveryTable()

type deliveryTable struct {
	table[*Delivery, int64]
	ID          *gate.Ordered[*Delivery, int64]
	Code        *gate.Text[*Delivery]
	Keeper      *gate.Text[*Delivery]
	Remark      *gate.NullableText[*Delivery]
	WeightKg    *gate.Ordered[*Delivery, gate.Decimal]
	IsAccepted  *gate.Value[*Delivery, bool]
	DeliveredOn *gate.Ordered[*Delivery, gate.Date]
	RecordedAt  *gate.Ordered[*Delivery, time.Time]
	PreviousID  *gate.NullableOrdered[*Delivery, int64]
	Tag         *gate.Ordered[*Delivery, string]
	Facts       *gate.Document[*Delivery]
	Moisture    *gate.Ordered[*Delivery, float64]
	Region      *gate.Text[*Delivery]
	Grade       *gate.Text[*Delivery]

	Previous       *gate.ToOne[*Delivery, *Delivery]
	NextDeliveries *gate.ToMany[*Delivery, *Delivery]
	Samples        *gate.ToMany[*Delivery, *Sample]
}

func newDeliveryTable() *deliveryTable {
	return &deliveryTable{
		table:       gate.NewTable(deliveryDef, func(k *int64) []any { return []any{k} }),
		ID:          gate.NewOrdered[int64](deliveryDef, "id"),
		Code:        gate.NewText(deliveryDef, "code"),
		Keeper:      gate.NewText(deliveryDef, "keeper"),
		Remark:      gate.NewNullableText(deliveryDef, "remark"),
		WeightKg:    gate.NewOrdered[gate.Decimal](deliveryDef, "weight_kg"),
		IsAccepted:  gate.NewValue[bool](deliveryDef, "is_accepted"),
		DeliveredOn: gate.NewOrdered[gate.Date](deliveryDef, "delivered_on"),
		RecordedAt:  gate.NewOrdered[time.Time](deliveryDef, "recorded_at"),
		PreviousID:  gate.NewNullableOrdered[int64](deliveryDef, "previous_id"),
		Tag:         gate.NewOrdered[string](deliveryDef, "tag"),
		Facts:       gate.NewDocument(deliveryDef, "facts"),
		Moisture:    gate.NewOrdered[float64](deliveryDef, "moisture"),
		Region:      gate.NewText(deliveryDef, "region"),
		Grade:       gate.NewText(deliveryDef, "grade"),

		Previous:       gate.NewToOne(deliveryDef, deliveryDef, gate.On{{"previous_id", "id"}}, func(e *Delivery) **Delivery { return &e.Previous }),
		NextDeliveries: gate.NewToMany(deliveryDef, deliveryDef, gate.On{{"id", "previous_id"}}, func(e *Delivery) *[]*Delivery { return &e.NextDeliveries }),
		Samples:        gate.NewToMany(deliveryDef, sampleDef, gate.On{{"id", "delivery_id"}}, func(e *Delivery) *[]*Sample { return &e.Samples }),
	}
}

// deliveryDef describes the table delivery to the runtime.
var deliveryDef = newDeliveryDef()

func newDeliveryDef() *gate.Def[*Delivery] {
	return gate.Describe(gate.Spec[*Delivery]{
		Name: "delivery",
		New:  func() *Delivery { return new(Delivery) },
		Fields: []gate.Field[*Delivery]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Delivery) any { return &e.ID }},
			{Name: "code", Type: gate.TypeText, Max: 20, In: func(e *Delivery) any { return &e.Code }},
			{Name: "keeper", Type: gate.TypeText, Max: 60, In: func(e *Delivery) any { return &e.Keeper }},
			{Name: "remark", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *Delivery) any { return &e.Remark }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Precision: 10, Scale: 2, In: func(e *Delivery) any { return &e.WeightKg }},
			{Name: "is_accepted", Type: gate.TypeBool, In: func(e *Delivery) any { return &e.IsAccepted }},
			{Name: "delivered_on", Type: gate.TypeDate, In: func(e *Delivery) any { return &e.DeliveredOn }},
			{Name: "recorded_at", Type: gate.TypeTimestampTZ, In: func(e *Delivery) any { return &e.RecordedAt }},
			{Name: "previous_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Delivery) any { return &e.PreviousID }},
			{Name: "tag", Type: gate.TypeUUID, In: func(e *Delivery) any { return &e.Tag }},
			{Name: "facts", Type: gate.TypeJSON, In: func(e *Delivery) any { return &e.Facts }},
			{Name: "moisture", Type: gate.TypeFloat64, In: func(e *Delivery) any { return &e.Moisture }},
			{Name: "region", Type: gate.TypeText, Max: 40, In: func(e *Delivery) any { return &e.Region }},
			{Name: "grade", Type: gate.TypeText, Max: 10, In: func(e *Delivery) any { return &e.Grade }},
		},
	})
}
