// From table treatment. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newTreatmentShape says how a treatment looks from outside.
func newTreatmentShape() *rest.Shape[*store.Treatment, int64] {
	return rest.NewShape("treatments", store.Treatments,
		rest.Relate("hive", store.Treatments.Hive),
		rest.Relate("substance", store.Treatments.Substance),
		rest.Relate("inspection", store.Treatments.Inspection),
	)
}

// treatmentRoutes are the paths of treatments.
func (s *Service) treatmentRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /treatments", s.listTreatments),
		rest.On("GET /treatments/{key}", s.getTreatment),
		rest.On("POST /treatments", rest.Create(s.treatment, s.createTreatment)),
		rest.On("PUT /treatments/{key}", rest.Replace(s.treatment, s.replaceTreatment, s.createTreatment)),
		rest.On("PATCH /treatments/{key}", rest.Change(s.treatment, s.changeTreatment)),
		rest.On("DELETE /treatments/{key}", rest.Remove(s.treatment, s.deleteTreatment)),
		rest.On("GET /treatments/{key}/hive", rest.GetUnder(s.treatment, store.Treatments.Hive.Of, s.hive)),
		rest.On("GET /treatments/{key}/substance", rest.GetUnder(s.treatment, store.Treatments.Substance.Of, s.substance)),
		rest.On("GET /treatments/{key}/inspection", rest.GetUnder(s.treatment, store.Treatments.Inspection.Of, s.inspection)),
	}
}

// listTreatments answers GET /api/treatments.
func (s *Service) listTreatments(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.treatment)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.treatment, list)
}

// getTreatment answers GET /api/treatments/{key}.
func (s *Service) getTreatment(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.treatment)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.treatment, key)
}

// createTreatment stores a new row, however it arrives.
func (s *Service) createTreatment(ctx context.Context, tx gate.DB, row *store.Treatment) error {
	return store.Treatments.Insert(ctx, tx, row)
}

// replaceTreatment stores all of a row that is there.
func (s *Service) replaceTreatment(ctx context.Context, tx gate.DB, row *store.Treatment) error {
	return store.Treatments.Update(ctx, tx, row)
}

// changeTreatment stores the columns of a row that a patch names.
func (s *Service) changeTreatment(ctx context.Context, tx gate.DB, row *store.Treatment, columns ...gate.ColumnOf[*store.Treatment]) error {
	return store.Treatments.Update(ctx, tx, row, columns...)
}

// deleteTreatment removes a row.
func (s *Service) deleteTreatment(ctx context.Context, tx gate.DB, key int64) error {
	return store.Treatments.Delete(ctx, tx, key)
}
