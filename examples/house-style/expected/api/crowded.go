// From view crowded. Edits here are kept when it is written again.

package api

import (
	"log/slog"
	"net/http"

	"example/store"
	"example/store/gate/rest"
)

// newCrowdedShape says how a crowded looks from outside.
func newCrowdedShape() *rest.Shape[*store.Crowded, rest.NoKey] {
	return rest.NewKeylessShape("crowded", store.CrowdedRows)
}

// crowdedRoutes are the paths of crowded.
func (s *Service) crowdedRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /crowded", s.listCrowdedRows),
		rest.On("GET /crowded/summary", rest.Summarize(s.crowded)),
	}
}

// listCrowdedRows answers GET /api/crowded.
func (s *Service) listCrowdedRows(w http.ResponseWriter, r *http.Request) error {
	slog.DebugContext(r.Context(), "list", "resource", "crowded")
	list, err := rest.ReadList(r, s.crowded)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.crowded, list)
}
