// From table hive. Edits here are kept when it is written again.

package store

import (
	"context"
	"time"

	"beekeeping/store/gate"
)

// Temperament says how the bees take a visit.
type Temperament string

// The values of Temperament.
const (
	TemperamentCalm    Temperament = "calm"
	TemperamentNervous Temperament = "nervous"
	TemperamentFierce  Temperament = "fierce"
)

// Hive is a box of bees that stands in an apiary.
type Hive struct {
	ID          int64                    `json:"id"`
	ApiaryID    int64                    `json:"apiary_id"`
	SplitFromID gate.Maybe[int64]        `json:"split_from_id"` // The hive this one was split from.
	Name        string                   `json:"name"`          // Painted on the front.
	Temperament Temperament              `json:"temperament"`   // How the bees take a visit.
	Frames      int64                    `json:"frames"`
	WeightKg    gate.Maybe[gate.Decimal] `json:"weight_kg"`
	AcquiredOn  gate.Maybe[gate.Date]    `json:"acquired_on"`
	IsActive    bool                     `json:"is_active"`
	CreatedAt   time.Time                `json:"created_at"`

	// Related rows, present when asked for with With.
	Apiary         *Apiary          `json:"apiary,omitzero"`
	SplitFrom      *Hive            `json:"split_from,omitzero"`
	Queen          *Queen           `json:"queen,omitzero"`
	Harvests       []*Harvest       `json:"harvests,omitzero"`
	Splits         []*Hive          `json:"splits,omitzero"`
	Inspections    []*Inspection    `json:"inspections,omitzero"`
	SensorReadings []*SensorReading `json:"sensor_readings,omitzero"`
	Treatments     []*Treatment     `json:"treatments,omitzero"`
}

// Hives is the table hive: its columns, its relations and what can be done with it.
var Hives = &hiveTable{
	table:       gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} }),
	ID:          gate.NewOrdered[int64](hiveDef, "id"),
	ApiaryID:    gate.NewOrdered[int64](hiveDef, "apiary_id"),
	SplitFromID: gate.NewOrdered[int64](hiveDef, "split_from_id"),
	Name:        gate.NewText(hiveDef, "name"),
	Temperament: gate.NewValue[Temperament](hiveDef, "temperament"),
	Frames:      gate.NewOrdered[int64](hiveDef, "frames"),
	WeightKg:    gate.NewOrdered[gate.Decimal](hiveDef, "weight_kg"),
	AcquiredOn:  gate.NewOrdered[gate.Date](hiveDef, "acquired_on"),
	IsActive:    gate.NewValue[bool](hiveDef, "is_active"),
	CreatedAt:   gate.NewOrdered[time.Time](hiveDef, "created_at"),

	Apiary:         gate.NewToOne(hiveDef, apiaryDef, gate.On{{"apiary_id", "id"}}, func(e *Hive) **Apiary { return &e.Apiary }),
	SplitFrom:      gate.NewToOne(hiveDef, hiveDef, gate.On{{"split_from_id", "id"}}, func(e *Hive) **Hive { return &e.SplitFrom }),
	Queen:          gate.NewOneToOne(hiveDef, queenDef, gate.On{{"id", "hive_id"}}, func(e *Hive) **Queen { return &e.Queen }),
	Harvests:       gate.NewToMany(hiveDef, harvestDef, gate.On{{"id", "hive_id"}}, func(e *Hive) *[]*Harvest { return &e.Harvests }),
	Splits:         gate.NewToMany(hiveDef, hiveDef, gate.On{{"id", "split_from_id"}}, func(e *Hive) *[]*Hive { return &e.Splits }),
	Inspections:    gate.NewToMany(hiveDef, inspectionDef, gate.On{{"id", "hive_id"}}, func(e *Hive) *[]*Inspection { return &e.Inspections }),
	SensorReadings: gate.NewToMany(hiveDef, sensorReadingDef, gate.On{{"id", "hive_id"}}, func(e *Hive) *[]*SensorReading { return &e.SensorReadings }),
	Treatments:     gate.NewToMany(hiveDef, treatmentDef, gate.On{{"id", "hive_id"}}, func(e *Hive) *[]*Treatment { return &e.Treatments }),
}

type hiveTable struct {
	table[*Hive, int64]
	ID          *gate.Ordered[*Hive, int64]
	ApiaryID    *gate.Ordered[*Hive, int64]
	SplitFromID *gate.Ordered[*Hive, int64]
	Name        *gate.Text[*Hive]
	Temperament *gate.Value[*Hive, Temperament]
	Frames      *gate.Ordered[*Hive, int64]
	WeightKg    *gate.Ordered[*Hive, gate.Decimal]
	AcquiredOn  *gate.Ordered[*Hive, gate.Date]
	IsActive    *gate.Value[*Hive, bool]
	CreatedAt   *gate.Ordered[*Hive, time.Time]

	Apiary         *gate.ToOne[*Hive, *Apiary]
	SplitFrom      *gate.ToOne[*Hive, *Hive]
	Queen          *gate.ToOne[*Hive, *Queen]
	Harvests       *gate.ToMany[*Hive, *Harvest]
	Splits         *gate.ToMany[*Hive, *Hive]
	Inspections    *gate.ToMany[*Hive, *Inspection]
	SensorReadings *gate.ToMany[*Hive, *SensorReading]
	Treatments     *gate.ToMany[*Hive, *Treatment]
}

// FindByApiaryIDName returns a hive by its apiary_id and name, or gate.ErrNotFound.
func (t *hiveTable) FindByApiaryIDName(ctx context.Context, db gate.DB, apiaryID int64, name string) (*Hive, error) {
	return t.Where(t.ApiaryID.Is(apiaryID), t.Name.Is(name)).One(ctx, db)
}

// hiveDef describes the table hive to the runtime.
var hiveDef = gate.Describe(gate.Spec[*Hive]{
	Name: "hive",
	Columns: []gate.Column{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto},
		{Name: "apiary_id", Type: gate.TypeInt64},
		{Name: "split_from_id", Type: gate.TypeInt64, Flags: gate.Nullable},
		{Name: "name", Type: gate.TypeText, Max: 60},
		{Name: "temperament", Type: gate.TypeEnum, Flags: gate.HasDefault, Labels: []string{"calm", "nervous", "fierce"}, Default: "calm"},
		{Name: "frames", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: "1", Most: "40", Default: "10"},
		{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 6, Scale: 2, Least: "0"},
		{Name: "acquired_on", Type: gate.TypeDate, Flags: gate.Nullable},
		{Name: "is_active", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "true"},
		{Name: "created_at", Type: gate.TypeTimestampTZ, Flags: gate.HasDefault | gate.CreatedAt},
	},
	Uniques: []gate.Unique{
		{Name: "hive_apiary_id_name_key", Columns: []string{"apiary_id", "name"}},
	},
	New: func() *Hive { return new(Hive) },
	Fields: func(to []any, e *Hive) []any {
		return append(to,
			&e.ID,
			&e.ApiaryID,
			&e.SplitFromID,
			&e.Name,
			gate.Label(&e.Temperament),
			&e.Frames,
			&e.WeightKg,
			&e.AcquiredOn,
			&e.IsActive,
			&e.CreatedAt,
		)
	},
})
