// From table queen. Edits here are kept when it is written again.

package store

import (
	"context"

	"beekeeping/store/gate"
)

// Marking: the colour on her back, by the year she hatched.
type Marking string

// The values of Marking.
const (
	MarkingWhite  Marking = "white"
	MarkingYellow Marking = "yellow"
	MarkingRed    Marking = "red"
	MarkingGreen  Marking = "green"
	MarkingBlue   Marking = "blue"
)

// Values returns the values of Marking, in their order.
func (Marking) Values() []Marking {
	return []Marking{MarkingWhite, MarkingYellow, MarkingRed, MarkingGreen, MarkingBlue}
}

// Queen is the queen of a hive.
type Queen struct {
	ID        int64               `json:"id"`
	HiveID    int64               `json:"hive_id"`
	Marking   gate.Maybe[Marking] `json:"marking"` // The colour on her back, by the year she hatched.
	Breed     gate.Maybe[string]  `json:"breed"`
	HatchedOn gate.Date           `json:"hatched_on"`
	IsClipped bool                `json:"is_clipped"`

	// Related rows, present when asked for with With.
	Hive *Hive `json:"hive,omitzero"`
}

// Queens is the table queen: its columns, its relations and what can be done with it.
var Queens = newQueenTable()

type queenTable struct {
	table[*Queen, int64]
	ID        *gate.Ordered[*Queen, int64]
	HiveID    *gate.Ordered[*Queen, int64]
	Marking   *gate.NullableEnum[*Queen, Marking]
	Breed     *gate.NullableText[*Queen]
	HatchedOn *gate.Ordered[*Queen, gate.Date]
	IsClipped *gate.Value[*Queen, bool]

	Hive *gate.ToOne[*Queen, *Hive]

	// Unique keys, for Upsert.
	ByHiveID gate.UniqueKey[*Queen]
}

func newQueenTable() *queenTable {
	return &queenTable{
		table:     gate.NewTable(queenDef, func(k *int64) []any { return []any{k} }),
		ID:        gate.NewOrdered[int64](queenDef, "id"),
		HiveID:    gate.NewOrdered[int64](queenDef, "hive_id"),
		Marking:   gate.NewNullableEnum[Marking](queenDef, "marking"),
		Breed:     gate.NewNullableText(queenDef, "breed"),
		HatchedOn: gate.NewOrdered[gate.Date](queenDef, "hatched_on"),
		IsClipped: gate.NewValue[bool](queenDef, "is_clipped"),

		Hive: gate.NewToOne(queenDef, hiveDef, gate.On{{"hive_id", "id"}}, func(e *Queen) **Hive { return &e.Hive }),

		ByHiveID: gate.NewUniqueKey(queenDef, "hive_id"),
	}
}

// FindByHiveID returns a queen by its hive_id, or gate.ErrNotFound.
func (t *queenTable) FindByHiveID(ctx context.Context, db gate.DB, hiveID int64) (*Queen, error) {
	return t.Where(t.HiveID.Is(hiveID)).One(ctx, db)
}

// queenDef describes the table queen to the runtime.
var queenDef = newQueenDef()

func newQueenDef() *gate.Def[*Queen] {
	return gate.Describe(gate.Spec[*Queen]{
		Name: "queen",
		Uniques: []gate.Unique{
			{Columns: []string{"hive_id"}},
		},
		New: func() *Queen { return new(Queen) },
		Fields: []gate.Field[*Queen]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Queen) any { return &e.ID }},
			{Name: "hive_id", Type: gate.TypeInt64, In: func(e *Queen) any { return &e.HiveID }},
			{Name: "marking", Type: gate.TypeEnum, Flags: gate.Nullable, Labels: []string{"white", "yellow", "red", "green", "blue"}, In: func(e *Queen) any { return gate.MaybeLabel(&e.Marking) }},
			{Name: "breed", Type: gate.TypeText, Flags: gate.Nullable, Max: 60, In: func(e *Queen) any { return &e.Breed }},
			{Name: "hatched_on", Type: gate.TypeDate, In: func(e *Queen) any { return &e.HatchedOn }},
			{Name: "is_clipped", Type: gate.TypeBool, Flags: gate.HasDefault, Default: "false", In: func(e *Queen) any { return &e.IsClipped }},
		},
	})
}
