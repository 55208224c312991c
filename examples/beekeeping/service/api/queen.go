// From table queen. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newQueenShape says how a queen looks from outside.
func newQueenShape() *rest.Shape[*store.Queen, int64] {
	return rest.NewShape("queens", store.Queens,
		rest.Relate("hive", store.Queens.Hive),
	)
}

// queenRoutes are the paths of queens.
func (s *Service) queenRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /queens", s.listQueens),
		rest.On("GET /queens/{key}", s.getQueen),
		rest.On("POST /queens", rest.Create(s.queen, s.createQueen)),
		rest.On("PUT /queens/{key}", rest.Replace(s.queen, s.replaceQueen, s.createQueen)),
		rest.On("PATCH /queens/{key}", rest.Change(s.queen, s.changeQueen)),
		rest.On("DELETE /queens/{key}", rest.Remove(s.queen, s.deleteQueen)),
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

// createQueen stores a new row, however it arrives.
func (s *Service) createQueen(ctx context.Context, tx gate.DB, row *store.Queen) error {
	return store.Queens.Insert(ctx, tx, row)
}

// replaceQueen stores all of a row that is there.
func (s *Service) replaceQueen(ctx context.Context, tx gate.DB, row *store.Queen) error {
	return store.Queens.Update(ctx, tx, row)
}

// changeQueen stores the columns of a row that a patch names.
func (s *Service) changeQueen(ctx context.Context, tx gate.DB, row *store.Queen, columns ...gate.ColumnOf[*store.Queen]) error {
	return store.Queens.Update(ctx, tx, row, columns...)
}

// deleteQueen removes a row.
func (s *Service) deleteQueen(ctx context.Context, tx gate.DB, key int64) error {
	return store.Queens.Delete(ctx, tx, key)
}
