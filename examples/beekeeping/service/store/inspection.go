// From table inspection. Edits here are kept when it is written again.

package store

import (
	"context"
	"time"

	"beekeeping/store/gate"
)

// Inspection is one visit to one hive.
type Inspection struct {
	ID           int64                 `json:"id"`
	HiveID       int64                 `json:"hive_id"`
	KeeperID     int64                 `json:"keeper_id"`
	DoneOn       gate.Date             `json:"done_on"`
	StartedAt    gate.Maybe[time.Time] `json:"started_at"`
	BroodFrames  int64                 `json:"brood_frames"`
	QueenSeen    bool                  `json:"queen_seen"`
	Notes        gate.Maybe[string]    `json:"notes"`
	Measurements gate.Maybe[gate.JSON] `json:"measurements"` // Whatever else was measured.

	// Related rows, present when asked for with With.
	Hive             *Hive              `json:"hive,omitzero"`
	Keeper           *Keeper            `json:"keeper,omitzero"`
	InspectionPhotos []*InspectionPhoto `json:"inspection_photos,omitzero"`
	Treatments       []*Treatment       `json:"treatments,omitzero"`
}

// Inspections is the table inspection: its columns, its relations and what can be done with it.
var Inspections = newInspectionTable()

type inspectionTable struct {
	table[*Inspection, int64]
	ID           *gate.Ordered[*Inspection, int64]
	HiveID       *gate.Ordered[*Inspection, int64]
	KeeperID     *gate.Ordered[*Inspection, int64]
	DoneOn       *gate.Ordered[*Inspection, gate.Date]
	StartedAt    *gate.NullableOrdered[*Inspection, time.Time]
	BroodFrames  *gate.Ordered[*Inspection, int64]
	QueenSeen    *gate.Value[*Inspection, bool]
	Notes        *gate.NullableText[*Inspection]
	Measurements *gate.NullableDocument[*Inspection]

	Hive             *gate.ToOne[*Inspection, *Hive]
	Keeper           *gate.ToOne[*Inspection, *Keeper]
	InspectionPhotos *gate.ToMany[*Inspection, *InspectionPhoto]
	Treatments       *gate.ToMany[*Inspection, *Treatment]

	// Unique keys, for Upsert.
	ByHiveIDDoneOn gate.UniqueKey[*Inspection]
}

func newInspectionTable() *inspectionTable {
	return &inspectionTable{
		table:        gate.NewTable(inspectionDef, func(k *int64) []any { return []any{k} }),
		ID:           gate.NewOrdered[int64](inspectionDef, "id"),
		HiveID:       gate.NewOrdered[int64](inspectionDef, "hive_id"),
		KeeperID:     gate.NewOrdered[int64](inspectionDef, "keeper_id"),
		DoneOn:       gate.NewOrdered[gate.Date](inspectionDef, "done_on"),
		StartedAt:    gate.NewNullableOrdered[time.Time](inspectionDef, "started_at"),
		BroodFrames:  gate.NewOrdered[int64](inspectionDef, "brood_frames"),
		QueenSeen:    gate.NewValue[bool](inspectionDef, "queen_seen"),
		Notes:        gate.NewNullableText(inspectionDef, "notes"),
		Measurements: gate.NewNullableDocument(inspectionDef, "measurements"),

		Hive:             gate.NewToOne(inspectionDef, hiveDef, gate.On{{"hive_id", "id"}}, func(e *Inspection) **Hive { return &e.Hive }),
		Keeper:           gate.NewToOne(inspectionDef, keeperDef, gate.On{{"keeper_id", "id"}}, func(e *Inspection) **Keeper { return &e.Keeper }),
		InspectionPhotos: gate.NewToMany(inspectionDef, inspectionPhotoDef, gate.On{{"id", "inspection_id"}}, func(e *Inspection) *[]*InspectionPhoto { return &e.InspectionPhotos }),
		Treatments:       gate.NewToMany(inspectionDef, treatmentDef, gate.On{{"id", "inspection_id"}}, func(e *Inspection) *[]*Treatment { return &e.Treatments }),

		ByHiveIDDoneOn: gate.NewUniqueKey(inspectionDef, "hive_id", "done_on"),
	}
}

// FindByHiveIDDoneOn returns an inspection by its hive_id and done_on, or gate.ErrNotFound.
func (t *inspectionTable) FindByHiveIDDoneOn(ctx context.Context, db gate.DB, hiveID int64, doneOn gate.Date) (*Inspection, error) {
	return t.Where(t.HiveID.Is(hiveID), t.DoneOn.Is(doneOn)).One(ctx, db)
}

// inspectionDef describes the table inspection to the runtime.
var inspectionDef = newInspectionDef()

func newInspectionDef() *gate.Def[*Inspection] {
	return gate.Describe(gate.Spec[*Inspection]{
		Name: "inspection",
		Uniques: []gate.Unique{
			{Name: "inspection_hive_id_done_on_key", Columns: []string{"hive_id", "done_on"}},
		},
		New: func() *Inspection { return new(Inspection) },
		Fields: []gate.Field[*Inspection]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Inspection) any { return &e.ID }},
			{Name: "hive_id", Type: gate.TypeInt64, In: func(e *Inspection) any { return &e.HiveID }},
			{Name: "keeper_id", Type: gate.TypeInt64, In: func(e *Inspection) any { return &e.KeeperID }},
			{Name: "done_on", Type: gate.TypeDate, In: func(e *Inspection) any { return &e.DoneOn }},
			{Name: "started_at", Type: gate.TypeTimestampTZ, Flags: gate.Nullable, In: func(e *Inspection) any { return &e.StartedAt }},
			{Name: "brood_frames", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: "0", Default: "0", In: func(e *Inspection) any { return &e.BroodFrames }},
			{Name: "queen_seen", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "false", In: func(e *Inspection) any { return &e.QueenSeen }},
			{Name: "notes", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *Inspection) any { return &e.Notes }},
			{Name: "measurements", Type: gate.TypeJSON, Flags: gate.Nullable, In: func(e *Inspection) any { return &e.Measurements }},
		},
	})
}
