// From table substance. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newSubstanceShape says how a substance looks from outside.
func newSubstanceShape() *rest.Shape[*store.Substance, int64] {
	return rest.NewShape("substances", store.Substances,
		rest.Relate("treatments", store.Substances.Treatments),
	)
}

// substanceRoutes are the paths of substances.
func (s *Service) substanceRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /substances", s.listSubstances),
		rest.On("GET /substances/{key}", s.getSubstance),
		rest.On("POST /substances", rest.Create(s.substance, s.createSubstance)),
		rest.On("PUT /substances/{key}", rest.Replace(s.substance, s.replaceSubstance, s.createSubstance)),
		rest.On("PATCH /substances/{key}", rest.Change(s.substance, s.changeSubstance)),
		rest.On("DELETE /substances/{key}", rest.Remove(s.substance, s.deleteSubstance)),
		rest.On("GET /substances/{key}/treatments", rest.ListUnder(s.substance, store.Substances.Treatments.Of, s.treatment)),
		rest.On("POST /substances/{key}/treatments", rest.CreateUnder(s.substance, store.Substances.Treatments, s.treatment, s.createTreatment)),
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

// createSubstance stores a new row, however it arrives.
func (s *Service) createSubstance(ctx context.Context, tx gate.DB, row *store.Substance) error {
	return store.Substances.Insert(ctx, tx, row)
}

// replaceSubstance stores all of a row that is there.
func (s *Service) replaceSubstance(ctx context.Context, tx gate.DB, row *store.Substance) error {
	return store.Substances.Update(ctx, tx, row)
}

// changeSubstance stores the columns of a row that a patch names.
func (s *Service) changeSubstance(ctx context.Context, tx gate.DB, row *store.Substance, columns ...gate.ColumnOf[*store.Substance]) error {
	return store.Substances.Update(ctx, tx, row, columns...)
}

// deleteSubstance removes a row.
func (s *Service) deleteSubstance(ctx context.Context, tx gate.DB, key int64) error {
	return store.Substances.Delete(ctx, tx, key)
}
