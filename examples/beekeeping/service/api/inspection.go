// From table inspection. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newInspectionShape says how an inspection looks from outside.
func newInspectionShape() *rest.Shape[*store.Inspection, int64] {
	return rest.NewShape("inspections", store.Inspections,
		rest.Relate("hive", store.Inspections.Hive),
		rest.Relate("keeper", store.Inspections.Keeper),
		rest.Relate("inspection_photos", store.Inspections.InspectionPhotos),
		rest.Relate("treatments", store.Inspections.Treatments),
	)
}

// inspectionRoutes are the paths of inspections.
func (s *Service) inspectionRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /inspections", s.listInspections),
		rest.On("GET /inspections/{key}", s.getInspection),
		rest.On("POST /inspections", rest.Create(s.inspection, s.createInspection)),
		rest.On("PUT /inspections/{key}", rest.Replace(s.inspection, s.replaceInspection, s.createInspection)),
		rest.On("PATCH /inspections/{key}", rest.Change(s.inspection, s.changeInspection)),
		rest.On("DELETE /inspections/{key}", rest.Remove(s.inspection, s.deleteInspection)),
		rest.On("GET /inspections/{key}/hive", rest.GetUnder(s.inspection, store.Inspections.Hive.Of, s.hive)),
		rest.On("GET /inspections/{key}/keeper", rest.GetUnder(s.inspection, store.Inspections.Keeper.Of, s.keeper)),
		rest.On("GET /inspections/{key}/inspection-photos", rest.ListUnder(s.inspection, store.Inspections.InspectionPhotos.Of, s.inspectionPhoto)),
		rest.On("POST /inspections/{key}/inspection-photos", rest.CreateUnder(s.inspection, store.Inspections.InspectionPhotos, s.inspectionPhoto, s.createInspectionPhoto)),
		rest.On("GET /inspections/{key}/treatments", rest.ListUnder(s.inspection, store.Inspections.Treatments.Of, s.treatment)),
		rest.On("POST /inspections/{key}/treatments", rest.CreateUnder(s.inspection, store.Inspections.Treatments, s.treatment, s.createTreatment)),
	}
}

// listInspections answers GET /api/inspections.
func (s *Service) listInspections(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.inspection)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.inspection, list)
}

// getInspection answers GET /api/inspections/{key}.
func (s *Service) getInspection(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.inspection)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.inspection, key)
}

// createInspection stores a new row, however it arrives.
func (s *Service) createInspection(ctx context.Context, tx gate.DB, row *store.Inspection) error {
	return store.Inspections.Insert(ctx, tx, row)
}

// replaceInspection stores all of a row that is there.
func (s *Service) replaceInspection(ctx context.Context, tx gate.DB, row *store.Inspection) error {
	return store.Inspections.Update(ctx, tx, row)
}

// changeInspection stores the columns of a row that a patch names.
func (s *Service) changeInspection(ctx context.Context, tx gate.DB, row *store.Inspection, columns ...gate.ColumnOf[*store.Inspection]) error {
	return store.Inspections.Update(ctx, tx, row, columns...)
}

// deleteInspection removes a row.
func (s *Service) deleteInspection(ctx context.Context, tx gate.DB, key int64) error {
	return store.Inspections.Delete(ctx, tx, key)
}
