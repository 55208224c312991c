// From table batch. Edits here are kept when it is written again.

package store

import (
	"context"

	"beekeeping/store/gate"
)

// Batch is a row of the table batch. Honey bottled together.
type Batch struct {
	ID         int64                    `json:"id"`
	Code       string                   `json:"code"` // Printed on every jar.
	BottledOn  gate.Date                `json:"bottled_on"`
	BestBefore gate.Date                `json:"best_before"`
	Jars       int64                    `json:"jars"`
	JarPrice   gate.Maybe[gate.Decimal] `json:"jar_price"`

	// Related rows, present when asked for with With.
	BatchHarvests []*BatchHarvest `json:"batch_harvests,omitzero"`
	Harvests      []*Harvest      `json:"harvests,omitzero"`
}

// Batches is the table batch: its columns, its relations and what can be done with it.
var Batches = newBatchTable()

type batchTable struct {
	table[*Batch, int64]
	ID         *gate.Ordered[*Batch, int64]
	Code       *gate.Text[*Batch]
	BottledOn  *gate.Ordered[*Batch, gate.Date]
	BestBefore *gate.Ordered[*Batch, gate.Date]
	Jars       *gate.Ordered[*Batch, int64]
	JarPrice   *gate.NullableOrdered[*Batch, gate.Decimal]

	BatchHarvests *gate.ToMany[*Batch, *BatchHarvest]
	Harvests      *gate.ManyToMany[*Batch, *Harvest]

	// Unique keys, for Upsert.
	ByCode gate.UniqueKey[*Batch]
}

func newBatchTable() *batchTable {
	return &batchTable{
		table:      gate.NewTable(batchDef, func(k *int64) []any { return []any{k} }),
		ID:         gate.NewOrdered[int64](batchDef, "id"),
		Code:       gate.NewText(batchDef, "code"),
		BottledOn:  gate.NewOrdered[gate.Date](batchDef, "bottled_on"),
		BestBefore: gate.NewOrdered[gate.Date](batchDef, "best_before"),
		Jars:       gate.NewOrdered[int64](batchDef, "jars"),
		JarPrice:   gate.NewNullableOrdered[gate.Decimal](batchDef, "jar_price"),

		BatchHarvests: gate.NewToMany(batchDef, batchHarvestDef, gate.On{{"id", "batch_id"}}, func(e *Batch) *[]*BatchHarvest { return &e.BatchHarvests }),
		Harvests:      gate.NewManyToMany(batchDef, harvestDef, gate.Join{Name: "batch_harvest", Parent: gate.On{{"id", "batch_id"}}, Child: gate.On{{"harvest_id", "id"}}}, func(e *Batch) *[]*Harvest { return &e.Harvests }),

		ByCode: gate.NewUniqueKey(batchDef, "code"),
	}
}

// FindByCode returns a batch by its code, or gate.ErrNotFound.
func (t *batchTable) FindByCode(ctx context.Context, db gate.DB, code string) (*Batch, error) {
	return t.Where(t.Code.Is(code)).One(ctx, db)
}

// batchDef describes the table batch to the runtime.
var batchDef = newBatchDef()

func newBatchDef() *gate.Def[*Batch] {
	return gate.Describe(gate.Spec[*Batch]{
		Name: "batch",
		Uniques: []gate.Unique{
			{Columns: []string{"code"}},
		},
		New: func() *Batch { return new(Batch) },
		Fields: []gate.Field[*Batch]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Batch) any { return &e.ID }},
			{Name: "code", Type: gate.TypeText, Max: 20, In: func(e *Batch) any { return &e.Code }},
			{Name: "bottled_on", Type: gate.TypeDate, In: func(e *Batch) any { return &e.BottledOn }},
			{Name: "best_before", Type: gate.TypeDate, In: func(e *Batch) any { return &e.BestBefore }},
			{Name: "jars", Type: gate.TypeInt64, Above: "0", In: func(e *Batch) any { return &e.Jars }},
			{Name: "jar_price", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 8, Scale: 2, In: func(e *Batch) any { return &e.JarPrice }},
		},
	})
}
