// From table sample. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"widegate/bench/store"
	"widegate/gate"
	"widegate/gate/rest"
)

// newSampleShape says how a sample looks from outside.
func newSampleShape() *rest.Shape[*store.Sample, int64] {
	return rest.NewShape("samples", store.Samples,
		rest.Relate("delivery", store.Samples.Delivery),
	)
}

// sampleRoutes are the paths of samples.
func (s *Service) sampleRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /samples", s.listSamples),
		rest.On("GET /samples/summary", rest.Summarize(s.sample)),
		rest.On("GET /samples/{key}", s.getSample),
		rest.On("POST /samples", rest.Create(s.sample, s.createSamples)),
		rest.On("PUT /samples/{key}", rest.Replace(s.sample, s.replaceSample)),
		rest.On("PATCH /samples/{key}", rest.Change(s.sample, s.changeSample)),
		rest.On("DELETE /samples/{key}", rest.Remove(s.sample, s.deleteSample)),
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

// createSamples stores new rows, however they arrive.
func (s *Service) createSamples(ctx context.Context, tx gate.DB, rows []*store.Sample) error {
	return store.Samples.InsertAll(ctx, tx, rows)
}

// replaceSample stores all of a row that is there.
func (s *Service) replaceSample(ctx context.Context, tx gate.DB, row *store.Sample) error {
	return store.Samples.Update(ctx, tx, row)
}

// changeSample stores the columns of a row that a patch names.
func (s *Service) changeSample(ctx context.Context, tx gate.DB, row *store.Sample, columns ...gate.ColumnOf[*store.Sample]) error {
	return store.Samples.Update(ctx, tx, row, columns...)
}

// deleteSample removes a row.
func (s *Service) deleteSample(ctx context.Context, tx gate.DB, key int64) error {
	return store.Samples.Delete(ctx, tx, key)
}
