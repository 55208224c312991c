// From table delivery. Edits here are kept when it is written again.

package store

import (
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
	Previous           *Delivery   `json:"previous,omitzero"`
	PreviousDeliveries []*Delivery `json:"previous_deliveries,omitzero"`
	Samples            []*Sample   `json:"samples,omitzero"`
}

// Deliveries is the table delivery: its columns, its relations and what can be done with it.
var Deliveries = &deliveryTable{
	table:       gate.NewTable(deliveryDef, func(k *int64) []any { return []any{k} }),
	ID:          gate.NewOrdered[int64](deliveryDef, "id"),
	Code:        gate.NewText(deliveryDef, "code"),
	Keeper:      gate.NewText(deliveryDef, "keeper"),
	Remark:      gate.NewText(deliveryDef, "remark"),
	WeightKg:    gate.NewOrdered[gate.Decimal](deliveryDef, "weight_kg"),
	IsAccepted:  gate.NewValue[bool](deliveryDef, "is_accepted"),
	DeliveredOn: gate.NewOrdered[gate.Date](deliveryDef, "delivered_on"),
	RecordedAt:  gate.NewOrdered[time.Time](deliveryDef, "recorded_at"),
	PreviousID:  gate.NewOrdered[int64](deliveryDef, "previous_id"),
	Tag:         gate.NewOrdered[string](deliveryDef, "tag"),
	Facts:       gate.NewDocument(deliveryDef, "facts"),
	Moisture:    gate.NewOrdered[float64](deliveryDef, "moisture"),
	Region:      gate.NewText(deliveryDef, "region"),
	Grade:       gate.NewText(deliveryDef, "grade"),

	Previous:           gate.NewToOne(deliveryDef, deliveryDef, gate.On{{"previous_id", "id"}}, func(e *Delivery) **Delivery { return &e.Previous }),
	PreviousDeliveries: gate.NewToMany(deliveryDef, deliveryDef, gate.On{{"id", "previous_id"}}, func(e *Delivery) *[]*Delivery { return &e.PreviousDeliveries }),
	Samples:            gate.NewToMany(deliveryDef, sampleDef, gate.On{{"id", "delivery_id"}}, func(e *Delivery) *[]*Sample { return &e.Samples }),
}

type deliveryTable struct {
	table[*Delivery, int64]
	ID          *gate.Ordered[*Delivery, int64]
	Code        *gate.Text[*Delivery]
	Keeper      *gate.Text[*Delivery]
	Remark      *gate.Text[*Delivery]
	WeightKg    *gate.Ordered[*Delivery, gate.Decimal]
	IsAccepted  *gate.Value[*Delivery, bool]
	DeliveredOn *gate.Ordered[*Delivery, gate.Date]
	RecordedAt  *gate.Ordered[*Delivery, time.Time]
	PreviousID  *gate.Ordered[*Delivery, int64]
	Tag         *gate.Ordered[*Delivery, string]
	Facts       *gate.Document[*Delivery]
	Moisture    *gate.Ordered[*Delivery, float64]
	Region      *gate.Text[*Delivery]
	Grade       *gate.Text[*Delivery]

	Previous           *gate.ToOne[*Delivery, *Delivery]
	PreviousDeliveries *gate.ToMany[*Delivery, *Delivery]
	Samples            *gate.ToMany[*Delivery, *Sample]
}

// deliveryDef describes the table delivery to the runtime.
var deliveryDef = gate.Describe(gate.Spec[*Delivery]{
	Name: "delivery",
	Columns: []gate.Column{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto},
		{Name: "code", Type: gate.TypeText, Max: 20},
		{Name: "keeper", Type: gate.TypeText, Max: 60},
		{Name: "remark", Type: gate.TypeText, Flags: gate.Nullable},
		{Name: "weight_kg", Type: gate.TypeNumeric, Precision: 10, Scale: 2},
		{Name: "is_accepted", Type: gate.TypeBool},
		{Name: "delivered_on", Type: gate.TypeDate},
		{Name: "recorded_at", Type: gate.TypeTimestampTZ},
		{Name: "previous_id", Type: gate.TypeInt64, Flags: gate.Nullable},
		{Name: "tag", Type: gate.TypeUUID},
		{Name: "facts", Type: gate.TypeJSON},
		{Name: "moisture", Type: gate.TypeFloat64},
		{Name: "region", Type: gate.TypeText, Max: 40},
		{Name: "grade", Type: gate.TypeText, Max: 10},
	},
	New: func() *Delivery { return new(Delivery) },
	Fields: func(to []any, e *Delivery) []any {
		return append(to,
			&e.ID,
			&e.Code,
			&e.Keeper,
			&e.Remark,
			&e.WeightKg,
			&e.IsAccepted,
			&e.DeliveredOn,
			&e.RecordedAt,
			&e.PreviousID,
			&e.Tag,
			&e.Facts,
			&e.Moisture,
			&e.Region,
			&e.Grade,
		)
	},
})
