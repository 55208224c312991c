// From table harvest. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
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

// harvestRoutes are the paths of harvests. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) harvestRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /harvests", s.listHarvests),
		rest.On("GET /harvests/summary", rest.Summarize(s.harvest)),
		rest.On("GET /harvests/{key}", s.getHarvest),
		rest.On("POST /harvests", rest.Create(s.harvest)),
		rest.On("PUT /harvests/{key}", rest.Replace(s.harvest)),
		rest.On("PATCH /harvests/{key}", rest.Change(s.harvest)),
		rest.On("DELETE /harvests/{key}", rest.Remove(s.harvest)),
		rest.On("GET /harvests/{key}/hive", rest.GetUnder(s.harvest, store.Harvests.Hive.Of, s.hive)),
		rest.On("GET /harvests/{key}/batch-harvests", rest.ListUnder(s.harvest, store.Harvests.BatchHarvests.Of, s.batchHarvest)),
		rest.On("POST /harvests/{key}/batch-harvests", rest.CreateUnder(s.harvest, store.Harvests.BatchHarvests, s.batchHarvest)),
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
