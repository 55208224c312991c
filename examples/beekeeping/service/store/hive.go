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

// Values returns the values of Temperament, in their order.
func (Temperament) Values() []Temperament {
	return []Temperament{TemperamentCalm, TemperamentNervous, TemperamentFierce}
}

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
var Hives = newHiveTable()

type hiveTable struct {
	table[*Hive, int64]
	ID          *gate.Ordered[*Hive, int64]
	ApiaryID    *gate.Ordered[*Hive, int64]
	SplitFromID *gate.NullableOrdered[*Hive, int64]
	Name        *gate.Text[*Hive]
	Temperament *gate.Enum[*Hive, Temperament]
	Frames      *gate.Ordered[*Hive, int64]
	WeightKg    *gate.NullableOrdered[*Hive, gate.Decimal]
	AcquiredOn  *gate.NullableOrdered[*Hive, gate.Date]
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

	// Unique keys, for Upsert.
	ByApiaryIDName gate.UniqueKey[*Hive]
}

func newHiveTable() *hiveTable {
	return &hiveTable{
		table:       gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} }),
		ID:          gate.NewOrdered[int64](hiveDef, "id"),
		ApiaryID:    gate.NewOrdered[int64](hiveDef, "apiary_id"),
		SplitFromID: gate.NewNullableOrdered[int64](hiveDef, "split_from_id"),
		Name:        gate.NewText(hiveDef, "name"),
		Temperament: gate.NewEnum[Temperament](hiveDef, "temperament"),
		Frames:      gate.NewOrdered[int64](hiveDef, "frames"),
		WeightKg:    gate.NewNullableOrdered[gate.Decimal](hiveDef, "weight_kg"),
		AcquiredOn:  gate.NewNullableOrdered[gate.Date](hiveDef, "acquired_on"),
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

		ByApiaryIDName: gate.NewUniqueKey(hiveDef, "apiary_id", "name"),
	}
}

// FindByApiaryIDName returns a hive by its apiary_id and name, or gate.ErrNotFound.
func (t *hiveTable) FindByApiaryIDName(ctx context.Context, db gate.DB, apiaryID int64, name string) (*Hive, error) {
	return t.Where(t.ApiaryID.Is(apiaryID), t.Name.Is(name)).One(ctx, db)
}

// hiveDef describes the table hive to the runtime.
var hiveDef = newHiveDef()

func newHiveDef() *gate.Def[*Hive] {
	return gate.Describe(gate.Spec[*Hive]{
		Name: "hive",
		Uniques: []gate.Unique{
			{Name: "hive_apiary_id_name_key", Columns: []string{"apiary_id", "name"}},
		},
		New: func() *Hive { return new(Hive) },
		Fields: []gate.Field[*Hive]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Hive) any { return &e.ID }},
			{Name: "apiary_id", Type: gate.TypeInt64, In: func(e *Hive) any { return &e.ApiaryID }},
			{Name: "split_from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Hive) any { return &e.SplitFromID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Hive) any { return &e.Name }},
			{Name: "temperament", Type: gate.TypeEnum, Flags: gate.HasDefault, Labels: []string{"calm", "nervous", "fierce"}, Default: "calm", In: func(e *Hive) any { return gate.Label(&e.Temperament) }},
			{Name: "frames", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: "1", Most: "40", Default: "10", In: func(e *Hive) any { return &e.Frames }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 6, Scale: 2, Least: "0", In: func(e *Hive) any { return &e.WeightKg }},
			{Name: "acquired_on", Type: gate.TypeDate, Flags: gate.Nullable, In: func(e *Hive) any { return &e.AcquiredOn }},
			{Name: "is_active", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "true", In: func(e *Hive) any { return &e.IsActive }},
			{Name: "created_at", Type: gate.TypeTimestampTZ, Flags: gate.HasDefault | gate.CreatedAt, In: func(e *Hive) any { return &e.CreatedAt }},
		},
	})
}
