// From table batch_harvest. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newBatchHarvestShape says how a batch harvest looks from outside.
func newBatchHarvestShape() *rest.Shape[*store.BatchHarvest, store.BatchHarvestKey] {
	return rest.NewShape("batch-harvests", store.BatchHarvests,
		rest.Relate("batch", store.BatchHarvests.Batch),
		rest.Relate("harvest", store.BatchHarvests.Harvest),
	)
}

// batchHarvestRoutes are the paths of batch-harvests.
func (s *Service) batchHarvestRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /batch-harvests", s.listBatchHarvests),
		rest.On("GET /batch-harvests/{key}", s.getBatchHarvest),
		rest.On("POST /batch-harvests", rest.Create(s.batchHarvest, s.createBatchHarvest)),
		rest.On("PUT /batch-harvests/{key}", rest.Replace(s.batchHarvest, s.replaceBatchHarvest, s.createBatchHarvest)),
		rest.On("PATCH /batch-harvests/{key}", rest.Change(s.batchHarvest, s.changeBatchHarvest)),
		rest.On("DELETE /batch-harvests/{key}", rest.Remove(s.batchHarvest, s.deleteBatchHarvest)),
		rest.On("GET /batch-harvests/{key}/batch", rest.GetUnder(s.batchHarvest, store.BatchHarvests.Batch.Of, s.batch)),
		rest.On("GET /batch-harvests/{key}/harvest", rest.GetUnder(s.batchHarvest, store.BatchHarvests.Harvest.Of, s.harvest)),
	}
}

// listBatchHarvests answers GET /api/batch-harvests.
func (s *Service) listBatchHarvests(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.batchHarvest)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.batchHarvest, list)
}

// getBatchHarvest answers GET /api/batch-harvests/{key}.
func (s *Service) getBatchHarvest(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.batchHarvest)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.batchHarvest, key)
}

// createBatchHarvest stores a new row, however it arrives.
func (s *Service) createBatchHarvest(ctx context.Context, tx gate.DB, row *store.BatchHarvest) error {
	return store.BatchHarvests.Insert(ctx, tx, row)
}

// replaceBatchHarvest stores all of a row that is there.
func (s *Service) replaceBatchHarvest(ctx context.Context, tx gate.DB, row *store.BatchHarvest) error {
	return store.BatchHarvests.Update(ctx, tx, row)
}

// changeBatchHarvest stores the columns of a row that a patch names.
func (s *Service) changeBatchHarvest(ctx context.Context, tx gate.DB, row *store.BatchHarvest, columns ...gate.ColumnOf[*store.BatchHarvest]) error {
	return store.BatchHarvests.Update(ctx, tx, row, columns...)
}

// deleteBatchHarvest removes a row.
func (s *Service) deleteBatchHarvest(ctx context.Context, tx gate.DB, key store.BatchHarvestKey) error {
	return store.BatchHarvests.Delete(ctx, tx, key)
}
