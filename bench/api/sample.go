// From table sample. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"widegate/bench/store"
	"widegate/gate/rest"
)

// newSampleShape says how a sample looks from outside.
func newSampleShape() *rest.Shape[*store.Sample, int64] {
	return rest.NewShape("samples", store.Samples,
		rest.Relate("delivery", store.Samples.Delivery),
	)
}

// sampleRoutes are the paths of samples. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) sampleRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /samples", s.listSamples),
		rest.On("GET /samples/summary", rest.Summarize(s.sample)),
		rest.On("GET /samples/{key}", s.getSample),
		rest.On("POST /samples", rest.Create(s.sample)),
		rest.On("PUT /samples/{key}", rest.Replace(s.sample)),
		rest.On("PATCH /samples/{key}", rest.Change(s.sample)),
		rest.On("DELETE /samples/{key}", rest.Remove(s.sample)),
		rest.On("GET /samples/{key}/delivery", rest.GetUnder(s.sample, store.Samples.Delivery.Of, s.delivery)),
	}
}

// listSamples answers GET /api/samples.
func (s *Service) listSamples(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.sample)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.sample, list)
}

// getSample answers GET /api/samples/{key}.
func (s *Service) getSample(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.sample)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.sample, key)
}
