// From table hive. Edits here are kept when it is written again.

package api

import (
	"log/slog"
	"net/http"

	"example/store"
	"example/store/gate/rest"
)

// newHiveShape says how a hive looks from outside.
func newHiveShape() *rest.Shape[*store.Hive, int64] {
	return rest.NewShape("hives", store.Hives,
		rest.Relate("apiary", store.Hives.Apiary),
	)
}

// hiveRoutes are the paths of hives. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) hiveRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /hives", s.listHives),
		rest.On("GET /hives/summary", rest.Summarize(s.hive)),
		rest.On("GET /hives/{key}", s.getHive),
		rest.On("POST /hives", rest.Create(s.hive)),
		rest.On("PUT /hives/{key}", rest.Replace(s.hive)),
		rest.On("PATCH /hives/{key}", rest.Change(s.hive)),
		rest.On("DELETE /hives/{key}", rest.Remove(s.hive)),
		rest.On("GET /hives/{key}/apiary", rest.GetUnder(s.hive, store.Hives.Apiary.Of, s.apiary)),
	}
}

// listHives answers GET /api/hives.
func (s *Service) listHives(w http.ResponseWriter, r *http.Request) error {
	slog.DebugContext(r.Context(), "list", "resource", "hives")
	list, err := rest.ReadList(r, s.hive)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.hive, list)
}

// getHive answers GET /api/hives/{key}.
func (s *Service) getHive(w http.ResponseWriter, r *http.Request) error {
	slog.DebugContext(r.Context(), "get", "resource", "hives")
	key, err := rest.ReadKey(r, s.hive)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.hive, key)
}
