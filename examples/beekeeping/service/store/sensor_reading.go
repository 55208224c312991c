// From table sensor_reading. Edits here are kept when it is written again.

package store

import (
	"time"

	"beekeeping/store/gate"
)

// SensorReading is a row of the table sensor_reading. What the scale and the probe under a hive
// report.
type SensorReading struct {
	HiveID       int64                    `json:"hive_id"`
	ReadAt       time.Time                `json:"read_at"`
	TemperatureC gate.Maybe[gate.Decimal] `json:"temperature_c"`
	HumidityPct  gate.Maybe[float64]      `json:"humidity_pct"`
	WeightKg     gate.Maybe[gate.Decimal] `json:"weight_kg"`

	// Related rows, present when asked for with With.
	Hive *Hive `json:"hive,omitzero"`
}

// SensorReadingKey is the key of a sensor reading.
type SensorReadingKey struct {
	HiveID int64
	ReadAt time.Time
}

// SensorReadings is the table sensor_reading: its columns, its relations and what can be done with it.
var SensorReadings = newSensorReadingTable()

type sensorReadingTable struct {
	table[*SensorReading, SensorReadingKey]
	HiveID       *gate.Ordered[*SensorReading, int64]
	ReadAt       *gate.Ordered[*SensorReading, time.Time]
	TemperatureC *gate.NullableOrdered[*SensorReading, gate.Decimal]
	HumidityPct  *gate.NullableOrdered[*SensorReading, float64]
	WeightKg     *gate.NullableOrdered[*SensorReading, gate.Decimal]

	Hive *gate.ToOne[*SensorReading, *Hive]
}

func newSensorReadingTable() *sensorReadingTable {
	return &sensorReadingTable{
		table:        gate.NewTable(sensorReadingDef, func(k *SensorReadingKey) []any { return []any{&k.HiveID, &k.ReadAt} }),
		HiveID:       gate.NewOrdered[int64](sensorReadingDef, "hive_id"),
		ReadAt:       gate.NewOrdered[time.Time](sensorReadingDef, "read_at"),
		TemperatureC: gate.NewNullableOrdered[gate.Decimal](sensorReadingDef, "temperature_c"),
		HumidityPct:  gate.NewNullableOrdered[float64](sensorReadingDef, "humidity_pct"),
		WeightKg:     gate.NewNullableOrdered[gate.Decimal](sensorReadingDef, "weight_kg"),

		Hive: gate.NewToOne(sensorReadingDef, hiveDef, gate.On{{"hive_id", "id"}}, func(e *SensorReading) **Hive { return &e.Hive }),
	}
}

// sensorReadingDef describes the table sensor_reading to the runtime.
var sensorReadingDef = newSensorReadingDef()

func newSensorReadingDef() *gate.Def[*SensorReading] {
	return gate.Describe(gate.Spec[*SensorReading]{
		Name: "sensor_reading",
		New:  func() *SensorReading { return new(SensorReading) },
		Fields: []gate.Field[*SensorReading]{
			{Name: "hive_id", Type: gate.TypeInt64, Flags: gate.Key, In: func(e *SensorReading) any { return &e.HiveID }},
			{Name: "read_at", Type: gate.TypeTimestampTZ, Flags: gate.Key, In: func(e *SensorReading) any { return &e.ReadAt }},
			{Name: "temperature_c", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 4, Scale: 1, In: func(e *SensorReading) any { return &e.TemperatureC }},
			{Name: "humidity_pct", Type: gate.TypeFloat64, Flags: gate.Nullable, In: func(e *SensorReading) any { return &e.HumidityPct }},
			{Name: "weight_kg", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 6, Scale: 2, In: func(e *SensorReading) any { return &e.WeightKg }},
		},
	})
}
