// From table harvest. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newHarvestShape says how a harvest looks from outside.
func newHarvestShape() *rest.Shape[*store.Harvest, int64] {
	return rest.NewShape("harvests", store.Harvests,
		rest.Relate("hive", store.Harvests.Hive),
		rest.Relate("batch_harvests", store.Harvests.BatchHarvests),
		rest.Relate("batches", store.Harvests.Batches),
	)
}

// harvestRoutes are the paths of harvests.
func (s *Service) harvestRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /harvests", s.listHarvests),
		rest.On("GET /harvests/{key}", s.getHarvest),
		rest.On("POST /harvests", rest.Create(s.harvest, s.createHarvest)),
		rest.On("PUT /harvests/{key}", rest.Replace(s.harvest, s.replaceHarvest, s.createHarvest)),
		rest.On("PATCH /harvests/{key}", rest.Change(s.harvest, s.changeHarvest)),
		rest.On("DELETE /harvests/{key}", rest.Remove(s.harvest, s.deleteHarvest)),
		rest.On("GET /harvests/{key}/hive", rest.GetUnder(s.harvest, store.Harvests.Hive.Of, s.hive)),
		rest.On("GET /harvests/{key}/batch-harvests", rest.ListUnder(s.harvest, store.Harvests.BatchHarvests.Of, s.batchHarvest)),
		rest.On("POST /harvests/{key}/batch-harvests", rest.CreateUnder(s.harvest, store.Harvests.BatchHarvests, s.batchHarvest, s.createBatchHarvest)),
		rest.On("GET /harvests/{key}/batches", rest.ListUnder(s.harvest, store.Harvests.Batches.Of, s.batch)),
	}
}

// listHarvests answers GET /api/harvests.
func (s *Service) listHarvests(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.harvest)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.harvest, list)
}

// getHarvest answers GET /api/harvests/{key}.
func (s *Service) getHarvest(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.harvest)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.harvest, key)
}

// createHarvest stores a new row, however it arrives.
func (s *Service) createHarvest(ctx context.Context, tx gate.DB, row *store.Harvest) error {
	return store.Harvests.Insert(ctx, tx, row)
}

// replaceHarvest stores all of a row that is there.
func (s *Service) replaceHarvest(ctx context.Context, tx gate.DB, row *store.Harvest) error {
	return store.Harvests.Update(ctx, tx, row)
}

// changeHarvest stores the columns of a row that a patch names.
func (s *Service) changeHarvest(ctx context.Context, tx gate.DB, row *store.Harvest, columns ...gate.ColumnOf[*store.Harvest]) error {
	return store.Harvests.Update(ctx, tx, row, columns...)
}

// deleteHarvest removes a row.
func (s *Service) deleteHarvest(ctx context.Context, tx gate.DB, key int64) error {
	return store.Harvests.Delete(ctx, tx, key)
}
