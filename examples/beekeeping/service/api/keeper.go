// From table keeper. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newKeeperShape says how a keeper looks from outside.
func newKeeperShape() *rest.Shape[*store.Keeper, int64] {
	return rest.NewShape("keepers", store.Keepers,
		rest.Relate("apiaries", store.Keepers.Apiaries),
		rest.Relate("deputy_apiaries", store.Keepers.DeputyApiaries),
		rest.Relate("inspections", store.Keepers.Inspections),
	)
}

// keeperRoutes are the paths of keepers. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) keeperRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /keepers", s.listKeepers),
		rest.On("GET /keepers/summary", rest.Summarize(s.keeper)),
		rest.On("GET /keepers/{key}", s.getKeeper),
		rest.On("POST /keepers", rest.Create(s.keeper)),
		rest.On("PUT /keepers/{key}", rest.Replace(s.keeper)),
		rest.On("PATCH /keepers/{key}", rest.Change(s.keeper)),
		rest.On("DELETE /keepers/{key}", rest.Remove(s.keeper)),
		rest.On("GET /keepers/{key}/apiaries", rest.ListUnder(s.keeper, store.Keepers.Apiaries.Of, s.apiary)),
		rest.On("POST /keepers/{key}/apiaries", rest.CreateUnder(s.keeper, store.Keepers.Apiaries, s.apiary)),
		rest.On("GET /keepers/{key}/deputy-apiaries", rest.ListUnder(s.keeper, store.Keepers.DeputyApiaries.Of, s.apiary)),
		rest.On("POST /keepers/{key}/deputy-apiaries", rest.CreateUnder(s.keeper, store.Keepers.DeputyApiaries, s.apiary)),
		rest.On("GET /keepers/{key}/inspections", rest.ListUnder(s.keeper, store.Keepers.Inspections.Of, s.inspection)),
		rest.On("POST /keepers/{key}/inspections", rest.CreateUnder(s.keeper, store.Keepers.Inspections, s.inspection)),
	}
}

// listKeepers answers GET /api/keepers.
func (s *Service) listKeepers(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.keeper)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.keeper, list)
}

// getKeeper answers GET /api/keepers/{key}.
func (s *Service) getKeeper(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.keeper)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.keeper, key)
}
