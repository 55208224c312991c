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
var HiveOverviews = newHiveOverviewTable()

type hiveOverviewTable struct {
	view[*HiveOverview]
	HiveID          *gate.NullableOrdered[*HiveOverview, int64]
	HiveName        *gate.NullableText[*HiveOverview]
	ApiaryName      *gate.NullableText[*HiveOverview]
	QueenMarking    *gate.NullableText[*HiveOverview]
	LastInspectedOn *gate.NullableOrdered[*HiveOverview, gate.Date]
}

func newHiveOverviewTable() *hiveOverviewTable {
	return &hiveOverviewTable{
		view:            gate.NewView(hiveOverviewDef),
		HiveID:          gate.NewNullableOrdered[int64](hiveOverviewDef, "hive_id"),
		HiveName:        gate.NewNullableText(hiveOverviewDef, "hive_name"),
		ApiaryName:      gate.NewNullableText(hiveOverviewDef, "apiary_name"),
		QueenMarking:    gate.NewNullableText(hiveOverviewDef, "queen_marking"),
		LastInspectedOn: gate.NewNullableOrdered[gate.Date](hiveOverviewDef, "last_inspected_on"),
	}
}

// hiveOverviewDef describes the view hive_overview to the runtime.
var hiveOverviewDef = newHiveOverviewDef()

func newHiveOverviewDef() *gate.Def[*HiveOverview] {
	return gate.Describe(gate.Spec[*HiveOverview]{
		Name: "hive_overview",
		New:  func() *HiveOverview { return new(HiveOverview) },
		Fields: []gate.Field[*HiveOverview]{
			{Name: "hive_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *HiveOverview) any { return &e.HiveID }},
			{Name: "hive_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60, In: func(e *HiveOverview) any { return &e.HiveName }},
			{Name: "apiary_name", Type: gate.TypeText, Flags: gate.Nullable, Max: 60, In: func(e *HiveOverview) any { return &e.ApiaryName }},
			{Name: "queen_marking", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *HiveOverview) any { return &e.QueenMarking }},
			{Name: "last_inspected_on", Type: gate.TypeDate, Flags: gate.Nullable, In: func(e *HiveOverview) any { return &e.LastInspectedOn }},
		},
	})
}
