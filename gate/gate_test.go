package gate_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// The tables of these tests, described as generated code does it.

type temper string

func (temper) Values() []temper { return []temper{"calm", "fierce"} }

type keeper struct {
	ID    int64
	Name  string
	Since gate.Maybe[gate.Date]

	Hives   []*hive
	Forages []*forage
}

type hive struct {
	ID       int64
	KeeperID int64
	FromID   gate.Maybe[int64]
	Name     string
	Temper   temper
	Mood     gate.Maybe[temper]
	Weight   gate.Maybe[gate.Decimal]
	Active   bool
	Seen     gate.Maybe[time.Time]
	Facts    gate.Maybe[gate.JSON]
	Photo    gate.Maybe[[]byte]
	Tag      gate.Maybe[string]
	Warmth   float64

	Keeper *keeper
	Splits []*hive
}

type forage struct {
	ID   int64
	Name string
}

var keeperDef = gate.Describe(gate.Spec[*keeper]{
	New:  func() *keeper { return new(keeper) },
	Name: "keeper",
	Fields: []gate.Field[*keeper]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *keeper) any { return &e.ID }},
		{Name: "name", Type: gate.TypeText, Max: 40, In: func(e *keeper) any { return &e.Name }},
		{Name: "since", Type: gate.TypeDate, Flags: gate.Nullable, In: func(e *keeper) any { return &e.Since }},
	},
	Uniques: []gate.Unique{{Name: "keeper_name_key", Columns: []string{"name"}}},
})

var forageDef = gate.Describe(gate.Spec[*forage]{
	New:  func() *forage { return new(forage) },
	Name: "forage",
	Fields: []gate.Field[*forage]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *forage) any { return &e.ID }},
		{Name: "name", Type: gate.TypeText, In: func(e *forage) any { return &e.Name }},
	},
})

var hiveDef = gate.Describe(gate.Spec[*hive]{
	New:  func() *hive { return new(hive) },
	Name: "hive",
	Fields: []gate.Field[*hive]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *hive) any { return &e.ID }},
		{Name: "keeper_id", Type: gate.TypeInt64, In: func(e *hive) any { return &e.KeeperID }},
		{Name: "from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *hive) any { return &e.FromID }},
		{Name: "name", Type: gate.TypeText, In: func(e *hive) any { return &e.Name }},
		{Name: "temper", Type: gate.TypeEnum, Labels: []string{"calm", "fierce"}, Flags: gate.HasDefault, Default: "calm", In: func(e *hive) any { return gate.Label(&e.Temper) }},
		{Name: "mood", Type: gate.TypeEnum, Labels: []string{"calm", "fierce"}, Flags: gate.Nullable, In: func(e *hive) any { return gate.MaybeLabel(&e.Mood) }},
		{Name: "weight", Type: gate.TypeNumeric, Precision: 6, Scale: 2, Flags: gate.Nullable, In: func(e *hive) any { return &e.Weight }},
		{Name: "active", Type: gate.TypeBool, In: func(e *hive) any { return &e.Active }},
		{Name: "seen", Type: gate.TypeTimestampTZ, Flags: gate.Nullable, In: func(e *hive) any { return &e.Seen }},
		{Name: "facts", Type: gate.TypeJSON, Flags: gate.Nullable, In: func(e *hive) any { return &e.Facts }},
		{Name: "photo", Type: gate.TypeBytes, Flags: gate.Nullable, In: func(e *hive) any { return &e.Photo }},
		{Name: "tag", Type: gate.TypeUUID, Flags: gate.Nullable, In: func(e *hive) any { return &e.Tag }},
		{Name: "warmth", Type: gate.TypeFloat64, In: func(e *hive) any { return &e.Warmth }},
	},
})

var keepers = &struct {
	gate.Table[*keeper, int64]
	Name    *gate.Text[*keeper]
	Hives   *gate.ToMany[*keeper, *hive]
	Forages *gate.ManyToMany[*keeper, *forage]
}{
	Table: gate.NewTable(keeperDef, func(k *int64) []any { return []any{k} }),
	Name:  gate.NewText(keeperDef, "name"),
	Hives: gate.NewToMany(keeperDef, hiveDef, gate.On{{"id", "keeper_id"}}, func(e *keeper) *[]*hive { return &e.Hives }),
	Forages: gate.NewManyToMany(keeperDef, forageDef,
		gate.Join{Name: "keeper_forage", Parent: gate.On{{"id", "keeper_id"}}, Child: gate.On{{"forage_id", "id"}}},
		func(e *keeper) *[]*forage { return &e.Forages }),
}

var forageTable = gate.NewTable(forageDef, func(k *int64) []any { return []any{k} })

var hives = &struct {
	gate.Table[*hive, int64]
	ID     *gate.Ordered[*hive, int64]
	FromID *gate.NullableOrdered[*hive, int64]
	Name   *gate.Text[*hive]
	Temper *gate.Enum[*hive, temper]
	Weight *gate.NullableOrdered[*hive, gate.Decimal]
	Active *gate.Value[*hive, bool]
	Seen   *gate.NullableOrdered[*hive, time.Time]
	Tag    *gate.NullableOrdered[*hive, string]
	Warmth *gate.Ordered[*hive, float64]
	Keeper *gate.ToOne[*hive, *keeper]
	Splits *gate.ToMany[*hive, *hive]
}{
	Table:  gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} }),
	ID:     gate.NewOrdered[int64](hiveDef, "id"),
	FromID: gate.NewNullableOrdered[int64](hiveDef, "from_id"),
	Name:   gate.NewText(hiveDef, "name"),
	Temper: gate.NewEnum[temper](hiveDef, "temper"),
	Weight: gate.NewNullableOrdered[gate.Decimal](hiveDef, "weight"),
	Active: gate.NewValue[bool](hiveDef, "active"),
	Seen:   gate.NewNullableOrdered[time.Time](hiveDef, "seen"),
	Tag:    gate.NewNullableOrdered[string](hiveDef, "tag"),
	Warmth: gate.NewOrdered[float64](hiveDef, "warmth"),
	Keeper: gate.NewToOne(hiveDef, keeperDef, gate.On{{"keeper_id", "id"}}, func(e *hive) **keeper { return &e.Keeper }),
	Splits: gate.NewToMany(hiveDef, hiveDef, gate.On{{"id", "from_id"}}, func(e *hive) *[]*hive { return &e.Splits }),
}

var ddl = map[string][]string{
	"sqlite": {
		`CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, since DATE)`,
		`CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id BIGINT NOT NULL REFERENCES keeper (id), from_id BIGINT REFERENCES hive (id),
			name TEXT NOT NULL, temper TEXT NOT NULL DEFAULT 'calm', mood TEXT, weight DECIMAL(6,2), active BOOLEAN NOT NULL, seen TIMESTAMP WITH TIME ZONE, facts JSON, photo BLOB, tag UUID, warmth DOUBLE NOT NULL)`,
		`CREATE TABLE forage (id INTEGER PRIMARY KEY, name TEXT NOT NULL)`,
		`CREATE TABLE keeper_forage (keeper_id BIGINT REFERENCES keeper (id), forage_id BIGINT REFERENCES forage (id), PRIMARY KEY (keeper_id, forage_id))`,
	},
	"postgres": {
		`CREATE TABLE keeper (id BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, since DATE)`,
		`CREATE TYPE temper AS ENUM ('calm', 'fierce')`,
		`CREATE TABLE hive (id BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, keeper_id BIGINT NOT NULL REFERENCES keeper (id), from_id BIGINT REFERENCES hive (id),
			name TEXT NOT NULL, temper temper NOT NULL DEFAULT 'calm', mood temper, weight NUMERIC(6,2), active BOOLEAN NOT NULL, seen TIMESTAMPTZ, facts JSONB, photo BYTEA, tag UUID, warmth DOUBLE PRECISION NOT NULL)`,
		`CREATE TABLE forage (id BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, name TEXT NOT NULL)`,
		`CREATE TABLE keeper_forage (keeper_id BIGINT REFERENCES keeper (id), forage_id BIGINT REFERENCES forage (id), PRIMARY KEY (keeper_id, forage_id))`,
	},
	"mysql": {
		`CREATE TABLE keeper (id BIGINT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(40) NOT NULL, since DATE, UNIQUE KEY keeper_name_key (name))`,
		`CREATE TABLE hive (id BIGINT AUTO_INCREMENT PRIMARY KEY, keeper_id BIGINT NOT NULL, from_id BIGINT,
			name VARCHAR(200) NOT NULL, temper ENUM('calm','fierce') NOT NULL DEFAULT 'calm', mood ENUM('calm','fierce'), weight DECIMAL(6,2), active BOOLEAN NOT NULL, seen TIMESTAMP(6) NULL, facts JSON, photo LONGBLOB, tag CHAR(36), warmth DOUBLE NOT NULL,
			FOREIGN KEY (keeper_id) REFERENCES keeper (id), FOREIGN KEY (from_id) REFERENCES hive (id))`,
		`CREATE TABLE forage (id BIGINT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(100) NOT NULL)`,
		`CREATE TABLE keeper_forage (keeper_id BIGINT, forage_id BIGINT, PRIMARY KEY (keeper_id, forage_id), FOREIGN KEY (keeper_id) REFERENCES keeper (id), FOREIGN KEY (forage_id) REFERENCES forage (id))`,
	},
}

// counting counts the statements that run.
type counting struct {
	gate.DB
	n int
}

func (c *counting) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	c.n++
	return c.DB.Query(ctx, text, args)
}

// eachEngine runs a test on all engines, each with empty tables.
func eachEngine(t *testing.T, test func(t *testing.T, ctx context.Context, db gate.DB)) {
	for engine, open := range map[string]func(t *testing.T, ctx context.Context) (gate.DB, error){
		"sqlite": func(t *testing.T, ctx context.Context) (gate.DB, error) {
			path := filepath.Join(t.TempDir(), "bees #1.db")
			require.NoError(t, os.WriteFile(path, nil, 0o644))
			return sqlite.Open(ctx, path)
		},
		"postgres": func(t *testing.T, ctx context.Context) (gate.DB, error) {
			return postgres.Open(ctx, testdb.Postgres(t))
		},
		"mysql": func(t *testing.T, ctx context.Context) (gate.DB, error) { return mysql.Open(ctx, testdb.MySQL(t)) },
	} {
		t.Run(engine, func(t *testing.T) {
			ctx := t.Context()
			db, err := open(t, ctx)
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			for _, s := range ddl[engine] {
				_, err := db.Exec(ctx, s, nil)
				require.NoError(t, err, s)
			}
			test(t, ctx, db)
		})
	}
}

func addKeeper(t *testing.T, ctx context.Context, db gate.DB, name string) *keeper {
	t.Helper()
	k := &keeper{Name: name}
	require.NoError(t, keepers.Insert(ctx, db, k))
	return k
}

func addHive(t *testing.T, ctx context.Context, db gate.DB, h hive) *hive {
	t.Helper()
	require.NoError(t, hives.Insert(ctx, db, &h))
	return &h
}

func TestWhatIsStoredIsReadBack(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		k := addKeeper(t, ctx, db, "Zoë 蜂 \"quoted\" \\ 100%")
		first := addHive(t, ctx, db, hive{KeeperID: k.ID, Name: "'; DROP TABLE hive; --", Active: true})
		assert.Equal(t, temper("calm"), first.Temper, "the default is filled in")
		weight, err := gate.ParseDecimal("1234.56")
		require.NoError(t, err)
		stored := addHive(t, ctx, db, hive{
			KeeperID: k.ID, FromID: gate.Just(first.ID), Name: "line\nbreak\ttab \x01", Temper: "fierce", Mood: gate.Just(temper("calm")),
			Weight: gate.Just(weight), Seen: gate.Just(time.Date(2026, 5, 1, 9, 30, 0, 123456000, time.FixedZone("", 7200))),
			Facts: gate.Just(gate.JSON(`{"a":[1,null,"x"]}`)), Photo: gate.Just([]byte{0, 1, 255, '\''}),
			Tag: gate.Just("6f1c2a34-0000-4000-8000-00000000abcd"), Warmth: 0.1,
		})
		read, err := hives.Find(ctx, db, stored.ID)
		require.NoError(t, err)
		facts, _ := read.Facts.Get()
		assert.JSONEq(t, `{"a":[1,null,"x"]}`, string(facts))
		read.Facts = stored.Facts
		assert.Equal(t, stored, read)
		assert.Equal(t, time.Date(2026, 5, 1, 7, 30, 0, 123456000, time.UTC), read.Seen.Or(time.Time{}))
		assert.Equal(t, "1234.56", read.Weight.Or(gate.Decimal{}).String())
		keeperRead, err := keepers.Find(ctx, db, k.ID)
		require.NoError(t, err)
		assert.Equal(t, k, keeperRead)
		assert.True(t, keeperRead.Since.IsNull())
		assert.False(t, keeperRead.Since.IsAbsent(), "a row that was read has no absent values")
	})
}

func TestWriting(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		k := addKeeper(t, ctx, db, "Clover")
		h := addHive(t, ctx, db, hive{KeeperID: k.ID, Name: "one", Active: true, Warmth: 1})

		h.Name, h.Warmth = "two", 2
		require.NoError(t, hives.Update(ctx, db, h, hives.Name))
		assert.Equal(t, 1.0, h.Warmth, "a column that was not named is read back")
		assert.Equal(t, "two", h.Name)

		h.FromID, h.Active = gate.Null[int64](), false
		require.NoError(t, hives.Update(ctx, db, h))
		read, err := hives.Find(ctx, db, h.ID)
		require.NoError(t, err)
		assert.False(t, read.Active)

		require.ErrorIs(t, hives.Update(ctx, db, &hive{ID: 999, KeeperID: k.ID, Temper: "calm"}), gate.ErrNotFound)
		require.NoError(t, hives.Update(ctx, db, h, hives.ID), "a key is never changed")

		read.Name = "three"
		require.NoError(t, hives.Upsert(ctx, db, read))
		added := &hive{ID: 50, KeeperID: k.ID, Name: "fifty", Temper: "calm"}
		require.NoError(t, hives.Upsert(ctx, db, added))
		n, err := hives.Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(2), n)

		require.NoError(t, hives.Delete(ctx, db, 50))
		require.ErrorIs(t, hives.Delete(ctx, db, 50), gate.ErrNotFound)
		_, err = hives.Query().Delete(ctx, db)
		require.Error(t, err, "no condition is no way to delete everything")
		gone, err := hives.Where(hives.Keeper.Has(keepers.Name.Is("Clover"))).Delete(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(1), gone)
		_, err = hives.Find(ctx, db, h.ID)
		require.ErrorIs(t, err, gate.ErrNotFound)
	})
}

func TestConstraintErrors(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		k := addKeeper(t, ctx, db, "Clover")
		addHive(t, ctx, db, hive{KeeperID: k.ID, Name: "one"})
		var broken *gate.ConstraintError

		require.ErrorAs(t, keepers.Insert(ctx, db, &keeper{Name: "Clover"}), &broken)
		assert.Equal(t, gate.UniqueBroken, broken.Kind)
		assert.Equal(t, []string{"name"}, broken.Columns)

		require.ErrorAs(t, hives.Insert(ctx, db, &hive{KeeperID: 77, Name: "x"}), &broken)
		assert.Equal(t, gate.ReferenceBroken, broken.Kind)
		dangles, err := gate.RelationOf(hives.Keeper).Dangles(ctx, db, &hive{KeeperID: 77})
		require.NoError(t, err)
		assert.True(t, dangles)

		require.ErrorAs(t, keepers.Delete(ctx, db, k.ID), &broken)
		if db.Engine().Name != "sqlite" { // which does not tell the ends of a reference apart
			assert.Equal(t, gate.StillReferenced, broken.Kind)
			assert.Equal(t, "hive", broken.Table)
		}
		if db.Engine().Name != "sqlite" { // which has no lengths
			require.ErrorAs(t, keepers.Insert(ctx, db, &keeper{Name: strings.Repeat("x", 41)}), &broken)
			assert.Equal(t, gate.TooLong, broken.Kind)
		}
	})
}

func TestTransactions(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		stop := errors.New("stop")
		err := gate.InTx(ctx, db, func(tx gate.DB) error {
			addKeeper(t, ctx, tx, "kept?")
			return stop
		})
		require.ErrorIs(t, err, stop)
		require.NoError(t, gate.InTx(ctx, db, func(tx gate.DB) error {
			addKeeper(t, ctx, tx, "outer")
			inner := gate.InTx(ctx, tx, func(tx gate.DB) error {
				addKeeper(t, ctx, tx, "inner")
				return stop
			})
			require.ErrorIs(t, inner, stop)
			return gate.InTx(ctx, tx, func(tx gate.DB) error { return keepers.Insert(ctx, tx, &keeper{Name: "second"}) })
		}))
		list, err := keepers.OrderBy(keepers.Name.Asc()).All(ctx, db)
		require.NoError(t, err)
		var names []string
		for _, k := range list {
			names = append(names, k.Name)
		}
		assert.Equal(t, []string{"outer", "second"}, names)
	})
}

// fillHives stores hives with ties and nulls in every column that is ordered.
func fillHives(t *testing.T, ctx context.Context, db gate.DB, n int) []*hive {
	t.Helper()
	r := rand.New(rand.NewPCG(1, 2))
	k := addKeeper(t, ctx, db, "Clover")
	var list []*hive
	for i := range n {
		h := hive{KeeperID: k.ID, Name: fmt.Sprintf("h%d", r.IntN(4)), Temper: []temper{"calm", "fierce"}[r.IntN(2)], Active: r.IntN(2) == 0, Warmth: float64(r.IntN(3))}
		if r.IntN(3) > 0 {
			h.Weight = gate.Just(gate.DecimalOf(int64(r.IntN(3))))
		}
		if i > 0 && r.IntN(2) == 0 {
			h.FromID = gate.Just(list[r.IntN(i)].ID)
		}
		list = append(list, addHive(t, ctx, db, h))
	}
	return list
}

func TestPagesAddUpToTheWhole(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		fillHives(t, ctx, db, 41)
		for _, order := range [][]gate.Order[*hive]{
			nil,
			{hives.Weight.Asc()},
			{hives.Weight.Desc(), hives.Name.Asc()},
			{hives.FromID.Asc(), hives.Weight.Desc(), hives.Warmth.Asc()},
			{hives.FromID.Desc(), hives.ID.Desc()},
			{gate.NullsFirst(hives.FromID.Desc()), gate.NullsLast(hives.Weight.Asc())},
			{gate.NullsLast(hives.FromID.Desc()), gate.NullsFirst(hives.Weight.Asc())},
		} {
			query := hives.OrderBy(order...)
			whole, err := gate.OrderByKey(query).All(ctx, db)
			require.NoError(t, err)
			require.Len(t, whole, 41)
			var paged []*hive
			for after := ""; ; {
				list, next, err := query.Page(ctx, db, after, 7)
				require.NoError(t, err)
				paged = append(paged, list...)
				if after = next; after == "" {
					break
				}
			}
			assert.Equal(t, whole, paged)
		}
		_, _, err := hives.Query().Page(ctx, db, "nonsense", 7)
		require.ErrorIs(t, err, gate.ErrCursor)
		other, err := gate.Cursor(gate.OrderByKey(hives.OrderBy(hives.Name.Asc())), &hive{})
		require.NoError(t, err)
		_, _, err = hives.Query().Page(ctx, db, other, 7)
		require.ErrorIs(t, err, gate.ErrCursor, "a cursor of another order is refused")
		_, _, err = hives.OrderBy(gate.Length(hives.Name).Asc()).Page(ctx, db, "", 7)
		require.ErrorContains(t, err, "order by columns")
	})
}

func TestConditionsMeanTheSameAsInGo(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		list := fillHives(t, ctx, db, 30)
		one := gate.DecimalOf(1)
		weight := func(h *hive) (int, bool) { d, ok := h.Weight.Get(); return d.Cmp(one), ok }
		cases := map[string]struct {
			cond gate.Cond[*hive]
			want func(h *hive) bool
		}{
			"equal":      {hives.Name.Is("h1"), func(h *hive) bool { return h.Name == "h1" }},
			"not equal":  {hives.Weight.IsNot(one), func(h *hive) bool { c, ok := weight(h); return ok && c != 0 }},
			"less":       {hives.Weight.Less(one), func(h *hive) bool { c, ok := weight(h); return ok && c < 0 }},
			"at least":   {hives.Weight.AtLeast(one), func(h *hive) bool { c, ok := weight(h); return ok && c >= 0 }},
			"between":    {hives.Warmth.Between(1, 2), func(h *hive) bool { return h.Warmth >= 1 && h.Warmth <= 2 }},
			"null":       {hives.FromID.IsNull(), func(h *hive) bool { return h.FromID.IsNull() }},
			"not null":   {hives.FromID.IsNotNull(), func(h *hive) bool { return !h.FromID.IsNull() }},
			"enum":       {hives.Temper.Is(temper("fierce")), func(h *hive) bool { return h.Temper == "fierce" }},
			"enum list":  {hives.Temper.In(gate.Labels([]temper{"fierce", "calm"})...), func(*hive) bool { return true }},
			"bool":       {hives.Active.Is(true), func(h *hive) bool { return h.Active }},
			"in":         {hives.Name.In("h1", "h2", "zzz"), func(h *hive) bool { return h.Name == "h1" || h.Name == "h2" }},
			"in ids":     {hives.ID.In(list[0].ID, list[3].ID, list[4].ID), func(h *hive) bool { return h.ID == list[0].ID || h.ID == list[3].ID || h.ID == list[4].ID }},
			"in nothing": {hives.Name.In(), func(*hive) bool { return false }},
			"prefix":     {hives.Name.HasPrefix("h"), func(*hive) bool { return true }},
			"percent":    {hives.Name.Contains("%"), func(*hive) bool { return false }},
			"underscore": {hives.Name.HasPrefix("_"), func(*hive) bool { return false }},
			"and":        {gate.And(hives.Name.Is("h1"), hives.Active.Is(true)), func(h *hive) bool { return h.Name == "h1" && h.Active }},
			"or":         {gate.Or(hives.Name.Is("h1"), hives.Active.Is(true)), func(h *hive) bool { return h.Name == "h1" || h.Active }},
			"not":        {gate.Not(hives.Active.Is(true)), func(h *hive) bool { return !h.Active }},
			"empty and":  {gate.And[*hive](), func(*hive) bool { return true }},
			"empty or":   {gate.Or[*hive](), func(*hive) bool { return false }},
			"zero":       {gate.Cond[*hive]{}, func(*hive) bool { return true }},
			"not zero":   {gate.Not(gate.Cond[*hive]{}), func(*hive) bool { return false }},
			"has split": {hives.Splits.Has(), func(h *hive) bool {
				return slices.ContainsFunc(list, func(s *hive) bool { return s.FromID.Or(0) == h.ID })
			}},
			"has no split": {hives.Splits.HasNone(hives.Active.Is(true)), func(h *hive) bool {
				return !slices.ContainsFunc(list, func(s *hive) bool { return s.FromID.Or(0) == h.ID && s.Active })
			}},
			"through two": {hives.Splits.Has(hives.Keeper.Has(keepers.Name.Is("Clover"))), func(h *hive) bool {
				return slices.ContainsFunc(list, func(s *hive) bool { return s.FromID.Or(0) == h.ID })
			}},
			"raw":           {gate.Raw[*hive]("warmth + ? > ?", 1, 2), func(h *hive) bool { return h.Warmth+1 > 2 }},
			"uuid in":       {hives.Tag.In("6f1c2a34-0000-4000-8000-00000000abcd", "6f1c2a34-0000-4000-8000-00000000abce"), func(*hive) bool { return false }},
			"time, missing": {hives.Seen.More(time.Now()), func(*hive) bool { return false }},
		}
		for name, c := range cases {
			t.Run(name, func(t *testing.T) {
				found, err := gate.OrderByKey(hives.Where(c.cond)).All(ctx, db)
				require.NoError(t, err)
				var got, want []int64
				for _, h := range found {
					got = append(got, h.ID)
				}
				for _, h := range list {
					if c.want(h) {
						want = append(want, h.ID)
					}
				}
				assert.Equal(t, want, got)
				n, err := hives.Where(c.cond).Count(ctx, db)
				require.NoError(t, err)
				assert.Equal(t, int64(len(want)), n)
				exists, err := hives.Where(c.cond).Exists(ctx, db)
				require.NoError(t, err)
				assert.Equal(t, len(want) > 0, exists)
			})
		}
		_, err := hives.Where(gate.Raw[*hive]("warmth > ?")).All(ctx, db)
		require.ErrorContains(t, err, "1 places for 0 values")
	})
}

func TestRelationsTakeAFixedNumberOfStatements(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		list := fillHives(t, ctx, db, 40)
		idle := addKeeper(t, ctx, db, "Idle")
		count := &counting{DB: db}

		read, err := gate.OrderByKey(hives.With(hives.Keeper, hives.Splits.OrderBy(hives.Name.Desc()).With(hives.Keeper))).All(ctx, count)
		require.NoError(t, err)
		assert.Equal(t, 4, count.n, "the hives, their keepers, their splits and the keepers of these")
		for _, h := range read {
			require.NotNil(t, h.Keeper)
			require.NotNil(t, h.Splits, "loaded, though there may be none")
			var want []int64
			for _, s := range list {
				if s.FromID.Or(0) == h.ID {
					want = append(want, s.ID)
				}
			}
			require.Len(t, h.Splits, len(want))
			assert.True(t, slices.IsSortedFunc(h.Splits, func(a, b *hive) int { return strings.Compare(b.Name, a.Name) }))
			for _, s := range h.Splits {
				assert.Contains(t, want, s.ID)
				assert.Equal(t, "Clover", s.Keeper.Name)
			}
		}

		bounded, err := gate.OrderByKey(keepers.With(keepers.Hives.OrderBy(hives.ID.Desc()).Limit(3))).All(ctx, db)
		require.NoError(t, err)
		require.Len(t, bounded[0].Hives, 3, "the newest three")
		assert.Equal(t, list[39].ID, bounded[0].Hives[0].ID)
		assert.Empty(t, bounded[1].Hives)

		n, err := keepers.Hives.Of(bounded[0]).Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(40), n)
		child := hive{Name: "new"}
		require.NoError(t, gate.Attach(keepers.Hives, idle, &child))
		assert.Equal(t, idle.ID, child.KeeperID)
	})
}

func TestManyToMany(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		var ks []*keeper
		for i := range 3 {
			ks = append(ks, addKeeper(t, ctx, db, fmt.Sprintf("keeper %d", i)))
		}
		var fs []*forage
		for i := range 4 {
			f := &forage{Name: fmt.Sprintf("forage %d", i)}
			require.NoError(t, forageTable.Insert(ctx, db, f))
			fs = append(fs, f)
		}
		for _, pair := range [][2]int{{0, 0}, {0, 1}, {0, 1}, {1, 1}, {1, 3}} {
			require.NoError(t, keepers.Forages.Add(ctx, db, ks[pair[0]], fs[pair[1]]), "linking twice is no error")
		}
		require.NoError(t, keepers.Forages.Remove(ctx, db, ks[1], fs[1]))
		require.NoError(t, keepers.Forages.Remove(ctx, db, ks[1], fs[1]))
		count := &counting{DB: db}
		read, err := gate.OrderByKey(keepers.With(keepers.Forages)).All(ctx, count)
		require.NoError(t, err)
		assert.Equal(t, 2, count.n)
		assert.Equal(t, []*forage{fs[0], fs[1]}, read[0].Forages)
		assert.Equal(t, []*forage{fs[3]}, read[1].Forages)
		assert.Empty(t, read[2].Forages)
		forageName := gate.NewText(forageDef, "name")
		has, err := keepers.Where(keepers.Forages.Has(forageName.Is("forage 3"))).All(ctx, db)
		require.NoError(t, err)
		require.Len(t, has, 1)
		assert.Equal(t, ks[1].ID, has[0].ID)
		bounded, err := gate.OrderByKey(keepers.With(keepers.Forages.Limit(1))).All(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, []*forage{fs[0]}, bounded[0].Forages)
	})
}

func TestUndescribedColumns(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		wrong := gate.NewText(hiveDef, "gone")
		_, err := hives.Where(wrong.Is("x")).All(ctx, db)
		require.ErrorContains(t, err, "not described")
		require.ErrorContains(t, hives.Update(ctx, db, &hive{}, wrong), "not described")
		relation := gate.NewToMany(hiveDef, hiveDef, gate.On{{"id", "gone"}}, func(e *hive) *[]*hive { return &e.Splits })
		fillHives(t, ctx, db, 1)
		_, err = hives.With(relation).All(ctx, db)
		require.Error(t, err)
	})
}

func TestConcurrentUse(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		k := addKeeper(t, ctx, db, "Clover")
		var group sync.WaitGroup
		for worker := range 8 {
			group.Go(func() {
				for i := range 10 {
					h := &hive{KeeperID: k.ID, Name: fmt.Sprintf("%d/%d", worker, i)}
					err := gate.InTx(ctx, db, func(tx gate.DB) error { return hives.Insert(ctx, tx, h) })
					assert.NoError(t, err)
					read, err := hives.With(hives.Keeper).Where(hives.Name.Is(h.Name)).First(ctx, db)
					if assert.NoError(t, err) {
						assert.Equal(t, "Clover", read.Keeper.Name)
					}
				}
			})
		}
		group.Wait()
		n, err := hives.Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(80), n)
	})
}
