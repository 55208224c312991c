// From table harvest. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// Harvest is a row of the table harvest. Honey taken from a hive on a day.
type Harvest struct {
	ID          int64                    `json:"id"`
	HiveID      int64                    `json:"hive_id"`
	HarvestedOn gate.Date                `json:"harvested_on"`
	WeightKg    gate.Decimal             `json:"weight_kg"`
	MoisturePct gate.Maybe[gate.Decimal] `json:"moisture_pct"`

	// Related rows, present when asked for with With.
	Hive          *Hive           `json:"hive,omitzero"`
	BatchHarvests []*BatchHarvest `json:"batch_harvests,omitzero"`
	Batches       []*Batch        `json:"batches,omitzero"`
}

// Harvests is the table harvest: its columns, its relations and what can be done with it.
var Harvests = newHarvestTable()

type harvestTable struct {
	table[*Harvest, int64]
	ID          *gate.Ordered[*Harvest, int64]
	HiveID      *gate.Ordered[*Harvest, int64]
	HarvestedOn *gate.Ordered[*Harvest, gate.Date]
	WeightKg    *gate.Ordered[*Harvest, gate.Decimal]
	MoisturePct *gate.NullableOrdered[*Harvest, gate.Decimal]

	Hive          *gate.ToOne[*Harvest, *Hive]
	BatchHarvests *gate.ToMany[*Harvest, *BatchHarvest]
	Batches       *gate.ManyToMany[*Harvest, *Batch]
}

func newHarvestTable() *harvestTable {
	return &harvestTable{
		table:       gate.NewTable(harvestDef, func(k *int64) []any { return []any{k} }),
		ID:          gate.NewOrdered[int64](harvestDef, "id"),
		HiveID:      gate.NewOrdered[int64](harvestDef, "hive_id"),
		HarvestedOn: gate.NewOrdered[gate.Date](harvestDef, "harvested_on"),
		WeightKg:    gate.NewOrdered[gate.Decimal](harvestDef, "weight_kg"),
		MoisturePct: gate.NewNullableOrdered[gate.Decimal](harvestDef, "moisture_pct"),

		Hive:          gate.NewToOne(harvestDef, hiveDef, gate.On{{"hive_id", "id"}}, func(e *Harvest) **Hive { return &e.Hive }),
		BatchHarvests: gate.NewToMany(harvestDef, batchHarvestDef, gate.On{{"id", "harvest_id"}}, func(e *Harvest) *[]*BatchHarvest { return &e.BatchHarvests }),
		Batches:       gate.NewManyToMany(harvestDef, batchDef, gate.Join{Name: "batch_harvest", Parent: gate.On{{"id", "harvest_id"}}, Child: gate.On{{"batch_id", "id"}}}, func(e *Harvest) *[]*Batch { return &e.Batches }),
	}
}

// harvestDef describes the table harvest to the runtime.
var harvestDef = newHarvestDef()

func newHarvestDef() *gate.Def[*Harvest] {
	return gate.Describe(gate.Spec[*Harvest]{
		Name: "harvest",
		New:  func() *Harvest { return new(Harvest) },
		Fields: []gate.Field[*Harvest]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Harvest) any { return &e.ID }},
			{Name: "hive_id", Type: gate.TypeInt64, In: func(e *Harvest) any { return &e.HiveID }},
			{Name: "harvested_on", Type: gate.TypeDate, In: func(e *Harvest) any { return &e.HarvestedOn }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Precision: 7, Scale: 2, Above: "0", In: func(e *Harvest) any { return &e.WeightKg }},
			{Name: "moisture_pct", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 4, Scale: 1, Least: "0", Most: "100", In: func(e *Harvest) any { return &e.MoisturePct }},
		},
	})
}
