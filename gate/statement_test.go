package gate

import (
	"context"
	"errors"
	"testing"

	mysql "widegate/gate/mysql/spelling"
	postgres "widegate/gate/postgres/spelling"
	sqlite "widegate/gate/sqlite/spelling"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type apiary struct {
	ID    int64
	Name  string
	Place Maybe[string]
	Hives []*box
}

type box struct {
	ApiaryID int64
	No       int64
	Mood     string
}

var apiaryDef = Describe(Spec[*apiary]{
	New: func() *apiary { return new(apiary) }, Schema: "stock", Name: "apiary",
	Fields: []Field[*apiary]{
		{Name: "id", Type: TypeInt64, Flags: Key | Auto, In: func(e *apiary) any { return &e.ID }},
		{Name: `na"me`, Type: TypeText, In: func(e *apiary) any { return &e.Name }},
		{Name: "place", Type: TypeOther, Cast: "point", Flags: Nullable, In: func(e *apiary) any { return &e.Place }},
	},
})

var boxDef = Describe(Spec[*box]{
	New: func() *box { return new(box) }, Name: "box",
	Fields: []Field[*box]{
		{Name: "apiary_id", Type: TypeInt64, Flags: Key, In: func(e *box) any { return &e.ApiaryID }},
		{Name: "no", Type: TypeInt64, Flags: Key, In: func(e *box) any { return &e.No }},
		{Name: "mood", Type: TypeEnum, Labels: []string{"calm", "wild"}, In: func(e *box) any { return &e.Mood }},
	},
})

var (
	apiaries   = NewTable(apiaryDef, func(k *int64) []any { return []any{k} })
	apiaryName = NewText(apiaryDef, `na"me`)
	apiaryID   = NewOrdered[int64](apiaryDef, "id")
	boxMood    = NewValue[string](boxDef, "mood")
	boxes      = NewTable(boxDef, func(k *[2]int64) []any { return []any{&k[0], &k[1]} })
	inApiary   = NewToMany(apiaryDef, boxDef, On{{"id", "apiary_id"}}, func(e *apiary) *[]*box { return &e.Hives })
)

var (
	likePostgres = &Engine{Name: "postgres", Quote: '"', Numbered: true, Returning: true, Returns: true, ArrayArgs: true, NullsHigh: true, Dialect: postgres.Postgres{}}
	likeMySQL    = &Engine{Name: "mysql", Quote: '`', EnumsByPlace: true, Dialect: mysql.MySQL{}}
	likeSQLite   = &Engine{Name: "sqlite", Quote: '"', Returning: true, Dialect: sqlite.SQLite{}}
)

func TestSelects(t *testing.T) {
	query := OrderByKey(apiaries.Where(apiaryName.Contains("50%!_"), Or(apiaryID.In(1, 2, 3), inApiary.Has(boxMood.Is("calm")))).
		OrderBy(apiaryName.Desc())).Limit(5).Offset(10)
	s := query.q.statement(likePostgres)
	require.NoError(t, s.err)
	assert.Equal(t, `SELECT t1."id", t1."na""me", t1."place"::text FROM "stock"."apiary" AS t1`+
		` WHERE t1."na""me" LIKE $1 ESCAPE '!' AND (t1."id" = ANY($2) OR EXISTS (SELECT 1 FROM "box" AS t2 WHERE t1."id" = t2."apiary_id" AND t2."mood" = $3))`+
		` ORDER BY t1."na""me" DESC, t1."id" LIMIT 5 OFFSET 10`, s.String())
	assert.Equal(t, []any{"%50!%!!!_%", []int64{1, 2, 3}, "calm"}, s.args)

	s = query.q.statement(likeMySQL)
	assert.Contains(t, s.String(), "SELECT t1.`id`, t1.`na\"me`, t1.`place` FROM `stock`.`apiary` AS t1")
	assert.Contains(t, s.String(), "t1.`id` IN (?, ?, ?, ?)", "lists are rounded up, so that there are few texts")
	assert.Equal(t, []any{"%50!%!!!_%", int64(1), int64(2), int64(3), int64(3), "calm"}, s.args)
}

func TestSeeks(t *testing.T) {
	ordered := OrderByKey(OrderByColumn(OrderByColumn(boxes.Query(), "mood", true), "apiary_id", false))
	text, err := Cursor(ordered, &box{3, 4, "wild"})
	require.NoError(t, err)
	place, err := After(ordered, text)
	require.NoError(t, err)
	s := place.q.statement(likeSQLite)
	assert.Contains(t, s.String(), `WHERE ((t1."mood" < ?) OR (t1."mood" = ? AND t1."apiary_id" > ?) OR (t1."mood" = ? AND t1."apiary_id" = ? AND t1."no" > ?))`)
	s = place.q.statement(likeMySQL)
	assert.Contains(t, s.String(), "WHERE ((t1.`mood`+0 < 2) OR", "an enum is ordered by the place of its labels")
}

// recorder is a database that only notes what it is asked.
type recorder struct {
	engine *Engine
	texts  []string
	args   [][]any
}

var errRecorded = errors.New("recorded")

func (r *recorder) note(text string, args []any) {
	r.texts = append(r.texts, text)
	r.args = append(r.args, args)
}

func (r *recorder) Engine() *Engine { return r.engine }
func (r *recorder) Query(_ context.Context, text string, args []any) (Rows, error) {
	r.note(text, args)
	return nil, errRecorded
}
func (r *recorder) Exec(_ context.Context, text string, args []any) (Result, error) {
	r.note(text, args)
	return Result{}, errRecorded
}
func (r *recorder) InTx(_ context.Context, _ TxOptions, do func(DB) error) error { return do(r) }
func (r *recorder) Ping(context.Context) error                                   { return nil }
func (r *recorder) Close() error                                                 { return nil }

func TestWrites(t *testing.T) {
	for engine, want := range map[*Engine][]string{
		likePostgres: {
			`INSERT INTO "stock"."apiary" ("na""me", "place") VALUES ($1, $2::text::point) RETURNING "id", "na""me", "place"::text`,
			`UPDATE "stock"."apiary" SET "na""me" = $1, "place" = $2::text::point WHERE ("id" = $3) RETURNING "id", "na""me", "place"::text`,
			`INSERT INTO "box" ("apiary_id", "no", "mood") VALUES ($1, $2, $3) ON CONFLICT ("apiary_id", "no") DO UPDATE SET "mood" = excluded."mood" RETURNING "apiary_id", "no", "mood"`,
			`DELETE FROM "box" WHERE "box"."apiary_id" = $1 AND "box"."no" = $2`,
		},
		likeMySQL: {
			"INSERT INTO `stock`.`apiary` (`na\"me`, `place`) VALUES (?, ?)",
			"UPDATE `stock`.`apiary` SET `na\"me` = ?, `place` = ? WHERE (`id` = ?)",
			"INSERT INTO `box` (`apiary_id`, `no`, `mood`) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE `mood` = VALUES(`mood`)",
			"DELETE FROM `box` WHERE `box`.`apiary_id` = ? AND `box`.`no` = ?",
		},
	} {
		r := &recorder{engine: engine}
		ctx := t.Context()
		require.ErrorIs(t, apiaries.Insert(ctx, r, &apiary{Name: "North", Place: Just("(1,2)")}), errRecorded)
		require.ErrorIs(t, apiaries.Update(ctx, r, &apiary{ID: 7, Name: "North"}), errRecorded)
		require.ErrorIs(t, boxes.Upsert(ctx, r, &box{1, 2, "calm"}), errRecorded)
		require.ErrorIs(t, boxes.Delete(ctx, r, [2]int64{1, 2}), errRecorded)
		assert.Equal(t, want, r.texts)
		assert.Equal(t, []any{"North", "(1,2)"}, r.args[0])
		assert.Equal(t, []any{"North", nil, int64(7)}, r.args[1])
	}
}

func TestLoadingRelations(t *testing.T) {
	ctx := t.Context()
	r := &recorder{engine: likeSQLite}
	parents := []*apiary{{ID: 1}, {ID: 2}, {ID: 1}}
	require.ErrorIs(t, inApiary.Limit(2).Load(ctx, r, parents...), errRecorded)
	require.ErrorIs(t, inApiary.Where(boxMood.Is("wild")).Load(ctx, r, parents...), errRecorded)
	assert.Equal(t, []string{
		`SELECT t1."apiary_id", t1."no", t1."mood" FROM (SELECT t1."apiary_id", t1."no", t1."mood", row_number() OVER (PARTITION BY t1."apiary_id" ORDER BY t1."apiary_id", t1."no") AS place_of_row` +
			` FROM "box" AS t1 WHERE t1."apiary_id" IN (?, ?)) AS t1 WHERE place_of_row <= 2 ORDER BY place_of_row`,
		`SELECT t1."apiary_id", t1."no", t1."mood" FROM "box" AS t1 WHERE t1."apiary_id" IN (?, ?) AND t1."mood" = ? ORDER BY t1."apiary_id", t1."no"`,
	}, r.texts)
	assert.Equal(t, []any{int64(1), int64(2)}, r.args[0], "each parent is asked for once")
}

func TestQueriesAreNotChanged(t *testing.T) {
	base := apiaries.Where(apiaryName.Is("a"))
	one, two := base.Where(apiaryName.Is("b")), base.Where(apiaryName.Is("c"))
	base.OrderBy(apiaryName.Asc())
	base.Limit(3)
	assert.Equal(t, []any{"a"}, base.q.statement(likeSQLite).args)
	assert.Equal(t, []any{"a", "b"}, one.q.statement(likeSQLite).args)
	assert.Equal(t, []any{"a", "c"}, two.q.statement(likeSQLite).args)
	assert.NotContains(t, base.q.statement(likeSQLite).String(), "ORDER BY")
	assert.NotContains(t, base.q.statement(likeSQLite).String(), "LIMIT")
}

func TestLeftToTheDatabase(t *testing.T) {
	zero, empty, absent, null := int64(0), "", Maybe[string]{}, Null[string]()
	for _, c := range []struct {
		column Column
		field  any
		want   bool
	}{
		{Column{Type: TypeInt64, Flags: Auto}, &zero, true},
		{Column{Type: TypeInt64, Flags: HasDefault, Default: "10"}, &zero, true},
		{Column{Type: TypeInt64, Flags: HasDefault}, &zero, true},
		{Column{Type: TypeInt64}, &zero, false},
		{Column{Type: TypeEnum, Flags: HasDefault, Default: "calm"}, &empty, true},
		{Column{Type: TypeText, Flags: HasDefault, Default: "x"}, &empty, true},
		{Column{Type: TypeText, Flags: HasDefault | Nullable, Default: "x"}, &absent, true},
		{Column{Type: TypeText, Flags: HasDefault | Nullable, Default: "x"}, &null, false},
		{Column{Type: TypeText, Flags: Nullable}, &absent, false},
		{Column{Type: TypeText, Flags: Generated}, &empty, true},
	} {
		assert.Equal(t, c.want, c.column.leftToDatabase(fieldOf(c.field)), "%+v", c.column)
	}
}

func TestRetry(t *testing.T) {
	again, final := errors.New("again"), errors.New("final")
	for _, c := range []struct {
		errs []error
		runs int
		want error
	}{
		{[]error{nil}, 1, nil},
		{[]error{again, again, nil}, 3, nil},
		{[]error{again, final}, 2, final},
		{[]error{again, again, again, again, again, nil}, maxTries, again},
	} {
		runs := 0
		err := Retry(t.Context(), 0, func(err error) bool { return err == again }, func() error { runs++; return c.errs[runs-1] })
		assert.Equal(t, c.want, err)
		assert.Equal(t, c.runs, runs)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	runs := 0
	err := Retry(ended, 0, func(error) bool { return true }, func() error { runs++; return again })
	assert.ErrorIs(t, err, again)
	assert.Equal(t, 1, runs, "nothing is tried for a caller who has gone")
}
