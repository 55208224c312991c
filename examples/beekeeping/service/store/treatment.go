// From table treatment. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// Treatment is a substance given to a hive for some time.
type Treatment struct {
	ID           int64                 `json:"id"`
	HiveID       int64                 `json:"hive_id"`
	SubstanceID  int64                 `json:"substance_id"`
	InspectionID gate.Maybe[int64]     `json:"inspection_id"` // The visit that led to it.
	StartedOn    gate.Date             `json:"started_on"`
	EndedOn      gate.Maybe[gate.Date] `json:"ended_on"`
	Dose         gate.Decimal          `json:"dose"`

	// Related rows, present when asked for with With.
	Hive       *Hive       `json:"hive,omitzero"`
	Substance  *Substance  `json:"substance,omitzero"`
	Inspection *Inspection `json:"inspection,omitzero"`
}

// Treatments is the table treatment: its columns, its relations and what can be done with it.
var Treatments = newTreatmentTable()

type treatmentTable struct {
	table[*Treatment, int64]
	ID           *gate.Ordered[*Treatment, int64]
	HiveID       *gate.Ordered[*Treatment, int64]
	SubstanceID  *gate.Ordered[*Treatment, int64]
	InspectionID *gate.NullableOrdered[*Treatment, int64]
	StartedOn    *gate.Ordered[*Treatment, gate.Date]
	EndedOn      *gate.NullableOrdered[*Treatment, gate.Date]
	Dose         *gate.Ordered[*Treatment, gate.Decimal]

	Hive       *gate.ToOne[*Treatment, *Hive]
	Substance  *gate.ToOne[*Treatment, *Substance]
	Inspection *gate.ToOne[*Treatment, *Inspection]
}

func newTreatmentTable() *treatmentTable {
	return &treatmentTable{
		table:        gate.NewTable(treatmentDef, func(k *int64) []any { return []any{k} }),
		ID:           gate.NewOrdered[int64](treatmentDef, "id"),
		HiveID:       gate.NewOrdered[int64](treatmentDef, "hive_id"),
		SubstanceID:  gate.NewOrdered[int64](treatmentDef, "substance_id"),
		InspectionID: gate.NewNullableOrdered[int64](treatmentDef, "inspection_id"),
		StartedOn:    gate.NewOrdered[gate.Date](treatmentDef, "started_on"),
		EndedOn:      gate.NewNullableOrdered[gate.Date](treatmentDef, "ended_on"),
		Dose:         gate.NewOrdered[gate.Decimal](treatmentDef, "dose"),

		Hive:       gate.NewToOne(treatmentDef, hiveDef, gate.On{{"hive_id", "id"}}, func(e *Treatment) **Hive { return &e.Hive }),
		Substance:  gate.NewToOne(treatmentDef, substanceDef, gate.On{{"substance_id", "id"}}, func(e *Treatment) **Substance { return &e.Substance }),
		Inspection: gate.NewToOne(treatmentDef, inspectionDef, gate.On{{"inspection_id", "id"}}, func(e *Treatment) **Inspection { return &e.Inspection }),
	}
}

// treatmentDef describes the table treatment to the runtime.
var treatmentDef = newTreatmentDef()

func newTreatmentDef() *gate.Def[*Treatment] {
	return gate.Describe(gate.Spec[*Treatment]{
		Name: "treatment",
		New:  func() *Treatment { return new(Treatment) },
		Fields: []gate.Field[*Treatment]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Treatment) any { return &e.ID }},
			{Name: "hive_id", Type: gate.TypeInt64, In: func(e *Treatment) any { return &e.HiveID }},
			{Name: "substance_id", Type: gate.TypeInt64, In: func(e *Treatment) any { return &e.SubstanceID }},
			{Name: "inspection_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Treatment) any { return &e.InspectionID }},
			{Name: "started_on", Type: gate.TypeDate, In: func(e *Treatment) any { return &e.StartedOn }},
			{Name: "ended_on", Type: gate.TypeDate, Flags: gate.Nullable, In: func(e *Treatment) any { return &e.EndedOn }},
			{Name: "dose", Type: gate.TypeNumeric, Precision: 8, Scale: 3, Above: "0", In: func(e *Treatment) any { return &e.Dose }},
		},
	})
}
