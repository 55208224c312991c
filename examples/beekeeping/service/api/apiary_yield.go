// From view apiary_yield. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newApiaryYieldShape says how an apiary yield looks from outside.
func newApiaryYieldShape() *rest.Shape[*store.ApiaryYield, rest.NoKey] {
	return rest.NewKeylessShape("apiary-yields", store.ApiaryYields)
}

// apiaryYieldRoutes are the paths of apiary-yields.
func (s *Service) apiaryYieldRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /apiary-yields", s.listApiaryYields),
		rest.On("GET /apiary-yields/summary", rest.Summarize(s.apiaryYield)),
	}
}

// listApiaryYields answers GET /api/apiary-yields.
func (s *Service) listApiaryYields(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.apiaryYield)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.apiaryYield, list)
}
