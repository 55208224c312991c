// From table apiary. Edits here are kept when it is written again.

package api

import (
	"log/slog"
	"net/http"

	"example/store"
	"example/store/gate/rest"
)

// newApiaryShape says how an apiary looks from outside.
func newApiaryShape() *rest.Shape[*store.Apiary, int64] {
	return rest.NewShape("apiaries", store.Apiaries,
		rest.Relate("hives", store.Apiaries.Hives),
	)
}

// apiaryRoutes are the paths of apiaries. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) apiaryRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /apiaries", s.listApiaries),
		rest.On("GET /apiaries/summary", rest.Summarize(s.apiary)),
		rest.On("GET /apiaries/{key}", s.getApiary),
		rest.On("POST /apiaries", rest.Create(s.apiary)),
		rest.On("PUT /apiaries/{key}", rest.Replace(s.apiary)),
		rest.On("PATCH /apiaries/{key}", rest.Change(s.apiary)),
		rest.On("DELETE /apiaries/{key}", rest.Remove(s.apiary)),
		rest.On("GET /apiaries/{key}/hives", rest.ListUnder(s.apiary, store.Apiaries.Hives.Of, s.hive)),
		rest.On("POST /apiaries/{key}/hives", rest.CreateUnder(s.apiary, store.Apiaries.Hives, s.hive)),
	}
}

// listApiaries answers GET /api/apiaries.
func (s *Service) listApiaries(w http.ResponseWriter, r *http.Request) error {
	slog.DebugContext(r.Context(), "list", "resource", "apiaries")
	list, err := rest.ReadList(r, s.apiary)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.apiary, list)
}

// getApiary answers GET /api/apiaries/{key}.
func (s *Service) getApiary(w http.ResponseWriter, r *http.Request) error {
	slog.DebugContext(r.Context(), "get", "resource", "apiaries")
	key, err := rest.ReadKey(r, s.apiary)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.apiary, key)
}
