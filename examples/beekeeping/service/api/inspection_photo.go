// From table inspection_photo. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newInspectionPhotoShape says how an inspection photo looks from outside.
func newInspectionPhotoShape() *rest.Shape[*store.InspectionPhoto, int64] {
	return rest.NewShape("inspection-photos", store.InspectionPhotos,
		rest.Relate("inspection", store.InspectionPhotos.Inspection),
	)
}

// inspectionPhotoRoutes are the paths of inspection-photos. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) inspectionPhotoRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /inspection-photos", s.listInspectionPhotos),
		rest.On("GET /inspection-photos/summary", rest.Summarize(s.inspectionPhoto)),
		rest.On("GET /inspection-photos/{key}", s.getInspectionPhoto),
		rest.On("POST /inspection-photos", rest.Create(s.inspectionPhoto)),
		rest.On("PUT /inspection-photos/{key}", rest.Replace(s.inspectionPhoto)),
		rest.On("PATCH /inspection-photos/{key}", rest.Change(s.inspectionPhoto)),
		rest.On("DELETE /inspection-photos/{key}", rest.Remove(s.inspectionPhoto)),
		rest.On("GET /inspection-photos/{key}/photo", rest.SendContent(s.inspectionPhoto, rest.Content{Column: "photo", MediaColumn: "media_type"})),
		rest.On("PUT /inspection-photos/{key}/photo", rest.StoreContent(s.inspectionPhoto, rest.Content{Column: "photo", MediaColumn: "media_type"})),
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
