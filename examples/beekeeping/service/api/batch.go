// From table batch. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newBatchShape says how a batch looks from outside.
func newBatchShape() *rest.Shape[*store.Batch, int64] {
	return rest.NewShape("batches", store.Batches,
		rest.Relate("batch_harvests", store.Batches.BatchHarvests),
		rest.Relate("harvests", store.Batches.Harvests),
	)
}

// batchRoutes are the paths of batches.
func (s *Service) batchRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /batches", s.listBatches),
		rest.On("GET /batches/{key}", s.getBatch),
		rest.On("POST /batches", rest.Create(s.batch, s.createBatch)),
		rest.On("PUT /batches/{key}", rest.Replace(s.batch, s.replaceBatch, s.createBatch)),
		rest.On("PATCH /batches/{key}", rest.Change(s.batch, s.changeBatch)),
		rest.On("DELETE /batches/{key}", rest.Remove(s.batch, s.deleteBatch)),
		rest.On("GET /batches/{key}/batch-harvests", rest.ListUnder(s.batch, store.Batches.BatchHarvests.Of, s.batchHarvest)),
		rest.On("POST /batches/{key}/batch-harvests", rest.CreateUnder(s.batch, store.Batches.BatchHarvests, s.batchHarvest, s.createBatchHarvest)),
		rest.On("GET /batches/{key}/harvests", rest.ListUnder(s.batch, store.Batches.Harvests.Of, s.harvest)),
	}
}

// listBatches answers GET /api/batches.
func (s *Service) listBatches(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.batch)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.batch, list)
}

// getBatch answers GET /api/batches/{key}.
func (s *Service) getBatch(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.batch)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.batch, key)
}

// createBatch stores a new row, however it arrives.
func (s *Service) createBatch(ctx context.Context, tx gate.DB, row *store.Batch) error {
	return store.Batches.Insert(ctx, tx, row)
}

// replaceBatch stores all of a row that is there.
func (s *Service) replaceBatch(ctx context.Context, tx gate.DB, row *store.Batch) error {
	return store.Batches.Update(ctx, tx, row)
}

// changeBatch stores the columns of a row that a patch names.
func (s *Service) changeBatch(ctx context.Context, tx gate.DB, row *store.Batch, columns ...gate.ColumnOf[*store.Batch]) error {
	return store.Batches.Update(ctx, tx, row, columns...)
}

// deleteBatch removes a row.
func (s *Service) deleteBatch(ctx context.Context, tx gate.DB, key int64) error {
	return store.Batches.Delete(ctx, tx, key)
}
