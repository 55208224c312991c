// From table inspection_photo. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newInspectionPhotoShape says how an inspection photo looks from outside.
func newInspectionPhotoShape() *rest.Shape[*store.InspectionPhoto, int64] {
	return rest.NewShape("inspection-photos", store.InspectionPhotos,
		rest.Relate("inspection", store.InspectionPhotos.Inspection),
	)
}

// inspectionPhotoRoutes are the paths of inspection-photos.
func (s *Service) inspectionPhotoRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /inspection-photos", s.listInspectionPhotos),
		rest.On("GET /inspection-photos/{key}", s.getInspectionPhoto),
		rest.On("POST /inspection-photos", rest.Create(s.inspectionPhoto, s.createInspectionPhoto)),
		rest.On("PUT /inspection-photos/{key}", rest.Replace(s.inspectionPhoto, s.replaceInspectionPhoto, s.createInspectionPhoto)),
		rest.On("PATCH /inspection-photos/{key}", rest.Change(s.inspectionPhoto, s.changeInspectionPhoto)),
		rest.On("DELETE /inspection-photos/{key}", rest.Remove(s.inspectionPhoto, s.deleteInspectionPhoto)),
		rest.On("GET /inspection-photos/{key}/inspection", rest.GetUnder(s.inspectionPhoto, store.InspectionPhotos.Inspection.Of, s.inspection)),
	}
}

// listInspectionPhotos answers GET /api/inspection-photos.
func (s *Service) listInspectionPhotos(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.inspectionPhoto)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.inspectionPhoto, list)
}

// getInspectionPhoto answers GET /api/inspection-photos/{key}.
func (s *Service) getInspectionPhoto(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.inspectionPhoto)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.inspectionPhoto, key)
}

// createInspectionPhoto stores a new row, however it arrives.
func (s *Service) createInspectionPhoto(ctx context.Context, tx gate.DB, row *store.InspectionPhoto) error {
	return store.InspectionPhotos.Insert(ctx, tx, row)
}

// replaceInspectionPhoto stores all of a row that is there.
func (s *Service) replaceInspectionPhoto(ctx context.Context, tx gate.DB, row *store.InspectionPhoto) error {
	return store.InspectionPhotos.Update(ctx, tx, row)
}

// changeInspectionPhoto stores the columns of a row that a patch names.
func (s *Service) changeInspectionPhoto(ctx context.Context, tx gate.DB, row *store.InspectionPhoto, columns ...gate.ColumnOf[*store.InspectionPhoto]) error {
	return store.InspectionPhotos.Update(ctx, tx, row, columns...)
}

// deleteInspectionPhoto removes a row.
func (s *Service) deleteInspectionPhoto(ctx context.Context, tx gate.DB, key int64) error {
	return store.InspectionPhotos.Delete(ctx, tx, key)
}
