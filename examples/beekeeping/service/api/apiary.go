// From table apiary. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newApiaryShape says how an apiary looks from outside.
func newApiaryShape() *rest.Shape[*store.Apiary, int64] {
	return rest.NewShape("apiaries", store.Apiaries,
		rest.Relate("keeper", store.Apiaries.Keeper),
		rest.Relate("deputy", store.Apiaries.Deputy),
		rest.Relate("hives", store.Apiaries.Hives),
		rest.Relate("forages", store.Apiaries.Forages),
	)
}

// apiaryRoutes are the paths of apiaries.
func (s *Service) apiaryRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /apiaries", s.listApiaries),
		rest.On("GET /apiaries/{key}", s.getApiary),
		rest.On("POST /apiaries", rest.Create(s.apiary, s.createApiary)),
		rest.On("PUT /apiaries/{key}", rest.Replace(s.apiary, s.replaceApiary, s.createApiary)),
		rest.On("PATCH /apiaries/{key}", rest.Change(s.apiary, s.changeApiary)),
		rest.On("DELETE /apiaries/{key}", rest.Remove(s.apiary, s.deleteApiary)),
		rest.On("GET /apiaries/{key}/keeper", rest.GetUnder(s.apiary, store.Apiaries.Keeper.Of, s.keeper)),
		rest.On("GET /apiaries/{key}/deputy", rest.GetUnder(s.apiary, store.Apiaries.Deputy.Of, s.keeper)),
		rest.On("GET /apiaries/{key}/hives", rest.ListUnder(s.apiary, store.Apiaries.Hives.Of, s.hive)),
		rest.On("POST /apiaries/{key}/hives", rest.CreateUnder(s.apiary, store.Apiaries.Hives, s.hive, s.createHive)),
		rest.On("GET /apiaries/{key}/forages", rest.ListUnder(s.apiary, store.Apiaries.Forages.Of, s.forage)),
		rest.On("PUT /apiaries/{key}/forages/{other}", rest.Link(s.apiary, store.Apiaries.Forages, s.forage)),
		rest.On("DELETE /apiaries/{key}/forages/{other}", rest.Unlink(s.apiary, store.Apiaries.Forages, s.forage)),
	}
}

// listApiaries answers GET /api/apiaries.
func (s *Service) listApiaries(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.apiary)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.apiary, list)
}

// getApiary answers GET /api/apiaries/{key}.
func (s *Service) getApiary(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.apiary)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.apiary, key)
}

// createApiary stores a new row, however it arrives.
func (s *Service) createApiary(ctx context.Context, tx gate.DB, row *store.Apiary) error {
	return store.Apiaries.Insert(ctx, tx, row)
}

// replaceApiary stores all of a row that is there.
func (s *Service) replaceApiary(ctx context.Context, tx gate.DB, row *store.Apiary) error {
	return store.Apiaries.Update(ctx, tx, row)
}

// changeApiary stores the columns of a row that a patch names.
func (s *Service) changeApiary(ctx context.Context, tx gate.DB, row *store.Apiary, columns ...gate.ColumnOf[*store.Apiary]) error {
	return store.Apiaries.Update(ctx, tx, row, columns...)
}

// deleteApiary removes a row.
func (s *Service) deleteApiary(ctx context.Context, tx gate.DB, key int64) error {
	return store.Apiaries.Delete(ctx, tx, key)
}
