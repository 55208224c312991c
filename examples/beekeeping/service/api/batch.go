// From table batch. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newBatchShape says how a batch looks from outside.
func newBatchShape() *rest.Shape[*store.Batch, int64] {
	return rest.NewShape("batches", store.Batches,
		rest.Relate("batch_harvests", store.Batches.BatchHarvests),
		rest.Relate("harvests", store.Batches.Harvests),
	)
}

// batchRoutes are the paths of batches. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) batchRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /batches", s.listBatches),
		rest.On("GET /batches/summary", rest.Summarize(s.batch)),
		rest.On("GET /batches/{key}", s.getBatch),
		rest.On("POST /batches", rest.Create(s.batch)),
		rest.On("PUT /batches/{key}", rest.Replace(s.batch)),
		rest.On("PATCH /batches/{key}", rest.Change(s.batch)),
		rest.On("DELETE /batches/{key}", rest.Remove(s.batch)),
		rest.On("GET /batches/{key}/batch-harvests", rest.ListUnder(s.batch, store.Batches.BatchHarvests.Of, s.batchHarvest)),
		rest.On("POST /batches/{key}/batch-harvests", rest.CreateUnder(s.batch, store.Batches.BatchHarvests, s.batchHarvest)),
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
