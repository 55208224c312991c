// From queries/cooperative.sql. Edits here are kept when it is written again.

package store

import (
	"context"

	"beekeeping/store/gate"
)

// BestApiariesRow is a row of BestApiaries.
type BestApiariesRow struct {
	Name     string                   `json:"name"`
	Total    gate.Decimal             `json:"total"`
	Harvests int64                    `json:"harvests"`
	Wettest  gate.Maybe[gate.Decimal] `json:"wettest"`
}

// BestApiaries ranks the apiaries by what they yielded since a day.
func BestApiaries(ctx context.Context, db gate.DB, since gate.Date) ([]*BestApiariesRow, error) {
	q := gate.NewSQL(db)
	q.Text(`select a.name, sum(h.weight_kg) as total, count(*) as harvests, max(h.moisture_pct) as wettest
from harvest h
join hive on hive.id = h.hive_id
join apiary a on a.id = hive.apiary_id
where h.harvested_on >= `).Arg(since).Text(`
group by a.id, a.name
order by total desc, a.name`)
	return gate.ReadRows(ctx, db, q, (*BestApiariesRow).fields)
}

func (row *BestApiariesRow) fields(to []any) []any {
	return append(to, &row.Name, &row.Total, &row.Harvests, &row.Wettest)
}

// SearchHivesSort is an order of the rows of SearchHives.
type SearchHivesSort int

// The orders of the rows of SearchHives.
const (
	SearchHivesSortByName SearchHivesSort = iota
	SearchHivesSortByHeaviest
)

// SearchHivesRow is a row of SearchHives.
type SearchHivesRow struct {
	Hive   *Hive   `json:"hive"`
	Apiary *Apiary `json:"apiary"`
	Queen  *Queen  `json:"queen"`
	Visits int64   `json:"visits"`
}

// SearchHives finds hives for a search form, each with its apiary and its queen, if it has one.
// What is left out narrows nothing.
func SearchHives(ctx context.Context, db gate.DB, name gate.Maybe[string], temperament gate.Maybe[Temperament], frames gate.Maybe[int64], sort SearchHivesSort, most int64) ([]*SearchHivesRow, error) {
	q := gate.NewSQL(db)
	q.Text(`select h.id, h.apiary_id, h.split_from_id, h.name, h.temperament, h.frames, h.weight_kg, h.acquired_on, h.is_active, h.created_at, apiary.id, apiary.keeper_id, apiary.deputy_id, apiary.name, apiary.latitude, apiary.longitude, apiary.registered_on, apiary.details, apiary.created_at, queen.id, queen.hive_id, queen.marking, queen.breed, queen.hatched_on, queen.is_clipped, (select count(*) from inspection i where i.hive_id = h.id) as visits
from hive h
join apiary on apiary.id = h.apiary_id
left join queen on queen.hive_id = h.id
where h.is_active`)
	if !name.IsNull() {
		q.Text(`
  and h.name like `).Arg(name)
	}
	if !temperament.IsNull() {
		q.Text(`
  and h.temperament = `).Arg(temperament)
	}
	if !frames.IsNull() {
		q.Text(`
  and h.frames >= `).Arg(frames)
	}
	q.Text(`
order by `).Choice(int(sort), "h.name", "coalesce(h.weight_kg, 0) desc").Text(`, h.id
limit `).Arg(most)
	return gate.ReadRows(ctx, db, q, (*SearchHivesRow).fields)
}

func (row *SearchHivesRow) fields(to []any) []any {
	to = gate.AppendFields(hiveDef, to, &row.Hive)
	to = gate.AppendFields(apiaryDef, to, &row.Apiary)
	to = gate.AppendOptional(queenDef, to, &row.Queen)
	to = append(to, &row.Visits)
	return to
}

// HivesOfKeepers finds the hives in the apiaries of some keepers.
func HivesOfKeepers(ctx context.Context, db gate.DB, keepers []int64) ([]*Hive, error) {
	q := gate.NewSQL(db)
	q.Text(`select h.id, h.apiary_id, h.split_from_id, h.name, h.temperament, h.frames, h.weight_kg, h.acquired_on, h.is_active, h.created_at
from hive h
join apiary a on a.id = h.apiary_id
where a.keeper_id `)
	gate.In(q, false, keepers)
	q.Text(`
order by h.id`)
	return gate.ReadRows(ctx, db, q, gate.FieldsOf(hiveDef))
}

// LastInspection is the newest inspection of a hive. It reports whether there is a row.
func LastInspection(ctx context.Context, db gate.DB, hiveID int64) (*Inspection, bool, error) {
	q := gate.NewSQL(db)
	q.Text("select inspection.id, inspection.hive_id, inspection.keeper_id, inspection.done_on, inspection.started_at, inspection.brood_frames, inspection.queen_seen, inspection.notes, inspection.measurements from inspection where hive_id = ").Arg(hiveID).Text(" order by done_on desc, id desc limit 1")
	return gate.ReadMaybeRow(ctx, db, q, gate.FieldsOf(inspectionDef))
}

// CloseHives takes the hives of an apiary out of use. It returns the number of rows that it
// touched.
func CloseHives(ctx context.Context, db gate.DB, apiaryID int64) (int64, error) {
	q := gate.NewSQL(db)
	q.Text("update hive set is_active = false where apiary_id = ").Arg(apiaryID).Text(" and is_active")
	return q.Run(ctx, db)
}
