// From table delivery. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"widegate/bench/store"
	"widegate/gate/rest"
)

// newDeliveryShape says how a delivery looks from outside.
func newDeliveryShape() *rest.Shape[*store.Delivery, int64] {
	return rest.NewShape("deliveries", store.Deliveries,
		rest.Relate("previous", store.Deliveries.Previous),
		rest.Relate("next_deliveries", store.Deliveries.NextDeliveries),
		rest.Relate("samples", store.Deliveries.Samples),
	)
}

// deliveryRoutes are the paths of deliveries. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) deliveryRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /deliveries", s.listDeliveries),
		rest.On("GET /deliveries/summary", rest.Summarize(s.delivery)),
		rest.On("GET /deliveries/{key}", s.getDelivery),
		rest.On("POST /deliveries", rest.Create(s.delivery)),
		rest.On("PUT /deliveries/{key}", rest.Replace(s.delivery)),
		rest.On("PATCH /deliveries/{key}", rest.Change(s.delivery)),
		rest.On("DELETE /deliveries/{key}", rest.Remove(s.delivery)),
		rest.On("GET /deliveries/{key}/previous", rest.GetUnder(s.delivery, store.Deliveries.Previous.Of, s.delivery)),
		rest.On("GET /deliveries/{key}/next-deliveries", rest.ListUnder(s.delivery, store.Deliveries.NextDeliveries.Of, s.delivery)),
		rest.On("POST /deliveries/{key}/next-deliveries", rest.CreateUnder(s.delivery, store.Deliveries.NextDeliveries, s.delivery)),
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
