// From table sensor_reading. Edits here are kept when it is written again.

package api

import (
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate/rest"
)

// newSensorReadingShape says how a sensor reading looks from outside.
func newSensorReadingShape() *rest.Shape[*store.SensorReading, store.SensorReadingKey] {
	return rest.NewShape("sensor-readings", store.SensorReadings,
		rest.Relate("hive", store.SensorReadings.Hive),
	)
}

// sensorReadingRoutes are the paths of sensor-readings. To add a rule to what is stored, pass a function of
// your own after the shape; it runs in the transaction of the request.
func (s *Service) sensorReadingRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /sensor-readings", s.listSensorReadings),
		rest.On("GET /sensor-readings/summary", rest.Summarize(s.sensorReading)),
		rest.On("GET /sensor-readings/{key}", s.getSensorReading),
		rest.On("POST /sensor-readings", rest.Create(s.sensorReading)),
		rest.On("PUT /sensor-readings/{key}", rest.Replace(s.sensorReading)),
		rest.On("PATCH /sensor-readings/{key}", rest.Change(s.sensorReading)),
		rest.On("DELETE /sensor-readings/{key}", rest.Remove(s.sensorReading)),
		rest.On("GET /sensor-readings/{key}/hive", rest.GetUnder(s.sensorReading, store.SensorReadings.Hive.Of, s.hive)),
	}
}

// listSensorReadings answers GET /api/sensor-readings.
func (s *Service) listSensorReadings(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, s.sensorReading)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, s.sensorReading, list)
}

// getSensorReading answers GET /api/sensor-readings/{key}.
func (s *Service) getSensorReading(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, s.sensorReading)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, s.sensorReading, key)
}
