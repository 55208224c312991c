// From table hive. Edits here are kept when it is written again.

package store

import (
	"log/slog"

	"example/store/gate"
)

// Hive is a row of the table hive.
type Hive struct {
	ID       int64             `json:"id"`
	ApiaryID int64             `json:"apiary_id"`
	Name     string            `json:"name"`
	Frames   gate.Maybe[int64] `json:"frames"`

	// Related rows, present when asked for with With.
	Apiary *Apiary `json:"apiary,omitzero"`
}

// LogValue is what logs say of a hive: its key, and nothing else of the row.
func (e *Hive) LogValue() slog.Value {
	return slog.GroupValue(
		slog.Any("id", e.ID),
	)
}

// Hives is the table hive: its columns, its relations and what can be done with it.
var Hives = newHiveTable()

type hiveTable struct {
	table[*Hive, int64]
	ID       *gate.Ordered[*Hive, int64]
	ApiaryID *gate.Ordered[*Hive, int64]
	Name     *gate.Text[*Hive]
	Frames   *gate.NullableOrdered[*Hive, int64]

	Apiary *gate.ToOne[*Hive, *Apiary]
}

func newHiveTable() *hiveTable {
	return &hiveTable{
		table:    gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} }),
		ID:       gate.NewOrdered[int64](hiveDef, "id"),
		ApiaryID: gate.NewOrdered[int64](hiveDef, "apiary_id"),
		Name:     gate.NewText(hiveDef, "name"),
		Frames:   gate.NewNullableOrdered[int64](hiveDef, "frames"),

		Apiary: gate.NewToOne(hiveDef, apiaryDef, gate.On{{"apiary_id", "id"}}, func(e *Hive) **Apiary { return &e.Apiary }),
	}
}

// hiveDef describes the table hive to the runtime.
var hiveDef = newHiveDef()

func newHiveDef() *gate.Def[*Hive] {
	return gate.Describe(gate.Spec[*Hive]{
		Name: "hive",
		New:  func() *Hive { return new(Hive) },
		Fields: []gate.Field[*Hive]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Hive) any { return &e.ID }},
			{Name: "apiary_id", Type: gate.TypeInt64, In: func(e *Hive) any { return &e.ApiaryID }},
			{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Hive) any { return &e.Name }},
			{Name: "frames", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *Hive) any { return &e.Frames }},
		},
	})
}
