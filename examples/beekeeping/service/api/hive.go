// From table hive. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newHiveShape says how a hive looks from outside.
func newHiveShape() *rest.Shape[*store.Hive, int64] {
	return rest.NewShape("hives", store.Hives,
		rest.Relate("apiary", store.Hives.Apiary),
		rest.Relate("split_from", store.Hives.SplitFrom),
		rest.Relate("queen", store.Hives.Queen),
		rest.Relate("harvests", store.Hives.Harvests),
		rest.Relate("splits", store.Hives.Splits),
		rest.Relate("inspections", store.Hives.Inspections),
		rest.Relate("sensor_readings", store.Hives.SensorReadings),
		rest.Relate("treatments", store.Hives.Treatments),
	)
}

// hiveRoutes are the paths of hives. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) hiveRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /hives", s.listHives),
		rest.On("GET /hives/summary", rest.Summarize(s.hive)),
		rest.On("GET /hives/{key}", s.getHive),
		rest.On("POST /hives", rest.Create(s.hive)),
		rest.On("PUT /hives/{key}", rest.Replace(s.hive)),
		rest.On("PATCH /hives/{key}", rest.Change(s.hive)),
		rest.On("DELETE /hives/{key}", rest.Remove(s.hive)),
		rest.On("GET /hives/{key}/apiary", rest.GetUnder(s.hive, store.Hives.Apiary.Of, s.apiary)),
		rest.On("GET /hives/{key}/split-from", rest.GetUnder(s.hive, store.Hives.SplitFrom.Of, s.hive)),
		rest.On("GET /hives/{key}/queen", rest.GetUnder(s.hive, store.Hives.Queen.Of, s.queen)),
		rest.On("GET /hives/{key}/harvests", rest.ListUnder(s.hive, store.Hives.Harvests.Of, s.harvest)),
		rest.On("POST /hives/{key}/harvests", rest.CreateUnder(s.hive, store.Hives.Harvests, s.harvest)),
		rest.On("GET /hives/{key}/splits", rest.ListUnder(s.hive, store.Hives.Splits.Of, s.hive)),
		rest.On("POST /hives/{key}/splits", rest.CreateUnder(s.hive, store.Hives.Splits, s.hive)),
		rest.On("GET /hives/{key}/inspections", rest.ListUnder(s.hive, store.Hives.Inspections.Of, s.inspection)),
		rest.On("POST /hives/{key}/inspections", rest.CreateUnder(s.hive, store.Hives.Inspections, s.inspection)),
		rest.On("GET /hives/{key}/sensor-readings", rest.ListUnder(s.hive, store.Hives.SensorReadings.Of, s.sensorReading)),
		rest.On("POST /hives/{key}/sensor-readings", rest.CreateUnder(s.hive, store.Hives.SensorReadings, s.sensorReading)),
		rest.On("GET /hives/{key}/treatments", rest.ListUnder(s.hive, store.Hives.Treatments.Of, s.treatment)),
		rest.On("POST /hives/{key}/treatments", rest.CreateUnder(s.hive, store.Hives.Treatments, s.treatment)),
	}
}

// listHives answers GET /api/hives.
func (s *Service) listHives(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.hive)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.hive, list)
}

// getHive answers GET /api/hives/{key}.
func (s *Service) getHive(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.hive)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.hive, key)
}
