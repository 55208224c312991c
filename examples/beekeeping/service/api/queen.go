// From table queen. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newQueenShape says how a queen looks from outside.
func newQueenShape() *rest.Shape[*store.Queen, int64] {
	return rest.NewShape("queens", store.Queens,
		rest.Relate("hive", store.Queens.Hive),
	)
}

// queenRoutes are the paths of queens. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) queenRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /queens", s.listQueens),
		rest.On("GET /queens/summary", rest.Summarize(s.queen)),
		rest.On("GET /queens/{key}", s.getQueen),
		rest.On("POST /queens", rest.Create(s.queen)),
		rest.On("PUT /queens/{key}", rest.Replace(s.queen)),
		rest.On("PATCH /queens/{key}", rest.Change(s.queen)),
		rest.On("DELETE /queens/{key}", rest.Remove(s.queen)),
		rest.On("GET /queens/{key}/hive", rest.GetUnder(s.queen, store.Queens.Hive.Of, s.hive)),
	}
}

// listQueens answers GET /api/queens.
func (s *Service) listQueens(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.queen)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.queen, list)
}

// getQueen answers GET /api/queens/{key}.
func (s *Service) getQueen(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.queen)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.queen, key)
}
