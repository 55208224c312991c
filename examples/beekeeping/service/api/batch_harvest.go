// From table batch_harvest. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newBatchHarvestShape says how a batch harvest looks from outside.
func newBatchHarvestShape() *rest.Shape[*store.BatchHarvest, store.BatchHarvestKey] {
	return rest.NewShape("batch-harvests", store.BatchHarvests,
		rest.Relate("batch", store.BatchHarvests.Batch),
		rest.Relate("harvest", store.BatchHarvests.Harvest),
	)
}

// batchHarvestRoutes are the paths of batch-harvests. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) batchHarvestRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /batch-harvests", s.listBatchHarvests),
		rest.On("GET /batch-harvests/summary", rest.Summarize(s.batchHarvest)),
		rest.On("GET /batch-harvests/{key}", s.getBatchHarvest),
		rest.On("POST /batch-harvests", rest.Create(s.batchHarvest)),
		rest.On("PUT /batch-harvests/{key}", rest.Replace(s.batchHarvest)),
		rest.On("PATCH /batch-harvests/{key}", rest.Change(s.batchHarvest)),
		rest.On("DELETE /batch-harvests/{key}", rest.Remove(s.batchHarvest)),
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
