// From table sensor_reading. Edits here are kept when it is written again.

package api

import (
	"context"
	"net/http"

	"beekeeping/store"
	"beekeeping/store/gate"
	"beekeeping/store/gate/rest"
)

// newSensorReadingShape says how a sensor reading looks from outside.
func newSensorReadingShape() *rest.Shape[*store.SensorReading, store.SensorReadingKey] {
	return rest.NewShape("sensor-readings", store.SensorReadings,
		rest.Relate("hive", store.SensorReadings.Hive),
	)
}

// sensorReadingRoutes are the paths of sensor-readings.
func (s *Service) sensorReadingRoutes() []rest.Route {
	return []rest.Route{
		rest.On("GET /sensor-readings", s.listSensorReadings),
		rest.On("GET /sensor-readings/{key}", s.getSensorReading),
		rest.On("POST /sensor-readings", rest.Create(s.sensorReading, s.createSensorReading)),
		rest.On("PUT /sensor-readings/{key}", rest.Replace(s.sensorReading, s.replaceSensorReading, s.createSensorReading)),
		rest.On("PATCH /sensor-readings/{key}", rest.Change(s.sensorReading, s.changeSensorReading)),
		rest.On("DELETE /sensor-readings/{key}", rest.Remove(s.sensorReading, s.deleteSensorReading)),
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

// createSensorReading stores a new row, however it arrives.
func (s *Service) createSensorReading(ctx context.Context, tx gate.DB, row *store.SensorReading) error {
	return store.SensorReadings.Insert(ctx, tx, row)
}

// replaceSensorReading stores all of a row that is there.
func (s *Service) replaceSensorReading(ctx context.Context, tx gate.DB, row *store.SensorReading) error {
	return store.SensorReadings.Update(ctx, tx, row)
}

// changeSensorReading stores the columns of a row that a patch names.
func (s *Service) changeSensorReading(ctx context.Context, tx gate.DB, row *store.SensorReading, columns ...gate.ColumnOf[*store.SensorReading]) error {
	return store.SensorReadings.Update(ctx, tx, row, columns...)
}

// deleteSensorReading removes a row.
func (s *Service) deleteSensorReading(ctx context.Context, tx gate.DB, key store.SensorReadingKey) error {
	return store.SensorReadings.Delete(ctx, tx, key)
}
