// From table batch_harvest. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// BatchHarvest is a row of the table batch_harvest. How much of a harvest went into a batch.
type BatchHarvest struct {
	BatchID   int64        `json:"batch_id"`
	HarvestID int64        `json:"harvest_id"`
	WeightKg  gate.Decimal `json:"weight_kg"`

	// Related rows, present when asked for with With.
	Batch   *Batch   `json:"batch,omitzero"`
	Harvest *Harvest `json:"harvest,omitzero"`
}

// BatchHarvestKey is the key of a batch harvest.
type BatchHarvestKey struct {
	BatchID   int64
	HarvestID int64
}

// BatchHarvests is the table batch_harvest: its columns, its relations and what can be done with it.
var BatchHarvests = newBatchHarvestTable()

type batchHarvestTable struct {
	table[*BatchHarvest, BatchHarvestKey]
	BatchID   *gate.Ordered[*BatchHarvest, int64]
	HarvestID *gate.Ordered[*BatchHarvest, int64]
	WeightKg  *gate.Ordered[*BatchHarvest, gate.Decimal]

	Batch   *gate.ToOne[*BatchHarvest, *Batch]
	Harvest *gate.ToOne[*BatchHarvest, *Harvest]
}

func newBatchHarvestTable() *batchHarvestTable {
	return &batchHarvestTable{
		table:     gate.NewTable(batchHarvestDef, func(k *BatchHarvestKey) []any { return []any{&k.BatchID, &k.HarvestID} }),
		BatchID:   gate.NewOrdered[int64](batchHarvestDef, "batch_id"),
		HarvestID: gate.NewOrdered[int64](batchHarvestDef, "harvest_id"),
		WeightKg:  gate.NewOrdered[gate.Decimal](batchHarvestDef, "weight_kg"),

		Batch:   gate.NewToOne(batchHarvestDef, batchDef, gate.On{{"batch_id", "id"}}, func(e *BatchHarvest) **Batch { return &e.Batch }),
		Harvest: gate.NewToOne(batchHarvestDef, harvestDef, gate.On{{"harvest_id", "id"}}, func(e *BatchHarvest) **Harvest { return &e.Harvest }),
	}
}

// batchHarvestDef describes the table batch_harvest to the runtime.
var batchHarvestDef = newBatchHarvestDef()

func newBatchHarvestDef() *gate.Def[*BatchHarvest] {
	return gate.Describe(gate.Spec[*BatchHarvest]{
		Name: "batch_harvest",
		New:  func() *BatchHarvest { return new(BatchHarvest) },
		Fields: []gate.Field[*BatchHarvest]{
			{Name: "batch_id", Type: gate.TypeInt64, Flags: gate.Key, In: func(e *BatchHarvest) any { return &e.BatchID }},
			{Name: "harvest_id", Type: gate.TypeInt64, Flags: gate.Key, In: func(e *BatchHarvest) any { return &e.HarvestID }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Precision: 7, Scale: 2, Above: "0", In: func(e *BatchHarvest) any { return &e.WeightKg }},
		},
	})
}
