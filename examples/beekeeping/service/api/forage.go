// From table forage. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newForageShape says how a forage looks from outside.
func newForageShape() *rest.Shape[*store.Forage, int64] {
	return rest.NewShape("forages", store.Forages,
		rest.Relate("apiaries", store.Forages.Apiaries),
	)
}

// forageRoutes are the paths of forages. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) forageRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /forages", s.listForages),
		rest.On("GET /forages/summary", rest.Summarize(s.forage)),
		rest.On("GET /forages/{key}", s.getForage),
		rest.On("POST /forages", rest.Create(s.forage)),
		rest.On("PUT /forages/{key}", rest.Replace(s.forage)),
		rest.On("PATCH /forages/{key}", rest.Change(s.forage)),
		rest.On("DELETE /forages/{key}", rest.Remove(s.forage)),
		rest.On("GET /forages/{key}/apiaries", rest.ListUnder(s.forage, store.Forages.Apiaries.Of, s.apiary)),
		rest.On("PUT /forages/{key}/apiaries/{other}", rest.Link(s.forage, store.Forages.Apiaries, s.apiary)),
		rest.On("DELETE /forages/{key}/apiaries/{other}", rest.Unlink(s.forage, store.Forages.Apiaries, s.apiary)),
	}
}

// listForages answers GET /api/forages.
func (s *Service) listForages(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.forage)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.forage, list)
}

// getForage answers GET /api/forages/{key}.
func (s *Service) getForage(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.forage)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.forage, key)
}
