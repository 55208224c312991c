package gate_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

// TestRowsThatSendDifferentColumns stores rows of which every other leaves
// columns to their defaults.
func TestRowsThatSendDifferentColumns(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		rows := func(name string) []*visit {
			list := make([]*visit, 1000)
			for i := range list {
				list[i] = &visit{Code: fmt.Sprintf("%s %d", name, i), Least: int64(i % 2)}
				if i%3 == 0 {
					list[i].ID = -int64(1 + i + len(name)*10_000)
				}
			}
			return list
		}
		statements := 0
		counted := gate.Traced(db, func(context.Context, gate.Statement) { statements++ })
		all := rows("a")
		require.NoError(t, visits.InsertAll(ctx, counted, all))
		assert.LessOrEqual(t, statements, 30, "InsertAll")
		statements = 0
		n, err := visits.Import(ctx, counted, slices.Values(rows("bb")))
		require.NoError(t, err)
		assert.Equal(t, int64(1000), n)
		assert.LessOrEqual(t, statements, 30, "Import")
		for i, v := range all {
			stored, err := visits.Find(ctx, db, v.ID)
			require.NoError(t, err)
			require.Equal(t, v, stored, "row %d", i)
			require.Equal(t, fmt.Sprintf("a %d", i), stored.Code)
		}
		odd, err := visits.Where(visits.Least.Is(1)).Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(1000), odd)
	})
}

func TestPagesByARelatedColumn(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		for i := range 5 {
			k := addKeeper(t, ctx, db, string(rune('E'-i)))
			for range 3 {
				addHive(t, ctx, db, hive{KeeperID: k.ID, Name: "h"})
			}
		}
		query := hives.OrderBy(gate.Via(hives.Keeper, keepers.Name).Desc())
		whole, err := gate.OrderByKey(query).All(ctx, db)
		require.NoError(t, err)
		var paged []*hive
		for after := ""; ; {
			rows, next, err := query.Page(ctx, db, after, 4)
			require.NoError(t, err)
			paged = append(paged, rows...)
			if after = next; next == "" {
				break
			}
		}
		assert.Equal(t, whole, paged)
		var each []*hive
		for h, err := range query.With(hives.Keeper).Each(ctx, db) {
			require.NoError(t, err)
			require.NotNil(t, h.Keeper)
			h.Keeper = nil
			each = append(each, h)
		}
		assert.ElementsMatch(t, whole, each)
	})
}

func TestWholeNumbersAreDividedWhole(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		for i := range int64(9) {
			addVisit(t, ctx, db, visit{Code: fmt.Sprint(i), Least: i - 4})
		}
		quarters, err := gate.Values(visits.OrderBy(visits.ID.Asc()), gate.Over(visits.Least, gate.Const[*visit](int64(3)))).All(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, []int64{-1, -1, 0, 0, 0, 0, 0, 1, 1}, quarters)
		n, err := visits.Where(gate.Equal(gate.Over(visits.Least, gate.Const[*visit](int64(3))), gate.Const[*visit](int64(1)))).Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(2), n)
	})
}

// TestWhatColumnsOffer holds columns to what can be done with them.
func TestWhatColumnsOffer(t *testing.T) {
	for column, want := range map[reflect.Type]map[string]bool{
		reflect.TypeFor[gate.Ordered[*visit, int64]]():         {"Set": true, "SetNull": false, "IsNull": false, "Less": true},
		reflect.TypeFor[gate.NullableOrdered[*visit, int64]](): {"Set": true, "SetNull": true, "IsNull": true, "Less": true},
		reflect.TypeFor[gate.ComputedOrdered[*visit, int64]](): {"Set": false, "SetNull": false, "IsNull": true, "Less": true},
		reflect.TypeFor[gate.ComputedText[*visit]]():           {"Set": false, "SetNull": false, "IsNull": true, "Contains": true},
		reflect.TypeFor[gate.ComputedValue[*visit, bool]]():    {"Set": false, "SetNull": false, "IsNull": true, "Less": false},
		reflect.TypeFor[gate.NullableEnum[*hive, temper]]():    {"Set": true, "SetNull": true, "IsNull": true, "Less": false},
		reflect.TypeFor[gate.Enum[*hive, temper]]():            {"Set": true, "SetNull": false, "IsNull": false, "Less": false},
		reflect.TypeFor[gate.NullableDocument[*visit]]():       {"Set": true, "SetNull": true, "IsNull": true, "At": true},
		reflect.TypeFor[gate.Document[*visit]]():               {"Set": true, "SetNull": false, "IsNull": false, "At": true},
	} {
		for name, offered := range want {
			_, ok := column.FieldByName(name)
			assert.Equal(t, offered, ok, "%s of %s", name, column)
		}
	}
}

// manner is a type of the developer's own that offers what an enum does.
type manner string

func (manner) Values() []temper { return nil }

// TestLabelsOfOtherTypes are refused when the statement is written.
func TestLabelsOfOtherTypes(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		for _, cond := range []gate.Cond[*hive]{hives.Temper.Is(manner("calm")), hives.Temper.In(temper("calm"), manner("calm")), hives.Temper.IsNot(nil)} {
			_, err := hives.Where(cond).All(ctx, db)
			require.ErrorContains(t, err, "use one of the enum's constants")
		}
		_, err := hives.Where(hives.ID.Is(1)).Update(ctx, db, hives.Temper.Set(manner("calm")))
		require.ErrorContains(t, err, "use one of the enum's constants")
	})
}

// TestNumbersThatJSONHasNot writes and reads what JSON has no number for.
func TestNumbersThatJSONHasNot(t *testing.T) {
	type reading struct {
		Warmth gate.Float          `json:"warmth"`
		Least  gate.Maybe[float64] `json:"least"`
		Part   gate.Float32        `json:"part"`
		Most   gate.Maybe[float32] `json:"most"`
	}
	for _, f := range []float64{0, -1.5, 1e300, math.Inf(1), math.Inf(-1), math.NaN()} {
		sent := reading{gate.Float(f), gate.Just(f), gate.Float32(f), gate.Just(float32(f))}
		text, err := json.Marshal(sent)
		require.NoError(t, err)
		var back reading
		if math.Abs(f) < 1e30 || f != f || math.IsInf(f, 0) {
			require.NoError(t, json.Unmarshal(text, &back), string(text))
			assert.Equal(t, fmt.Sprint(sent), fmt.Sprint(back))
		}
	}
}
