// From table forage. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newForageShape says how a forage looks from outside.
func newForageShape() *rest.Shape[*store.Forage, int64] {
	return rest.NewShape("forages", store.Forages,
		rest.Relate("apiaries", store.Forages.Apiaries),
	)
}

// forageRoutes are the paths of forages.
func (s *Service) forageRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /forages", s.listForages),
		rest.On("GET /forages/{key}", s.getForage),
		rest.On("POST /forages", rest.Create(s.forage, s.createForage)),
		rest.On("PUT /forages/{key}", rest.Replace(s.forage, s.replaceForage, s.createForage)),
		rest.On("PATCH /forages/{key}", rest.Change(s.forage, s.changeForage)),
		rest.On("DELETE /forages/{key}", rest.Remove(s.forage, s.deleteForage)),
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

// createForage stores a new row, however it arrives.
func (s *Service) createForage(ctx context.Context, tx gate.DB, row *store.Forage) error {
	return store.Forages.Insert(ctx, tx, row)
}

// replaceForage stores all of a row that is there.
func (s *Service) replaceForage(ctx context.Context, tx gate.DB, row *store.Forage) error {
	return store.Forages.Update(ctx, tx, row)
}

// changeForage stores the columns of a row that a patch names.
func (s *Service) changeForage(ctx context.Context, tx gate.DB, row *store.Forage, columns ...gate.ColumnOf[*store.Forage]) error {
	return store.Forages.Update(ctx, tx, row, columns...)
}

// deleteForage removes a row.
func (s *Service) deleteForage(ctx context.Context, tx gate.DB, key int64) error {
	return store.Forages.Delete(ctx, tx, key)
}
