// From view hive_overview. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newHiveOverviewShape says how a hive overview looks from outside.
func newHiveOverviewShape() *rest.Shape[*store.HiveOverview, rest.NoKey] {
	return rest.NewKeylessShape("hive-overviews", store.HiveOverviews)
}

// hiveOverviewRoutes are the paths of hive-overviews.
func (s *Service) hiveOverviewRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /hive-overviews", s.listHiveOverviews),
		rest.On("GET /hive-overviews/summary", rest.Summarize(s.hiveOverview)),
	}
}

// listHiveOverviews answers GET /api/hive-overviews.
func (s *Service) listHiveOverviews(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.hiveOverview)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.hiveOverview, list)
}
