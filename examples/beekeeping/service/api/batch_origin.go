// From view batch_origin. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newBatchOriginShape says how a batch origin looks from outside.
func newBatchOriginShape() *rest.Shape[*store.BatchOrigin, rest.NoKey] {
	return rest.NewKeylessShape("batch-origins", store.BatchOrigins)
}

// batchOriginRoutes are the paths of batch-origins.
func (s *Service) batchOriginRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /batch-origins", s.listBatchOrigins),
		rest.On("GET /batch-origins/summary", rest.Summarize(s.batchOrigin)),
	}
}

// listBatchOrigins answers GET /api/batch-origins.
func (s *Service) listBatchOrigins(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.batchOrigin)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.batchOrigin, list)
}
