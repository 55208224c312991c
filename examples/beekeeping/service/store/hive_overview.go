// From view hive_overview. Edits here are kept when it is written again.

package store

import (
	"beekeeping/store/gate"
)

// HiveOverview is a row of the view hive_overview.
type HiveOverview struct {
	HiveID          gate.Maybe[int64]     `json:"hive_id"`
	HiveName        gate.Maybe[string]    `json:"hive_name"`
	ApiaryName      gate.Maybe[string]    `json:"apiary_name"`
	QueenMarking    gate.Maybe[string]    `json:"queen_marking"`
	LastInspectedOn gate.Maybe[gate.Date] `json:"last_inspected_on"`
}

// HiveOverviews is the view hive_overview: its columns and what can be done with it.
var HiveOverviews = &hiveOverviewTable{
	view:            gate.NewView(hiveOverviewDef),
	HiveID:          gate.NewOrdered[int64](hiveOverviewDef, "hive_id"),
	HiveName:        gate.NewText(hiveOverviewDef, "hive_name"),
	ApiaryName:      gate.NewText(hiveOverviewDef, "apiary_name"),
	QueenMarking:    gate.NewText(hiveOverviewDef, "queen_marking"),
	LastInspectedOn: gate.NewOrdered[gate.Date](hiveOverviewDef, "last_inspected_on"),
}

type hiveOverviewTable struct {
	view[*HiveOverview]
	HiveID          *gate.Ordered[*HiveOverview, int64]
	HiveName        *gate.Text[*HiveOverview]
	ApiaryName      *gate.Text[*HiveOverview]
	QueenMarking    *gate.Text[*HiveOverview]
	LastInspectedOn *gate.Ordered[*HiveOverview, gate.Date]
}

// hiveOverviewDef describes the view hive_overview to the runtime.
var hiveOverviewDef = gate.Describe(gate.Spec[*HiveOverview]{
	Name: "hive_overview",
	Columns: []gate.Column{
		{Name: "hive_id", Type: gate.TypeInt64, Flags: gate.Nullable},
		{Name: "hive_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60},
		{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60},
		{Name: "queen_marking", Type: gate.TypeText, Flags: gate.Nullable},
		{Name: "last_inspected_on", Type: gate.TypeDate, Flags: gate.Nullable},
	},
	New: func() *HiveOverview { return new(HiveOverview) },
	Fields: func(to []any, e *HiveOverview) []any {
		return append(to,
			&e.HiveID,
			&e.HiveName,
			&e.ApiaryName,
			&e.QueenMarking,
			&e.LastInspectedOn,
		)
	},
})
