// From table treatment. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
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

// treatmentRoutes are the paths of treatments. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) treatmentRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /treatments", s.listTreatments),
		rest.On("GET /treatments/summary", rest.Summarize(s.treatment)),
		rest.On("GET /treatments/{key}", s.getTreatment),
		rest.On("POST /treatments", rest.Create(s.treatment)),
		rest.On("PUT /treatments/{key}", rest.Replace(s.treatment)),
		rest.On("PATCH /treatments/{key}", rest.Change(s.treatment)),
		rest.On("DELETE /treatments/{key}", rest.Remove(s.treatment)),
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
