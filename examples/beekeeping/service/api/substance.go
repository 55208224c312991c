// From table substance. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newSubstanceShape says how a substance looks from outside.
func newSubstanceShape() *rest.Shape[*store.Substance, int64] {
	return rest.NewShape("substances", store.Substances,
		rest.Relate("treatments", store.Substances.Treatments),
	)
}

// substanceRoutes are the paths of substances. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) substanceRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /substances", s.listSubstances),
		rest.On("GET /substances/summary", rest.Summarize(s.substance)),
		rest.On("GET /substances/{key}", s.getSubstance),
		rest.On("POST /substances", rest.Create(s.substance)),
		rest.On("PUT /substances/{key}", rest.Replace(s.substance)),
		rest.On("PATCH /substances/{key}", rest.Change(s.substance)),
		rest.On("DELETE /substances/{key}", rest.Remove(s.substance)),
		rest.On("GET /substances/{key}/treatments", rest.ListUnder(s.substance, store.Substances.Treatments.Of, s.treatment)),
		rest.On("POST /substances/{key}/treatments", rest.CreateUnder(s.substance, store.Substances.Treatments, s.treatment)),
	}
}

// listSubstances answers GET /api/substances.
func (s *Service) listSubstances(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.substance)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.substance, list)
}

// getSubstance answers GET /api/substances/{key}.
func (s *Service) getSubstance(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.substance)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.substance, key)
}
