// From table delivery. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"widegate/bench/store"
	"widegate/gate"
	"widegate/gate/rest"
)

// newDeliveryShape says how a delivery looks from outside.
func newDeliveryShape() *rest.Shape[*store.Delivery, int64] {
	return rest.NewShape("deliveries", store.Deliveries,
		rest.Relate("previous", store.Deliveries.Previous),
		rest.Relate("previous_deliveries", store.Deliveries.PreviousDeliveries),
		rest.Relate("samples", store.Deliveries.Samples),
	)
}

// deliveryRoutes are the paths of deliveries.
func (s *Service) deliveryRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /deliveries", s.listDeliveries),
		rest.On("GET /deliveries/summary", rest.Summarize(s.delivery)),
		rest.On("GET /deliveries/{key}", s.getDelivery),
		rest.On("POST /deliveries", rest.Create(s.delivery, s.createDeliveries)),
		rest.On("PUT /deliveries/{key}", rest.Replace(s.delivery, s.replaceDelivery)),
		rest.On("PATCH /deliveries/{key}", rest.Change(s.delivery, s.changeDelivery)),
		rest.On("DELETE /deliveries/{key}", rest.Remove(s.delivery, s.deleteDelivery)),
		rest.On("GET /deliveries/{key}/previous", rest.GetUnder(s.delivery, store.Deliveries.Previous.Of, s.delivery)),
		rest.On("GET /deliveries/{key}/previous-deliveries", rest.ListUnder(s.delivery, store.Deliveries.PreviousDeliveries.Of, s.delivery)),
		rest.On("POST /deliveries/{key}/previous-deliveries", rest.CreateUnder(s.delivery, store.Deliveries.PreviousDeliveries, s.delivery)),
		rest.On("GET /deliveries/{key}/samples", rest.ListUnder(s.delivery, store.Deliveries.Samples.Of, s.sample)),
		rest.On("POST /deliveries/{key}/samples", rest.CreateUnder(s.delivery, store.Deliveries.Samples, s.sample)),
	}
}

// listDeliveries answers GET /api/deliveries.
func (s *Service) listDeliveries(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.delivery)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.delivery, list)
}

// getDelivery answers GET /api/deliveries/{key}.
func (s *Service) getDelivery(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.delivery)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.delivery, key)
}

// createDeliveries stores new rows, however they arrive.
func (s *Service) createDeliveries(ctx context.Context, tx gate.DB, rows []*store.Delivery) error {
	return store.Deliveries.InsertAll(ctx, tx, rows)
}

// replaceDelivery stores all of a row that is there.
func (s *Service) replaceDelivery(ctx context.Context, tx gate.DB, row *store.Delivery) error {
	return store.Deliveries.Update(ctx, tx, row)
}

// changeDelivery stores the columns of a row that a patch names.
func (s *Service) changeDelivery(ctx context.Context, tx gate.DB, row *store.Delivery, columns ...gate.ColumnOf[*store.Delivery]) error {
	return store.Deliveries.Update(ctx, tx, row, columns...)
}

// deleteDelivery removes a row.
func (s *Service) deleteDelivery(ctx context.Context, tx gate.DB, key int64) error {
	return store.Deliveries.Delete(ctx, tx, key)
}
