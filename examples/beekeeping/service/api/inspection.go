// From table inspection. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
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

// inspectionRoutes are the paths of inspections. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) inspectionRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /inspections", s.listInspections),
		rest.On("GET /inspections/summary", rest.Summarize(s.inspection)),
		rest.On("GET /inspections/{key}", s.getInspection),
		rest.On("POST /inspections", rest.Create(s.inspection)),
		rest.On("PUT /inspections/{key}", rest.Replace(s.inspection)),
		rest.On("PATCH /inspections/{key}", rest.Change(s.inspection)),
		rest.On("DELETE /inspections/{key}", rest.Remove(s.inspection)),
		rest.On("GET /inspections/{key}/hive", rest.GetUnder(s.inspection, store.Inspections.Hive.Of, s.hive)),
		rest.On("GET /inspections/{key}/keeper", rest.GetUnder(s.inspection, store.Inspections.Keeper.Of, s.keeper)),
		rest.On("GET /inspections/{key}/inspection-photos", rest.ListUnder(s.inspection, store.Inspections.InspectionPhotos.Of, s.inspectionPhoto)),
		rest.On("POST /inspections/{key}/inspection-photos", rest.CreateUnder(s.inspection, store.Inspections.InspectionPhotos, s.inspectionPhoto)),
		rest.On("GET /inspections/{key}/treatments", rest.ListUnder(s.inspection, store.Inspections.Treatments.Of, s.treatment)),
		rest.On("POST /inspections/{key}/treatments", rest.CreateUnder(s.inspection, store.Inspections.Treatments, s.treatment)),
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
